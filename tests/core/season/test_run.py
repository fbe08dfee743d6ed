"""A batch's states: what leads where, what may be skipped, and what reading back refuses."""

import pytest

from iterum.core.reasons import Reason, Unsafe
from iterum.core.season.cautions import CAUTIONS, cautions_at
from iterum.core.season.health import DISPOSAL
from iterum.core.season.read_back import Shown, read_back
from iterum.core.season.run import ACTS, LIVE, LOOKS, ON_BOARD, OPEN, SKIPPABLE, Act, State, after, next_act
from iterum.core.sizing.dial import DialCard
from iterum.wording import sentence
from tests.conftest import refused

CARD = DialCard("LiPo", "balance", 4, 5.4, 4.20, 5400, 90, 50, 3.2, 3.85, 15.0, 0.16, 16.8, "stop and sound")


def test_the_way_of_a_batch_from_plan_to_log():
    state = State.PLANNED
    for act in (
        Act.INSPECT,
        Act.PLUG_IN,
        Act.EVEN_OUT,
        Act.READ_BACK,
        Act.START,
        Act.PAUSE,
        Act.RESUME,
        Act.FINISH,
        Act.CHECK,
    ):
        state = after(state, act)
    assert state is State.CHECKED
    assert next_act(State.CHECKED) is None


def test_packs_that_have_to_even_out_are_not_read_back_before_they_have():
    with refused("act_not_now"):
        after(State.PLUGGED_IN, Act.READ_BACK)
    assert next_act(State.PLUGGED_IN) is Act.EVEN_OUT
    assert next_act(State.PLUGGED_IN, evens_out=False) is Act.READ_BACK


@pytest.mark.parametrize("state", State)
@pytest.mark.parametrize("act", Act)
def test_nothing_is_allowed_that_the_table_does_not_say(state, act):
    if (state, act) in ACTS:
        assert after(state, act, evens_out=False) is ACTS[state, act]
        return
    with pytest.raises(Unsafe) as caught:
        after(state, act)
    assert sentence(caught.value.reasons[0])


@pytest.mark.parametrize("act", [act for act in Act if act not in SKIPPABLE])
def test_plugging_in_and_starting_cannot_be_skipped(act):
    state = next(low for low, done in ACTS if done is act)
    with refused("act_not_skipped"):
        after(state, act, skipped=True)


def test_every_state_is_reached_and_only_the_last_two_are_over():
    reached = {State.PLANNED}
    for _ in State:
        reached |= {high for (low, _), high in ACTS.items() if low in reached}
    assert reached == set(State)
    assert set(State) - set(OPEN) == {State.CHECKED, State.DROPPED}
    assert set(LIVE) < set(ON_BOARD) < set(OPEN)
    assert all(any(low is state for low, _ in ACTS) for state in OPEN)


class TestReadBack:
    def refused(self, **shown):
        values = {"cells": 4, "pack_v": 15.0, "current_a": 5.4, "end_v": 4.2, **shown}
        with pytest.raises(Unsafe) as caught:
            read_back(CARD, Shown(**values))
        assert all(sentence(item) for item in caught.value.reasons)
        return [item.code for item in caught.value.reasons]

    def test_the_same_and_within_tolerance_goes_on(self):
        read_back(CARD, Shown(4, 15.0, 5.4, 4.2))
        read_back(CARD, Shown(4, 15.16, 5.35, None))
        assert read_back(CARD, Shown(4, 14.84, 5.45, 4.21)) == 5.4

    def test_gentler_amps_are_no_mismatch_and_are_what_it_charges_with(self):
        assert read_back(CARD, Shown(4, 15.0, 3.0, 4.2)) == 3.0

    def test_each_difference_names_its_likely_cause(self):
        assert self.refused(cells=3) == ["back_count"]
        assert self.refused(cells=0) == ["back_balance_out"]
        assert self.refused(pack_v=11.25) == ["back_volts_count"]
        assert self.refused(pack_v=15.5) == ["back_volts"]
        assert self.refused(pack_v=0.2) == ["back_no_lead"]
        assert self.refused(current_a=54.0) == ["back_amps_high"]
        assert self.refused(current_a=0.0) == ["back_missing"]
        assert self.refused(end_v=4.35) == ["back_chemistry"]
        assert self.refused(cells=3, pack_v=11.25) == ["back_count", "back_volts_count"]

    def test_what_is_not_read_is_not_agreed_to(self):
        assert self.refused(pack_v=None) == ["back_missing"]
        assert self.refused(cells=None) == ["back_missing"]


def test_every_caution_look_and_disposal_step_has_its_sentence_and_every_step_its_caution():
    for code in (*LOOKS, *DISPOSAL, *(caution.code for caution in CAUTIONS)):
        assert len(sentence(Reason(code))) > 10
    for act in (Act.INSPECT, Act.PLUG_IN, Act.EVEN_OUT, Act.READ_BACK, Act.START, Act.CHECK):
        assert cautions_at(act.value)
