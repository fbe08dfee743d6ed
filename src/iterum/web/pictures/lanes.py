"""What each channel of the bench does from now on: one lane beside each row, all on one scale of time."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from iterum.core.planning.batches import PlannedBatch
from iterum.core.say import say
from iterum.core.season.agenda import InHand
from iterum.core.things.session import Wish
from iterum.web.pictures.scale import Scale
from iterum.wording import family_label, plain

WIDTH, BEFORE_MIN = 520.0, 4.0
LEAST_MIN, MOST_MIN = 90.0, 300.0
"""A lane shows at least and at most so much; what is later stands in the plan."""
FILLS = ("pinetint", "brasstint", "lilac", "stone")


@dataclass(frozen=True)
class LaneBar:
    """One batch on a lane. planned : it has not begun. number : of the batch in the plan, None for one in hand."""

    x: float
    width: float
    full_x: float | None
    fill: str
    texts: tuple[str, ...]
    label: str
    planned: bool
    number: int | None = None


@dataclass(frozen=True)
class LaneHeat:
    """One heat: when its packs are away. met : whether the plan has its packs in time."""

    x: float
    width: float
    text: str
    text_x: float
    met: bool


@dataclass(frozen=True)
class Lanes:
    """All lanes of the bench, x in pixels. bars : by channel, or by board where a batch has no channel."""

    now_x: float
    hours: tuple[tuple[float, str], ...]
    heats: tuple[LaneHeat, ...]
    bars: Mapping[str, tuple[LaneBar, ...]]
    visits: tuple[float, ...]
    energy: str
    width: float = WIDTH


@dataclass(frozen=True)
class Day:
    """What is drawn. planned : batches that have not begun, with the number that each has in the plan, times in minutes
    from now. heats : with the packs that each will have and whether that is all. visits : min from now.
    """

    in_hand: Sequence[InHand]
    planned: Sequence[tuple[int, PlannedBatch]]
    heats: Sequence[tuple[datetime, Wish, int, bool]]
    visits: Iterable[float]
    left_wh: float
    whole_wh: float


def draw(day: Day, now: datetime, names: Mapping[str, str]) -> Lanes:
    """The lanes from now on."""

    def minute(moment: datetime) -> float:
        return (moment - now) / timedelta(minutes=1)

    ends = [batch.end_min for _, batch in day.planned]
    ends += [minute(item.ends_at) for item in day.in_hand if item.ends_at is not None]
    ends += [minute(at) + (wish.fly_min or 0.0) for at, wish, _, _ in day.heats]
    last_min = min(max([LEAST_MIN, *(end + 8 for end in ends)]), MOST_MIN)
    along = Scale(-BEFORE_MIN, last_min, 0, WIDTH)
    families = sorted({item.run.family for item in day.in_hand} | {batch.family for _, batch in day.planned})
    fills = {family: FILLS[at % len(FILLS)] for at, family in enumerate(families)}
    bars: dict[str, list[LaneBar]] = {}
    for item in day.in_hand:
        run = item.run
        if item.ends_at is None:
            continue
        width = round(max(along(min(minute(item.ends_at), last_min)) - along(0), 6.0), 1)
        texts = _texts(run.packs, run.family, f"{plain(run.current_a)} A", width)
        label = say(
            "{packs:list} on {names}, until {clock}",
            packs=run.packs,
            names=names.get(run.place, run.place),
            clock=_clock(item.ends_at),
        )
        bars.setdefault(run.place, []).append(LaneBar(along(0), width, None, fills[run.family], texts, label, False))
    for number, batch in day.planned:
        if batch.start_min >= last_min:
            continue
        x = along(max(batch.start_min, 0.0))
        width = round(max(along(min(batch.end_min, last_min)) - x, 6.0), 1)
        begins = now + timedelta(minutes=batch.start_min)
        label = say(
            "planned: {packs:list} at {current_a:plain} A from {clock}",
            packs=batch.packs,
            current_a=batch.current_a,
            clock=_clock(begins),
        )
        full_x = along(batch.full_min) if 0 < batch.full_min < min(batch.end_min - 1, last_min) else None
        room = (full_x or x + width) - x
        texts = _texts(batch.packs, batch.family, f"{plain(batch.current_a)} A · {_clock(begins)}", room)
        bars.setdefault(batch.channel, []).append(
            LaneBar(x, width, full_x, fills[batch.family], texts, label, True, number)
        )
    return Lanes(
        now_x=along(0),
        hours=_hours(now, last_min, along),
        heats=tuple(_heats([(minute(at), wish, have, met) for at, wish, have, met in day.heats], last_min, along)),
        bars={place: tuple(of) for place, of in bars.items()},
        visits=tuple(along(max(at, 0.0)) for at in sorted(set(day.visits)) if at < last_min),
        energy=_energy(day, last_min, along),
    )


def _clock(moment: datetime) -> str:
    return moment.astimezone().strftime("%H:%M")


def _texts(packs: Sequence[str], family: str, amps: str, width: float) -> tuple[str, ...]:
    """What fits into a bar: which packs, and how."""
    many = f"{len(packs)} × {family_label(family)}" if len(packs) > 1 else packs[0]
    short = f"{len(packs)} ×" if len(packs) > 1 else packs[0]
    room = (width - 10) / 7.4
    texts = [next((text for text in (many, short) if len(text) <= room), "")]
    if len(amps) <= room * 1.15:
        texts.append(amps)
    elif len(amps.split(" · ", maxsplit=1)[0]) <= room:
        texts.append(amps.split(" · ", maxsplit=1)[0])
    return tuple(texts)


def _hours(now: datetime, last_min: float, along: Scale) -> tuple[tuple[float, str], ...]:
    every = 60 if last_min > 200 else 30
    local = now.astimezone()
    minute = -(local.minute + local.second / 60) % every
    hours = []
    while minute < last_min:
        x = along(minute)
        if 16 <= x <= WIDTH - 18:
            hours.append((x, (local + timedelta(minutes=minute)).strftime("%H:%M")))
        minute += every
    return tuple(hours)


def _heats(
    heats: Sequence[tuple[float, Wish, int, bool]], last_min: float, along: Scale
) -> Iterable[LaneHeat]:  # fmt: skip
    free_x = 0.0
    for at_min, wish, have, met in sorted(heats, key=lambda heat: heat[0]):
        over_min = at_min + (wish.fly_min or 0.0)
        if over_min <= 0 or at_min >= last_min:
            continue
        x = along(max(at_min, 0.0))
        width = round(max(along(min(over_min, last_min)) - x, 4.0), 1)
        name = wish.name or family_label(wish.family)
        count = say("{have} of {count}", have=have, count=wish.count) if have < wish.count else f"{have}"
        texts = (f"{name}: {count}", name, count)
        middle = x + width / 2
        fits = [text for text in texts if middle - len(text) * 3.6 >= free_x]
        text = fits[0] if fits else ""
        half = len(text) * 3.6
        text_x = min(middle, WIDTH - half - 2)
        if text:
            free_x = text_x + half + 6
        yield LaneHeat(x, width, text, round(text_x, 1), met)


def _energy(day: Day, last_min: float, along: Scale) -> str:
    """Watt-hours left of all sources with an end, as a ribbon; empty without one."""
    if day.whole_wh <= 0:
        return ""
    half = Scale(0, day.whole_wh, 0, 11)
    drawn = [batch for _, batch in day.planned if batch.source is not None]
    moments = sorted({0.0, last_min, *(t for b in drawn for t in (b.lead_min, b.end_min) if 0 < t < last_min)})
    points = []
    for at in moments:
        gone_wh = sum(
            b.energy_in_wh * min(max((at - b.lead_min) / max(b.end_min - b.lead_min, 1e-6), 0.0), 1.0) for b in drawn
        )
        points.append((along(at), half(max(day.left_wh - gone_wh, 0.0))))
    upper = "L".join(f"{x} {20 - height:.1f}" for x, height in points)
    lower = "L".join(f"{x} {20 + height:.1f}" for x, height in reversed(points))
    return f"M{upper}L{lower}Z"
