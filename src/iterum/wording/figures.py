"""Figures and names as every sentence writes them."""

import math
from contextvars import ContextVar
from datetime import datetime

from iterum.core.say import LANGUAGE, figure, one_of, say, write_as
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.limit_kinds import KINDS

FAMILY_LABELS = {chemistry.name: chemistry.label for chemistry in CHEMISTRIES.values()}


def family_label(family: str) -> str:
    """The class as a pilot says it: "lipo-4S" is "4S LiPo"."""
    chemistry, _, cells = family.rpartition("-")
    return f"{cells} {FAMILY_LABELS.get(chemistry, chemistry)}"


IN_FAHRENHEIT: ContextVar[bool] = ContextVar("IN_FAHRENHEIT", default=False)
"""Whether the person who is being answered reads Fahrenheit."""


def degrees(celsius: float, digits: int = 0) -> str:
    """A temperature with its unit, as the person reads it."""
    value = celsius * 1.8 + 32 if IN_FAHRENHEIT.get() else celsius
    return f"{figure(value, f'.{digits}f')} {degree_unit()}"


def degrees_apart(kelvin: float) -> str:
    """A difference between temperatures, as the person reads it."""
    return f"{kelvin * 1.8 if IN_FAHRENHEIT.get() else kelvin:.0f} {degree_unit()}"


def degree_unit() -> str:
    """The unit of temperatures, as the person reads them."""
    return "°F" if IN_FAHRENHEIT.get() else "°C"


def short_date(moment: datetime) -> str:
    """A day of the year, as "3 May"."""
    from babel.dates import format_skeleton  # noqa: PLC0415 (it costs a command more than its own work)

    return format_skeleton("MMMd", moment, locale=LANGUAGE.get().locale)


def between(middle: float, low: float, high: float) -> str:
    """Minutes as a range in few words: "about 50 min, 40 to 75"; only the figure where the range is next to nothing."""
    least, most = math.floor(round(low, 6)), math.ceil(round(high, 6))
    if most - least > 2:
        return say("about {middle_min:min}, {least} to {most}", middle_min=middle, least=least, most=most)
    return say("about {middle_min:min}", middle_min=middle)


def span(low: float, high: float, digits: int = 0) -> str:
    """A figure that is known as a range: "820 to 1450", one figure where both read alike."""
    least, most = (figure(value, f".{digits}f") for value in (low, high))
    return least if least == most else say("{low} to {high}", low=least, high=most)


write_as("deg", degrees)
write_as("apart", degrees_apart)
write_as("family", family_label)
write_as("limit", lambda name: say(KINDS[name].words))
write_as("cells", lambda counts: one_of([f"{count}S" for count in counts]))
write_as("classes", lambda families: one_of([family_label(family) for family in families], "and"))
write_as("day", short_date)
