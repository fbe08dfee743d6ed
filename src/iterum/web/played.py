"""A lesson that is played with hands: what every page says of it, and what was done so far."""

from dataclasses import dataclass

from iterum.core.bench.packs import Condition, Pack
from iterum.core.reasons import Reason
from iterum.core.season.lesson import Judged, Lesson
from iterum.services.desk import TYPED
from iterum.services.rehearsing import Rehearsal
from iterum.web.context import desk, now, rehearsal, runs
from iterum.web.who import is_shared
from iterum.web.words import volts

MISREAD_V = 0.015
MISREAD_K = 3.0
"""A cell, or a whole pack, further from what the checker shows was typed wrongly; and so were degrees."""


@dataclass(frozen=True)
class Checked:
    """What the checker shows at one pack, and what was typed of it; typed empty where nothing was.

    warmth : what a thermometer shows, where warmth is what the lesson is about.
    """

    tag: str
    shows: str
    warmth: str
    typed: str
    agrees: bool


@dataclass(frozen=True)
class Played:
    """A lesson on its own bench. number, count : its place in the course. marked : tags that were marked as hurt."""

    lesson: Lesson
    number: int
    count: int
    checked: tuple[Checked, ...]
    marked: tuple[str, ...]
    judged: Judged | None

    @property
    def wrong(self) -> tuple[Reason, ...]:
        """What speaks against what was done."""
        return self.judged.outcome.refusals if self.judged and not self.judged.good else ()


def played_on(lesson: Lesson) -> Played | None:
    """How a lesson stands where it is played on this bench; None elsewhere."""
    mine = rehearsal()
    if mine is None or mine.lesson is None or mine.lesson.id != lesson.id:
        return None
    states = [(run.key, run.state.value) for run in runs().latest()]
    plugged = len(mine.bench.bench.plugged)
    judged = desk().remember(f"judged {plugged} {states}", now(), lambda: mine.judged(runs(), desk()))
    packs = {pack.id: pack for pack in desk().session().packs}
    return Played(
        lesson,
        [item.id for item in mine.course].index(lesson.id) + 1,
        len(mine.course),
        tuple(_checked(mine, lesson, tag, packs.get(tag)) for tag in lesson.unread),
        tuple(tag for tag, pack in packs.items() if pack.condition is Condition.DAMAGED),
        judged,
    )


def lesson_cue() -> Played | None:
    """The lesson of this bench, for every page of it; None where none is played."""
    mine = rehearsal()
    return played_on(mine.lesson) if mine is not None and mine.lesson is not None else None


def may_begin() -> bool:
    """Whether a lesson can be begun from here: on the real bench, at its own machine."""
    return rehearsal() is None and not is_shared()


def _checked(mine: Rehearsal, lesson: Lesson, tag: str, pack: Pack | None) -> Checked:
    """What was typed last, beside what the checker shows."""
    cell_v = mine.checker(tag)
    shows = [sum(cell_v)] if lesson.by_total else list(cell_v)
    readings = [item for item in desk().readings(tag) if item.origin == TYPED] if pack else []
    read = readings[0].reading if readings else None
    typed = [] if read is None else list(read.cell_v or (read.pack_v,))
    against = shows if len(typed) == len(shows) else [sum(cell_v)]
    agrees = len(typed) == len(against) and all(
        abs(one - other) < MISREAD_V for one, other in zip(typed, against, strict=True)
    )
    told_c = next((item.temperature_c for item in lesson.truth.packs if item.id == tag), None)
    if told_c is None:
        return Checked(tag, _figures(shows), "", _figures(typed), agrees)
    stands_c = mine.bench.bench.packs[tag].temperature_c
    agrees = (
        agrees
        and read is not None
        and read.temperature_c is not None
        and abs(read.temperature_c - stands_c) < MISREAD_K
    )
    return Checked(tag, _figures(shows), f"{stands_c:.0f} °C", _figures(typed), agrees)


def _figures(values: list[float]) -> str:
    return " ".join(volts(value) for value in values)
