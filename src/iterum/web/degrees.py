"""Degrees as the person reads them: kept and worked out in Celsius, shown and typed in Fahrenheit where that is chosen.

Every page writes a temperature as "12 °C"; this turns all of them on the way out, so that none is forgotten.
"""

import re

from flask import Flask, Response, request

_WARMER = re.compile(r"(\d+(?:\.\d+)?)([ \u00a0\s]°)C (?=warmer)")
_FIGURE = re.compile(r"(?<![\w.])([-−]?\d+(?:\.\d+)?)([ \u00a0]°)C")


def fahrenheit() -> bool:
    """Whether this browser's person reads Fahrenheit."""
    return request.cookies.get("iterum_degrees") == "F"


def typed_c(value: float) -> float:
    """Degrees Celsius of what was typed.

    value : degrees as the person reads them.
    """
    return round((value - 32) / 1.8, 2) if fahrenheit() else value


def own_degrees(celsius: float) -> str:
    """A figure in degrees as the person reads them, without its unit.

    celsius : degrees Celsius.
    """
    return f"{celsius * 1.8 + 32:.0f}" if fahrenheit() else f"{celsius:g}"


def in_fahrenheit(text: str) -> str:
    """A page with every temperature of it in Fahrenheit, differences as differences."""
    text = _WARMER.sub(lambda hit: f"{float(hit[1]) * 1.8:.0f}{hit[2]}F ", text)
    text = _FIGURE.sub(lambda hit: f"{float(hit[1].replace('−', '-')) * 1.8 + 32:.0f}{hit[2]}F", text)
    return text.replace("°C", "°F").replace("degrees Celsius", "degrees Fahrenheit")


def own_words(app: Flask) -> None:
    """Turn the degrees of every page where the person has chosen so."""

    @app.after_request
    def turn(answer: Response) -> Response:
        if fahrenheit() and answer.mimetype == "text/html" and not answer.direct_passthrough:
            answer.set_data(in_fahrenheit(answer.get_data(as_text=True)))
        return answer
