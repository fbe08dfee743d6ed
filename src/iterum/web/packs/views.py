"""What Packs shows: the box on its shelves, a shelf a class, packs grouped by what is to be done with them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from iterum.core.permit.permit import Permit, permits
from iterum.core.say import Words, say, say_many
from iterum.core.season.agenda import Do, InHand, ToDo
from iterum.core.season.box import ORDER, Standing, standing
from iterum.core.season.run import LIVE
from iterum.core.things.packs import Pack
from iterum.core.things.session import Session
from iterum.web.pictures.chain import TINTS
from iterum.web.words import doing, weekday_time
from iterum.wording import family_label, sentence

STANDING_WORDS = {
    Standing.READ_AFTER: Words("Measure after the charge"),
    Standing.MEASURE: Words("Measure"),
    Standing.APART: Words("Quarantined"),
    Standing.ALONE: Words("Charge alone"),
    Standing.FULL: Words("Full"),
    Standing.CHARGING: Words("Charging"),
    Standing.IN_HAND: Words("In a batch"),
    Standing.WAIT: Words("Waits"),
    Standing.LOW: Words("To charge"),
    Standing.AWAY: Words("At storage voltage"),
}
GLYPHS = {
    Standing.READ_AFTER: "check", Standing.MEASURE: "unmeasured", Standing.APART: "apart", Standing.ALONE: "alone",
    Standing.FULL: "full", Standing.CHARGING: "charging", Standing.IN_HAND: "board", Standing.WAIT: "wait",
    Standing.LOW: "measured", Standing.AWAY: "away",
}  # fmt: skip
CASE = 64.0
"""Pixels of a case from empty to full."""


@dataclass(frozen=True)
class Case:
    """One pack: its tag, the pixels of what it holds, and what it says of itself."""

    tag: str
    level: float | None
    mark_y: float
    words: str


@dataclass(frozen=True)
class Group:
    """Packs of one class with the same thing to be done, and what they wait for."""

    standing: Standing
    glyph: str
    title: str
    detail: str
    cases: tuple[Case, ...]


@dataclass(frozen=True)
class Shelf:
    """One class. tint : of its cases."""

    family: str
    title: str
    tint: str
    groups: tuple[Group, ...]


@dataclass(frozen=True)
class Box:
    """Every shelf, and how many packs stand where."""

    shelves: tuple[Shelf, ...]
    counts: tuple[tuple[Standing, str, int], ...]


def box(
    session: Session, in_hand: Sequence[InHand], agenda: Sequence[ToDo], full_since: Mapping[str, datetime],
    only: Standing | None = None,
) -> Box:  # fmt: skip
    """The box as it stands. only : what alone is shown of it."""
    by_tag = {tag: item for item in in_hand for tag in item.run.packs}
    latest_first = sorted((todo for todo in agenda if todo.do is Do.SWAP), key=lambda todo: todo.at, reverse=True)
    waits = {tag: todo for todo in latest_first if todo.batch for tag in todo.batch.packs}  # the next one counts
    names = {channel.id: channel.name or channel.id for _, channel in session.kit.channels()}
    families: dict[str, dict[tuple[int, str, str], list[Case]]] = {}
    counts: dict[Standing, int] = {}
    for verdict in permits(session.bench).values():
        pack = verdict.pack
        held = by_tag.get(pack.id)
        where = standing(verdict, held.run if held else None, pack.id in waits, session.rules)
        counts[where] = counts.get(where, 0) + 1
        title, detail = _words(where, verdict, held, waits.get(pack.id), names, full_since.get(pack.id))
        if only is None or only is where:
            groups = families.setdefault(pack.family, {})
            groups.setdefault((ORDER.index(where), title, detail), []).append(_case(pack, verdict, where, session))
    shelves = [
        Shelf(family, _shelf_title(family, groups), TINTS[number % len(TINTS)], tuple(
            Group(ORDER[key[0]], GLYPHS[ORDER[key[0]]], key[1], key[2], tuple(cases))
            for key, cases in sorted(groups.items(), key=lambda item: item[0])
        ))
        for number, (family, groups) in enumerate(families.items())
    ]  # fmt: skip
    return Box(tuple(shelves), tuple((item, GLYPHS[item], counts[item]) for item in ORDER if item in counts))


def _shelf_title(family: str, groups: Mapping[tuple[int, str, str], Sequence[Case]]) -> str:
    count = sum(map(len, groups.values()))
    return say_many("{family:family}, one pack", "{family:family}, {count} packs", count, family=family)


def _case(pack: Pack, verdict: Permit, where: Standing, session: Session) -> Case:
    soc = verdict.soc.value if verdict.soc else None
    table = pack.table
    storage = table.soc(session.rules.storage_of(pack.chemistry)) if table is not None else 0.5
    level = None if soc is None or where is Standing.APART else round(CASE * min(max(soc, 0.0), 1.0), 1)
    parts = [pack.id, f"{family_label(pack.family)} {pack.capacity_mah:.0f}", say(STANDING_WORDS[where])]
    if soc is not None:
        parts.append(say("about {held_ah:.1f} Ah held", held_ah=soc * pack.capacity_ah))
    words = ", ".join(parts)
    return Case(pack.id, level, round(CASE * (1 - storage), 1), words)


def _words(
    where: Standing, verdict: Permit, held: InHand | None, todo: ToDo | None, names: Mapping[str, str],
    since: datetime | None,
) -> tuple[str, str]:  # fmt: skip
    """What is to be done, and when or why, in a few words."""
    if held is not None:
        channel = names.get(held.run.place, held.run.place)
        if held.run.state in LIVE and held.ends_at is not None:
            does = doing(held.run)
            return say("{does} on {channel}", does=does, channel=channel), say(
                "{current_a:g} A, until {clock}", current_a=held.run.current_a, clock=_clock(held.ends_at)
            )
        amps = f"{held.run.current_a:g} A, " if held.run.current_a else ""
        return f"{say(STANDING_WORDS[where])}, {channel}", f"{amps}{doing(held.run)}"
    if where is Standing.WAIT and todo is not None and todo.batch is not None:
        return say("Wait for {names}", names=names.get(todo.batch.channel, todo.batch.channel)), say(
            "on at {clock}", clock=_clock(todo.at)
        )
    if where is Standing.FULL and since is not None:
        return say("Full"), say("since {since}", since=weekday_time(since))
    if where in (Standing.APART, Standing.ALONE):
        return say(STANDING_WORDS[where]), " ".join(map(sentence, verdict.reasons[:1]))
    if where is Standing.MEASURE:
        return say("Measure"), say("not measured yet")
    return say(STANDING_WORDS[where]), ""


def _clock(moment: datetime) -> str:
    return moment.astimezone().strftime("%H:%M")
