"""A rehearsed day: the plan to the minute where nothing happens, the same again by its seed, and a true account."""

from itertools import islice

import pytest

from iterum.core.planning.history import Flown
from iterum.core.planning.planner import Planner
from iterum.core.planning.rehearsed import MOST, Disturbance, Trouble, costs, drawn, played
from iterum.core.planning.score import Prefer
from iterum.demo import demo_session
from tests.conftest import SOAK

SESSION = demo_session()


@pytest.fixture(scope="module")
def plan():
    planner = Planner(SESSION, Prefer.STEADIEST)
    for _ in islice(planner.improve(), 4):
        pass
    return planner.plan()


@pytest.fixture(scope="module")
def flown(plan):
    return [Flown(item.wish, item.packs) for item in plan.wanted if item.wish.is_heat]


def times(batches):
    return sorted((batch.start_min, batch.lead_min, batch.full_min, batch.end_min, batch.charges) for batch in batches)


def test_where_nothing_happens_it_is_the_plan_to_the_minute(plan, flown):
    day = played(SESSION, plan.batches, flown, ())
    assert times(day.batches) == times(plan.batches)
    assert day.dropped == ()
    assert [heat.have for heat in day.heats] == [item.have for item in plan.wanted if item.wish.is_heat]
    assert costs(SESSION, plan.batches, flown, ()) == ()


@pytest.mark.parametrize("seed", range(3 * SOAK))
def test_a_seed_gives_the_same_day_again(plan, flown, seed):
    happens = drawn(SESSION, plan.batches, flown, seed)
    assert happens == drawn(SESSION, plan.batches, flown, seed)
    assert 0 < len(happens) <= MOST
    assert [item.at_min for item in happens] == sorted(item.at_min for item in happens)
    anew = set(range(seed % 3))
    once, again = (played(SESSION, plan.batches, flown, happens, anew) for _ in range(2))
    assert once == again


@pytest.mark.parametrize("seed", range(5 * SOAK))
def test_nothing_is_at_two_places_and_who_is_hurt_stays_down(plan, flown, seed):
    """However it goes: one batch a channel and a board at a time, one pair of hands, no charge or flight of a hurt pack."""
    happens = drawn(SESSION, plan.batches, flown, seed)
    day = played(SESSION, plan.batches, flown, happens, range(0, len(happens), 2), Prefer.STEADIEST)
    for one in day.batches:
        for other in day.batches:
            if one is not other and one.start_min <= other.start_min:
                same = one.channel == other.channel or (one.board and one.board == other.board)
                assert not same or one.end_min <= other.start_min + 1e-6, (seed, one, other)
                assert one.lead_min <= other.start_min + 1e-6 or other.lead_min <= 0
    for item in happens:
        if item.trouble is Trouble.SWOLLEN:
            assert not [b for b in day.batches if b.start_min > item.at_min and item.packs[0] in b.packs]


def test_the_account_is_what_playing_without_it_shows(plan, flown):
    """A charge that stands still for an hour costs the heat that it was for, and planning again may save it."""
    last = max(
        (b for b in plan.batches if max(b.rounds) > 1),
        key=lambda b: b.full_min,
    )
    still = Disturbance(Trouble.LINK, last.lead_min + 1, 90.0, charges=last.charges)
    harmless = Disturbance(Trouble.SLIP, 1.0, 5.0, heat=len(flown) - 1)
    day = played(SESSION, plan.batches, flown, (harmless, still))
    missed = [place for place, heat in enumerate(day.heats) if not heat.whole]
    assert missed
    (first, _), (second, decision) = costs(SESSION, plan.batches, flown, (harmless, still))
    assert first.lost == frozenset()
    assert second.lost == frozenset(missed)
    other = played(SESSION, plan.batches, flown, (harmless, still), {1})
    assert decision.lost == other.whole() - day.whole()
    assert decision.worth == other.worth - day.worth


def test_a_batch_that_lost_a_pack_is_as_late_as_it_would_have_been(plan, flown):
    batch = next(item for item in plan.batches if item.lead_min > 0 and len(item.charges) > 1)
    slow = Disturbance(Trouble.HANDS, batch.start_min, 7.0, charges=batch.charges)
    hurt = Disturbance(Trouble.SWOLLEN, batch.start_min - 1.0, charges=batch.charges[:1])
    day = played(SESSION, plan.batches, flown, (hurt, slow))
    (left,) = (item for item in day.batches if item.charges == batch.charges[1:])
    assert left.lead_min - left.start_min == pytest.approx(batch.lead_min - batch.start_min + 7.0)


def test_who_is_not_charged_for_want_of_watt_hours_does_not_fly(plan, flown):
    gone = [Disturbance(Trouble.SOURCE, 0.0, source=source.id, source_wh=1e9) for source in SESSION.kit.sources]
    day = played(SESSION, plan.batches, flown, gone)
    stays = {key.tag for batch in day.dropped for key in batch.charges if key.round == 1}
    assert stays
    for heat, told in zip(day.heats, flown, strict=True):
        assert heat.have <= len(set(told.packs) - stays)
