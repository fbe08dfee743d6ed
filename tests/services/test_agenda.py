"""Now: what is next at the bench, from an empty one over a plan that is followed to packs that are read after."""

from datetime import timedelta

import pytest

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.plan import WishOutcome
from iterum.core.planning.record import KeptPlan, PlanRecord
from iterum.core.planning.rounds import ChargeKey
from iterum.core.season.agenda import OFF_BEFORE, Do
from iterum.core.season.outlook import Observation
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Channel, Charger
from iterum.core.things.session import Wish
from iterum.exchange.heats import Heat
from iterum.services.running import RunDesk
from iterum.services.watching import TYPED, Watcher
from tests.conftest import NOON, even
from tests.devices.bench import links_of


def planned(packs, channel, start_min, board=None, end_min=None):
    end_min = end_min or start_min + 40
    return PlannedBatch(
        tuple(map(ChargeKey, packs)),
        "lipo-4S",
        board,
        channel,
        None,
        1.8,
        1.0,
        start_min,
        start_min + 3,
        end_min - 5,
        end_min,
        30,
        20,
        30,
    )


@pytest.fixture
def agenda_of(store, desk):
    for tag in ("A", "B", "C"):
        desk.save_pack(even(tag, 3.8), None, NOON)
    desk.save_kit_item(Charger("one", (Channel("one-1", 10, 200, max_cells=6),)), None)
    return RunDesk(store, desk, links_of(store)), desk, "one-1"


def test_nothing_is_to_be_done_where_nothing_is(agenda_of):
    runs, _, _ = agenda_of
    assert runs.agenda(NOON) == ()


def test_a_plan_followed_from_batch_to_batch(agenda_of, store):
    runs, desk, channel = agenda_of
    first, second = planned(("A",), channel, 5), planned(("B",), channel, 50)
    desk.keep_plan(KeptPlan(NOON, "soonest", PlanRecord(batches=(second, first)), desk.revision()))
    one, two = runs.agenda(NOON)
    assert (one.do, one.batch, one.off, one.at) == (Do.SWAP, first, (), NOON + timedelta(minutes=5))
    assert (two.batch, two.off, two.off_channel) == (second, ("A",), channel)
    key = runs.begin(Choice(("A",), None, channel), NOON)
    assert [(item.do, item.act) for item in runs.agenda(NOON)] == [(Do.GO_ON, Act.INSPECT), (Do.SWAP, None)]
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.READ_BACK, Act.START):
        state = runs.act(key, act, state, NOON, skipped=act is Act.READ_BACK).state
    check, swap = runs.agenda(NOON)
    assert (check.do, check.at) == (Do.CHECK, NOON + timedelta(minutes=10))
    assert (swap.batch, swap.off, swap.run.key) == (second, ("A",), key)
    assert swap.at >= NOON + timedelta(minutes=50)  # not before what hangs there is done
    later = NOON + timedelta(minutes=12)
    assert runs.agenda(later)[0].late_by(later) == timedelta(minutes=2)
    Watcher(store, desk, runs).observe(key, TYPED, Observation(11, pack_v=15.7, current_a=1.8, by_hand=True), later)
    assert runs.agenda(later)[0].at == NOON + timedelta(minutes=22)
    runs.act(key, Act.STOP, State.CHARGING, later)
    after, swap = runs.agenda(later)
    assert (after.do, after.off, swap.off) == (Do.READ_AFTER, ("A",), ("A",))


def test_a_heat_that_moved_is_called_at_its_new_moment_and_one_that_was_taken_away_is_not(agenda_of):
    runs, desk, _ = agenda_of
    moved, gone = (Wish(1, "lipo-4S", at_min, name, fly_min=10) for at_min, name in ((60, "One"), (90, "Two")))
    desk.set_heats([Heat(NOON + timedelta(minutes=wish.at_min), wish) for wish in (moved, gone)], NOON)
    told = tuple(WishOutcome(wish, True, 1, wish.at_min, ("A",)) for wish in (moved, gone))
    desk.keep_plan(KeptPlan(NOON, "soonest", PlanRecord(wanted=told), desk.revision()))
    assert [(item.heat, item.at) for item in runs.agenda(NOON)] == [
        ("One", NOON + timedelta(minutes=60)), ("Two", NOON + timedelta(minutes=90))]  # fmt: skip
    desk.set_heats([Heat(NOON + timedelta(minutes=75), moved)], NOON)
    assert [(item.heat, item.at) for item in runs.agenda(NOON)] == [("One", NOON + timedelta(minutes=75))]


def test_what_no_plan_follows_comes_off_when_it_is_balanced(agenda_of):
    runs, _, channel = agenda_of
    key = runs.begin(Choice(("A",), None, channel), NOON)
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.READ_BACK, Act.START):
        state = runs.act(key, act, state, NOON, skipped=act is Act.READ_BACK).state
    check, off = runs.agenda(NOON)
    assert (check.do, off.do, off.off) == (Do.CHECK, Do.TAKE_OFF, ("A",))
    assert off.at == runs.in_hand(NOON)[0].ends_at


@pytest.mark.parametrize(("at_min", "for_heat"), [(20, True), (600, False)])
def test_what_flies_comes_off_before_its_heat_balanced_or_not(agenda_of, at_min, for_heat):
    runs, desk, channel = agenda_of
    heat = Wish(1, "lipo-4S", at_min, "One", fly_min=10)
    desk.set_heats([Heat(NOON + timedelta(minutes=at_min), heat)], NOON)
    told = (WishOutcome(heat, True, 1, at_min, ("A",)),)
    behind = (planned(("B",), channel, 30),)
    desk.keep_plan(KeptPlan(NOON, "soonest", PlanRecord(batches=behind, wanted=told), desk.revision()))
    key = runs.begin(Choice(("A",), None, channel), NOON)
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.READ_BACK, Act.START):
        state = runs.act(key, act, state, NOON, skipped=act is Act.READ_BACK).state
    offs = [item for item in runs.agenda(NOON) if item.do is Do.TAKE_OFF]
    assert [(item.heat, item.at, item.off) for item in offs] == (
        [("One", NOON + timedelta(minutes=at_min) - OFF_BEFORE, ("A",))] if for_heat else [])  # fmt: skip


def test_a_pack_that_goes_round_twice_is_to_be_begun_twice(agenda_of):
    runs, desk, channel = agenda_of
    rounds = (planned(("A",), channel, 5), planned(("A",), channel, 90))
    desk.keep_plan(KeptPlan(NOON, "soonest", PlanRecord(batches=rounds), desk.revision()))
    key = runs.begin(Choice(("A",), None, channel), NOON)
    runs.act(key, Act.DROP, State.PLANNED, NOON)
    assert [item.batch for item in runs.agenda(NOON)] == [rounds[1]]
