"""A choice, whole: verdicts that are obeyed, limits that are told, a source that is not overdrawn, amps of one's own."""

from dataclasses import replace

import pytest

from iterum.core.permit.facts import Level
from iterum.core.reasons import Unsafe
from iterum.core.sizing.size import charge, size
from iterum.core.things.choice import Choice
from iterum.core.things.feed import Feed
from iterum.core.things.kit import Board, Channel, Charger, Source
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup
from iterum.wording import about
from tests import conftest
from tests.conftest import BOARD, bench_of, charged, choice_for, even, pack, setup, sized


def refused(packs, where, rules=None, **more):
    with pytest.raises(Unsafe) as refusal:
        sized(packs, where, rules, **more)
    assert all(about(item) for item in refusal.value.reasons)
    return {item.code for item in refusal.value.reasons}


class TestOwnDecision:
    """More than 1C where the label gives none. Common practice, no source."""

    fast = HouseRules(rate_c=2.0)

    def test_it_is_the_pilots_for_lipo_and_for_nothing_else(self):
        lipo = even("A", 3.8, mah=2000)
        assert sized([lipo], setup(), self.fast).rate_c == pytest.approx(1.0)
        assert sized([lipo], setup(), self.fast, own_rate_c=1.5).rate_c == pytest.approx(1.5)
        for chemistry, cell_v in (("li-ion", 3.6), ("life", 3.25), ("lihv", 3.8)):
            other = replace(even("B", cell_v, mah=2000), chemistry_name=chemistry)
            assert refused([other], setup(), self.fast, own_rate_c=1.5) >= {"own_rate_lipo"}


class TestWeak:
    """Cells over 0.10 V apart, or nearly flat: alone, 0.5C at most, balanced. Common practice, no source."""

    fast = HouseRules(rate_c=2.0)
    apart = pack("A", 3.70, 3.82, 3.82, 3.82, mah=2700, max_charge_c=5)
    flat = even("F", 3.05, mah=1800, max_charge_c=5)

    @pytest.mark.parametrize(("weak", "most_a"), [(apart, 1.3), (flat, 0.9)])
    def test_it_takes_half_a_c_whatever_the_house_rule_and_its_label_say(self, weak, most_a):
        sizing = sized([weak], setup(), self.fast)
        assert (sizing.current_a, sizing.binding, sizing.dial.mode) == (most_a, "weak_pack", "balance")
        assert sizing.charge.balance_min == 20

    def test_own_amps_over_the_cap_are_refused_by_size_and_stopped_by_charge(self):
        assert refused([self.apart], setup(), current_a=2.7) == {"over_limit"}
        judged = charged([self.apart], setup(), current_a=2.7)
        assert judged.level is Level.STOP
        assert {item.name for item in judged.limits} >= {"weak_pack"}

    def test_it_shares_no_board(self):
        assert refused([self.apart, even("B", 3.8, mah=2700)], setup(BOARD)) >= {"cells_apart_weak"}


class TestCountsAndBrim:
    @pytest.mark.parametrize(
        ("chemistry", "cells", "pack_v", "code"),
        [
            ("nimh", 8, 27.9, "volts_disagree"),
            ("li-ion", 3, 8.40, "count_doubt"),
            ("lipo", 4, 12.4, "count_doubt"),
            ("life", 4, 10.0, "count_doubt"),
            ("nimh", 6, 9.0, "count_doubt"),
        ],
    )
    def test_a_total_that_fits_another_count_is_not_charged(self, chemistry, cells, pack_v, code):
        odd = Pack("P", chemistry, cells, 2000, reading=Reading(pack_v))
        assert code in refused([odd], setup())
        judged = charged([odd], setup())
        assert judged.level is Level.STOP
        assert code in {item.code for item in judged.reasons}

    def test_counted_pins_settle_it(self):
        odd = Pack("P", "li-ion", 3, 2000, reading=Reading(8.70), cells_confirmed=True)
        assert sized([odd], setup()).current_a == 2.0

    @pytest.mark.parametrize(("chemistry", "cell_v"), [("lipo", 4.23), ("lipo", 4.25), ("lihv", 4.40), ("life", 3.68)])
    def test_over_full_is_neither_charged_nor_joined(self, chemistry, cell_v):
        over = even("O", cell_v, chemistry=chemistry)
        assert refused([over], setup())
        assert refused([over, even("B", cell_v - 0.05, chemistry=chemistry)], setup(BOARD))


class TestJudgedByEveryLimit:
    """What `size` knows, `charge` prints and judges by."""

    @pytest.mark.parametrize(
        ("where", "packs", "amps", "codes"),
        [
            (setup(Board("B", 4, port_fuse_a=2)), [even("A", 3.8), even("C", 3.8)], 4.2, {"over_limit"}),
            (setup(max_current_a=3), [even("A", 3.8, mah=9000)], 8.0, {"over_limit"}),
            (setup(max_cells=6), [even("A", 3.8, cells=10, mah=9000)], 5.0, {"channel_cells"}),
            (setup(Board("B", 4, max_cells=6)), [even(n, 3.8, cells=10) for n in "AB"], 3.0, {"board_cells"}),
            (setup(max_power_w=40), [even("A", 3.8, mah=9000)], 5.0, {"over_limit"}),
            (setup(min_current_a=1.0), [even("A", 3.8)], 0.5, {"under_minimum"}),
            (setup(current_step_a=0.5), [even("A", 3.8, mah=9000)], 1.3, {"off_step"}),
            (setup(Board("B", 1)), [even(n, 3.8) for n in "AB"], 3.0, {"ports_full"}),
        ],
    )
    def test_a_broken_limit_is_stop_and_size_refuses_the_same_amps(self, where, packs, amps, codes):
        judged = charged(packs, where, current_a=amps)
        assert judged.level is Level.STOP
        assert codes <= {item.code for item in judged.reasons}
        assert judged.limits
        assert codes <= refused(packs, where, current_a=amps)

    def test_5_v_into_a_10_v_input(self):
        charger = Charger("c", (Channel("ch", 10, 100),), fed_by="bank", input_min_v=10)
        where = Setup(None, charger.channels[0], Feed(charger, (), Source("bank", voltage_v=5)))
        assert {item.code for item in charged([even("A", 3.8)], where, current_a=1.0).reasons} >= {"input_too_low"}

    def test_a_capacity_above_the_label_takes_its_share_and_no_more_than_its_labels_amps(self):
        """The current splits by what packs hold: 1500 and 1000 of 2500; 1C by the label is 1 A each."""
        packs = [even("A", 3.8, mah=1000, capacity_now_mah=1500), even("B", 3.8, mah=1000)]
        sizing = sized(packs, setup(Board("B", 4, port_fuse_a=5)), HouseRules(rate_c=1.0))
        assert next(item.current_a for item in sizing.limits if item.name == "port_fuse") == pytest.approx(5 / 0.6)
        assert sizing.shares[0].current_a <= 1.0 + 1e-9
        assert sizing.current_a == 1.6


class TestWatthours:
    """A source that holds too little: what is needed, what is left, how many packs, up to what volts."""

    packs = tuple(even(f"P{n}", 3.70, mah=1500) for n in range(6))

    def where(self, wh, **more):
        source = Source("bank", 12.8, 60, energy_wh=wh, **more)
        charger = Charger("c", (Channel("ch", 30, 900),), fed_by="bank")
        return Setup(BOARD, charger.channels[0], Feed(charger, (), source))

    def short(self, wh, **more):
        with pytest.raises(Unsafe) as refusal:
            sized(self.packs, self.where(wh, **more))
        (item,) = refusal.value.reasons
        assert item.code == "energy_short"
        return item.numbers

    def test_six_packs_do_not_take_113_wh_from_58(self):
        numbers = self.short(58)
        assert numbers["need_wh"] > 110
        assert (numbers["left_wh"], numbers["enough_for"]) == (58, 2)
        fewer = sized(self.packs[: numbers["enough_for"]], self.where(58))
        assert not fewer.budget.short
        part_way = sized(self.packs, self.where(58), end_v=numbers["until_v"])
        assert part_way.charge.energy_in_wh <= part_way.charge.energy_in_high_wh
        assert 40 < part_way.charge.energy_in_high_wh <= 58  # the cautious end counts
        assert part_way.dial.stop_mah >= part_way.charge.charge_mah

    def test_what_was_taken_before_counts(self):
        assert self.short(113, taken_wh=55.0)["left_wh"] == pytest.approx(58)

    def test_charge_computes_it_and_says_stop(self):
        judged = charged(self.packs, self.where(58))
        assert judged.level is Level.STOP
        assert [item.current_a for item in judged.limits if item.name == "source_energy"] == [0.0]

    def test_nothing_left_lifts_nothing(self):
        numbers = self.short(0.5)
        assert (numbers["enough_for"], numbers["until_v"]) == (0, None)

    def test_without_a_budget_it_is_planned_and_said(self):
        sizing = sized(self.packs, self.where(None))
        assert sizing.budget is None
        assert "no_budget" in [item.code for item in sizing.notes]


class TestOwnAmps:
    def test_any_figure_below_all_limits_is_dialled(self):
        sizing = sized([even("A", 3.8, mah=7800, max_charge_c=2)], setup(), current_a=7.2)
        assert (sizing.current_a, sizing.binding) == (7.2, "wanted_rate")
        faster = sized([even("A", 3.8, mah=1000, max_charge_c=3)], setup(), HouseRules(rate_c=1.0), current_a=2.5)
        assert faster.rate_c == 2.5
        assert "above_2c" in [item.code for item in faster.notes]

    @pytest.mark.parametrize("typed", [-3.0, 0.0, float("nan"), float("inf"), 1e9])
    def test_what_is_no_current_is_refused_before_anything_is_worked_out(self, typed):
        assert refused([even("A", 3.8)], setup(), current_a=typed) == {"choice_amps"}

    def test_a_pack_named_twice_has_one_plug(self):
        bench = bench_of([even("A", 3.8)], setup(BOARD))
        with conftest.refused("choice_twice"):
            size(bench, Choice(("A", "A"), "B-6", "ch"))

    @pytest.mark.parametrize("end_v", [1.0, 4.35, float("nan")])
    def test_a_lipo_ends_nowhere_else(self, end_v):
        assert refused([even("A", 3.8)], setup(), end_v=end_v) == {"choice_end"}


def test_what_size_settles_can_be_asked_again_and_gives_the_same():
    packs = [even(n, v, mah=1500, discharge_c=75) for n, v in (("A", 3.72), ("B", 3.80))]
    where = setup(BOARD, max_power_w=40)
    first = sized(packs, where, rate_c=1.5)
    again = size(bench_of(packs, where), first.settled)
    assert (again.current_a, again.charge.minutes, again.charge.energy_in_wh, again.joining) == (
        first.current_a, first.charge.minutes, first.charge.energy_in_wh, first.joining)  # fmt: skip
    assert again.joining.wait_min > 0
    judged = charge(bench_of(packs, where), first.settled)
    assert (judged.charge.minutes, judged.charge.energy_in_wh) == (first.charge.minutes, first.charge.energy_in_wh)


class TestOneCell:
    def test_one_cell_has_nothing_to_balance(self):
        sizing = sized([even("A", 3.8, cells=1, mah=500)], setup())
        assert (sizing.charge.balance_min, sizing.dial.mode) == (0.0, "one cell, nothing to balance")

    def test_its_end_volts_may_be_chosen_where_pilots_choose(self):
        packs = [even("L", 3.6, cells=3, chemistry="li-ion", mah=3000)]
        high, low = (sized(packs, setup(), end_v=volts) for volts in (4.20, 4.10))
        assert low.dial.end_v == 4.10
        assert low.dial.stop_mah is None
        # Common practice, no source: ending at 4.10 V gives up about a tenth of what it holds.
        assert (high.charge.charge_mah - low.charge.charge_mah) / 3000 == pytest.approx(0.10, abs=0.05)


def test_a_file_with_a_rate_over_the_label_is_held_by_the_label():
    where, packs = setup(), [even("A", 3.8, mah=1000)]
    assert sized(packs, where, rate_c=3.0).current_a == 1.0
    assert replace(choice_for(packs, where), rate_c=3.0).faults() == ()
