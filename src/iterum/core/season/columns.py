"""What a column of a charge's log may mean, and how its text is read."""

import re
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any

from iterum.core.reading.numbers import figure_of
from iterum.core.say import Words, say

OUT = "out"
"""What a pilot says of a column that shall be left out; nothing is said of one as long as nobody knows it."""

READING_MEANINGS = {
    OUT: "leave out",
    "at_min": "minutes since the start",
    "at_s": "seconds since the start",
    "pack_v": "pack volts",
    "current_a": "amps",
    "charge_mah": Words("mAh in"),
    "cell_v": Words("cells, V"),
    "temperature_c": Words("temperature, °C"),
    "input_v": "input volts",
}


_KNOWN = {
    "pack": "pack packtag packid tag id battery label name",
    "at": "at date when day datetime dateandtime begun start started timestamp chargedat",
    "clock": "clock time timeofday hour",
    "charge_mah": "mah mahin charge charged chargein capacityin putin mahcharged chargemah mahputin",
    "minutes": "min mins minutes duration lasted",
    "rate_c": "c rate crate ratec",
    "before_v": "before beforev cellsbefore voltsbefore startv",
    "after_v": "after afterv cellsafter voltsafter endv",
    "resistance_mohm": "ir resistance internalresistance mohm resistancemohm milliohm mω",
    "note": "note notes remark remarks comment comments",
    "at_min": "min mins minute minutes atmin minutessincethestart elapsedmin",
    "at_s": "s sec secs second seconds ats time elapsed secondssincethestart",
    "pack_v": "v volts voltage packv packvolts u",
    "current_a": "a amps amp current currenta i",
    "cell_v": "cells cellv cellvolts cellsv",
    "temperature_c": "temperature temp temperaturec °c celsius",
    "input_v": "input inputv inputvolts supplyv vin",
}
"""How logs head their columns, written together and small; a word of several meanings goes to the first that is free.
Common practice, no source."""


def guessed(headings: Sequence[str], meanings: Mapping[str, str]) -> dict[str, str]:
    """What headings seem to mean, for the pilot to correct; empty for those that nobody can know. None means two.

    meanings : what a column may mean, the likelier first.
    """
    columns = dict.fromkeys(headings, "")
    for exact in (True, False):
        for heading in headings:
            free = [name for name in meanings if name != OUT and name not in columns.values()]
            words = {re.sub(r"[\W_]+", "", heading.lower())}
            if not exact:  # "Capacity (mAh)", "Time [min]": what stands beside a unit, and the unit
                words = {re.sub(r"[\W_]+", "", part) for part in re.split(r"[(\[,/]", heading.lower())}
            if columns[heading] == "":
                columns[heading] = next((name for name in free if words & {name, *_KNOWN[name].split()}), "")
    if "at" in meanings and "at" not in columns.values():  # a time alone holds the date too
        columns = {heading: "at" if name == "clock" else name for heading, name in columns.items()}
    return columns


def number(text: str, unit: str = "") -> float:
    """A figure, with or without its unit. Raises ValueError for anything else, and for what no charge can be.

    text : of a table. unit : of its column; it decides whether 1.650 is one and a half or a thousand.
    """
    value = figure_of(text, unit)
    if value is None:
        raise ValueError(say("{value} is no number", value=repr(text)))
    if not -1e6 < value < 1e6:
        raise ValueError(say("{value} is no figure of a charge", value=repr(text)))
    return value


def numbers(text: str, unit: str = "V") -> tuple[float, ...]:
    """Figures with blanks, semicolons, slashes or bars between them. Raises ValueError.

    text : of a table. unit : of its column.
    """
    return tuple(number(word, unit) for word in re.split(r"[\s;/|]+", text.strip()))


READING_READERS: dict[str, Callable[[str], Any]] = {
    "at_min": number, "at_s": number, "pack_v": partial(number, unit="V"), "current_a": partial(number, unit="A"),
    "charge_mah": partial(number, unit="mAh"), "cell_v": numbers, "temperature_c": number,
    "input_v": partial(number, unit="V"),
}  # fmt: skip
