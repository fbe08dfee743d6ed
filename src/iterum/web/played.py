"""A lesson that is played with hands: what every page says of it, and what was done so far."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.season.lesson import Judged, Lesson
from iterum.core.things.packs import Condition, Pack
from iterum.services.desk import TYPED
from iterum.services.rehearsing import Rehearsal
from iterum.web.context import desk, now, rehearsal, runs
from iterum.web.who import is_shared
from iterum.web.words import volts
from iterum.wording.figures import degrees

MISREAD_V = 0.015
MISREAD_K = 3.0
"""A cell, or a whole pack, further from what the checker shows was typed wrongly; and so were degrees."""


@dataclass(frozen=True)
class Checked:
    """What the checker shows at one pack, and what was typed of it; typed empty where nothing was.

    warmth : what a thermometer shows, where warmth is what the lesson is about. showed : what the checker showed when
    that was typed.
    """

    tag: str
    shows: str
    warmth: str
    typed: str
    showed: str
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


def played_on(lesson: Lesson) -> Played | None:
    """How a lesson stands where it is played on this bench; None elsewhere."""
    mine = rehearsal()
    if mine is None or mine.lesson is None or mine.lesson.id != lesson.id:
        return None
    states = [(run.key, run.state.value) for run in runs().latest()]
    judged = desk().remember(f"judged {mine.times_plugged} {states}", now(), lambda: mine.judged(runs(), desk()))
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
    """What was typed last, beside what the checker shows, or showed before the pack was plugged in."""
    shows, stood = mine.checker(tag), mine.stood(tag)
    cell_v = stood.reading.cell_v if stood.reading else ()
    readings = [item for item in desk().readings(tag) if item.origin == TYPED] if pack else []
    read = readings[0].reading if readings else None
    typed = () if read is None else read.cell_v or (read.pack_v,)
    against = tuple(round(volts, 2) for volts in cell_v) if len(typed) == len(cell_v) else (sum(cell_v),)
    agrees = len(typed) == len(against) and all(
        abs(one - other) < MISREAD_V for one, other in zip(typed, against, strict=True)
    )
    warmth = ""
    if any(item.id == tag and item.temperature_c is not None for item in lesson.truth.packs):
        warmth = degrees(mine.stands(tag).temperature_c or 0.0)
        # A pack cools while one looks: what was typed may be more.
        agrees &= read is not None and (read.temperature_c or 0.0) > (stood.temperature_c or 0.0) - MISREAD_K
    return Checked(tag, _figures((sum(shows),) if lesson.by_total else shows), warmth, _figures(typed),
                   _figures(against), agrees)  # fmt: skip


def _figures(values: Sequence[float]) -> str:
    return " ".join(volts(value) for value in values)
