"""What Put away shows: the ladder whose one rung is the storage line, a column a batch, and the channels as lanes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import accumulate

from iterum.core.permit.permit import Way
from iterum.core.season.storage import PutAway, StorageBatch
from iterum.web.pictures.scale import Scale
from iterum.web.words import few_tags, letter

HEIGHT, TOP, BOTTOM = 232, 24, 210
RUNG, STEP, SIDE, LEAST = 24, 28, 10, 150
ROW = 964
"""How wide the columns are together that are shown at once; those that come later are folded."""
LANE, LANES_WIDTH = 26, 760
SOON_MIN = 1.0
"""What starts within this much starts now."""


@dataclass(frozen=True)
class Rung:
    """One pack: where it stands, and the arrow to its place on the line. below : whether its tag stands below it."""

    tag: str
    x: float
    y: float
    line_y: float
    arrow: str
    below: bool


@dataclass(frozen=True)
class Column:
    """One batch: its rungs, its words, and whether it can begin now or waits for another."""

    letter: str
    item: StorageBatch
    title: str
    width: int
    line_y: float
    line_v: float
    band: tuple[float, float]
    rungs: tuple[Rung, ...]
    apart_v: float
    after: str | None
    from_at: datetime
    until: datetime


@dataclass(frozen=True)
class Lane:
    """One channel with its batches as (x, width, letter, until, tint)."""

    name: str
    y: int
    bars: tuple[tuple[float, float, str, str, str], ...]


@dataclass(frozen=True)
class Ladder:
    """The picture. first : what can be begun now. at_once : how many columns stand in the first row. ticks : (y, words)
    of the axis. hours : (x, words) over the lanes."""

    height: int
    first: Column | None
    columns: tuple[Column, ...]
    at_once: int
    ticks: tuple[tuple[float, str], ...]
    lanes: tuple[Lane, ...]
    hours: tuple[tuple[float, str], ...]
    lanes_height: int


def ladder(plan: PutAway, names: Mapping[str, str], there_v: float, now: datetime) -> Ladder | None:
    """The whole picture; None where nothing moves. there_v : V within which a pack is on the line."""
    batches = sorted(plan.batches, key=lambda item: (item.batch.start_min, item.batch.channel))
    if not batches:
        return None
    volts = [v for item in batches for v in (item.target_v, *(gap.pack.cell_v or 0.0 for gap in item.gaps))]
    scale = Scale(min(volts) - 0.03, max(volts) + 0.03, BOTTOM, TOP)
    step = scale.step_for(24)
    ticks = tuple((scale(value), f"{value:.2f}") for value in scale.ticks(step))
    columns = tuple(_column(number, item, batches, scale, there_v, now) for number, item in enumerate(batches))
    lanes, hours = _lanes(columns, names, now, plan.done_min)
    first = next((column for column in columns if column.after is None), None)
    at_once = sum(together <= ROW for together in accumulate(column.width for column in columns))
    return Ladder(HEIGHT, first, columns, max(at_once, 1), ticks, lanes, hours, 24 + LANE * len(lanes))


def _column(
    number: int, item: StorageBatch, batches: Sequence[StorageBatch], scale: Scale, there_v: float, now: datetime
) -> Column:
    gaps = sorted(item.gaps, key=lambda gap: gap.pack.cell_v or 0.0)
    width = max(LEAST, STEP * len(gaps) + 2 * SIDE)
    line = scale(item.target_v)
    rungs = []
    for place, gap in enumerate(gaps):
        x, y = SIDE + STEP * (place + 0.5), scale(gap.pack.cell_v or 0.0)
        toward = 7 if y > line else -7
        arrow = f"M{x} {y - toward}V{line + toward}m-4 {toward * 0.6:.1f}L{x} {line + toward}l4 {toward * 0.6:.1f}"
        rungs.append(Rung(gap.pack.id, x, y, line, arrow, y > line))
    volts = [gap.pack.cell_v or 0.0 for gap in gaps]
    batch = item.batch
    before = [
        (other.batch.start_min, letter(index))
        for index, other in enumerate(batches)
        if other.batch.start_min < batch.start_min
        and (other.batch.channel == batch.channel or (batch.board and other.batch.board == batch.board))
    ]
    after = max(before)[1] if before and batch.start_min >= SOON_MIN else None
    band = (scale(item.target_v + there_v), scale(item.target_v - there_v))
    return Column(letter(number), item, few_tags([gap.pack.id for gap in gaps]), width, line, item.target_v, band,
                  tuple(rungs), max(volts) - min(volts), after, now + timedelta(minutes=batch.start_min),
                  now + timedelta(minutes=batch.full_min))  # fmt: skip


def _lanes(
    columns: Sequence[Column], names: Mapping[str, str], now: datetime, done_min: float
) -> tuple[tuple[Lane, ...], tuple[tuple[float, str], ...]]:
    scale = Scale(0.0, max(done_min, 1.0), 0.0, LANES_WIDTH)
    channels = list(dict.fromkeys(column.item.batch.channel for column in columns))
    lanes = []
    for row, channel in enumerate(channels):
        bars = []
        for column in columns:
            batch = column.item.batch
            if batch.channel == channel:
                x = scale(batch.start_min)
                wide = max(scale(batch.full_min) - x, 20.0)
                tint = "pinetint" if column.item.way is Way.UP else "brasstint"
                bars.append((x, wide, column.letter, column.until.astimezone().strftime("%H:%M"), tint))
        lanes.append(Lane(names.get(channel, channel), 22 + LANE * row, tuple(bars)))
    hours = []
    every = next((minutes for minutes in (30, 60, 120, 240) if done_min / minutes <= 8), 480)
    first = now.astimezone().replace(minute=0, second=0, microsecond=0)
    for index in range(1, 200):
        moment = first + timedelta(minutes=index * every)
        minute = (moment - now) / timedelta(minutes=1)
        if minute > done_min:
            break
        if minute > 0:
            hours.append((scale(minute), moment.strftime("%H:%M")))
    return tuple(lanes), tuple(hours)
