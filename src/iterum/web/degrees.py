"""Degrees as the person reads them: kept in Celsius, shown and typed in Fahrenheit where that is chosen."""

from flask import Flask, request

from iterum.core.reading.numbers import figure_of
from iterum.wording.figures import IN_FAHRENHEIT


def fahrenheit() -> bool:
    """Whether this browser's person reads Fahrenheit."""
    return request.cookies.get("iterum_degrees") == "F"


def typed_c(text: str) -> float | None:
    """Degrees Celsius of what was typed: by its own unit, else by the one that the person reads. None for no figure."""
    said = text.strip().upper().replace("°", "").rstrip()
    own = said[-1:] if said[-1:] in ("C", "F") else ""
    value = figure_of(said.removesuffix(own)) if own else figure_of(said)
    if value is None:
        return None
    return round((value - 32) / 1.8, 2) if (own or ("F" if fahrenheit() else "C")) == "F" else value


def own_degrees(celsius: float) -> str:
    """A figure in degrees as the person reads them, without its unit.

    celsius : degrees Celsius.
    """
    return f"{celsius * 1.8 + 32:.0f}" if fahrenheit() else f"{celsius:g}"


def own_words(app: Flask) -> None:
    """Have every figure of a request written in the degrees that its person has chosen."""

    @app.before_request
    def choose() -> None:
        IN_FAHRENHEIT.set(fahrenheit())
