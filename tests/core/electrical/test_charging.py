"""What one charge does. Times marked common practice have no published source."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.electrical.charging import charge_packs, nickel_minutes
from iterum.core.permit.facts import Level
from iterum.core.reasons import Unsafe
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.feed import feed_of
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.rules import Balance, HouseRules
from iterum.core.things.setup import Setup
from tests.conftest import BOARD, charged, even, setup, sized

RULES = HouseRules(rate_c=1.0)
AT_20_PERCENT = CHEMISTRIES["lipo"].table.rest_v(0.2)


def of_2200(cell_v, label=75):
    return even("A", cell_v, cells=3, mah=2200, discharge_c=label)


class TestCommonPractice:
    @pytest.mark.parametrize(
        ("cell_v", "amps", "minutes", "within"),
        [
            (3.80, 2.2, 30, 3),  # about 30 min from storage at 1C
            (3.73, 2.2, 45, 3),  # about 45 min for a 2200 3S off a normal flight
            (AT_20_PERCENT, 4.4, 30, 4),  # about 30 min at 2C from 20 %
            (AT_20_PERCENT, 2.2, 50, 3),  # up to an hour at 1C from 20 %
        ],
    )
    def test_minutes_of_a_3s_2200(self, cell_v, amps, minutes, within):
        assert charge_packs([of_2200(cell_v)], setup(), RULES, amps).minutes == pytest.approx(minutes, abs=within)

    def test_more_resistance_takes_a_few_minutes_longer(self):
        low, high = (charge_packs([of_2200(3.73, label)], setup(), RULES, 2.2).minutes for label in (75, 20))
        assert 3 < high - low < 7

    def test_6s_5000_on_80_w_takes_about_70_minutes_where_amps_alone_promise_50(self):
        result = charge_packs(
            [even("A", AT_20_PERCENT, cells=6, mah=5000, discharge_c=45)], setup(max_power_w=80), RULES, 5.0
        )
        assert result.minutes == pytest.approx(71, abs=2)
        assert (result.power_limit, result.peak_out_w) == ("channel_power", pytest.approx(80))
        assert result.minutes - result.power_costs_min == pytest.approx(50, abs=2)

    def test_of_several_watts_the_least_sets_the_amps_and_is_named(self):
        channel = Channel("ch", 20, 300)
        tight = Charger("c", (channel,), total_power_w=80)
        where = Setup(None, channel, feed_of(tight, Kit()))
        result = charge_packs([even("A", AT_20_PERCENT, cells=6, mah=5000, discharge_c=45)], where, RULES, 5.0)
        assert (result.power_limit, result.peak_out_w) == ("charger_power", pytest.approx(80))

    def test_a_nickel_pack_takes_sixteen_hours_at_a_tenth_of_c_and_a_fifth_more_than_its_mah_at_fast_rates(self):
        """IEC 61951-2 (from memory): 16 hours at 0.1C; the rest is common practice, no source."""
        one = even("N", 1.25, cells=6, mah=2000, chemistry="nimh")
        assert nickel_minutes([one], 0.2) == pytest.approx((10.5 * 60, 16 * 60))
        assert nickel_minutes([one], 1.0) == pytest.approx((126, 144))
        fast = charge_packs([one], setup(), RULES, 1.0)
        assert (fast.minutes_low, fast.minutes_high) == pytest.approx((126, 144))
        assert (fast.charge_low_mah, fast.charge_high_mah) == pytest.approx((0, 2400))
        assert fast.done
        assert fast.fan is None

    def test_balancing_is_an_allowance_of_its_own(self):
        assert charge_packs([of_2200(3.8)], setup(), RULES, 2.2).balance_min == 20
        fifth = replace(RULES, balance=Balance.EVERY_FIFTH)
        assert charge_packs([of_2200(3.8)], setup(), fifth, 2.2).balance_min == 0


def test_energy_and_peak_at_the_source_pass_every_efficiency():
    kit = Kit(sources=(Source("bank", 12.8, 60),), supplies=(Supply("brick", 600, 24, "bank", 0.9),))
    channel = Channel("ch", 20, 500)
    where = Setup(BOARD, channel, feed_of(Charger("c", (channel,), "brick", 0.8), kit))
    result = charge_packs([even("A", 3.75), even("B", 3.76)], where, RULES, 3.6)
    assert result.energy_in_wh == pytest.approx(result.energy_out_wh / 0.72)
    assert result.peak_input_w == pytest.approx(result.peak_out_w / 0.72)
    held = (
        4 * (2 * 1.8) * (result.packs[0].end_soc - 0.375) * 3.95
    )  # what was missing of the table at 3.755 V, at the mean volts
    assert result.energy_out_wh == pytest.approx(held, rel=0.04)


def test_shares_start_by_resistance_run_by_capacity_and_end_by_resistance():
    """One pack of double resistance pushes the others of three to about 1.2 times their share for minutes."""
    tired = even("tired", 3.75, resistance_mohm=(24.0,) * 4)
    fresh = [even(name, 3.75, resistance_mohm=(12.0,) * 4) for name in "AB"]
    judged = charged([*fresh, tired], setup(BOARD), RULES, current_a=5.4)
    result = judged.charge
    start, middle, _ = zip(*(pack.share_a for pack in result.packs), strict=True)
    assert start[0] / 1.8 == pytest.approx(1.2, abs=0.06)
    assert middle[0] / 1.8 == pytest.approx(1.0, abs=0.05)
    assert judged.level is Level.LOOK
    assert {item.numbers["id"] for item in judged.reasons if item.code == "charge_above_c"} >= {"A", "B"}


def test_what_volts_leave_open_is_widest_on_the_flat_of_a_life_curve_and_narrow_near_full():
    life = charge_packs([even("F", 3.28, chemistry="life", mah=2000)], setup(), RULES, 2.0)
    lipo = charge_packs([even("L", 3.75, mah=2000)], setup(), RULES, 2.0)
    high = charge_packs([even("H", 4.12, mah=2000)], setup(), RULES, 2.0)
    widths = [one.minutes_high - one.minutes_low for one in (life, lipo, high)]
    assert widths == sorted(widths, reverse=True)
    assert widths[0] > 35
    assert widths[1] > 15  # nobody knows which cell a LiPo is
    assert widths[2] < 10
    for one in (life, lipo, high):
        assert one.minutes_low <= one.minutes <= one.minutes_high
        assert one.charge_low_mah <= one.charge_mah <= one.charge_high_mah <= 2000 * 1.001
        assert one.energy_in_high_wh >= one.energy_in_wh


def test_never_joined_is_refused_and_unwise_is_computed_with_its_verdict():
    for other in (even("B", 3.8, cells=3), even("B", 3.8, condition="damaged"), even("B", 1.2, chemistry="nimh")):
        with pytest.raises(Unsafe):
            charged([even("A", 3.8), other], setup(BOARD), current_a=3.6)
    unwise = charged([even("A", 3.6), even("B", 4.0)], setup(BOARD), current_a=3.6)
    assert unwise.level is Level.STOP
    assert unwise.charge.minutes > 30


def test_what_each_rests_on_is_said():
    packs = [even("A", 3.8, resistance_mohm=(6.0,) * 4), even("B", 3.8, discharge_c=40), even("C", 3.8)]
    codes = {item.code for item in charged(packs, setup(BOARD), current_a=5.4).reasons}
    assert {"rests_on_measured", "rests_on_label", "rests_on_no_label"} <= codes


@given(st.integers(360, 400), st.floats(0.3, 2.0), st.integers(1, 4))
def test_the_minutes_on_the_dial_card_are_those_of_the_model(hundredths, rate_c, count):
    packs = [even(str(n), hundredths / 100, max_charge_c=3) for n in range(count)]
    where = setup(Board("B", 6) if count > 1 else None, max_power_w=150)
    sizing = sized(packs, where, HouseRules(rate_c=rate_c))
    assert sizing.minutes == pytest.approx(charge_packs(packs, where, RULES, sizing.current_a).minutes, rel=0.03, abs=1)


def test_a_longer_tail_takes_longer():
    short, long = (
        charge_packs([of_2200(3.8)], setup(), replace(RULES, tail_fraction=part), 2.2).minutes for part in (0.2, 0.05)
    )
    assert short < long
