"""Figures and names as every sentence writes them."""

import math
from collections.abc import Mapping, Sequence
from contextvars import ContextVar
from typing import Any

from iterum.core.quantities import NOISE
from iterum.core.things.chemistry import CHEMISTRIES

Numbers = Mapping[str, Any]

FAMILY_LABELS = {chemistry.name: chemistry.label for chemistry in CHEMISTRIES.values()}


def family_label(family: str) -> str:
    """The class as a pilot says it: "lipo-4S" is "4S LiPo"."""
    chemistry, _, cells = family.rpartition("-")
    return f"{cells} {FAMILY_LABELS.get(chemistry, chemistry)}"


def one_of(items: Sequence[object], last: str = "or") -> str:
    """ "A, B or C" from a sequence."""
    words = [str(item) for item in items]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} {last} {words[-1]}"


IN_FAHRENHEIT: ContextVar[bool] = ContextVar("IN_FAHRENHEIT", default=False)
"""Whether the person who is being answered reads Fahrenheit."""


class Celsius(float):
    """A temperature, degrees Celsius, that a sentence writes with its unit: "{air_c:deg}", and a difference with ":apart"."""

    def __format__(self, spec: str) -> str:
        if spec == "deg":
            return degrees(self)
        return degrees_apart(self) if spec == "apart" else float.__format__(self, spec)


def degrees(celsius: float, digits: int = 0) -> str:
    """A temperature with its unit, as the person reads it."""
    value = celsius * 1.8 + 32 if IN_FAHRENHEIT.get() else celsius
    return f"{value:.{digits}f} {degree_unit()}"


def degrees_apart(kelvin: float) -> str:
    """A difference between temperatures, as the person reads it."""
    return f"{kelvin * 1.8 if IN_FAHRENHEIT.get() else kelvin:.0f} {degree_unit()}"


def degree_unit() -> str:
    """The unit of temperatures, as the person reads them."""
    return "°F" if IN_FAHRENHEIT.get() else "°C"


def plain(value: float) -> str:
    """A figure without needless zeros: 9.60 is "9.6", 300.0 is "300"."""
    text = f"{value:.2f}".rstrip("0").rstrip(".")
    return text or "0"


def minutes(value: float) -> str:
    """Minutes, whole, rounded up."""
    return f"{math.ceil(round(value, 6))} min"


def between(middle: float, low: float, high: float) -> str:
    """Minutes as a range in few words: "about 50 min, 40 to 75"; only the figure where the range is next to nothing."""
    least, most = math.floor(round(low, 6)), math.ceil(round(high, 6))
    return f"about {minutes(middle)}" + (f", {least} to {most}" if most - least > 2 else "")


def span(low: float, high: float, digits: int = 0) -> str:
    """A figure that is known as a range: "820 to 1450", one figure where both read alike."""
    ends = list(dict.fromkeys(f"{value:.{digits}f}" for value in (low, high)))
    return " to ".join(ends)


def apart(value: float, limit: float, digits: int = 2) -> tuple[str, str]:
    """A figure and its limit, with as many digits more as it takes to tell one from the other."""
    while digits < 6 and f"{value:.{digits}f}" == f"{limit:.{digits}f}" and abs(value - limit) > NOISE:
        digits += 1
    return f"{value:.{digits}f}", f"{limit:.{digits}f}"
