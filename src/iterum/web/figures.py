"""Figures out of a request: what is no number, or beyond what anything counts, is none."""

from math import isfinite

from iterum.core.reading.numbers import figure_of

MOST = 2**53
"""Beyond it neither a browser nor the database counts on."""


def whole(text: str) -> int:
    """A whole number as a person types one. Raises ValueError."""
    value = int(text) if text.isascii() else None
    if value is None or abs(value) > MOST:
        raise ValueError("no whole number")
    return value


def figure(text: str) -> float:
    """A number, a decimal comma allowed. Raises ValueError for what is none or has no end."""
    value = figure_of(text)
    if value is None or not isfinite(value) or abs(value) > MOST:
        raise ValueError("no number")
    return value
