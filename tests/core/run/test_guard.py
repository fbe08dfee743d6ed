"""What may flow on a channel, and what a reading of it says against that: every fault, and what is just within."""

from dataclasses import replace
from datetime import timedelta

import numpy as np
import pytest

from iterum.core.run.guard import ARMED, CONFIRMED, IDLE_A, ChannelReading, Memory, followed, judge, may_flow_a
from iterum.core.season.outlook import COOL, HOT, Observation
from iterum.core.season.run import Act, State, Status
from iterum.core.season.watching import Alarm
from iterum.core.things.choice import Kind
from iterum.wording import sentence
from tests.conftest import NOON
from tests.guardian.runs import charging_run

RUN = charging_run()
SET_A = RUN.current_a
CELL_V = round(float(np.interp(5.0, RUN.expected.t_min, RUN.expected.cell_v)), 3)
WELL = ChannelReading(Status.CHARGING, 4, 4 * CELL_V, SET_A, 300.0, 5.0, (CELL_V,) * 4, 21.0, 12.6, SET_A, 4.20)
AT = NOON + timedelta(minutes=5)


def told(run, *readings, typed=()):
    """Codes of what is wrong after these readings, a second apart, each with how bad it is."""
    memory = Memory(seen=list(typed))
    for place, reading in enumerate(readings):
        memory.take(run, reading, AT + timedelta(seconds=place))
    at = AT + timedelta(seconds=max(len(readings) - 1, 0))
    return {
        item.what.code: item.alarm for item in judge(run, memory, at, at if readings else None, linked=bool(readings))
    }


def stops(found):
    return {code for code, alarm in found.items() if alarm is Alarm.STOP}


def in_state(state):
    ended = AT - timedelta(seconds=9) if state in (State.DONE, State.STOPPED) else None
    return replace(RUN, state=state, state_at=AT - timedelta(seconds=9), ended_at=ended)


def test_a_charge_that_goes_as_set_says_nothing():
    assert told(RUN, WELL) == {}
    assert told(RUN, replace(WELL, current_a=SET_A * 1.09)) == {}


FAULTS = {
    "guard_amps_over": ({"current_a": SET_A * 6.6}, {"current_a": SET_A * 1.1 + 0.1}),
    "guard_set_amps": ({"set_a": SET_A + 0.1}, {"set_a": SET_A + 0.05}),
    "guard_set_end": ({"set_end_v": 4.35}, {"set_end_v": 4.21}),
    "guard_cells": ({"cells": 3}, {"counts_cells": False, "cells": 0, "cell_v": ()}),
    "guard_backwards": ({"current_a": -2.0}, {"current_a": -0.04}),
    "watch_hot": ({"temperature_c": 75.0}, {"temperature_c": 44.0}),
    "watch_over_full": ({"cell_v": (4.10, 4.31, 4.10, 4.10), "pack_v": 16.61}, {}),
    "watch_cell_leads": ({"cell_v": (3.70, 4.31, 3.80, 3.75), "pack_v": 15.56}, {}),
}


@pytest.mark.parametrize("code", FAULTS)
def test_each_fault_stops_and_what_is_just_within_does_not(code):
    fault, within = FAULTS[code]
    assert code in stops(told(RUN, WELL, replace(WELL, **fault)))
    assert code not in told(RUN, WELL, replace(WELL, **within))


@pytest.mark.parametrize("cells", [0, 3, 6])
def test_another_cell_count_stops_whether_or_not_the_cells_go_with_it(cells):
    assert "guard_cells" in stops(told(RUN, replace(WELL, cells=cells)))
    other = replace(WELL, cells=cells, cell_v=(3.80,) * cells, pack_v=3.80 * cells)
    assert "guard_cells" in stops(told(RUN, other))


@pytest.mark.parametrize("status", [Status.DONE, Status.IDLE, Status.STOPPED, Status.FAULT])
def test_a_channel_has_ended_only_when_no_amps_flow_whatever_it_says(status):
    lies = replace(WELL, status=status)
    assert "guard_claims" in stops(told(RUN, WELL, lies))
    assert followed(RUN, lies) is None
    ends = followed(RUN, replace(lies, current_a=IDLE_A))
    assert ends is (Act.FINISH if status is Status.DONE else Act.STOP)


@pytest.mark.parametrize("state", [state for state in ARMED if state not in CONFIRMED])
def test_before_the_settings_are_confirmed_and_after_the_charge_no_amps_may_flow(state):
    run = in_state(state)
    assert may_flow_a(run) == may_flow_a(None) == IDLE_A
    assert "guard_not_allowed" in stops(told(run, replace(WELL, current_a=0.06)))
    idle = replace(WELL, status=Status.IDLE, current_a=0.05)
    assert stops(told(run, idle)) == set()
    assert "watch_hot" in stops(told(run, replace(idle, temperature_c=85.0)))  # also with no amps at all


@pytest.mark.parametrize("back", [{"charge_mah": 3.0}, {"minutes": 0.1}, {"charge_mah": 3.0, "minutes": 0.1}])
def test_counters_that_go_backwards_stop_and_the_charge_before_counts(back):
    again = replace(WELL, **back)
    assert "guard_counts_back" in stops(told(RUN, WELL, again))
    memory = Memory()
    for place, reading in enumerate((WELL, again)):
        memory.take(RUN, reading, AT + timedelta(seconds=place))
    assert memory.latest.charge_mah == WELL.charge_mah + again.charge_mah
    assert "guard_counts_back" not in told(RUN, WELL, replace(WELL, charge_mah=298.0))  # rounding


def test_a_person_who_starts_it_again_may_let_it_count_from_nothing():
    memory = Memory()
    paused = replace(RUN, state=State.PAUSED)
    memory.take(RUN, WELL, AT)
    memory.take(paused, replace(WELL, status=Status.STOPPED, current_a=0.0), AT)
    memory.counts_anew()
    memory.take(RUN, replace(WELL, charge_mah=0.0, minutes=0.0), AT + timedelta(seconds=9))
    assert memory.restarted is None


TAG = RUN.packs[0]
TYPED = {
    "watch_over_full": {"cell_v": (3.70, 4.31, 3.80, 3.75), "pack_v": 15.56},
    "watch_cell_leads": {"cell_v": (3.70, 3.81, 3.70, 3.70), "pack_v": 14.91},
    "watch_cell_lags": {"cell_v": (3.80, 3.80, 3.69, 3.80), "pack_v": 15.09},
    "watch_cell_flat": {"cell_v": (3.02, 2.98, 3.02, 3.02), "pack_v": 12.04},
    "watch_hot_hand": {"touch": HOT},
}


@pytest.mark.parametrize("code", TYPED)
def test_what_a_person_types_of_one_pack_counts_like_a_reading(code):
    seen = Observation(5.5, pack_id=TAG, by_hand=True, **TYPED[code])
    assert code in stops(told(RUN, WELL, typed=[seen]))
    assert code in stops(told(replace(RUN, driven=False), typed=[seen]))


def test_cells_that_grow_apart_are_a_caution_from_0_03_and_a_stop_from_0_10_volts():
    def grown(by_v):
        cells = (3.80, 3.80, 3.80, round(3.80 + by_v, 3))
        return told(RUN, typed=[Observation(2.0, pack_v=sum(cells), cell_v=cells, pack_id=TAG)]).get("watch_cell_leads")

    assert [grown(by_v) for by_v in (0.02, 0.03, 0.09, 0.10)] == [None, Alarm.CARE, Alarm.CARE, Alarm.STOP]


def test_amps_and_input_volts_that_a_person_reads_off_the_charger_stop_it():
    typed = Observation(5.0, current_a=SET_A * 2, by_hand=True)
    assert "guard_amps_over" in stops(told(RUN, typed=[typed]))
    sags = replace(RUN, expected=replace(RUN.expected, stop_input_v=10.5))
    assert "watch_source_low" in stops(told(sags, typed=[Observation(5.0, input_v=6.0, by_hand=True)]))


def test_hot_to_the_hand_stays_until_somebody_says_that_the_pack_is_cool():
    hot = Observation(5.0, pack_id=TAG, by_hand=True, touch=HOT)
    volts = Observation(6.0, pack_v=15.2, cell_v=(3.80,) * 4, pack_id=TAG, by_hand=True)
    assert "watch_hot_hand" in stops(told(RUN, typed=[hot, volts]))
    assert "watch_hot_hand" not in told(RUN, typed=[hot, Observation(7.0, pack_id=TAG, by_hand=True, touch=COOL)])


def test_a_channel_that_shows_nothing_true_is_told_of_after_five_seconds():
    memory = Memory()
    memory.take(RUN, WELL, AT)
    for seconds, silent in ((4.9, False), (5.1, True)):
        found = {item.what.code for item in judge(RUN, memory, AT + timedelta(seconds=seconds), AT, linked=True)}
        assert ("silent" in found) is silent


def test_a_channel_that_brings_packs_down_may_take_current_out():
    down = replace(RUN, kind=Kind.DOWN, expected=replace(RUN.expected, kind=Kind.DOWN))
    assert not {"guard_backwards", "guard_claims"} & told(down, replace(WELL, current_a=-SET_A)).keys()
    assert "guard_amps_over" in stops(told(down, replace(WELL, current_a=-SET_A * 2)))


def test_every_finding_of_the_guardian_has_its_sentence():
    memory = Memory()
    memory.take(RUN, WELL, AT)
    memory.take(RUN, replace(WELL, cells=3, current_a=30.0, set_a=9.9, set_end_v=4.35, charge_mah=1.0), AT)
    said = [sentence(item.what) for item in judge(RUN, memory, AT)]
    assert any("The charger counts 3 cells, the card says 4." in text for text in said)
    assert any("started counting again: 300 mAh" in text for text in said)
