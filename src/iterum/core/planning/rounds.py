"""A day of heats: which packs fly when, how they come back, and so what is to be charged between which times.

Who flies and what is given up are decisions of the search, a `Flight` for each heat; this turns them into a list of
charges, each with a time from which its pack is there and a time by which it must be full. No pack is seated where no
channel can have it full in time, and a heat that cannot be flown whole is given up at once: its packs go to the next.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from typing import NamedTuple

from iterum.core.groups.group import figures
from iterum.core.permit.facts import Act
from iterum.core.permit.permit import Permit, permit_of
from iterum.core.quantities import at_most, spread
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session, Wish
from iterum.core.things.volts import SPREAD_WEAK_V

RETURN_V = 1.15
"""Volts per cell taken for a flown pack whose chemistry volts do not tell. Never used to end its charge."""


class ChargeKey(NamedTuple):
    """Which charge of which pack: the tag written on it, and the round of the day, from 1."""

    tag: str
    round: int = 1

    def __str__(self) -> str:
        """As a list names it: the round from the second on."""
        return self.tag if self.round == 1 else f"{self.tag} ↻{self.round}"


@dataclass(frozen=True)
class Round:
    """One charge of one pack on a day of heats: there from `release_min`, full by the heat it is for."""

    pack: Pack
    number: int
    """Which time round, from 1."""
    release_min: float
    heat: Wish
    away_min: float = 0.0
    """For a pack that comes round again: minutes away and resting after its charge before."""

    @property
    def need(self) -> float:
        """How full it must be, 0..1."""
        return self.heat.need if self.heat.is_heat else 1.0

    @property
    def key(self) -> ChargeKey:
        """Which charge it is."""
        return ChargeKey(self.pack.id, self.number)


@dataclass(frozen=True)
class Seat:
    """One pack's place in a heat, by its charge. ready_min : full already from then; None: still to be planned."""

    heat: Wish
    charge: ChargeKey
    ready_min: float | None


class Order(IntEnum):
    """By which rule packs are taken for a heat. Those that are full already are always there to be taken."""

    FULL_FIRST = 0
    FULLEST_FIRST = 1
    EMPTIEST_FIRST = 2
    BACK_LONGEST = 3


@dataclass(frozen=True)
class Flight:
    """The decision on one heat: how many fly in it (None: all that are asked for, or nobody), taken by which rule.

    first : tags that fly before any other. without : tags that do not fly in it.
    """

    count: int | None = None
    order: Order = Order.FULL_FIRST
    first: tuple[str, ...] = ()
    without: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Rounds:
    """Everything to be charged for the heats, who has which place in them, and why a heat was given up.

    heats : those to come, in the order of time; `flights` are the decisions on them. could : by heat, how many packs
    could be ready for it when it was their turn; soonest_min : when the last one that it asks for could be, None where
    there are too few packs at all.
    """

    rounds: tuple[Round, ...]
    seats: tuple[Seat, ...]
    heats: tuple[Wish, ...]
    flights: tuple[Flight, ...]
    could: tuple[int, ...]
    soonest_min: tuple[float | None, ...]


@dataclass
class Waiting:
    """A pack that can be had: from when, which time round, and whether it is full then.

    away_min : for one that comes round again, minutes away and resting after its charge before.
    """

    pack: Pack
    number: int
    from_min: float
    full: bool
    away_min: float = 0.0
    by_plan: bool = False
    """Full only if a charge of this very plan comes about."""
    charged_to: float | None = None
    """How full a charge that was only for one flight left it, 0..1."""

    def enough_for(self, heat: Wish) -> bool:
        """Whether it needs no charge for a heat: full, or surely as full as that flight needs."""
        if self.full or not heat.is_heat or heat.need >= 1:
            return self.full
        soc = self.pack.soc
        return max(self.charged_to or 0.0, soc.low if soc is not None else 0.0) >= heat.need


def returned(pack: Pack, heat: Wish, from_soc: float = 1.0) -> Pack:
    """The pack as it comes back from a heat and has rested.

    from_soc : how full it flew, 0..1.
    """
    table = pack.table
    cell_v = RETURN_V if table is None else round(table.rest_v(max(from_soc - heat.used_fraction, 0.0)), 3)
    reading = Reading(cell_v * pack.cells) if table is None else Reading.of_cells(_as_apart(pack, cell_v))
    return replace(pack, reading=reading)


def _as_apart(pack: Pack, cell_v: float) -> tuple[float, ...]:
    """Cells at these volts, as far apart as they were where they were far apart: nobody knows better yet."""
    was = pack.reading.cell_v if pack.reading else ()
    if not was or at_most(spread(was), SPREAD_WEAK_V):
        return (cell_v,) * pack.cells
    middle_v = sum(was) / len(was)
    return tuple(round(cell_v + volts - middle_v, 3) for volts in was)


def is_sound(pack: Pack, rules: HouseRules) -> bool:
    """Whether nothing speaks against a pack that was charged by plan, read since or not."""
    against = {item.code for item in permit_of(pack, rules).against(Act.CHARGE)}
    return not against - {"not_measured", "charged_since", "flown_since"}


def heats_to_come(session: Session) -> tuple[Wish, ...]:
    """Heats and wishes that have not begun, in the order of time: what has begun flies with what was ready then."""
    return tuple(sorted((wish for wish in session.wanted if wish.at_min > 0), key=lambda wish: wish.at_min))


def plan_rounds(
    session: Session,
    verdicts: Sequence[Permit],
    coming: Sequence[Waiting],
    flights: Sequence[Flight],
    full_in_min: Callable[[Pack, float], float],
) -> Rounds:
    """Who flies in which heat by these decisions, one for each heat to come.

    coming : packs that were charged or have flown while a plan was followed. full_in_min : minutes from the moment a
    pack may be set up until it can be so full (0..1) at the soonest.
    """
    waiting = [Waiting(verdict.pack, 1, 0.0, verdict.full) for verdict in verdicts if verdict.charges]
    waiting += [replace(item) for item in coming if is_sound(item.pack, session.rules)]
    heats = heats_to_come(session)
    rounds: list[Round] = []
    seats: list[Seat] = []
    could: list[int] = []
    soonest: list[float | None] = []
    for heat, flight in zip(heats, flights, strict=True):
        mine = [item for item in waiting if (item.pack.family, item.pack.pilot) == (heat.family, heat.pilot)]
        ready = {
            id(item): item.from_min + (0.0 if item.enough_for(heat) else full_in_min(item.pack, heat.need))
            for item in mine
        }
        mine.sort(key=lambda item: (ready[id(item)], figures(item.pack)))
        soonest.append(ready[id(mine[heat.count - 1])] if len(mine) >= heat.count else None)
        in_time = [item for item in mine if at_most(ready[id(item)], heat.at_min)] if heat.is_heat else mine
        could.append(len(in_time))
        chosen = _chosen(in_time, heat, flight, ready)
        for item in chosen:
            enough = item.enough_for(heat)
            key = ChargeKey(item.pack.id, item.number)
            seats.append(Seat(heat, key, item.from_min if enough and not item.by_plan else None))
            if not enough:
                rounds.append(Round(item.pack, item.number, item.from_min, heat, item.away_min))
            if heat.is_heat:
                item.number += 1
                away_min = (heat.fly_min or 0.0) + heat.rest_min
                from_soc = _flies_from(item, heat, enough)
                item.pack, item.full, item.by_plan = returned(item.pack, heat, from_soc), False, False
                item.charged_to = None
                item.from_min, item.away_min = heat.at_min + away_min, away_min
            elif not item.full:
                item.full, item.from_min, item.by_plan = True, heat.at_min, True
    return Rounds(tuple(rounds), tuple(seats), heats, tuple(flights), tuple(could), tuple(soonest))


def _flies_from(item: Waiting, heat: Wish, enough: bool) -> float:
    """How full a pack flies: full, as full as it was charged for it, or at least as it was read."""
    if item.full:
        return 1.0
    soc = item.pack.soc
    return max(item.charged_to or 0.0, soc.low if soc is not None else 0.0) if enough else heat.need


def _chosen(in_time: Sequence[Waiting], heat: Wish, flight: Flight, ready: Mapping[int, float]) -> list[Waiting]:
    """The packs that fly in a heat: as many as were decided, or nobody where it cannot be flown whole."""
    place = {tag: number for number, tag in enumerate(flight.first)}
    orders: dict[Order, Callable[[Waiting], tuple[float, ...]]] = {
        Order.FULL_FIRST: lambda item: (not item.enough_for(heat), ready[id(item)]),
        Order.FULLEST_FIRST: lambda item: (-(item.pack.cell_v or 0.0),),
        Order.EMPTIEST_FIRST: lambda item: (item.full, -ready[id(item)]),
        Order.BACK_LONGEST: lambda item: (item.from_min, ready[id(item)]),
    }
    key = orders[flight.order]
    free = [item for item in in_time if item.pack.id not in flight.without]
    free.sort(key=lambda item: (place.get(item.pack.id, len(place)), *key(item), figures(item.pack)))
    if not heat.is_heat:
        return free[: heat.count]
    count = heat.count if flight.count is None else flight.count
    return free[:count] if len(free) >= count else []
