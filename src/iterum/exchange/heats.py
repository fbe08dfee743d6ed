"""Heats in and out: a table pasted from a spreadsheet, and iCalendar (RFC 5545), which any calendar reads."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from hashlib import sha256
from typing import Any
from urllib.parse import quote, unquote

from icalendar import Calendar, Event

from iterum.core.fields import BadInput, Fault
from iterum.core.reading.numbers import figure_of
from iterum.core.say import say
from iterum.core.season.moments import Local, is_of_our_time
from iterum.core.things.session import Wish
from iterum.exchange.faults import checked
from iterum.exchange.sense import wish_sense
from iterum.exchange.session import OF_PART, wish_document
from iterum.wording import FAMILY_LABELS, family_label

COLUMNS = ("time", "name", "class", "packs", "away", "worth", "uses", "needs", "pilot", "final")
"""Columns of a pasted table, in this order unless a first line names them otherwise."""
_FIELDS = {"name": "name", "class": "class", "packs": "count", "away": "fly_min", "worth": "value"}
_FIELDS |= {"uses": "used_fraction", "needs": "need_fraction", "pilot": "pilot", "final": "final"}
_TEXTS = ("name", "pilot")
_PERCENT = ("uses", "needs")
_OTHER_NAMES = {"start": "time", "at": "time", "heat": "name", "count": "packs", "away min": "away", "value": "worth"}
_KEPT = "X-ITERUM-HEAT"
AHEAD = timedelta(days=366)
"""A heat lies at most a year ahead: later ones are slips, and nobody charges for them."""
MAX_CALENDAR_BYTES = 1_000_000


@dataclass(frozen=True)
class Heat:
    """A heat, or a wish, with its moment. The wish's own minutes are not used."""

    at: datetime
    wish: Wish

    @property
    def key(self) -> str:
        """By which a page names it: of what it says, so that one that was changed meanwhile is not hit by mistake."""
        wish = self.wish
        figures = (wish.count, wish.fly_min, wish.value, wish.used_fraction, wish.need_fraction)
        told = (self.at.astimezone(UTC).isoformat(), wish.family, wish.name, wish.pilot,
                *(None if figure is None else float(figure) for figure in figures))  # fmt: skip
        return sha256(repr(told).encode()).hexdigest()[:12]


def family_from(text: str) -> str:
    """ "4S LiPo", "lipo 4s" or "lipo-4S" as the session file names it; other text comes back as it is."""
    words = re.split(r"[\s-]+", text.strip())
    by_label = {label.lower(): name for name, label in FAMILY_LABELS.items()} | {name: name for name in FAMILY_LABELS}
    joined = text.strip().lower()
    chemistry = next((name for label, name in by_label.items() if label in joined), None)
    cells = next((word for word in words if re.fullmatch(r"\d{1,2}[sS]", word)), None)
    return f"{chemistry}-{int(cells[:-1])}S" if chemistry and cells else text.strip()


def moment_from(text: str, day: date, local: Local) -> datetime | None:
    """ "14:05" on the day given, or a date and a time; None for anything else."""
    text = text.strip().replace("T", " ")
    whole = re.fullmatch(r"(?:(\d{4}-\d\d-\d\d) +)?(\d{1,2})[:.](\d\d)", text)
    if whole is None:
        return None
    try:
        on = date.fromisoformat(whole[1]) if whole[1] else day
        moment = local(datetime.combine(on, time(int(whole[2]), int(whole[3]))))
    except ValueError:
        return None
    return moment if is_of_our_time(moment) and moment.date() - day <= AHEAD else None


def heat_from(texts: Mapping[str, str], day: date, local: Local) -> Heat:
    """A heat from texts by column. Raises BadInput with every fault, each at its column."""
    at = moment_from(texts.get("time", ""), day, local)
    document: dict[str, Any] = {"at_min": 0.0}
    for column, name in _FIELDS.items():
        text = texts.get(column, "").strip()
        if column == "class":
            document[name] = family_from(text)
        elif text:
            document[name] = text if column in _TEXTS else _percent(text) if column in _PERCENT else _number(text)
            if column == "final":
                document[name] = text.lower() in ("yes", "final", "x", "true", "1")
    faults = (
        []
        if at
        else [
            Fault(
                "time",
                say("must be a time like 14:05, at most a year ahead, got {texts}", texts=repr(texts.get("time", ""))),
            )
        ]
    )
    columns = {name: column for column, name in _FIELDS.items()}
    item, wrong = checked(document, "wanted")
    wrong += [] if wrong else wish_sense(document)
    faults += [Fault(columns.get(fault.place, fault.place), fault.mend) for fault in wrong]
    if faults or at is None:
        raise BadInput(faults)
    return Heat(at, OF_PART["wanted"](item))


def _number(text: str) -> float | int | str:
    value = figure_of(text, "min")
    if value is None:
        return text
    return int(value) if value.is_integer() else value


def _percent(text: str) -> float | int | str:
    """ "70", "70 %" or "0.7" as a part of a whole; other text comes back as it is."""
    value = _number(text.replace("%", "").strip())
    return value / 100 if isinstance(value, (int, float)) and value > 1 else value


def parse_table(text: str, day: date, local: Local) -> list[Heat]:
    """Heats from pasted lines, columns set apart by tabs, semicolons or commas. Raises BadInput with every fault."""
    lines = [(number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip()]
    mark = next((sign for sign in ("\t", ";", ",") if sign in text), "\t")
    columns: Sequence[str] = COLUMNS
    heats, faults = [], []
    for place, (number, line) in enumerate(lines):
        cells = [cell.strip().strip('"') for cell in line.split(mark)]
        named = [_OTHER_NAMES.get(cell.lower(), cell.lower()) for cell in cells]
        if place == 0 and "time" in named:
            columns = named
            continue
        try:
            heats.append(heat_from(dict(zip(columns, cells, strict=False)), day, local))
        except BadInput as bad:
            faults += [
                Fault(say("line {number}, {place}", number=number, place=fault.place), fault.mend)
                for fault in bad.faults
            ]
    if not heats and not faults:
        faults = [Fault("", say("Paste one line a heat: {columns:list}.", columns=COLUMNS))]
    if faults:
        raise BadInput(faults)
    return heats


# ---------------------------------------------------------------------------------------- iCalendar


def calendar_text(heats: Sequence[Heat], stamp: datetime) -> bytes:
    """The heats as an iCalendar file. What a calendar has no field for stands in each event's description too."""
    calendar = Calendar()
    calendar.add("prodid", "-//Iterum//Heats//EN")
    calendar.add("version", "2.0")
    for number, heat in enumerate(heats):
        wish, event = heat.wish, Event()
        event.add("uid", f"{number}-{heat.at:%Y%m%dT%H%M%S}@iterum")
        event.add("dtstamp", stamp)
        event.add("dtstart", heat.at)
        event.add("dtend", heat.at + timedelta(minutes=wish.fly_min or 0))
        event.add("summary", wish.name or f"{wish.count} × {family_label(wish.family)}")
        event.add("description", f"{wish.count} × {family_label(wish.family)}")
        kept = {name: value for name, value in wish_document(wish).items() if name not in ("at_min", "name")}
        event.add(_KEPT, " ".join(f"{name}={quote(str(value))}" for name, value in kept.items()))
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def parse_calendar(raw: bytes, usual: Wish, day: date, local: Local) -> list[Heat]:
    """Heats from an iCalendar file. `usual` says class and packs of events that do not say them themselves.

    Raises BadInput for text that is no calendar and for events without a time of day.
    """
    if len(raw) > MAX_CALENDAR_BYTES:
        raise BadInput([Fault("", say("is larger than 1 MB; export only the days you need"))])
    try:
        calendar = Calendar.from_ical(raw)
    except (ValueError, IndexError, KeyError) as error:
        raise BadInput([Fault("", say("is no iCalendar file: {error}", error=error))]) from error
    heats, faults = [], []
    for number, event in enumerate(calendar.walk("VEVENT"), 1):
        read = _heat_of(event, usual, day, local)
        if isinstance(read, Heat):
            heats.append(read)
        else:
            faults += [Fault(say("event {number} {place}", number=number, place=read.place).strip(), read.mend)]
    if not heats and not faults:
        faults = [Fault("", say("holds no event"))]
    if faults:
        raise BadInput(faults)
    return sorted(heats, key=lambda heat: heat.at)


def _moment_of(event: Any, name: str) -> Any:
    """What an event says of its beginning or end; None where it says nothing that can be read."""
    try:
        return getattr(event.get(name), "dt", None)
    except (ValueError, TypeError, AttributeError, OverflowError):
        return None


def _heat_of(event: Any, usual: Wish, day: date, local: Local) -> Heat | Fault:
    start = _moment_of(event, "dtstart")
    if not isinstance(start, datetime):
        return Fault("dtstart", say("has no time of day, or none that can be read"))
    if not is_of_our_time(start) or start.date() - day > AHEAD:
        return Fault("dtstart", say("lies in the year {year}: a heat is at most a year ahead", year=start.year))
    at = start if start.tzinfo else local(start)
    end = _moment_of(event, "dtend")
    length_min = 0.0
    if isinstance(end, datetime):
        until = end if end.tzinfo else local(end)
        length_min = (until - at) / timedelta(minutes=1)
    document: dict[str, Any] = {"at_min": 0.0, "count": usual.count, "class": usual.family}
    summary = str(event.get("summary") or "").strip()
    if summary:
        document["name"] = summary[:80]
    if length_min > 0:
        document["fly_min"] = length_min
    told = re.search(r"(\d+) × (\d+S [\w-]+)", str(event.get("description") or ""))
    if told:
        document |= {"count": int(told[1]), "class": family_from(told[2])}
    for pair in str(event.get(_KEPT) or "").split():
        name, _, value = pair.partition("=")
        value = unquote(value)
        document[name] = value if name in ("class", "pilot") else value == "True" if name == "final" else _number(value)
    item, faults = checked(document, "wanted")
    return faults[0] if faults else Heat(at, OF_PART["wanted"](item))
