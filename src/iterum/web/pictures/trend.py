"""A pack over time: capacity as a part of its label, and the resistance of its worst cell."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from iterum.core.say import say
from iterum.core.season.health import RETIRE_PART, ChargeRecord, capacity_told
from iterum.core.things.packs import Pack
from iterum.web.pictures.scale import Scale
from iterum.web.words import date

WIDTH, PHONE_WIDTH, LEFT, RIGHT, TOP, BOTTOM, HEIGHT = 745.0, 350.0, 58.0, 20.0, 24.0, 34.0, 220.0
OHMS_BELOW = 22.0
"""px under the line at which a pack is retired: where its ohms begin."""
MOST_DOTS = 300


@dataclass(frozen=True)
class Trend:
    """All marks, in pixels."""

    width: float
    right: float
    ticks: tuple[tuple[float, str], ...]
    days: tuple[tuple[float, str], ...]
    limit_y: float
    capacity: str
    dots: tuple[tuple[float, float], ...]
    squares: tuple[tuple[float, float, str], ...]
    label: str


def draw(pack: Pack, records: Sequence[ChargeRecord], width: float = WIDTH) -> Trend | None:
    """The trend of the records, in the order of time; None where none tells anything."""
    told = [(record.at, mah / pack.capacity_mah) for record in records if (mah := capacity_told(pack, record))]
    ohms = [(record.at, max(record.resistance_mohm)) for record in records if record.resistance_mohm]
    moments = [moment for moment, _ in (*told, *ohms)]
    if not moments:
        return None
    first, last = min(moments), max(moments)
    days = max((last - first) / timedelta(days=1), 1.0)
    right = width - RIGHT
    along = Scale(0.0, days, LEFT + 8, right - 8)
    low = min([0.7, *(part for _, part in told)]) - 0.05
    high = max([1.05, *(part for _, part in told)])
    up = Scale(low, high, HEIGHT - BOTTOM, TOP)
    most = max((value for _, value in ohms), default=1.0) * 1.3
    ohm_up = Scale(0.0, most, HEIGHT - BOTTOM, up(RETIRE_PART) + OHMS_BELOW)  # out of the way of a sound pack

    def at(moment: datetime) -> float:
        return along((moment - first) / timedelta(days=1))

    dots = tuple((at(moment), up(part)) for moment, part in told[:: len(told) // MOST_DOTS + 1])
    return Trend(
        width=width,
        right=right,
        ticks=tuple((up(value), f"{value * 100:.0f}") for value in up.ticks(0.1)),
        days=tuple((at(moment), date(moment, "yMMMd")) for moment in dict.fromkeys((first, last))),
        limit_y=up(RETIRE_PART),
        capacity="M" + "L".join(f"{x} {y}" for x, y in dots) if len(dots) > 1 else "",
        dots=dots[:: len(dots) // 60 + 1],
        squares=tuple((at(moment), ohm_up(value), f"{value:.1f} mΩ") for moment, value in ohms[:: len(ohms) // 40 + 1]),
        label=say("{pack} over time: {told} charges tell its capacity, ", pack=pack.id, told=len(told))
        + (say("the last {told:.0f} % of its label.", told=told[-1][1] * 100) if told else say("none so far.")),
    )
