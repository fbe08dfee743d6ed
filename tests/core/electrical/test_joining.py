"""Joining by the current that flows: the rule, both verdicts, and ways out that really are ways out."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.core.bench.faults import Level
from iterum.core.bench.packs import Reading
from iterum.core.bench.rules import HouseRules
from iterum.core.electrical.joining import even_out, joining, passing_order, ways_out
from iterum.core.electrical.plugging import join_reasons, plug_by_plug
from iterum.core.match.group import obstacles
from iterum.core.reasons import Unsafe
from tests.conftest import even

RULES = HouseRules()


def high_c(*cell_v, **more):
    return [even(f"P{n}", volts, discharge_c=75, **more) for n, volts in enumerate(cell_v)]


class TestRule:
    def test_inside_the_rule_on_volts_and_outside_this_one(self):
        packs = high_c(*[3.75] * 10, 3.85)
        assert not obstacles(packs, RULES)
        evening = even_out(packs, RULES)
        assert evening.level is Level.STOP
        (broken,) = [item for item in evening.reasons if item.code == "join_peak"]
        assert (broken.numbers["id"], broken.numbers["limit_c"]) == ("P10", 5.0)
        assert broken.numbers["rate_c"] > 7

    def test_like_packs_may_be_joined_and_say_how_little_flows(self):
        evening = even_out(high_c(3.80, 3.81, 3.81), RULES)
        assert evening.level is Level.FIT
        assert [item.code for item in evening.reasons] == ["join_fine", "rests_on_label"]

    def test_seconds_above_its_own_charge_c_count_too(self):
        gentle = replace(RULES, join_over_s=30)
        packs = high_c(3.75, 3.75, 3.80)
        assert [item.code for item in join_reasons(plug_by_plug(packs), gentle)] == ["join_long"]
        assert not join_reasons(plug_by_plug(high_c(3.75, 3.75, 3.80, max_charge_c=4)), gentle)

    def test_the_rule_can_be_left_to_the_volts_alone(self):
        assert even_out(high_c(*[3.75] * 10, 3.85), replace(RULES, join_peak_c=None)).level is not Level.STOP

    @settings(max_examples=20)
    @given(st.permutations([3.72, 3.74, 3.75, 3.78, 3.80]))
    def test_the_order_in_which_packs_are_listed_changes_nothing(self, volts):
        assert [round(plug.rate_c, 9) for plug in joining(high_c(*volts), RULES).plugs] == [
            round(plug.rate_c, 9) for plug in joining(high_c(*sorted(volts)), RULES).plugs
        ]


class TestEveningOut:
    def test_a_pack_that_joins_others_evened_out_sees_their_common_volts(self):
        packs = high_c(3.70, 3.80, 3.90)
        alone = even_out(packs, RULES, plugged_last="P2")
        at_once = even_out(packs, RULES)
        by_id = {item.id: item for item in alone.packs}
        assert by_id["P0"].peak_current_a == pytest.approx(by_id["P1"].peak_current_a)
        assert by_id["P2"].peak_current_a < 0 < by_id["P0"].peak_current_a
        assert at_once.packs[0].peak_current_a > by_id["P0"].peak_current_a

    def test_times_are_when_the_currents_fall_for_good(self):
        evening = even_out(high_c(3.72, 3.80), RULES)
        amps = abs(evening.trace.current_a[:, 0])
        for moment_s, limit_a in ((evening.settled_s, 0.18),):
            assert amps[evening.trace.t_s > moment_s * 1.001].max() <= limit_a
            assert amps[evening.trace.t_s < moment_s * 0.99].min() > limit_a * 0.8
        assert 0 <= evening.balance_s < evening.settled_s < 1800

    def test_the_trace_runs_half_an_hour_and_is_dense_enough_to_interpolate(self):
        trace = even_out(high_c(3.72, 3.80), RULES).trace
        assert (trace.t_s[0], trace.t_s[-1]) == (0, pytest.approx(1800))
        assert len(trace.t_s) > 30

    @pytest.mark.parametrize("odd", [2.95, 4.26, 4.18])
    def test_packs_that_must_not_be_charged_together_are_computed_and_told(self, odd):
        """Below the refuse volts, overcharged, full among others: whatever flows, the verdict is stop."""
        rules = replace(RULES, match_limit=2.0, cell_limit_v=2.0, join_peak_c=None)
        evening = even_out(high_c(odd, 3.8), rules)
        assert evening.level is Level.STOP
        assert evening.reasons[0].numbers["id"] == "P0"

    def test_never_joined_is_refused(self):
        for other in (even("B", 3.8, cells=3), even("B", 3.8, condition="damaged")):
            with pytest.raises(Unsafe):
                even_out([even("A", 3.8), other], RULES)


class TestWaysOut:
    packs = high_c(3.75, 3.75, 3.75, 3.75, 3.845)

    def way(self, code, packs=None):
        return next(item.numbers for item in ways_out(packs or self.packs, RULES) if item.code == code)

    def holds(self, packs):
        return not join_reasons(plug_by_plug(packs), RULES)

    def test_none_is_needed_where_the_rule_holds(self):
        assert ways_out(high_c(3.80, 3.81), RULES) == ()

    def test_an_order_that_keeps_the_rule_is_taken_by_itself(self):
        packs = high_c(3.75, 3.75, 3.75, 3.845)
        assert not self.holds(sorted(packs, key=lambda pack: pack.cell_v))
        order = passing_order(packs, RULES, 5.0)
        assert self.holds(order)
        verdict = joining(packs, RULES)
        assert verdict.passes
        assert verdict.order == tuple(pack.id for pack in order)

    def test_the_smaller_group_keeps_the_rule(self):
        gone = self.way("way_smaller_group")["ids"]
        assert gone == ("P4",)
        assert self.holds([pack for pack in self.packs if pack.id not in gone])

    def test_charged_up_as_told_the_group_keeps_the_rule_and_a_little_less_would_not(self):
        numbers = self.way("way_charge_low_first")
        assert numbers["ids"] == ("P0", "P1", "P2", "P3")

        def raised(cell_v):
            return [
                replace(pack, reading=Reading(4 * max(cell_v, pack.cell_v))) if pack.id in numbers["ids"] else pack
                for pack in self.packs
            ]

        assert self.holds(raised(numbers["until_v"]))
        assert not self.holds(raised(numbers["until_v"] - 0.004))
        assert 2 < numbers["minutes"] < 15

    def test_evening_out_the_high_one_with_a_neighbour_first_is_offered(self):
        numbers = self.way("way_even_first")
        assert "P4" in numbers["ids"]
        assert len(numbers["ids"]) < len(self.packs)
        assert numbers["minutes"] > 3
