"""The day strip: heats, channels with their batches, you at the bench, watts drawn, watt-hours left, over time."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.plan import SourceUse, WishOutcome
from iterum.core.planning.record import PlanRecord
from iterum.core.planning.schedule import visits_of
from iterum.core.say import say
from iterum.web.pictures.scale import Scale
from iterum.wording import family_label, plain

LABELS = 132.0
"""Width of the column of names beside the chart."""
MARGIN, HEAD, ROW_GAP, LANE = 8.0, 30.0, 6.0, 43.0
POWER_ROW, BANK_ROW, BENCH_ROW, HEAT_ROW = 62.0, 34.0, 40.0, 42.0
STRIPES = ("pinetint", "brasstint", "lilac", "stone")
LEAST_PX_A_MIN = 2.0
"""A long day is panned, never pressed until its text cannot be read."""
NARROW_MIN = 180.0
"""What a phone shows at a time."""


@dataclass(frozen=True)
class Shape:
    """How a strip is laid out: width of the chart, room for a name above each row instead of beside it."""

    width: float
    above: float = 0.0


WIDE, NARROW = Shape(908.0), Shape(350.0, 20.0)


@dataclass(frozen=True)
class Bar:
    """One batch on its lane: set up until `lead_x`, full from `full_x` on. `texts` are what fits."""

    number: int
    x: float
    lead_x: float
    full_x: float
    width: float
    y: float
    fill: str
    texts: tuple[str, ...]
    end_text: str
    label: str
    locked: bool


@dataclass(frozen=True)
class Lane:
    """One row: what it is, and a line below its name."""

    name: str
    below: str
    y: float
    channel: str = ""


MOST_MIN = 48 * 60.0
"""A strip shows two days at most; what is later stands in the lists."""


@dataclass(frozen=True)
class HeatMark:
    """One heat, or a moment by which packs are wanted (width 0)."""

    x: float
    width: float
    text: str
    text_x: float
    met: bool


@dataclass(frozen=True)
class Visit:
    """Set-ups that follow within minutes are one visit to the bench."""

    x: float
    width: float
    start_min: float
    end_min: float
    numbers: tuple[int, ...]


@dataclass(frozen=True)
class DayStrip:
    """All marks of one strip, in pixels. px_a_min : how far one minute reaches, for moving bars by hand."""

    shape: Shape
    width: float
    height: float
    px_a_min: float
    hours: tuple[tuple[float, str], ...]
    heat_row: Lane | None
    heats: tuple[HeatMark, ...]
    away: tuple[tuple[float, float], ...]
    now_x: float | None
    lanes: tuple[Lane, ...]
    bars: tuple[Bar, ...]
    bench_row: Lane
    visits: tuple[Visit, ...]
    power_row: Lane
    power: str
    power_limit_y: float | None
    power_limit_text: str
    peak: tuple[float, float, str] | None
    bank_row: Lane | None
    bank: str
    bank_text: str
    label: str

    @property
    def panned(self) -> bool:
        """Whether the day is wider than the page."""
        return self.width > self.shape.width


def visits(batches: Sequence[PlannedBatch]) -> list[tuple[float, float, list[int]]]:
    """(start, end, numbers of batches) of each visit, numbers from 0 in the order of the plan."""
    ahead = [number for number, batch in enumerate(batches) if batch.lead_min > 0 or batch.start_min >= 0]
    setups = [(batches[number].start_min, batches[number].lead_min) for number in ahead]
    return [
        (max(min(setups[at][0] for at in visit), 0.0), max(setups[at][1] for at in visit), [ahead[at] for at in visit])
        for visit in visits_of(setups)
    ]


def _steps(batches: Sequence[PlannedBatch], source: str | None) -> list[tuple[float, float]]:
    """(minute, W at the source from then on)."""
    changes: dict[float, float] = {}
    for batch in batches:
        if batch.source == source:
            lead_min = max(batch.lead_min, 0.0)
            changes[lead_min] = changes.get(lead_min, 0.0) + batch.power_in_w
            changes[batch.end_min] = changes.get(batch.end_min, 0.0) - batch.power_in_w
    steps, watts = [(0.0, 0.0)], 0.0
    for minute in sorted(changes):
        watts += changes[minute]
        steps.append((minute, max(watts, 0.0)))
    return steps


def _bar_texts(batch: PlannedBatch, width: float) -> tuple[str, ...]:
    count = len(batch.packs)
    head = f"{count} × {family_label(batch.family)}" if count > 1 else batch.packs[0]
    if width < 44:
        return (str(count) if count > 1 else "1",)
    if width < 72:
        return (head if len(head) < 8 else f"{count} ×",)
    if width < 112 and count > 1:
        head = f"{count} × {family_label(batch.family).split()[0]}"
    amps = f"{plain(batch.current_a)} A"
    return (head, amps if width < 120 else f"{amps} · {plain(round(batch.rate_c, 2))}C")


@dataclass(frozen=True)
class Named:
    """Names and limits that the document leaves to the kit."""

    names: Mapping[str, str]
    power_limits: Mapping[str, float]
    usable: Mapping[str, float]


def draw(plan: PlanRecord, made_at: datetime, kit: Named, now_min: float = 0.0, shape: Shape = WIDE) -> DayStrip | None:
    """The strip of a plan; a narrow one shows the next three hours. None without batches."""
    batches, wanted = plan.batches, plan.wanted
    if not batches:
        return None
    ends = [plan.makespan_min, *(wish.wish.at_min + (wish.wish.fly_min or 0.0) for wish in wanted)]
    first_min, last_min = 0.0, min(max(ends) + 8, MOST_MIN)
    width = shape.width
    if shape is NARROW:
        first_min = min(max(now_min - 5, 0.0), max(last_min - NARROW_MIN, 0.0))
        last_min = min(first_min + NARROW_MIN, last_min)
    else:
        width = max(width, round((last_min - first_min) * LEAST_PX_A_MIN + 2 * MARGIN, 1))
    along = Scale(first_min, last_min, MARGIN, width - MARGIN)
    rows = _Rows(shape)
    heats = [item.wish for item in wanted if item.wish.fly_min]
    heat_row = (
        rows.add(HEAT_ROW, say("Heats") if any(item.wish.fly_min for item in wanted) else say("Wanted"))
        if wanted
        else None
    )
    channels = list(dict.fromkeys(batch.channel for batch in sorted(batches, key=lambda b: b.channel)))
    lanes = []
    for channel in channels:
        most = max(batch.current_a for batch in batches if batch.channel == channel)
        lanes.append(rows.add(LANE, kit.names.get(channel, channel), say("to {most:plain} A", most=most), channel))
    bench_row = rows.add(BENCH_ROW, say("You at bench"))
    used = {use.id: use for use in plan.sources}
    busiest = max(used, key=lambda tag: used[tag].peak_w, default=None)
    power_row = rows.add(POWER_ROW, say("Power drawn"), kit.names.get(busiest or "", busiest or "mains"))
    bank, bank_text = _bank(batches, used, kit, along, rows.y + shape.above, last_min)
    bank_row = rows.add(BANK_ROW, say("Bank left")) if bank else None
    seen = [visit for visit in visits(batches) if visit[1] > first_min and visit[0] < last_min]
    drawn_visits = tuple(
        Visit(along(max(start, first_min)), round(max(along(end) - along(max(start, first_min)), 10.0), 1), start, end,
              tuple(numbers))
        for start, end, numbers in seen
    )  # fmt: skip
    families = list(dict.fromkeys(batch.family for batch in batches))
    return DayStrip(
        shape=shape,
        width=width,
        height=rows.y,
        px_a_min=round((width - 2 * MARGIN) / (last_min - first_min), 4),
        hours=_hours(made_at, first_min, last_min, along, 60 if shape is NARROW else 30),
        heat_row=heat_row,
        heats=_heats(wanted, along, first_min, last_min),
        away=tuple(
            (
                along(max(heat.at_min, first_min)),
                round(along(min(heat.over_min, last_min)) - along(max(heat.at_min, first_min)), 1),
            )
            for heat in heats
            if heat.at_min < last_min and heat.over_min > first_min
        ),
        now_x=along(now_min) if 0 < now_min <= last_min else None,
        lanes=tuple(lanes),
        bars=tuple(
            _bar(
                number,
                batch,
                along,
                (first_min, last_min),
                lanes[channels.index(batch.channel)].y,
                STRIPES[families.index(batch.family) % len(STRIPES)],
                made_at,
            )
            for number, batch in enumerate(batches)
            if batch.end_min > first_min and batch.start_min < last_min
        ),
        bench_row=bench_row,
        visits=drawn_visits,
        power_row=power_row,
        bank_row=bank_row,
        bank=bank,
        bank_text=bank_text,
        label=say(
            "Day strip: {batches} batches on {channels} channels in {visits} visits, all done after "
            "{makespan_min:.0f} minutes. The list below says the same.",
            batches=len(batches),
            channels=len(channels),
            visits=plan.visits,
            makespan_min=plan.makespan_min,
        ),
        **_power(batches, busiest, kit.power_limits, along, (first_min, last_min), power_row.y),
    )


class _Rows:
    """Rows from the top down."""

    def __init__(self, shape: Shape) -> None:
        self.shape, self.y = shape, HEAD

    def add(self, height: float, name: str, below: str = "", channel: str = "") -> Lane:
        """The next row; its name stands beside it, or above where there is no room beside."""
        row = Lane(name, below, self.y + self.shape.above, channel)
        self.y += height + ROW_GAP + self.shape.above
        return row


def _bar(
    number: int,
    batch: PlannedBatch,
    along: Scale,
    shown: tuple[float, float],
    y: float,
    fill: str,
    made_at: datetime,
) -> Bar:
    x, end_x = along(max(batch.start_min, shown[0])), along(min(batch.end_min, shown[1]))
    ends, begins, full = (
        (made_at + timedelta(minutes=getattr(batch, key))).astimezone().strftime("%H:%M")
        for key in ("end_min", "start_min", "full_min")
    )
    lead_x, full_x = (along(min(max(moment, shown[0]), shown[1])) for moment in (batch.lead_min, batch.full_min))
    width = round(end_x - x, 1)
    texts = _bar_texts(batch, end_x - lead_x)
    label = say(
        "{packs:list}, {current_a:plain} A, {begins} to {ends}, full at {full}",
        packs=batch.packs,
        current_a=batch.current_a,
        begins=begins,
        ends=ends,
        full=full,
    )
    return Bar(number, x, lead_x, full_x, width, y, fill, texts, ends if width >= 150 else "", label, batch.locked)


def _heats(wanted: Sequence[WishOutcome], along: Scale, first_min: float, last_min: float) -> tuple[HeatMark, ...]:
    """Heats as blocks, each with as much of its text below it as the next one leaves room for."""
    marks: list[HeatMark] = []
    shown = sorted((wish for wish in wanted if first_min <= wish.wish.at_min <= last_min), key=lambda w: w.wish.at_min)
    for at, wish in enumerate(shown):
        x = along(wish.wish.at_min)
        width = round(along(min(wish.wish.at_min + (wish.wish.fly_min or 0.0), last_min)) - x, 1)
        next_x = along(shown[at + 1].wish.at_min) if at + 1 < len(shown) else along(last_min) + MARGIN
        text_x = max(x - 4, MARGIN)
        short = (
            ""
            if wish.met
            else say(", short {count}", count=wish.wish.count - wish.have)
            if wish.have < wish.wish.count
            else ""
        )
        name = wish.wish.name or family_label(wish.wish.family)
        texts = (f"{name}: {wish.wish.count}{short}", f"{name}{short}", f"{wish.wish.count}{short}", "")
        room = (next_x - text_x - 4) / 7.4
        marks.append(
            HeatMark(x, width, next(text for text in texts if len(text) <= room or not text), text_x, wish.met)
        )
    return tuple(marks)


def _hours(
    made_at: datetime, first_min: float, last_min: float, along: Scale, every: int
) -> tuple[tuple[float, str], ...]:
    """Full and half hours of the clock; only full ones on a long day."""
    every = max(every, 60) if last_min - first_min >= 300 else every
    local = made_at.astimezone()
    minute = -(local.minute + local.second / 60) % every
    hours = []
    while minute <= last_min:
        if minute >= first_min:
            hours.append((along(minute), (local + timedelta(minutes=minute)).strftime("%H:%M")))
        minute += every
    return tuple(hours)


def _power(
    batches: Sequence[PlannedBatch],
    source: str | None,
    limits: Mapping[str, float],
    along: Scale,
    shown: tuple[float, float],
    top: float,
) -> dict[str, Any]:
    """Watts drawn from the source that gives most, against its limit."""
    steps = [(min(max(minute, shown[0]), shown[1]), watts) for minute, watts in _steps(batches, source)]
    peak = max(watts for _, watts in steps)
    limit_w = limits.get(source or "", 0.0)
    # A limit far above what is drawn would press the area flat, so it is told in words instead.
    drawn = limit_w if 0 < limit_w <= 2.5 * peak else 0.0
    up = Scale(0, max(peak, drawn, 1.0) * 1.12, top + POWER_ROW, top)
    path = f"M{along(shown[0])} {up(0)}"
    for minute, watts in steps:
        path += f"H{along(minute)}V{up(watts)}"
    at = next(minute for minute, watts in steps if watts == peak)
    return {
        "power": f"{path}H{along(shown[1])}V{up(0)}Z",
        "power_limit_y": up(drawn) if drawn else None,
        "power_limit_text": say("limit {limit_w:.0f} W", limit_w=limit_w) if limit_w else "",
        "peak": (along(at), up(peak), f"{peak:.0f} W") if shown[0] < at < shown[1] or at == 0 else None,
    }


def _bank(
    batches: Sequence[PlannedBatch],
    used: Mapping[str, SourceUse],
    kit: Named,
    along: Scale,
    top: float,
    last_min: float,
) -> tuple[str, str]:
    """Watt-hours left in the source with an end that gives most, as a ribbon."""
    finite = [tag for tag in used if tag in kit.usable]
    source = max(finite, key=lambda tag: used[tag].used_wh, default=None)
    if source is None or used[source].used_wh <= 0:
        return "", ""
    whole_wh = kit.usable[source]
    half = Scale(0, whole_wh, 0, BANK_ROW / 2)
    middle = top + BANK_ROW / 2
    mine = [batch for batch in batches if batch.source == source]
    first_min = along.low
    moments = {first_min, last_min, *(moment for batch in mine for moment in (batch.lead_min, batch.end_min))}
    left = []
    for minute in sorted(moment for moment in moments if first_min <= moment <= last_min):
        gone_wh = sum(
            b.energy_in_wh * min(max((minute - b.lead_min) / (b.end_min - b.lead_min), 0.0), 1.0) for b in mine
        )
        left.append((along(minute), half(max(whole_wh - gone_wh, 0.0))))
    upper = "L".join(f"{x} {middle - h:.1f}" for x, h in left)
    lower = "L".join(f"{x} {middle + h:.1f}" for x, h in reversed(left))
    end_wh = whole_wh - used[source].used_wh
    return f"M{upper}L{lower}Z", say(
        "{names}, {end_wh:.0f} of {whole_wh:.0f} Wh left at the end",
        names=kit.names.get(source, source),
        end_wh=end_wh,
        whole_wh=whole_wh,
    )
