"""Figures as the pages write them: number, no-break space, unit."""

import math
import re
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from typing import Any

from babel.dates import format_skeleton
from flask_wtf.csrf import generate_csrf
from markupsafe import Markup, escape

from iterum.core.permit.facts import Level
from iterum.core.permit.permit import Permit
from iterum.core.reasons import Reason
from iterum.core.say import LANGUAGE, Words, figure, retold, say
from iterum.core.season.health import Advice
from iterum.core.season.records import KeptRun
from iterum.core.season.run import State
from iterum.core.season.watching import to_do
from iterum.core.things.choice import Kind
from iterum.core.things.limit_kinds import KINDS
from iterum.core.things.packs import Condition
from iterum.web.degrees import own_degrees
from iterum.wording import about, between, family_label, fix_for, minutes, plain, sentence, span
from iterum.wording.figures import degrees
from iterum.wording.plans import chance_words

NO_BREAK = "\u00a0"


def volts(value: float | None, digits: int = 2) -> str:
    """Volts with two decimals as read or three as averaged; a dash where there are none."""
    return "–" if value is None else figure(value, f".{digits}f")


def each_cell(values: Iterable[float], digits: int = 2) -> str:
    """A figure of each cell in turn; once, with their count, where all of several read the same."""
    told = [volts(value, digits) for value in values]
    return f"{len(told)} × {told[0]}" if len(told) > 2 and len(set(told)) == 1 else " ".join(told)


def amps(value: float | None) -> str:
    """Amps with one decimal, or two where the step is finer."""
    if value is None:
        return "–"
    return figure(value, ".1f" if abs(value * 10 - round(value * 10)) < 1e-6 else ".2f")


def clock(moment: datetime | None) -> str:
    """Time of day on this machine."""
    return "–" if moment is None else moment.astimezone().strftime("%H:%M")


def day(moment: datetime | None) -> str:
    """Day and time on this machine."""
    return "–" if moment is None else f"{date(moment, 'MMMEd')}, {clock(moment)}"


def date(moment: datetime, skeleton: str = "MMMd") -> str:
    """A date as the reader's language writes it.

    skeleton : which parts: "yMMMMEEEEd" is all of them, "MMMd" day and month.
    """
    return str(format_skeleton(skeleton, moment.astimezone(), locale=LANGUAGE.get().locale))


def weekday_time(moment: datetime) -> str:
    """A moment of the week."""
    return f"{date(moment, 'E')} {clock(moment)}"


def tags(ids: Iterable[str]) -> Markup:
    """Tags in a row, none broken at its hyphen."""
    return Markup(", ".join(f'<span class="nobr">{escape(tag)}</span>' for tag in ids))  # noqa: S704 (escaped)


TAG = re.compile(r"\b[A-Za-z]{1,12}(?:-\d{1,4})+\b")


def unbroken(text: str) -> Markup:
    """A sentence in which no tag is broken at its hyphen."""
    return Markup(TAG.sub(r'<span class="nobr">\g<0></span>', str(escape(text))))  # noqa: S704 (escaped)


def few_tags(ids: Sequence[str]) -> str:
    """Tags in one short line: a row that counts up as "P-05 to 08", many as a count of their class letter."""
    if len(ids) < 3:
        return ", ".join(ids)
    heads = {re.sub(r"\d+$", "", tag) for tag in ids}
    if len(heads) == 1 and heads != {""}:
        head = heads.pop()
        numbers = [tag.removeprefix(head) for tag in ids]
        if all(number.isdigit() for number in numbers):
            counted = sorted(map(int, numbers))
            if counted == list(range(counted[0], counted[0] + len(counted))):
                ordered = sorted(numbers, key=int)
                return say("{head}{ordered} to {ordered2}", head=head, ordered=ordered[0], ordered2=ordered[-1])
        return f"{len(ids)}{NO_BREAK}×{NO_BREAK}{head.rstrip('-_ ') or head}"
    return say("{count} packs", count=len(ids))


def limit_name(name: str) -> str:
    """What a limit is called at the head of a row."""
    words = say(KINDS[name].words)
    return words[:1].upper() + words[1:]


def tail(tag: str) -> str:
    """The number at the end of a tag, where its letters stand beside it already; else all of it."""
    hit = re.search(r"\d+$", tag)
    return hit[0] if hit else tag


def letter(index: int) -> str:
    """A, B ... Z, AA for the groups of a page."""
    text = ""
    index += 1
    while index:
        index, rest = divmod(index - 1, 26)
        text = chr(65 + rest) + text
    return text


def charge_range(soc: Any) -> str:
    """What the volts tell of the charge, as the range that a meter and a cell nobody knows leave open."""
    if soc is None:
        return "–"
    text = f"{math.floor(soc.low * 100)}–{math.ceil(soc.high * 100)}{NO_BREAK}%"
    return say("{charge} (estimate)", charge=text) if soc.estimate else text


def thousands(value: float) -> str:
    """A whole figure with its thousands set apart by a thin space."""
    return f"{value:,.0f}".replace(",", "\u2009")


def said(code: str) -> str:
    """The sentence of a reason that has no numbers."""
    return sentence(Reason(code))


def hidden(name: str, value: object) -> Markup:
    """A field of a form that nobody sees."""
    held = "" if value is None else escape(value)
    return Markup(f'<input type="hidden" name="{escape(name)}" value="{held}">')  # noqa: S704 (escaped)


def squeezed(text: str, room_px: float, letter_px: float) -> Markup:
    """What makes a text of a picture narrower where the reader's language needs more room than there is. letter_px : of
    a letter of its size, on average."""
    if len(text) * letter_px <= room_px:
        return Markup()
    return Markup('textLength="{}" lengthAdjust="spacingAndGlyphs"').format(room_px)


def rect(x: float, y: float, width: float, height: float, kind: str, rx: float = 0) -> Markup:
    """A rectangle of a picture, in pixels; rx : of its corners."""
    corners = f' rx="{rx}"' if rx else ""
    box = f'<rect x="{x}" y="{y}" width="{width}" height="{height}" class="{escape(kind)}"{corners}/>'
    return Markup(box)  # noqa: S704 (numbers, and what is escaped)


def token() -> Markup:
    """The token that says that a form was sent from a page of ours."""
    return hidden("csrf_token", generate_csrf())


def verdict_mark(verdict: Permit) -> tuple[str, str]:
    """The glyph and the word for what may be done with a pack."""
    if verdict.pack.condition is Condition.DAMAGED or (verdict.level is Level.STOP and not verdict.charges):
        return "apart", say("Keep apart")
    if verdict.pack.reading is None:
        return "unmeasured", say("To measure")
    if verdict.full:
        return "full", say("Full")
    if not verdict.joins:
        return "alone", say("Alone")
    return ("care", say("Look first")) if verdict.level is Level.LOOK else ("ok", say("Can share"))


DOING = {Kind.BALANCE: Words("balancing"), Kind.DOWN: Words("discharging")}


KEPT_WORDS = {
    "evened out": Words("equalised"), "set and read back": Words("settings confirmed"), "even out": Words("equalise"),
    "read back": Words("confirm settings"),
}  # fmt: skip
"""What is said for states and acts that are kept under another name."""


def as_said(kept: str) -> str:
    """A state or an act of a batch as people read it."""
    return say(KEPT_WORDS.get(kept, kept))


def doing(run: KeptRun) -> str:
    """Where a batch is, in a word."""
    said_of = as_said(run.state.value)
    return say(DOING[run.kind]) if run.kind in DOING and run.state is State.CHARGING else said_of


ADVICE_WORDS = {
    Advice.KEEP: Words("Keep"),
    Advice.WATCH: Words("Watch"),
    Advice.DEMOTE: Words("For practice only"),
    Advice.RETIRE: Words("Retire"),
}
"""What a pilot is advised to do with a pack."""


MACROS: dict[str, Any] = {
    "advice_words": ADVICE_WORDS,
    "between": between,
    "hidden": hidden,
    "chance_words": chance_words,
    "rect": rect,
    "span": span,
    "squeezed": squeezed,
    "to_do": to_do,
    "token": token,
}
"""What recurs in templates."""

FILTERS: dict[str, Callable[..., Any]] = {
    "said": said,
    "doing": doing,
    "as_said": as_said,
    "few": few_tags,
    "own_degrees": own_degrees,
    "degrees": degrees,
    "volts": volts,
    "each_cell": each_cell,
    "amps": amps,
    "clock": clock,
    "day": day,
    "date": date,
    "retold": retold,
    "letter": letter,
    "tags": tags,
    "unbroken": unbroken,
    "tail": tail,
    "limit_name": limit_name,
    "verdict_mark": verdict_mark,
    "charge_range": charge_range,
    "plain": plain,
    "thousands": thousands,
    "minutes": minutes,
    "sentence": sentence,
    "fix": lambda item, tag: fix_for(item, tag) or "",
    "about": about,
    "family": family_label,
}
