"""Dates that a season can hold."""

from collections.abc import Callable
from datetime import UTC, date, datetime, time

FROM_YEAR, TO_YEAR = 2000, 2100


def is_of_our_time(moment: datetime) -> bool:
    """Whether a moment lies where packs, heats and logs can: others are slips, and break whatever counts with them."""
    return FROM_YEAR <= moment.year < TO_YEAR


Local = Callable[[datetime], datetime]
"""Gives a time as clocks show it (without a zone) the offset of its place."""


def local(shown: datetime) -> datetime:
    """A time as this machine's clocks show it, with the offset that its zone has on that very date.

    shown : without a zone. One in the hour that is skipped lies in an hour beside it; one in the hour that comes twice
    is the first.
    """
    return shown.astimezone() if is_of_our_time(shown) else shown.replace(tzinfo=UTC)


def begin_of(day: date) -> datetime:
    """The first moment of a day on this machine, which may last 23 or 25 hours.

    day : by the calendar.
    """
    return local(datetime.combine(day, time()))
