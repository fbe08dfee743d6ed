"""The day strip: wishes, channels with their batches, you at the bench, watts drawn, watt-hours left, over time."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from iterum.core.planning.schedule import visits_of
from iterum.web.pictures.scale import Scale
from iterum.wording import family_label, plain

WIDTH, LEFT, RIGHT = 1040.0, 132.0, 12.0
LANE, ROW_GAP, HEAD = 43.0, 6.0, 30.0
POWER_ROW, BANK_ROW, BENCH_ROW, WISH_ROW = 62.0, 34.0, 40.0, 34.0
STRIPES = ("pinetint", "brasstint", "lilac", "stone")


@dataclass(frozen=True)
class Bar:
    """One batch on its lane. `texts` are what fits."""

    number: int
    x: float
    lead_x: float
    width: float
    y: float
    fill: str
    texts: tuple[str, ...]
    end_text: str


@dataclass(frozen=True)
class Lane:
    """One channel."""

    name: str
    below: str
    y: float


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
    """All marks of one strip, in pixels."""

    height: float
    hours: tuple[tuple[float, str], ...]
    wishes: tuple[tuple[float, str, bool], ...]
    lanes: tuple[Lane, ...]
    bars: tuple[Bar, ...]
    visits: tuple[Visit, ...]
    bench_y: float
    power_y: float
    power: str
    power_limit_y: float | None
    power_text: str
    power_limit_text: str
    peak: tuple[float, float, str] | None
    bank_y: float
    bank: str
    bank_text: str
    label: str


def visits(batches: Sequence[Mapping[str, Any]]) -> list[tuple[float, float, list[int]]]:
    """(start, end, numbers of batches) of each visit, numbers from 0 in the order of the plan."""
    ahead = [number for number, batch in enumerate(batches) if batch["lead_min"] > 0 or batch["start_min"] >= 0]
    setups = [(batches[number]["start_min"], batches[number]["lead_min"]) for number in ahead]
    return [
        (max(min(setups[at][0] for at in found), 0.0), max(setups[at][1] for at in found), [ahead[at] for at in found])
        for found in visits_of(setups)
    ]


def _steps(batches: Sequence[Mapping[str, Any]], source: str | None) -> list[tuple[float, float]]:
    """(minute, W at the source from then on)."""
    changes: dict[float, float] = {}
    for batch in batches:
        if batch["source"] == source:
            lead_min = max(batch["lead_min"], 0.0)
            changes[lead_min] = changes.get(lead_min, 0.0) + batch["power_in_w"]
            changes[batch["end_min"]] = changes.get(batch["end_min"], 0.0) - batch["power_in_w"]
    found, watts = [(0.0, 0.0)], 0.0
    for minute in sorted(changes):
        watts += changes[minute]
        found.append((minute, max(watts, 0.0)))
    return found


def _bar_texts(batch: Mapping[str, Any], width: float) -> tuple[str, ...]:
    count = len(batch["packs"])
    head = f"{count} × {family_label(batch['class'])}" if count > 1 else batch["packs"][0]
    if width < 44:
        return (str(count) if count > 1 else "1",)
    if width < 72:
        return (head if len(head) < 8 else f"{count} ×",)
    amps = f"{plain(batch['current_a'])} A"
    return (head, amps if width < 120 else f"{amps} · {plain(round(batch['rate_c'], 2))}C")


def draw(
    document: Mapping[str, Any],
    made_at: datetime,
    names: Mapping[str, str],
    power_limits: Mapping[str, float],
    usable: Mapping[str, float],
) -> DayStrip | None:
    """The strip of a plan document. names : of channels and sources by tag. None without batches."""
    batches = document["batches"]
    if not batches:
        return None
    last_min = max([document["makespan_min"], *(wish["at_min"] for wish in document["wanted"])]) + 8
    along = Scale(0, last_min, LEFT, WIDTH - RIGHT)
    families = list(dict.fromkeys(batch["class"] for batch in batches))
    channels = list(dict.fromkeys(batch["channel"] for batch in sorted(batches, key=lambda b: b["channel"])))
    y = HEAD + (WISH_ROW + ROW_GAP if document["wanted"] else 0)
    lanes = []
    for channel in channels:
        most = max(batch["current_a"] for batch in batches if batch["channel"] == channel)
        lanes.append(Lane(names.get(channel, channel), f"to {plain(most)} A", y))
        y += LANE + ROW_GAP
    bars = []
    for number, batch in enumerate(batches):
        x, end_x = along(max(batch["start_min"], 0.0)), along(batch["end_min"])
        ends = (made_at + timedelta(minutes=batch["end_min"])).astimezone().strftime("%H:%M")
        lead_x, lane_y = along(max(batch["lead_min"], 0.0)), lanes[channels.index(batch["channel"])].y
        bars.append(
            Bar(number, x, lead_x, round(end_x - x, 1), lane_y,
                STRIPES[families.index(batch["class"]) % len(STRIPES)], _bar_texts(batch, end_x - x),
                ends if end_x - x >= 150 else "")
        )  # fmt: skip
    bench_y = y
    drawn_visits = tuple(
        Visit(along(start), round(max(along(end) - along(start), 10.0), 1), start, end, tuple(numbers))
        for start, end, numbers in visits(batches)
    )
    power_y = bench_y + BENCH_ROW + ROW_GAP
    bank_y = power_y + POWER_ROW + ROW_GAP
    used = {use["id"]: use for use in document["sources"]}
    busiest = max(used, key=lambda tag: used[tag]["peak_w"], default=None)
    power = _power(batches, busiest, power_limits, along, power_y, names)
    bank, bank_text = _bank(batches, used, usable, along, bank_y, last_min, names)
    return DayStrip(
        height=bank_y + (BANK_ROW + 4 if bank else 0),
        hours=_hours(made_at, last_min, along),
        wishes=tuple(
            (along(wish["at_min"]), f"{wish['name'] or family_label(wish['class'])}: {wish['count']}", wish["met"])
            for wish in document["wanted"]
        ),
        lanes=tuple(lanes),
        bars=tuple(bars),
        visits=drawn_visits,
        bench_y=bench_y,
        power_y=power_y,
        bank_y=bank_y,
        bank=bank,
        bank_text=bank_text,
        label=f"Day strip: {len(batches)} batches on {len(channels)} channels in {len(drawn_visits)} visits, "
        f"all done after {document['makespan_min']:.0f} minutes. The list below says the same.",
        **power,
    )


def _hours(made_at: datetime, last_min: float, along: Scale) -> tuple[tuple[float, str], ...]:
    """Full and half hours of the clock; only full ones on a long day."""
    every = 30 if last_min < 300 else 60
    local = made_at.astimezone()
    first = -(local.minute + local.second / 60) % every
    found = []
    while first <= last_min:
        found.append((along(first), (local + timedelta(minutes=first)).strftime("%H:%M")))
        first += every
    return tuple(found)


def _power(
    batches: Sequence[Mapping[str, Any]],
    source: str | None,
    limits: Mapping[str, float],
    along: Scale,
    top: float,
    names: Mapping[str, str],
) -> dict[str, Any]:
    """Watts drawn from the source that gives most, against its limit."""
    steps = _steps(batches, source)
    peak = max(watts for _, watts in steps)
    limit_w = limits.get(source or "", 0.0)
    # A limit far above what is drawn would press the area flat, so it is told in words instead.
    shown = limit_w if 0 < limit_w <= 2.5 * peak else 0.0
    up = Scale(0, max(peak, shown, 1.0) * 1.12, top + POWER_ROW, top)
    path, last_y = f"M{along(0)} {up(0)}", up(0)
    for minute, watts in steps:
        path += f"H{along(minute)}V{up(watts)}"
        last_y = up(watts)
    at = next(minute for minute, watts in steps if watts == peak)
    return {
        "power": f"{path}V{up(0)}Z" if last_y != up(0) else f"{path}Z",
        "power_limit_y": up(shown) if shown else None,
        "power_text": names.get(source or "", source or "mains"),
        "power_limit_text": f"limit {limit_w:.0f} W" if limit_w else "",
        "peak": (along(at), up(peak), f"{peak:.0f} W"),
    }


def _bank(
    batches: Sequence[Mapping[str, Any]],
    used: Mapping[str, Mapping[str, Any]],
    usable: Mapping[str, float],
    along: Scale,
    top: float,
    last_min: float,
    names: Mapping[str, str],
) -> tuple[str, str]:
    """Watt-hours left in the source with an end that gives most, as a ribbon."""
    finite = [tag for tag in used if tag in usable]
    source = max(finite, key=lambda tag: used[tag]["used_wh"], default=None)
    if source is None or used[source]["used_wh"] <= 0:
        return "", ""
    whole_wh = usable[source]
    half = Scale(0, whole_wh, 0, BANK_ROW / 2)
    middle = top + BANK_ROW / 2
    mine = [batch for batch in batches if batch["source"] == source]
    moments = sorted({0.0, last_min, *(batch[key] for batch in mine for key in ("lead_min", "end_min"))})
    left = []
    for minute in moments:
        gone_wh = sum(
            b["energy_in_wh"] * min(max((minute - b["lead_min"]) / (b["end_min"] - b["lead_min"]), 0.0), 1.0)
            for b in mine
        )
        left.append((along(minute), half(max(whole_wh - gone_wh, 0.0))))
    upper = "L".join(f"{x} {middle - h:.1f}" for x, h in left)
    lower = "L".join(f"{x} {middle + h:.1f}" for x, h in reversed(left))
    end_wh = whole_wh - used[source]["used_wh"]
    return f"M{upper}L{lower}Z", f"{names.get(source, source)}, {end_wh:.0f} of {whole_wh:.0f} Wh left"
