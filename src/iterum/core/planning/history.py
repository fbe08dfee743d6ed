"""What has become of the packs while a plan was followed: charged, flown, back and resting, or waiting full."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from math import inf

from iterum.core.permit.permit import permit_of
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.problem import Problem
from iterum.core.planning.rounds import Waiting, returned
from iterum.core.things.packs import Pack
from iterum.core.things.session import Session, Wish


@dataclass(frozen=True)
class Flown:
    """Who flies, or flew, in a heat by the plan that was followed."""

    heat: Wish
    packs: tuple[str, ...]


@dataclass(frozen=True)
class Past:
    """What was over when a plan was made on the way. Times from that moment, so before 0."""

    done: tuple[PlannedBatch, ...] = ()
    flown: tuple[Flown, ...] = ()


def problem_as_it_is(
    session: Session, batches: Sequence[PlannedBatch], fixed: Sequence[PlannedBatch], past: Past
) -> Problem:
    """The problem at the moment at which a plan was made. fixed : batches of it that are not to be moved."""
    begun = [batch for batch in batches if batch.lead_min <= 0]
    coming = packs_as_they_are(session, (*past.done, *begun), past.flown)
    known = {item.pack.id for item in coming}
    left = replace(session, packs=tuple(pack for pack in session.packs if pack.id not in known))
    return Problem(left, fixed=(*past.done, *fixed), coming=coming)


def have_flown(wanted: Sequence[Wish], told: Iterable[Flown], now_min: float) -> tuple[Flown, ...]:
    """Heats that have begun by minute `now_min`, with the packs that were told to fly in them.

    wanted : heats as they stand now, all in minutes of the plan; one that was moved is known by its class and name, in
    the order of time. A heat of `told` that was over when the plan was made, or is not among them, keeps its own time.
    """
    told = sorted(told, key=lambda item: item.heat.at_min)
    over = [item for item in told if item.heat.over_min <= 0]
    left = [item for item in told if item.heat.over_min > 0]
    flown = []
    for wish in sorted(wanted, key=lambda wish: wish.at_min):
        same = next((item for item in left if (item.heat.family, item.heat.name) == (wish.family, wish.name)), None)
        if same is not None:
            left.remove(same)
            flown.append(Flown(wish, same.packs))
    return tuple(item for item in [*over, *left, *flown] if item.heat.is_heat and item.heat.at_min <= now_min)


def could_fly(flown: Iterable[Flown], not_begun: Iterable[PlannedBatch]) -> tuple[Flown, ...]:
    """The same heats without packs whose charge for them has not begun: they cannot have flown."""
    left: dict[str, int] = {}
    for tag, number in (charge for batch in not_begun for charge in batch.charges):
        left[tag] = min(left.get(tag, number), number - 1)
    able = []
    for item in sorted(flown, key=lambda item: item.heat.at_min):
        flew = [tag for tag in item.packs if left.get(tag, 1) > 0]
        left |= {tag: left[tag] - 1 for tag in flew if tag in left}
        able.append(Flown(item.heat, tuple(flew)))
    return tuple(able)


def shifted(flown: Iterable[Flown], passed_min: float) -> tuple[Flown, ...]:
    """The same heats when so many minutes have passed.

    passed_min : minutes, 0 or more.
    """
    return tuple(Flown(replace(item.heat, at_min=item.heat.at_min - passed_min), item.packs) for item in flown)


def flights_of(flown: Iterable[Flown]) -> dict[str, list[Wish]]:
    """By tag, the heats in which a pack has flown, in the order of time."""
    flights: dict[str, list[Wish]] = {}
    for item in sorted(flown, key=lambda item: item.heat.at_min):
        for tag in item.packs:
            flights.setdefault(tag, []).append(item.heat)
    return flights


def packs_as_they_are(session: Session, stay: Sequence[PlannedBatch], flown: Sequence[Flown]) -> tuple[Waiting, ...]:
    """Packs that were charged or have flown, each with when it can be had again, and whether it is full then.

    stay : batches done, running, or not to be moved. All times from now. A reading from after the last of it is what
    counts; without one a pack that flew is taken to come back as heats leave them.
    """
    charges: dict[str, tuple[int, float, float]] = {}
    for batch in stay:
        for tag, number in batch.charges:
            this = (number, batch.end_min, batch.until_fraction)
            charges[tag] = max(charges.get(tag, (0, 0.0, 1.0)), this)
    flights = flights_of(flown)
    as_they_are = []
    for pack in session.packs:
        if pack.id in charges or pack.id in flights:
            number, end_min, until = charges.get(pack.id, (0, -inf, 1.0))
            waiting = _now(session, pack, number, end_min, flights.get(pack.id, []))
            if until < 1 and waiting.full:  # charged for one flight only
                waiting = replace(waiting, full=False, charged_to=until)
            as_they_are.append(waiting)
    return tuple(as_they_are)


def _now(session: Session, pack: Pack, number: int, end_min: float, flights: Sequence[Wish]) -> Waiting:
    """Where one pack is. number, end_min : of its last charge."""
    if flights and len(flights) >= number:  # it has flown since
        heat, again = flights[-1], len(flights) + 1
        away_min = (heat.fly_min or 0.0) + heat.rest_min
        read = _read_min(session, pack) >= heat.over_min
        back = pack if read else returned(pack, heat)
        return Waiting(back, again, max(heat.at_min + away_min, 0.0), read and _is_full(session, pack), away_min)
    if _read_min(session, pack) > end_min and not _is_full(session, pack):  # read after its charge, and not full
        return Waiting(pack, number + 1, 0.0, False)
    return Waiting(pack, number, max(end_min, 0.0), True)


def _read_min(session: Session, pack: Pack) -> float:
    """When it was last read, in minutes from now; never, where no time is known."""
    if pack.reading is None or pack.reading.taken_at is None or session.starts_at is None:
        return -inf
    return (pack.reading.taken_at - session.starts_at) / timedelta(minutes=1)


def _is_full(session: Session, pack: Pack) -> bool:
    return permit_of(pack, session.rules).full
