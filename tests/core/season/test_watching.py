"""Watching a charge: every finding fires where it should, and stays silent where it must."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.electrical.charging import charge_packs
from iterum.core.season.figures import not_true
from iterum.core.season.outlook import Observation, expect, outlook
from iterum.core.season.watching import BAND_V, Alarm, findings, next_check_min
from iterum.core.things.feed import Feed
from iterum.core.things.kit import Board, Channel, Charger
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup
from iterum.wording import sentence
from tests.conftest import even

PACKS = [even(f"P{n}", 3.75, mah=1800, discharge_c=60) for n in range(3)]
SETUP = Setup(Board("B", 4), Channel("c", 12, 250), Feed(Charger("C", ())))
RESULT = charge_packs(PACKS, SETUP, HouseRules(), 5.4)
EXPECTED = expect(RESULT, 4, 4.20, 100.0, stop_input_v=10.5)


def due(at_min, name="cell_v"):
    import numpy as np

    return float(np.interp(at_min, EXPECTED.t_min, getattr(EXPECTED, name)))


def seen(at_min, **more):
    """What a charge that goes as expected shows at a minute; `more` is what differs."""
    values = {"pack_v": 4 * due(at_min), "current_a": due(at_min, "current_a"), "charge_mah": due(at_min, "charge_mah")}
    return Observation(at_min, **{**values, "by_hand": True, **more})


def told(observations, now_min=None, **more):
    now_min = observations[-1].at_min + 1 if now_min is None else now_min
    expected = more.pop("expected", EXPECTED)
    return {item.what.code: item for item in findings(expected, observations, now_min, **more)}


def as_expected(until_min, **last):
    return [*(seen(minute) for minute in range(1, int(until_min))), seen(until_min, **last)]


def test_a_charge_that_goes_as_expected_says_nothing_to_its_end():
    for until in range(2, int(EXPECTED.minutes)):
        assert told(as_expected(until)) == {}, until


CASES = {
    # code: (what fires it, alarm, what is just within)
    "watch_cell_lags": (as_expected(20, cell_v=(3.90, 3.90, 3.90, 3.86)), Alarm.CARE, as_expected(20, cell_v=(3.90, 3.90, 3.90, 3.88))),
    "watch_cell_leads": (as_expected(20, cell_v=(3.90, 4.01, 3.90, 3.90)), Alarm.STOP, as_expected(20, cell_v=(3.90, 3.92, 3.90, 3.90))),
    "watch_pack_lags": ([*as_expected(20), Observation(20.0, pack_v=4 * (due(20) - 0.05), pack_id="P1")], Alarm.CARE,
                        [*as_expected(20), Observation(20.0, pack_v=4 * (due(20) - 0.035), pack_id="P1")]),
    "watch_pack_leads": ([*as_expected(20), Observation(20.0, pack_v=4 * (due(20) + 0.05), pack_id="P1")], Alarm.CARE,
                         [*as_expected(20), Observation(20.0, pack_v=4 * (due(20) + 0.035), pack_id="P1")]),
    "watch_over_full": (as_expected(30, pack_v=4 * 4.24), Alarm.STOP, as_expected(30, pack_v=4 * 4.22)),
    "watch_volts_low": (as_expected(20, pack_v=4 * (due(20) - 0.06)), Alarm.NOTE, as_expected(20, pack_v=4 * (due(20) - 0.03))),
    "watch_volts_high": (as_expected(20, pack_v=4 * (due(20) + 0.06)), Alarm.NOTE, as_expected(20, pack_v=4 * (due(20) + 0.03))),
    "watch_mah_over": (as_expected(30, charge_mah=EXPECTED.missing_high_mah * 1.02), Alarm.CARE, as_expected(30, charge_mah=EXPECTED.missing_high_mah * 0.99)),
    "watch_hot": (as_expected(20, temperature_c=45.0), Alarm.CARE, as_expected(20, temperature_c=44.0)),
    "watch_source_low": (as_expected(20, input_v=10.4), Alarm.STOP, as_expected(20, input_v=10.9)),
    "watch_source_sags": (as_expected(20, input_v=10.6), Alarm.CARE, as_expected(20, input_v=10.9)),
}  # fmt: skip


@pytest.mark.parametrize("code", CASES)
def test_each_finding_fires_with_its_numbers_and_what_to_do_and_not_just_within(code):
    fires, alarm, within = CASES[code]
    raised = told(fires)
    assert raised[code].alarm is alarm
    assert sentence(raised[code].what)
    assert sentence(raised[code].do)
    assert code not in told(within)


def test_a_pack_that_went_on_with_its_cells_apart_is_judged_by_how_it_widens():
    apart = replace(EXPECTED, spread_v=0.12)
    assert "watch_cell_lags" not in told(as_expected(20, cell_v=(3.95, 3.83, 3.95, 3.95)), expected=apart)
    assert told(as_expected(20, cell_v=(3.97, 3.82, 3.96, 3.96)), expected=apart)["watch_cell_lags"].alarm is Alarm.STOP


def test_a_fifth_more_than_was_missing_at_most_stops_and_so_does_a_whole_pack():
    assert told(as_expected(30, charge_mah=EXPECTED.missing_high_mah * 1.21))["watch_mah_over"].alarm is Alarm.STOP
    assert told(as_expected(30, charge_mah=EXPECTED.missing_high_mah * 1.19))["watch_mah_over"].alarm is Alarm.CARE
    whole = replace(EXPECTED, whole_mah=EXPECTED.missing_high_mah * 1.05)
    assert (
        told(as_expected(30, charge_mah=1.05 * whole.whole_mah + 1), expected=whole)["watch_mah_over"].alarm
        is Alarm.STOP
    )


def test_volts_that_fall_while_the_amps_stand_stop_it():
    high = seen(20)
    fallen = replace(high, at_min=22.0, pack_v=high.pack_v - 4 * 0.035)
    assert told([high, fallen])["watch_volts_fall"].alarm is Alarm.STOP
    assert "watch_volts_fall" not in told([high, replace(fallen, pack_v=high.pack_v - 4 * 0.025)])
    assert "watch_volts_fall" not in told([high, replace(fallen, current_a=2.7)])  # fewer amps lower them by themselves


def test_time_past_the_timer_and_well_past_what_was_expected():
    late = EXPECTED.high_min + EXPECTED.balance_min
    flowing = seen(EXPECTED.minutes - 1)
    assert "watch_late" in told([flowing], now_min=late * 1.16)
    assert "watch_late" not in told([flowing], now_min=late * 1.14)
    assert told([flowing], now_min=100.5)["watch_timer"].alarm is Alarm.STOP
    assert "watch_timer" not in told([flowing], now_min=99.5)


def test_amps_that_do_not_fall_at_full_volts():
    full = [Observation(20.0 + n, pack_v=16.8, current_a=4.0, by_hand=True) for n in range(14)]
    falling = [Observation(20.0 + n, pack_v=16.8, current_a=4.0 * 0.97**n, by_hand=True) for n in range(14)]
    assert "watch_amps_stand" in told(full)
    assert "watch_amps_stand" not in told(full[:11])
    assert "watch_amps_stand" not in told(falling)


def test_volts_that_stand_still_where_they_should_rise():
    first = seen(8)
    stuck = [first, replace(first, at_min=19.0)]
    assert "watch_volts_stand" in told(stuck)
    assert "watch_volts_stand" not in told([first, seen(19)])
    assert "watch_volts_stand" not in told([seen(28), seen(39)])  # at full volts they stand, rightly


def test_heat_stops_at_fifty_and_warmth_is_told_against_the_air():
    assert told(as_expected(10, temperature_c=50.0))["watch_hot"].alarm is Alarm.STOP
    with_air = replace(EXPECTED, air_c=18.0)
    assert "watch_warm" in told(as_expected(10, temperature_c=27.0), expected=with_air)
    assert "watch_warm" not in told(as_expected(10, temperature_c=25.0), expected=with_air)
    assert "watch_warm" not in told(as_expected(10, temperature_c=27.0))


def test_a_hand_check_is_due_every_ten_minutes_and_a_reading_of_the_charger_is_none():
    by_charger = [replace(seen(minute), by_hand=False) for minute in range(1, 12)]
    assert "watch_check_due" in told(by_charger, now_min=10.5)
    assert "watch_check_due" not in told(by_charger[:9], now_min=9.9)
    assert next_check_min([seen(4)]) == 14


def test_a_silent_charger_is_told_of_but_not_while_paused():
    assert "silent" in told(as_expected(10), now_min=11, last_heard_min=10.5)
    assert "silent" not in told(as_expected(10), now_min=10.58, last_heard_min=10.5)
    assert "silent" not in told(as_expected(10), now_min=14, last_heard_min=10, paused=True)
    assert "silent" not in told(as_expected(10), now_min=14)


def test_the_worst_stands_first():
    raised = findings(EXPECTED, as_expected(20, temperature_c=55.0, pack_v=4 * (due(20) - 0.06)), 21)
    assert [item.alarm for item in raised] == sorted(
        (item.alarm for item in raised), key=list(Alarm).index, reverse=True
    )


class TestOutlook:
    def test_as_expected_it_is_what_was_predicted(self):
        ahead = outlook(EXPECTED, as_expected(15), 15)
        assert ahead.left_min == pytest.approx(EXPECTED.minutes - 15, abs=1.5)
        assert ahead.now_v == pytest.approx(due(15), abs=0.01)

    def test_half_the_amps_take_twice_as_long_from_here(self):
        half = [
            seen(n, charge_mah=due(n, "charge_mah") / 2, current_a=2.7, pack_v=4 * due(n / 2)) for n in range(1, 16)
        ]
        ahead = outlook(EXPECTED, half, 15)
        assert ahead.left_min == pytest.approx(2 * (EXPECTED.minutes - 7.5), rel=0.08)

    def test_from_volts_alone_and_from_nothing(self):
        by_volts = [Observation(15.0, pack_v=4 * due(15))]
        assert outlook(EXPECTED, by_volts, 15).left_min == pytest.approx(EXPECTED.minutes - 15, abs=0.5)
        assert outlook(EXPECTED, [], 15).left_min == pytest.approx(EXPECTED.minutes - 15, abs=0.01)

    @given(st.floats(0, 200), st.floats(0, 9000), st.floats(0, 20))
    def test_time_left_is_never_negative_and_never_more_than_double(self, now_min, charge_mah, amps):
        ahead = outlook(EXPECTED, [Observation(now_min, charge_mah=charge_mah, current_a=amps)], now_min)
        assert 0 <= ahead.left_min <= 2 * EXPECTED.minutes
        assert ahead.full_at_min == pytest.approx(now_min + ahead.left_min)


def test_the_kept_curve_is_that_of_the_model():
    assert EXPECTED.missing_mah == pytest.approx(RESULT.charge_mah, rel=0.005)
    assert EXPECTED.minutes == pytest.approx(RESULT.minutes, abs=0.01)
    assert max(EXPECTED.cell_v) == pytest.approx(4.20, abs=0.001)
    assert BAND_V == 0.04


@pytest.mark.parametrize(("input_v", "true"), [(5.0, True), (12.6, True), (230.0, True), (253.0, True), (2300.0, False)])
def test_a_charger_on_mains_shows_its_input_volts_too(input_v, true):
    assert (not_true(4, 15.2, 1.5, input_v=input_v) is None) is true
