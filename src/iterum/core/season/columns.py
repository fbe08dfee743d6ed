"""What a column of a charge's log may mean, and how its text is read."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

READING_MEANINGS = {
    "": "leave out",
    "at_min": "minutes since the start",
    "at_s": "seconds since the start",
    "pack_v": "pack volts",
    "current_a": "amps",
    "charge_mah": "mAh in",
    "cell_v": "cells, V",
    "temperature_c": "temperature, °C",
    "input_v": "input volts",
}


def guessed(headings: Sequence[str], meanings: Mapping[str, str]) -> dict[str, str]:
    """What headings seem to mean, for the pilot to correct: by the names of the fields, else nothing.

    meanings : what a column may mean.
    """
    found = {}
    for heading in headings:
        plain = heading.lower().replace(" ", "_")
        found[heading] = plain if plain in meanings else ""
    return found


def number(text: str) -> float:
    """A figure, a decimal comma allowed. Raises ValueError for anything else, and for what no charge can be.

    text : of a table.
    """
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        raise ValueError(f"{text!r} is no number") from None
    if not -1e6 < value < 1e6:
        raise ValueError(f"{text!r} is no figure of a charge")
    return value


def numbers(text: str) -> tuple[float, ...]:
    """Figures with blanks or semicolons between them. Raises ValueError.

    text : of a table.
    """
    return tuple(number(word) for word in text.replace(";", " ").split())


READING_READERS: dict[str, Callable[[str], Any]] = {
    "at_min": number, "at_s": number, "pack_v": number, "current_a": number, "charge_mah": number,
    "cell_v": numbers, "temperature_c": number, "input_v": number,
}  # fmt: skip
