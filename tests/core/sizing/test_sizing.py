"""The current to dial. The worked examples are common practice, no source; the arithmetic is done by hand."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.amps.limits import tied
from iterum.core.reasons import Unsafe
from iterum.core.sizing.arrange import suggest
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice
from iterum.core.things.feed import feed_of
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.rules import HouseRules, SizeAt
from iterum.core.things.setup import Setup
from tests.conftest import BOARD, even, setup, sized

ONE_C = HouseRules(rate_c=1.0)


def limit(sizing, name):
    return next(item.current_a for item in sizing.limits if item.name == name)


class TestWorkedByHand:
    def test_six_650_mah_at_1c_take_3_9_a(self):
        result = sized([even(str(n), 3.8, mah=650) for n in range(6)], setup(BOARD))
        assert (result.current_a, result.binding) == (3.9, "wanted_rate")

    def test_4800_mah_in_all_at_2c_take_9_6_a(self):
        packs = [even(str(n), 3.8, mah=1600, max_charge_c=5) for n in range(3)]
        assert sized(packs, setup(BOARD), HouseRules(rate_c=2.0)).current_a == 9.6

    def test_1000_1300_1500_at_3_8_a_take_1_0_1_3_and_1_5(self):
        packs = [even(str(mah), 3.8, mah=mah) for mah in (1000, 1300, 1500)]
        result = sized(packs, setup(BOARD))
        assert result.current_a == 3.8
        assert [round(share.current_a, 9) for share in result.shares] == [1.0, 1.3, 1.5]

    def test_300_w_on_4s_is_17_9_a_and_80_w_on_6s_3_17_a(self):
        four = sized([even("A", 3.8, mah=20000)], setup(max_power_w=300))
        six = sized([even("A", 3.8, cells=6, mah=5000)], setup(max_power_w=80))
        assert (round(limit(four, "channel_power"), 1), four.current_a, four.binding) == (17.9, 17.8, "channel_power")
        assert (round(limit(six, "channel_power"), 2), six.current_a) == (3.17, 3.1)

    def test_60_w_on_4s_near_storage_is_3_9_a_when_divided_by_present_volts(self):
        rules = HouseRules(rate_c=1.0, size_at=SizeAt.PRESENT)
        result = sized([even("A", 3.85, mah=10000)], setup(max_power_w=60), rules)
        assert round(result.exact_a, 1) == 3.9

    def test_nominal_volts_give_more_amps_than_full(self):
        rules = HouseRules(rate_c=1.0, size_at=SizeAt.NOMINAL)
        assert sized([even("A", 3.8, mah=20000)], setup(max_power_w=148), rules).exact_a == pytest.approx(10.0)

    def test_a_1000_w_supply_behind_a_charger_of_0_88_leaves_20_95_a_on_10s(self):
        kit = Kit(supplies=(Supply("brick", 1000, efficiency=0.9),))
        channel = Channel("ch", 200, 10_000, max_cells=14)
        charger = Charger("c", (channel,), fed_by="brick", efficiency=0.88)
        result = sized([even("A", 3.8, cells=10, mah=50000)], Setup(None, channel, feed_of(charger, kit)))
        assert round(result.exact_a, 2) == 20.95
        assert result.binding == "supply_power"

    def test_a_12_v_1_5_a_bank_gives_18_w_before_the_charger_takes_its_part(self):
        kit = Kit(sources=(Source("bank", voltage_v=12, max_current_a=1.5),))
        channel = Channel("ch", 200, 10_000)
        charger = Charger("c", (channel,), fed_by="bank", efficiency=0.85)
        result = sized([even("A", 3.8, cells=3, mah=10000)], Setup(None, channel, feed_of(charger, kit)))
        assert limit(result, "source_power") == pytest.approx(18 * 0.85 / 12.6)

    def test_source_power_passes_both_efficiencies_and_input_volts_derate(self):
        kit = Kit(sources=(Source("gen", max_power_w=500),), supplies=(Supply("s", 600, 18, "gen", 0.8),))
        channel = Channel("ch", 200, 10_000)
        charger = Charger("c", (channel,), fed_by="s", efficiency=0.9, power_by_input_v=((12, 200), (24, 400)))
        result = sized([even("A", 3.8, mah=90000)], Setup(None, channel, feed_of(charger, kit)))
        assert limit(result, "source_power") == pytest.approx(500 * 0.8 * 0.9 / 16.8)
        assert limit(result, "charger_input") == pytest.approx(300 / 16.8)  # half way between 200 and 400 W
        assert result.binding == "charger_input"

    def test_a_1_a_minimum_is_too_much_for_one_350_mah_pack_and_fine_for_three(self):
        packs = [even(str(n), 3.8, cells=2, mah=350) for n in range(3)]
        channel = setup(BOARD, min_current_a=1.0)
        with pytest.raises(Unsafe) as refusal:
            sized(packs[:1], setup(min_current_a=1.0))
        assert [item.code for item in refusal.value.reasons] == ["minimum_too_high"]
        assert sized(packs, channel).current_a == 1.0

    def test_the_minimum_may_pass_the_wish_but_not_the_label(self):
        rules = HouseRules(rate_c=0.5)
        result = sized([even("A", 3.8, mah=1000)], setup(min_current_a=1.0), rules)
        assert (result.current_a, result.notes[0].code) == (1.0, "minimum_dialled")

    def test_a_port_fuse_sees_only_its_own_share(self):
        board = Board("B", 6, port_fuse_a=2.0, max_current_a=40)
        packs = [even("A", 3.8, mah=2000, max_charge_c=5), even("B", 3.8, mah=1000, max_charge_c=5)]
        result = sized(packs, setup(board), HouseRules(rate_c=3))
        assert (round(result.exact_a, 9), result.binding) == (3.0, "port_fuse")

    def test_a_capacity_setting_of_5250_is_entered_as_5300(self):
        assert sized([even("A", 3.8, mah=5250)], setup()).dial.capacity_mah == 5300

    def test_the_card_for_an_empty_pack_at_1c_has_a_timer_of_about_two_hours(self):
        assert 100 <= sized([even("A", 3.65)], setup()).dial.timer_min <= 150

    def test_the_charger_must_show_cells_times_volts(self):
        card = sized([even("A", 3.84), even("B", 3.84)], setup(BOARD)).dial
        assert (card.cells, card.pack_v, card.full_pack_v) == (4, 15.36, 16.8)


class TestRefused:
    def refused(self, packs, where):
        with pytest.raises(Unsafe) as refusal:
            sized(packs, where)
        return {item.code for item in refusal.value.reasons}

    def test_every_reason_at_once(self):
        packs = [even("A", 3.8), even("B", 4.0), even("C", 3.8, condition="damaged")]
        assert self.refused(packs, setup(Board("B", 2, max_cells=3), max_cells=3)) == {
            "damaged", "window_too_wide", "same_cell_apart", "ports_full", "board_cells", "channel_cells"
        }  # fmt: skip

    def test_two_packs_need_a_board(self):
        assert self.refused([even("A", 3.8), even("B", 3.8)], setup()) == {"board_missing"}

    def test_a_charger_that_needs_10_v_does_not_run_on_a_bank_that_fell_back_to_5(self):
        channel = Channel("ch", 10, 100)
        charger = Charger("c", (channel,), fed_by="bank", input_min_v=10)
        kit = Kit(sources=(Source("bank", voltage_v=5),))
        assert self.refused([even("A", 3.8)], Setup(None, channel, feed_of(charger, kit))) == {"input_too_low"}


def test_an_aged_pack_counts_by_what_it_really_holds():
    old = even("old", 3.8, mah=2000, capacity_now_mah=1500)
    assert sized([old], setup()).current_a == 1.5


def test_the_kind_rate_of_round_cells_is_half_that_of_a_lipo():
    assert sized([even("L", 3.6, chemistry="li-ion", mah=3000)], setup(), HouseRules()).current_a == 1.5
    assert sized([even("P", 3.6, mah=3000)], setup(), HouseRules()).current_a == 3.0


def test_two_equal_limits_are_both_gripped():
    result = sized([even("A", 3.8, mah=1000)], setup(max_current_a=1.0))
    assert tied(result.limits) == ("wanted_rate", "pack_charge_c", "channel_current")


def test_a_board_with_the_packs_own_plug_is_suggested_before_one_that_gives_more_amps():
    boards = (
        Board("big", 6, max_current_a=40, connector="large"),
        Board("mini", 6, max_current_a=1, connector="small"),
    )
    kit = Kit(boards=boards, chargers=(Charger("c", (Channel("ch", 20, 500),)),))
    bench = Bench(tuple(even(n, 3.8, connector="small") for n in "AB"), kit, ONE_C)
    assert suggest(bench, Choice(("A", "B"))).board == "mini"


@given(
    st.lists(st.sampled_from([350, 650, 1300, 2200]), min_size=1, max_size=6),
    st.floats(0.2, 5),
    st.floats(5, 500),
    st.floats(0.5, 50),
    st.sampled_from([0.01, 0.1, 0.5]),
)
def test_what_is_dialled_passes_no_limit_and_one_step_more_would(capacities, rate_c, power_w, current_a, step_a):
    rules = HouseRules(rate_c=rate_c, max_capacity_ratio=None)
    packs = [even(str(index), 3.8, mah=mah, max_charge_c=2) for index, mah in enumerate(capacities)]
    limits = {"max_power_w": power_w, "max_current_a": current_a, "current_step_a": step_a, "min_current_a": 0}
    where = setup(BOARD if len(packs) > 1 else None, **limits)
    try:
        result = sized(packs, where, rules)
    except Unsafe:
        return
    smallest = min(item.current_a for item in result.limits)
    if "minimum_dialled" not in [item.code for item in result.notes]:
        assert result.current_a <= smallest + 1e-9 < result.current_a + step_a + 1e-6
    assert sum(share.current_a for share in result.shares) == pytest.approx(result.current_a)
    assert all(share.rate_c <= 2 + 1e-9 for share in result.shares)
    more_watts = replace(where, channel=replace(where.channel, max_power_w=power_w * 2))
    assert sized(packs, more_watts, rules).current_a >= result.current_a
