"""What the Log shows above its entries: a year of charges, week by week."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from iterum.web.words import date

WEEKS = 52
STEP, TALL, WIDTH, FOOT = 20.0, 56.0, 1060, 84


@dataclass(frozen=True)
class Week:
    """One bar: where it stands, how tall, how many charges, and the days it spans."""

    x: float
    y: float
    height: float
    count: int
    since: str
    until: str


@dataclass(frozen=True)
class Season:
    """A year in bars. months : (x, name) of the weeks in which one begins. whole : charges of all weeks."""

    weeks: tuple[Week, ...]
    months: tuple[tuple[float, str], ...]
    whole: int
    most: int


def season(weeks: Sequence[tuple[datetime, int]]) -> Season | None:
    """The picture; None where nothing was logged in all that time."""
    most = max((count for _, count in weeks), default=0)
    if not most:
        return None
    bars, months, month = [], [], 0
    for number, (first, count) in enumerate(weeks):
        tall = round(TALL * count / most, 1)
        until = first + timedelta(days=6)
        x = 10 + STEP * number
        bars.append(Week(x, 60 - tall, tall, count, first.date().isoformat(), until.date().isoformat()))
        if until.month != month:
            month = until.month
            months.append((x, date(until, "MMM")))
    return Season(tuple(bars), tuple(months), sum(count for _, count in weeks), most)
