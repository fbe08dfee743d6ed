"""Logs of other programs in: any CSV, its columns mapped by the pilot; every fault at its line and column."""

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Any, TypeVar

from iterum.core.fields import BadInput, Fault
from iterum.core.say import Words, say
from iterum.core.season.columns import OUT, READING_READERS, numbers
from iterum.core.season.columns import number as number_in
from iterum.core.season.figures import in_millivolts, not_true
from iterum.core.season.health import ChargeRecord
from iterum.core.season.moments import Local, is_of_our_time
from iterum.core.season.outlook import Observation
from iterum.wording import sentence

MAX_BYTES, MAX_ROWS = 4_000_000, 50_000
CHARGE_MEANINGS = {
    OUT: "leave out",
    "pack": "pack tag",
    "at": "date and time",
    "clock": Words("time of day, beside the date"),
    "charge_mah": Words("mAh in"),
    "minutes": "minutes",
    "rate_c": Words("rate, C"),
    "before_v": Words("cells before, V"),
    "after_v": Words("cells after, V"),
    "resistance_mohm": Words("resistance, mΩ"),
    "note": "note",
}
_Reader = Callable[[str, Local], Any]
_Made = TypeVar("_Made")
_MOMENTS = (
    "%Y-%m-%d %H:%M:%S",
    "%Y-%m-%d %H:%M",
    "%Y-%m-%d",
    "%d.%m.%Y %H:%M",
    "%d.%m.%Y",
    "%d/%m/%Y %H:%M",
    "%d/%m/%Y",
)


def read_table(raw: bytes) -> tuple[list[str], list[list[str]]]:
    """Headings and rows of a CSV with commas, semicolons or tabs. Raises BadInput."""
    if len(raw) > MAX_BYTES:
        raise BadInput([Fault("", say("is larger than 4 MB; import it in parts"))])
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadInput(
            [Fault(say("byte {start}", start=error.start), say("is not UTF-8 text; save it as UTF-8"))]
        ) from error
    first = text.split("\n", 1)[0]
    mark = max(",;\t", key=first.count)
    try:
        rows = [[cell.strip() for cell in row] for row in csv.reader(io.StringIO(text), delimiter=mark) if any(row)]
    except csv.Error as error:
        raise BadInput([Fault("", say("is no CSV: {error}", error=error))]) from error
    if len(rows) < 2:
        raise BadInput([Fault("", say("needs a line of headings and at least one more"))])
    if len(rows) > MAX_ROWS + 1:
        raise BadInput([Fault("", say("has more than {max_rows} rows; import it in parts", max_rows=MAX_ROWS))])
    headings = rows[0]
    if len(set(headings)) < len(headings):
        raise BadInput([Fault("line 1", say("has two columns with the same heading; rename one"))])
    return headings, rows[1:]


def charges_from(
    headings: Sequence[str], rows: Sequence[Sequence[str]], meaning: Mapping[str, str], local: Local, tags: set[str],
    millivolts: bool = False, the_rest: bool = False,
) -> list[tuple[str, ChargeRecord]]:  # fmt: skip
    """(pack, charge) for each row. Raises BadInput with every fault, nothing is taken then.

    millivolts : whether the pilot says that volts are written so. the_rest : whether rows with faults may be left out.
    """
    need = {"pack", "at"} - set(meaning.values())
    if need:
        raise BadInput(
            [
                Fault("", say("say which column is the {charge_meanings}", charge_meanings=CHARGE_MEANINGS[name]))
                for name in sorted(need)
            ]
        )
    made: list[tuple[str, ChargeRecord]] = []
    faults: list[Fault] = []
    headings, rows, meaning = _with_clock(headings, rows, meaning)
    for number, values in _in_volts(_values(headings, rows, meaning, CHARGE_READERS, local, faults), millivolts):
        wrong = []
        if values.get("pack") not in tags:
            wrong.append(
                Fault(
                    say("line {number}", number=number),
                    say("{values} is no pack here; add it first", values=repr(values.get("pack"))),
                )
            )
        elif values.get("at") is None:
            wrong.append(Fault(say("line {number}", number=number), say("has no date")))
        else:
            record = ChargeRecord(**{name: v for name, v in values.items() if name != "pack"})
            wrong += [Fault(say("line {number}", number=number), text) for text in untrue(record)]
            if not wrong:
                made.append((values["pack"], record))
        faults += wrong
    return _unless(faults, made, the_rest)


def _unless(faults: list[Fault], made: list[_Made], the_rest: bool) -> list[_Made]:
    """What was made of a table's rows. Raises BadInput for faults, unless the rest may be taken, if there is one."""
    if faults and not (the_rest and made):
        raise BadInput(faults)
    return made


def _with_clock(
    headings: Sequence[str], rows: Sequence[Sequence[str]], meaning: Mapping[str, str]
) -> tuple[Sequence[str], Sequence[Sequence[str]], Mapping[str, str]]:
    """The table with a time of day put behind its date, where they stand in two columns."""
    where = {name: at for at, heading in enumerate(headings) for name in [meaning.get(heading, "")]}
    if "clock" not in where:
        return headings, rows, meaning
    at, clock = where["at"], where["clock"]
    joined = []
    for row in rows:
        cells = [*row, *[""] * (len(headings) - len(row))]
        cells[at] = f"{cells[at]} {cells[clock]}".strip()
        joined.append(cells)
    return headings, joined, {heading: name for heading, name in meaning.items() if name != "clock"}


def untrue(record: ChargeRecord) -> list[str]:
    """What of a charge cannot be: each figure by itself, and its date."""
    reasons = [not_true(0, charge_mah=record.charge_mah, cell_v=cells, minutes=record.minutes)
             for cells in (record.before_v, record.after_v)]  # fmt: skip
    told = {sentence(item) for item in reasons if item is not None}
    if any(not 0 < value < MOST_MOHM for value in record.resistance_mohm):
        told.add(say("resistance must be over 0 and under 10000 mΩ"))
    if not is_of_our_time(record.at):
        told.add(say("the year {year} is none of ours", year=record.at.year))
    return sorted(told)


MOST_MOHM = 10_000.0
_VOLTS = ("before_v", "after_v", "cell_v", "pack_v")


def _in_volts(rows: list[tuple[int, dict[str, Any]]], millivolts: bool) -> list[tuple[int, dict[str, Any]]]:
    """The rows with volts in V. Raises BadInput where they look like millivolts and nobody said so."""
    told = [(number, name, values[name]) for number, values in rows for name in _VOLTS if values.get(name)]
    figures = [one for _, _, value in told for one in (value if isinstance(value, tuple) else (value,))]
    if not millivolts:
        if in_millivolts(figures):
            number, name, _ = told[0]
            told_mv = say("line {number}: {figures:g} looks like millivolts", number=number, figures=figures[0])
            mend = say("{told_mv}; say so below, or choose another meaning than {name}", told_mv=told_mv, name=name)
            raise BadInput([Fault("", mend)])
        return rows
    for _, values in rows:
        for name in _VOLTS:
            value = values.get(name)
            if value:
                values[name] = tuple(one / 1000 for one in value) if isinstance(value, tuple) else value / 1000
    return rows


def observations_from(
    headings: Sequence[str], rows: Sequence[Sequence[str]], meaning: Mapping[str, str], local: Local,
    millivolts: bool = False, the_rest: bool = False,
) -> list[Observation]:  # fmt: skip
    """A reading for each row. Raises BadInput with every fault, nothing is taken then.

    millivolts : whether the pilot says that volts are written so. the_rest : whether rows with faults may be left out.
    """
    if not {"at_min", "at_s"} & set(meaning.values()):
        raise BadInput([Fault("", say("say which column is the time since the start"))])
    made: list[Observation] = []
    faults: list[Fault] = []
    for number, values in _in_volts(_values(headings, rows, meaning, _READING_READERS, local, faults), millivolts):
        at_min = values.pop("at_min", None)
        at_s = values.pop("at_s", None)
        minute = at_min if at_min is not None else None if at_s is None else at_s / 60
        if minute is None or minute < 0:
            faults.append(Fault(say("line {number}", number=number), say("has no time since the start")))
            continue
        untrue = not_true(0, minutes=minute, **values)
        if untrue is not None:
            faults.append(Fault(say("line {number}", number=number), sentence(untrue)))
            continue
        made.append(Observation(minute, **values))
    return sorted(_unless(faults, made, the_rest), key=lambda item: item.at_min)


def _values(
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    meaning: Mapping[str, str],
    readers: Mapping[str, _Reader],
    local: Local,
    faults: list[Fault],
) -> list[tuple[int, dict[str, Any]]]:
    """(line, values by meaning) of the rows that could be read."""
    kept = []
    for number, row in enumerate(rows, 2):
        values: dict[str, Any] = {}
        bad = False
        for heading, text in zip(headings, row, strict=False):
            name = meaning.get(heading, "")
            if name in ("", OUT) or not text:
                continue
            try:
                values[name] = readers[name](text, local)
            except ValueError as error:
                faults.append(Fault(say("line {number}, {heading}", number=number, heading=heading), str(error)))
                bad = True
        if not bad:
            kept.append((number, values))
    return kept


UNITS = {"charge_mah": "mAh", "minutes": "min", "rate_c": "C", "before_v": "V", "after_v": "V", "resistance_mohm": "mΩ",
         "pack_v": "V", "cell_v": "V", "current_a": "A", "input_v": "V", "at_min": "min", "at_s": "s"}  # fmt: skip


def as_read(name: str, text: str, local: Local) -> str:
    """What a cell of a table is taken for, in words; empty for what is left out, and for words.

    name : what its column means. text : as it stands there.
    """
    reader = {**_READING_READERS, **CHARGE_READERS}.get(name)
    if reader is None or not text or name in ("pack", "note"):
        return ""
    try:
        value = reader(text, local)
    except ValueError as error:
        return str(error)
    if isinstance(value, datetime):
        return f"{value:%Y-%m-%d %H:%M}"
    figures = value if isinstance(value, tuple) else (value,)
    return " ".join(f"{one:g}" for one in figures) + f" {UNITS.get(name, '')}".rstrip()


def _alone(reader: Callable[[str], Any]) -> _Reader:
    """A reader that does not ask where it is."""
    return lambda text, _local: reader(text)


def _number(unit: str = "") -> _Reader:
    return lambda text, _local: number_in(text, unit)


def _numbers(unit: str) -> _Reader:
    return lambda text, _local: numbers(text, unit)


def _moment(text: str, local: Local) -> datetime:
    for form in ("", *_MOMENTS):
        try:
            moment = datetime.strptime(text, form) if form else datetime.fromisoformat(text)
            return moment if moment.tzinfo else local(moment)
        except ValueError:
            continue
    raise ValueError(say("{value} is no date and time such as 2026-06-13 09:40", value=repr(text)))


def _text(text: str, _local: Local) -> str:
    return text.removeprefix("'")  # a cell that was defused for a spreadsheet


CHARGE_READERS: dict[str, _Reader] = {
    "pack": _text, "at": _moment, "charge_mah": _number("mAh"), "minutes": _number("min"), "rate_c": _number("C"),
    "before_v": _numbers("V"), "after_v": _numbers("V"), "resistance_mohm": _numbers("mΩ"), "note": _text,
}  # fmt: skip
_READING_READERS: dict[str, _Reader] = {name: _alone(reader) for name, reader in READING_READERS.items()}
