"""Which part to buy: each by itself, by what it saves on one day, and would have saved on the days of the log."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from itertools import islice
from typing import Any

from iterum.core.planning.plan import SourceUse
from iterum.core.planning.planner import Planner
from iterum.core.planning.schedule import decode
from iterum.core.reasons import Reason, reason
from iterum.core.things.kit import Charger, Kit, Supply
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.session import Session

MORE_WH = 100.0
LEAST_PACKS = 4
"""Days with fewer packs charged tell nothing of a kit."""
MOST_DAYS = 4
"""The latest days that are looked at."""
LEAST_MIN = 1.0
"""Saved on a day: what saves less is no reason to buy."""
SEARCH_CHUNKS = 2
"""Of search for each day and kit: counted, not timed."""


@dataclass(frozen=True)
class Charged:
    """One pack as it came to its charge on a day of the log. at : when that was logged. before_v : V of each cell."""

    pack: Pack
    at: datetime
    before_v: tuple[float, ...]


@dataclass(frozen=True)
class PartGain:
    """One part more, and minutes saved until all was full: by day, and in all. packs : charged that were not before."""

    part: Reason
    saved_min: Mapping[date, float]
    packs: int

    @property
    def total_min(self) -> float:
        """Minutes saved over all days."""
        return sum(self.saved_min.values())


def parts(kit: Kit, sources: Sequence[SourceUse] = ()) -> Iterator[tuple[str, dict[str, Any], Kit]]:
    """One part more, each by itself: a channel, a charger on mains, a board, twice the supply, watt-hours.

    sources : what a plan takes from each; of those that it nearly empties, more is offered.
    """
    if kit.chargers:
        most = max(kit.chargers, key=lambda item: item.total_power_w or 0.0)
        twin = replace(most.channels[0], id=f"{most.channels[0].id} more")
        wider = replace(most, channels=(*most.channels, twin))
        channels = tuple(wider if item is most else item for item in kit.chargers)
        yield "offer_channel", {"charger": most.id}, replace(kit, chargers=channels)
        own = Charger(f"{most.id} more", (replace(twin, id=f"{twin.id} 2"),), None, total_power_w=most.total_power_w)
        yield "offer_charger", {"charger": most.id}, replace(kit, chargers=(*kit.chargers, own))
    if kit.boards:
        largest = max(kit.boards, key=lambda board: board.ports)
        board = replace(largest, id=f"{largest.id} more")
        yield "offer_board", {"ports": largest.ports}, replace(kit, boards=(*kit.boards, board))
    if kit.supplies:
        yield "offer_supply", {}, replace(kit, supplies=tuple(_doubled(item) for item in kit.supplies))
    for use in sources:
        if use.usable_wh is not None and use.usable_wh - use.used_wh < MORE_WH:
            more = tuple(
                replace(item, energy_wh=(item.energy_wh or 0.0) + MORE_WH / item.usable_part)
                if item.id == use.id else item for item in kit.sources
            )  # fmt: skip
            yield "offer_energy", {"source": use.id, "wh": MORE_WH}, replace(kit, sources=more)


def _doubled(supply: Supply) -> Supply:
    return replace(supply, max_power_w=2 * supply.max_power_w)


def days_of(charged: Sequence[Charged]) -> dict[date, tuple[Pack, ...]]:
    """The latest days on which so many packs were charged that a kit matters, each pack as it came first that day."""
    by_day: dict[date, dict[str, Pack]] = {}
    for item in sorted(charged, key=lambda one: one.at):
        if len(item.before_v) == item.pack.cells:
            read = replace(item.pack, reading=Reading.of_cells(item.before_v), charged_at=None, charged_full=False)
            by_day.setdefault(item.at.astimezone().date(), {}).setdefault(item.pack.id, read)
    busy = {day: tuple(packs.values()) for day, packs in by_day.items() if len(packs) >= LEAST_PACKS}
    return {day: busy[day] for day in sorted(busy)[-MOST_DAYS:]}


def part_gains(session: Session, charged: Sequence[Charged]) -> tuple[PartGain, ...]:
    """What each part more would have saved on the days of the log, the most first; those that save nothing left out.

    Each day is planned again with the kit of today, its sources full, and with each part; how heats stood is not in the
    log, so minutes until all was full are compared.
    """
    kit = replace(session.kit, sources=tuple(replace(source, taken_wh=0.0) for source in session.kit.sources))
    saved: dict[str, dict[date, float]] = {}
    more_packs: dict[str, int] = {}
    words: dict[str, Reason] = {}
    for day, packs in days_of(charged).items():
        bare = replace(session, packs=packs, kit=kit, wanted=(), running=(), group=None)
        planner = _searched(bare)
        used = planner.plan().sources  # of these, more is offered where a day nearly empties them
        was_min, was_packs = _reached(planner)
        for code, numbers, changed in parts(kit, used):
            told = reason(code.replace("offer_", "part_"), **numbers)
            key = f"{code} {sorted(numbers.items())}"
            words[key] = told
            now_min, now_packs = _reached(_searched(replace(bare, kit=changed)))
            fuller = max(now_packs - was_packs, 0)
            more_packs[key] = more_packs.get(key, 0) + fuller
            gain_min = 0.0 if now_packs != was_packs else max(was_min - now_min, 0.0)
            saved.setdefault(key, {})[day] = gain_min
    gains = [PartGain(words[key], days, more_packs[key]) for key, days in saved.items()]
    useful = [item for item in gains if item.total_min >= len(item.saved_min) * LEAST_MIN or item.packs]
    return tuple(sorted(useful, key=lambda item: (-item.packs, -item.total_min)))


def _searched(session: Session) -> Planner:
    planner = Planner(session)
    for _ in islice(planner.search, SEARCH_CHUNKS):
        pass
    return planner


def _reached(planner: Planner) -> tuple[float, int]:
    """Minutes until all that can be charged is full, by the fast model, and how many packs that are."""
    schedule = decode(planner.problem, planner.search.best.genes)
    if schedule is None:
        return 0.0, 0
    return schedule.makespan_min, sum(len(item.gene.members) for item in schedule.placed)
