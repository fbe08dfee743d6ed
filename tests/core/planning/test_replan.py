"""Planning again: what runs stays, what is done is done, and as little as can be changes."""

import json
import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import islice

import pytest

from iterum.core.planning.history import Flown, Past
from iterum.core.planning.planner import Planner
from iterum.core.planning.record import PlanRecord, record_of
from iterum.core.planning.replan import FROZEN_MIN, Replanner, changes, kept_at
from iterum.core.things.packs import Condition, Reading
from iterum.core.things.session import Session, Wish
from iterum.demo import demo_session
from iterum.exchange.plan_result import batch_document, plan_document
from iterum.exchange.session import to_document
from iterum.store import documents
from iterum.wording import sentence
from tests.conftest import SOAK, even
from tests.core.planning.checker import violations_on_the_way
from tests.core.planning.test_plans import planned, random_session

SESSION = replace(demo_session(), wanted=())


@pytest.fixture(scope="module")
def old():
    planner = Planner(SESSION)
    for _ in islice(planner.improve(), 8):
        pass
    return planner.plan()


def again(session, old, now_min, chunks=6):
    planner = Replanner(session, old.batches, now_min)
    for _ in islice(planner.improve(), chunks):
        pass
    return planner, planner.plan()


def _hurt(session, tag):
    packs = (replace(pack, condition=Condition.DAMAGED) if pack.id == tag else pack for pack in session.packs)
    return replace(session, packs=tuple(packs))


def disturbed(rng, session):
    """What may happen on a day: a pack hurt, a charger lost, less in the source, a heat moved, a pack read again."""
    kind = rng.randrange(6)
    kit, packs = session.kit, session.packs
    if kind == 0 and packs:
        return _hurt(session, rng.choice(packs).id)
    if kind == 1 and len(kit.chargers) > 1:
        return replace(session, kit=replace(kit, chargers=kit.chargers[1:]))
    if kind == 2:
        sources = tuple(replace(item, energy_wh=(item.energy_wh or 500) * 0.6) for item in kit.sources)
        return replace(session, kit=replace(kit, sources=sources))
    if kind == 3 and session.wanted:
        heats = tuple(replace(wish, at_min=wish.at_min + rng.choice((-15, 20))) for wish in session.wanted)
        return replace(session, wanted=heats)
    if kind == 4 and packs:
        read = rng.choice(packs)
        volts = tuple(round(cell + 0.12, 2) for cell in read.reading.cell_v)
        anew = replace(read, reading=Reading.of_cells(volts))
        return replace(session, packs=tuple(anew if pack.id == read.id else pack for pack in packs))
    return replace(session, kit=replace(kit, boards=kit.boards[1:]))


@pytest.mark.parametrize("block", range(4))
def test_whatever_happens_on_the_way_the_plan_made_anew_breaks_no_rule(block):
    for seed in range(block, 16 * SOAK, 4):
        rng, session = random.Random(seed), random_session(seed, 9)
        if session.packs and rng.random() < 0.7:
            family = session.packs[0].family
            heats = [Wish(rng.randint(1, 3), family, at, None, rng.choice((None, 8))) for at in (40.0, 95.0, 150.0)]
            session = replace(session, wanted=tuple(heats))
        record = record_of(planned(session, chunks=2))
        for _ in range(3):
            now_min = rng.choice((10, 25, 45, 70))
            session = disturbed(rng, session) if rng.random() < 0.6 else session
            batches = [replace(item, locked=rng.random() < 0.2) for item in record.batches]
            running = {batch.channel for batch in batches if batch.lead_min <= now_min < batch.end_min}
            if not running <= {channel.id for _, channel in session.kit.channels()}:
                break  # what runs on a lost channel is for the run to tell
            record = made_anew(session, batches, record, now_min)
            session = session.later(now_min)
            told = [item.packs for item in record.past.flown]
            now = to_document(replace(session, wanted=()))
            done = [batch_document(batch, ()) for batch in record.past.done]
            assert violations_on_the_way(now, done, plan_document(record), told) == [], seed


def made_anew(session, batches, record, now_min):
    """The next plan of a day, from what is kept of the one before."""
    past, flown = record.past, (*record.past.flown, *record.heats)
    planner = Replanner(session, (*past.done, *batches), now_min, flown=flown)
    list(islice(planner.improve(), 2))
    fresh = record_of(planner.plan(), past=Past(planner.kept.done, planner.flown))
    return documents.from_document(PlanRecord, json.loads(json.dumps(documents.to_document(fresh))))


@pytest.mark.parametrize("now_min", [60.0, 76.0, 100.0, 170.0])
def test_who_has_flown_comes_back_low_and_when_all_went_as_planned_nothing_changes(now_min):
    session = demo_session()
    plan = planned(session, chunks=3)
    told = [Flown(item.wish, item.packs) for item in plan.wanted]
    planner = Replanner(session, plan.batches, now_min, flown=told)
    new = planner.plan()
    assert [item.code for item in changes(planner.kept.to_come, new.batches[len(planner.kept.fixed) :])] == [
        "replan_same"
    ]
    assert all(item.met for item in new.wanted)
    assert [sorted(item.packs) for item in new.wanted] == [
        sorted(item.packs) for item in plan.wanted if item.wish.at_min > now_min
    ]


def test_a_pack_read_after_it_landed_is_as_it_was_read():
    begun = datetime(2026, 6, 13, 9, 0, tzinfo=UTC)
    heats = (Wish(1, "lipo-4S", 60.0, "one", 8.0), Wish(1, "lipo-4S", 200.0, "two", 8.0))
    session = Session((even("A", 3.9),), SESSION.kit, SESSION.rules, heats, starts_at=begun)
    plan = planned(session, chunks=2)
    told = [Flown(item.wish, item.packs) for item in plan.wanted]
    for minute, volts, foreseen in ((30, 3.6, True), (70, 3.6, False), (70, 4.2, False)):
        reading = Reading.of_cells((volts,) * 4, begun + timedelta(minutes=minute))
        read = replace(session, packs=(replace(session.packs[0], reading=reading),))
        planner = Replanner(read, plan.batches, 72.0, flown=told)
        (item,) = planner.problem.coming
        assert item.number == 2
        assert (item.pack.cell_v == pytest.approx(volts)) is not foreseen
        assert item.full is (volts == 4.2)
        assert planner.plan().wanted[-1].met


def test_a_pack_whose_charge_was_not_begun_has_not_flown():
    session = demo_session()
    plan = planned(session, chunks=3)
    late = [replace(batch, start_min=batch.start_min + 200, lead_min=batch.lead_min + 200, end_min=batch.end_min + 200)
            for batch in plan.batches]  # fmt: skip
    planner = Replanner(session, late, 100.0, flown=[Flown(item.wish, item.packs) for item in plan.wanted])
    assert [item.packs for item in planner.flown] == [()]
    assert planner.problem.coming == ()


def test_a_batch_kept_by_hand_whose_packs_fly_before_stays_kept():
    session = demo_session()
    plan = planned(session, chunks=3)
    number = next(at for at, batch in enumerate(plan.batches) if max(batch.rounds) > 1)
    batches = [replace(batch, locked=at == number) for at, batch in enumerate(plan.batches)]
    planner = Replanner(session, batches, 10.0, flown=[Flown(item.wish, item.packs) for item in plan.wanted])
    list(islice(planner.improve(), 6))
    (kept,) = (batch for batch in planner.plan().batches if batch.locked)
    assert kept.charges == plan.batches[number].charges
    assert kept.start_min == pytest.approx(plan.batches[number].start_min - 10.0, abs=0.5)


def test_when_all_went_as_planned_nothing_changes(old):
    for now_min in (0.0, 30.0, 70.0):
        planner, new = again(SESSION, old, now_min, chunks=1)  # a longer search may find what is worth a change
        told = changes(planner.kept.to_come, new.batches[len(planner.kept.fixed) :])
        assert [item.code for item in told] == ["replan_same"], [sentence(item) for item in told]
        assert new.makespan_min == pytest.approx(old.makespan_min - now_min, abs=0.2)


def test_running_batches_and_those_about_to_be_set_up_stay_as_they_are(old):
    now_min = 30.0
    _, new = again(SESSION, old, now_min)
    for batch in old.batches:
        if batch.start_min - now_min <= FROZEN_MIN and batch.end_min > now_min:
            same = next(item for item in new.batches if item.charges == batch.charges)
            assert (same.channel, same.board, same.current_a) == (batch.channel, batch.board, batch.current_a)
            assert same.start_min == pytest.approx(batch.start_min - now_min)
    for one in new.batches:
        for other in new.batches:
            if one is not other and one.channel == other.channel:
                assert one.end_min <= other.start_min + 1e-6 or other.end_min <= one.start_min + 1e-6


def test_done_packs_are_done_and_their_energy_is_spent(old):
    now_min = min(batch.end_min for batch in old.batches) + 1
    kept = kept_at(old.batches, now_min)
    assert kept.done
    _, new = again(SESSION, old, now_min)
    done = {charge for batch in kept.done for charge in batch.charges}
    assert not done & {charge for batch in new.batches for charge in batch.charges}
    used = {use.id: use.used_wh for use in new.sources}
    assert sum(used.values()) == pytest.approx(sum(use.used_wh for use in old.sources), rel=0.02)


def test_a_hurt_pack_is_planned_no_more_and_the_rest_goes_on(old):
    hurt = next(batch for batch in old.batches if batch.start_min > 40 and len(batch.packs) > 2).packs[0]
    planner, new = again(_hurt(SESSION, hurt), old, 30.0)
    assert hurt not in {tag for batch in new.batches for tag in batch.packs}
    assert hurt in {left.pack.id for left in new.left_out}
    told = " ".join(sentence(item) for item in changes(planner.kept.to_come, new.batches[len(planner.kept.fixed) :]))
    assert hurt in told


@pytest.mark.parametrize("locked", [False, True])
def test_hands_are_taken_off_a_batch_with_a_hurt_pack_although_it_was_kept_or_about_to_be_set_up(old, locked):
    number = next(at for at, batch in enumerate(old.batches) if batch.start_min > 40 and len(batch.packs) > 2)
    soon = old.batches[number]
    kept = tuple(replace(batch, locked=batch is soon and locked) for batch in old.batches)
    session = _hurt(SESSION, soon.packs[0])
    now_min = 30.0 if locked else soon.start_min - 2
    planner = Replanner(session, kept, now_min)
    list(islice(planner.improve(), 3))
    new = planner.plan()
    planned = {tag for batch in new.batches for tag in batch.packs}
    assert soon.packs[0] not in planned
    assert set(soon.packs[1:]) <= planned


def test_a_pack_that_was_hurt_after_its_charge_flies_no_more_and_is_not_charged_again():
    session = demo_session()
    planner = Planner(session)
    list(islice(planner.improve(), 3))
    old = planner.plan()
    again_later = next(tag for tag in old.wanted[3].packs if tag in old.wanted[0].packs)
    first = next(batch for batch in old.batches if again_later in batch.packs)
    for now_min in (first.lead_min + 5, first.end_min + 1):  # while it is charged, and after
        planner = Replanner(_hurt(session, again_later), old.batches, now_min)
        list(islice(planner.improve(), 3))
        new = planner.plan()
        assert again_later not in {tag for wish in new.wanted for tag in wish.packs}
        assert again_later not in {tag for batch in new.batches if batch.start_min > 0 for tag in batch.packs}


def test_another_pack_is_charged_for_one_that_was_hurt_after_its_charge():
    session = replace(SESSION, wanted=(Wish(6, "lipo-4S", 200.0),))
    planner = Planner(session)
    list(islice(planner.improve(), 3))
    first = min(planner.plan().batches, key=lambda batch: batch.end_min)
    for hurt, more in ((first.packs[0], 1), (None, 0)):
        again = Replanner(_hurt(session, hurt), (first,), first.end_min + 1)
        list(islice(again.improve(), 3))
        new = again.plan()
        assert sum(len(batch.packs) for batch in new.batches) == 6 - len(first.packs) + more
        assert [item.have for item in new.wanted] == [6]


def test_a_batch_about_to_be_set_up_on_a_lost_channel_goes_elsewhere(old):
    soon = max(old.batches, key=lambda batch: batch.start_min)
    left = tuple(item for item in SESSION.kit.chargers if soon.channel not in {one.id for one in item.channels})
    kit = replace(SESSION.kit, chargers=left)
    _, new = again(replace(SESSION, kit=kit), old, soon.start_min - 2)
    assert all(batch.channel != soon.channel for batch in new.batches if batch.start_min > 0)
    assert set(soon.packs) <= {tag for batch in new.batches for tag in batch.packs}


def test_a_lost_channel_is_planned_around(old):
    lost = "Small-1"
    kit = replace(SESSION.kit, chargers=tuple(item for item in SESSION.kit.chargers if item.id != "small"))
    planner, new = again(replace(SESSION, kit=kit), old, 30.0)
    assert all(batch.channel != lost or batch in planner.kept.fixed for batch in new.batches)
    expected = {charge for batch in planner.kept.to_come for charge in batch.charges}
    assert expected <= {charge for batch in new.batches for charge in batch.charges}


def test_a_small_gain_is_not_worth_a_change(old):
    planner = Replanner(SESSION, old.batches, 10.0)
    keeps_close = planner.search.candidate(planner.keeps_close)
    for _ in islice(planner.improve(), 12):
        pass
    new = planner.plan()
    assert new.makespan_min <= keeps_close.schedule.makespan_min + 2  # the full model adds a little
    if [(gene.members, gene.machine) for gene in new.genes] != [
        (gene.members, gene.machine) for gene in planner.keeps_close
    ]:
        assert new.makespan_min <= keeps_close.schedule.makespan_min - 1
