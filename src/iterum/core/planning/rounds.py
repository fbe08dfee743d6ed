"""A day of heats: which packs fly when, how they come back, and so what is to be charged between which times.

Who flies is settled before the search, by the rule that pilots follow: packs that are full or fullest fly first,
and those that have been back longest go round again. What is left to plan is a list of charges, each with a time from
which its pack is there and a time by which it must be full.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from iterum.core.bench.packs import Pack, Reading
from iterum.core.bench.rules import HouseRules
from iterum.core.bench.session import Session, Wish
from iterum.core.bench.verdict import SPREAD_WEAK_V, PackVerdict, judge_pack
from iterum.core.quantities import at_most, spread

AGAIN = " ↻"
"""Between a pack's tag and the number of its time round, from the second on."""
RETURN_V = 1.15
"""Volts per cell taken for a flown pack whose chemistry volts do not tell. Never used to end its charge."""


def tag_of(pack_id: str) -> str:
    """The pack's own tag, whichever time round it is.

    pack_id : with or without its round.
    """
    return pack_id.partition(AGAIN)[0]


def round_of(pack_id: str) -> int:
    """Which time round, from 1.

    pack_id : with its round, where it is not the first.
    """
    return int(pack_id.partition(AGAIN)[2] or 1)


def tag_at(tag: str, number: int) -> str:
    """The name of a pack's charge on its charge of that round.

    tag : as written on the pack. number : of the round, from 1.
    """
    return tag if number == 1 else f"{tag}{AGAIN}{number}"


@dataclass(frozen=True)
class Round:
    """One charge of one pack on a day of heats: there from `release_min`, full by the heat it is for."""

    pack: Pack
    release_min: float
    heat: Wish
    away_min: float = 0.0
    """For a pack that comes round again: minutes away and resting after its charge before."""


@dataclass(frozen=True)
class Seat:
    """One pack's place in a heat. `pack_id` names its charge (None without a pack); ready_min: full already from then.

    ready_min : None where its charge is still to be planned.
    """

    heat: Wish
    pack_id: str | None
    ready_min: float | None


@dataclass(frozen=True)
class Rounds:
    """Everything to be charged for the heats, and who has which place in them."""

    rounds: tuple[Round, ...]
    seats: tuple[Seat, ...]


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


def returned(pack: Pack, heat: Wish, number: int) -> Pack:
    """The pack as it comes back from a heat and has rested.

    number : of the round, from 1.
    """
    table = pack.table
    cell_v = RETURN_V if table is None else round(table.rest_v(1 - heat.used_fraction), 3)
    reading = Reading(cell_v * pack.cells) if table is None else Reading.of_cells(_as_apart(pack, cell_v))
    return replace(pack, id=tag_at(tag_of(pack.id), number), reading=reading)


def _as_apart(pack: Pack, cell_v: float) -> tuple[float, ...]:
    """Cells at these volts, as far apart as they were where they were far apart: nobody knows better yet."""
    was = pack.reading.cell_v if pack.reading else ()
    if not was or at_most(spread(was), SPREAD_WEAK_V):
        return (cell_v,) * pack.cells
    middle_v = sum(was) / len(was)
    return tuple(round(cell_v + volts - middle_v, 3) for volts in was)


def is_sound(pack: Pack, rules: HouseRules) -> bool:
    """Whether nothing speaks against a pack that was charged by plan, read since or not."""
    against = {item.code for item in judge_pack(pack, rules).keeping_from_charge()}
    return not against - {"not_measured", "charged_since"}


def plan_rounds(session: Session, verdicts: Sequence[PackVerdict], coming: Sequence[Waiting]) -> Rounds:
    """Who flies in which heat. coming : packs that were charged or have flown while a plan was followed."""
    waiting = [Waiting(verdict.pack, 1, 0.0, verdict.full) for verdict in verdicts if verdict.charges]
    waiting += [replace(item) for item in coming if is_sound(item.pack, session.rules)]
    rounds: list[Round] = []
    seats: list[Seat] = []
    for heat in sorted(session.wanted, key=lambda wish: wish.at_min):
        if heat.at_min <= 0:
            continue  # it has begun, with what was ready then
        mine = [item for item in waiting if item.pack.family == heat.family]
        mine.sort(key=lambda item: (not _in_time(item, heat), not item.full, item.from_min if item.number > 1 else 0.0,
                                    -(item.pack.cell_v or 0.0), item.pack.id))  # fmt: skip
        for item in mine[: heat.count]:
            seats.append(Seat(heat, item.pack.id, item.from_min if item.full and not item.by_plan else None))
            if not item.full:
                rounds.append(Round(item.pack, item.from_min, heat, item.away_min))
            if heat.is_heat:
                item.number += 1
                away_min = (heat.fly_min or 0.0) + heat.rest_min
                item.pack, item.full, item.by_plan = returned(item.pack, heat, item.number), False, False
                item.from_min, item.away_min = heat.at_min + away_min, away_min
            elif not item.full:
                item.full, item.from_min, item.by_plan = True, heat.at_min, True
        seats += [Seat(heat, None, None)] * (heat.count - len(mine[: heat.count]))
    return Rounds(tuple(rounds), tuple(seats))


def _in_time(item: Waiting, heat: Wish) -> bool:
    """Whether it is there at all before the heat."""
    return item.from_min < heat.at_min if not item.full else item.from_min <= heat.at_min
