"""Joining by the current that flows, into packs and out of them: the rule, the order, ways out that are ways out."""

from dataclasses import replace
from itertools import permutations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.core.electrical.joining import even_out, joining, passing_order, ways_out
from iterum.core.electrical.plugging import join_reasons, plug_by_plug
from iterum.core.groups.group import obstacles
from iterum.core.permit.facts import Level
from iterum.core.reasons import Unsafe
from iterum.core.things.kit import Board, Port
from iterum.core.things.packs import Reading
from iterum.core.things.rules import HouseRules
from tests.conftest import even

RULES = HouseRules()


PORT = Port()


def high_c(*cell_v, **more):
    return [even(f"P{n}", volts, **{"discharge_c": 75, **more}) for n, volts in enumerate(cell_v)]


def li_ion(*cell_v):
    """Packs that may give 2C."""
    return high_c(*cell_v, discharge_c=None, chemistry="li-ion", mah=3000)


def against(packs, rules=RULES, port=PORT):
    return [item.code for item in join_reasons(plug_by_plug(packs, port.lead_mohm), rules, port)]


class TestRule:
    def test_inside_the_rule_on_volts_and_outside_this_one(self):
        packs = li_ion(*[3.75] * 10, 3.85)
        assert not obstacles(packs, RULES)
        evening = even_out(packs, RULES)
        assert evening.level is Level.STOP
        (broken,) = [item for item in evening.reasons if item.code == "join_out"]
        assert (broken.numbers["id"], broken.numbers["other"], broken.numbers["limit_c"]) == ("P10", "P10", 2.0)
        assert broken.numbers["rate_c"] > 3

    def test_what_a_high_pack_gives_to_ten_is_limited_by_what_it_may_give_not_by_its_charge_c(self):
        """By hand: 0.10 V per cell across one pack and ten in parallel."""
        packs = high_c(*[3.75] * 10, 3.85, mah=1300, resistance_mohm=(10.5 / 1.3,) * 4)
        verdict = joining(packs, RULES)
        own_ohm = 4 * 10.5 / 1300 + 0.005
        out_c = 0.4 / (own_ohm * 1.1) / 1.3
        assert verdict.peak_out_c == pytest.approx(out_c, rel=0.01)
        assert verdict.peak_rate_c == pytest.approx(out_c / 10, rel=0.01)
        assert verdict.level is Level.FIT
        assert against([replace(one, discharge_c=5.0) for one in packs]) == ["join_out"]

    def test_a_fuse_of_a_port_limits_what_flows_through_it(self):
        packs = high_c(3.75, 3.80, mah=5000)
        through_a = joining(packs, RULES).peak_current_a
        assert against(packs, port=Port(fuse_a=through_a + 0.1)) == []
        assert against(packs, port=Port(fuse_a=through_a - 0.1)) == ["join_fuse"]

    def test_like_packs_may_be_joined_and_say_how_little_flows(self):
        evening = even_out(high_c(3.80, 3.81, 3.81), RULES)
        assert evening.level is Level.FIT
        assert [item.code for item in evening.reasons] == ["join_fine", "rests_on_label"]

    def test_seconds_above_its_own_charge_c_count_too(self):
        gentle = replace(RULES, join_over_s=30)
        assert against(high_c(3.73, 3.80), gentle) == ["join_long"]
        assert against(high_c(3.73, 3.80, max_charge_c=4), gentle) == []

    def test_the_rule_can_be_left_to_the_volts_alone(self):
        packs = high_c(3.60, 3.85)
        assert against(packs) == ["join_peak"]
        assert against(packs, replace(RULES, join_peak_c=None)) == []

    @settings(max_examples=20)
    @given(st.permutations([3.72, 3.74, 3.75, 3.78, 3.80]))
    def test_the_order_in_which_packs_are_listed_changes_nothing(self, volts):
        assert [round(plug.rate_c, 9) for plug in joining(high_c(*volts), RULES).plugs] == [
            round(plug.rate_c, 9) for plug in joining(high_c(*sorted(volts)), RULES).plugs
        ]


class TestOrder:
    def test_from_low_to_high_where_packs_are_alike(self):
        """One high pack that came second would push all it has into the first."""
        packs = high_c(*[3.73] * 5, 3.82, mah=1300)
        verdict = joining(packs, RULES)
        assert verdict.order == tuple(pack.id for pack in packs)
        assert verdict.peak_rate_c == pytest.approx(1.24, abs=0.01)
        second = plug_by_plug([packs[0], packs[-1], *packs[1:-1]])
        assert max(plug.rate_c for plug in second) > 3.5

    @settings(max_examples=25)
    @given(st.lists(st.tuples(st.integers(370, 380), st.sampled_from([900, 1300, 1800]),
                              st.sampled_from([2.0, 4.0, 8.0])), min_size=3, max_size=4))  # fmt: skip
    def test_no_other_order_that_passes_puts_less_into_a_pack(self, told):
        packs = [
            even(f"P{n}", volts / 100, mah=mah, resistance_mohm=(mohm,) * 4)
            for n, (volts, mah, mohm) in enumerate(told)
        ]
        verdict = joining(packs, RULES)
        others = [plug_by_plug(order) for order in permutations(packs)]
        passing = [max(plug.rate_c for plug in plugs) for plugs in others if not join_reasons(plugs, RULES, PORT)]
        if passing:
            assert verdict.passes
            assert verdict.peak_rate_c <= 1.05 * min(passing) + 1e-9

    @given(st.permutations(range(5)), st.permutations("ABCDE"))
    def test_neither_the_list_nor_the_tags_change_it(self, places, tags):
        """Packs equal in volts, but not in size and resistance."""
        packs = [
            even(f"P{n}", 3.75 if n < 4 else 3.80, mah=1000 + 100 * n, resistance_mohm=(3.0 + n % 2,) * 4)
            for n in range(5)
        ]
        renamed = dict(zip((pack.id for pack in packs), tags, strict=True))
        other = joining([replace(packs[place], id=renamed[packs[place].id]) for place in places], RULES)
        assert other.order == tuple(renamed[tag] for tag in joining(packs, RULES).order)


class TestTimetable:
    def test_every_plug_has_its_wait_and_their_sum_is_the_wait_that_is_told(self):
        verdict = joining(high_c(3.70, 3.73, 3.76, 3.80, mah=1300), RULES)
        assert [step.plug for step in verdict.timetable] == list(verdict.order)
        assert verdict.timetable[0].into is None
        assert [step.into.into_c for step in verdict.timetable[1:]] == [plug.rate_c for plug in verdict.plugs]
        assert verdict.timetable[-1].wait_min == verdict.last_wait_min
        assert sum(step.wait_min for step in verdict.timetable) == verdict.wait_min > verdict.last_wait_min

    def test_a_slower_charge_counts_the_same_waits_and_a_faster_one_longer_ones(self):
        packs = high_c(3.75, 3.80, mah=1300)
        wanted, slower, faster = (joining(packs, RULES, rate_c=rate_c).wait_min for rate_c in (None, 0.3, 2.0))
        assert slower == wanted < faster
        assert joining(packs, RULES, rate_c=0.0).wait_min < wanted


class TestEveningOut:
    def test_a_board_that_does_not_take_the_packs_is_told(self):
        evening = even_out(high_c(3.80, 3.80), RULES, Board("B", 6, 5, 6))
        assert (evening.level, evening.reasons[0].code) == (Level.STOP, "board_cells")

    def test_one_nickel_pack_is_refused_with_its_reason(self):
        with pytest.raises(Unsafe) as refused:
            even_out([even("N", 1.25, cells=6, chemistry="nimh")], RULES)
        assert refused.value.reasons[0].code == "ends_by_drop"

    def test_a_pack_that_joins_others_evened_out_sees_their_common_volts(self):
        packs = high_c(3.70, 3.80, 3.90)
        alone = even_out(packs, RULES, plugged_last="P2")
        at_once = even_out(packs, RULES)
        by_id = {item.id: item for item in alone.packs}
        assert by_id["P0"].peak_current_a == pytest.approx(by_id["P1"].peak_current_a)
        assert by_id["P2"].peak_current_a < 0 < by_id["P0"].peak_current_a
        assert at_once.packs[0].peak_current_a > by_id["P0"].peak_current_a

    def test_the_pack_that_is_asked_to_be_last_is_judged_as_the_last(self):
        packs = high_c(3.78, 3.80, 3.82)
        for last in ("P0", "P1", "P2"):
            verdict = even_out(packs, RULES, plugged_last=last).joining
            assert verdict.order[-1] == last
            assert verdict.plugs[-1].id == last
        apart = high_c(3.60, 3.90, 3.92)
        asked = even_out(apart, RULES, plugged_last="P0").joining
        assert not asked.passes
        assert asked.order[-1] == "P0"

    def test_another_order_is_offered_only_where_it_is_the_order_that_is_wrong(self):
        packs, never = high_c(3.75, 3.76, 3.88), high_c(3.70, 3.80, 3.90)
        asked = {last: even_out(packs, RULES, plugged_last=last).joining for last in ("P0", "P2")}
        assert (asked["P0"].passes, [way.code for way in asked["P0"].ways]) == (False, ["way_other_order"])
        assert (asked["P2"].passes, asked["P2"].ways) == (True, ())
        assert "way_other_order" not in [way.code for way in even_out(never, RULES, plugged_last="P0").joining.ways]

    def test_one_pack_joins_nothing_and_no_balance_lead_goes_first(self):
        one = joining(high_c(3.8), RULES, PORT)
        assert (one.passes, one.plugs, one.balance_first, one.wait_min) == (True, (), False, 0.0)

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
        rules = replace(RULES, match_limit=2.0, cell_limit_v=0.3, join_peak_c=None)
        evening = even_out(high_c(odd, 3.8), rules)
        assert evening.level is Level.STOP
        assert evening.reasons[0].numbers["id"] == "P0"

    def test_never_joined_is_refused(self):
        for other in (even("B", 3.8, cells=3), even("B", 3.8, condition="damaged")):
            with pytest.raises(Unsafe):
                even_out([even("A", 3.8), other], RULES)


class TestWaysOut:
    packs = high_c(3.75, 3.75, 3.75, 3.75, 3.845, discharge_c=3.0, resistance_mohm=(5.5,) * 4)

    def way(self, code, packs=None):
        return next(item.numbers for item in ways_out(packs or self.packs, RULES) if item.code == code)

    def holds(self, packs):
        return passing_order(packs, RULES) is not None

    def test_none_is_needed_where_the_rule_holds(self):
        assert ways_out(high_c(3.80, 3.81), RULES) == ()

    def test_an_order_that_keeps_the_rule_is_taken_by_itself(self):
        """From low to high the last pack would give over 6C to the four others; to the first alone it gives under 4C."""
        packs = [replace(pack, discharge_c=4.0, max_charge_c=2.0) for pack in self.packs]
        assert against(sorted(packs, key=lambda pack: pack.cell_v)) == ["join_out"]
        order = passing_order(packs, RULES)
        assert against(order) == []
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
        assert not self.holds(raised(numbers["until_v"] - 0.015))
        assert 2 < numbers["minutes"] < 15

    def test_evening_out_the_high_one_with_a_neighbour_first_is_offered(self):
        packs = high_c(3.71, 3.71, 3.78, 3.80, 3.80, discharge_c=3.0, max_charge_c=4, resistance_mohm=(5.5,) * 4)
        numbers = self.way("way_even_first", packs)
        assert numbers["ids"] == ("P2", "P3", "P4")
        assert 3 < numbers["minutes"] < 15
