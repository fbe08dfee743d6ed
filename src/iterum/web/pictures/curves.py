"""Currents and volts over time: evening out, and a charge."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import log10

import numpy as np

from iterum.core.electrical.charging import Charge
from iterum.core.electrical.circuit import Array
from iterum.core.electrical.joining import EvenedOut
from iterum.core.say import figure, say
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.web.pictures.scale import Scale

WIDTH, PHONE_WIDTH, HEIGHT = 745.0, 350.0, 300.0
LEFT, RIGHT, TOP, BOTTOM = 58.0, 66.0, 26.0, 38.0
NAMED_LINES = 8
"""With more packs than this only the outermost lines carry their tag; the table names every one."""
FIRST_S = 0.1


@dataclass(frozen=True)
class Line:
    """One line of a picture. `strong` lines carry their tag at (tag_x, tag_y)."""

    tag: str
    path: str
    strong: bool
    tag_x: float
    tag_y: float


@dataclass(frozen=True)
class Mark:
    """An upright line with its words; `anchor` keeps the words inside the picture."""

    x: float
    text: str
    anchor: str = "start"


@dataclass(frozen=True)
class EveningPicture:
    """Rates (C) of each pack over time, time in steps of ten."""

    lines: tuple[Line, ...]
    ticks_x: tuple[tuple[float, str], ...]
    ticks_y: tuple[tuple[float, str], ...]
    zero_y: float
    limits_y: tuple[float, ...]
    marks: tuple[Mark, ...]
    label: str
    width: float
    right: float


@dataclass(frozen=True)
class ChargePicture:
    """Volts per cell as a line, amps as an area under it, over minutes."""

    volts: str
    amps: str
    ticks_x: tuple[tuple[float, str], ...]
    ticks_y: tuple[tuple[float, str], ...]
    ticks_a: tuple[tuple[float, str], ...]
    full_y: float
    marks: tuple[Mark, ...]
    end_low_x: float
    end_high_x: float
    label: str
    width: float
    right: float


def _path(points: Sequence[tuple[float, float]]) -> str:
    return "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points)


def _points(
    x_of: Callable[[float], float], y_of: Callable[[float], float], xs: Array, ys: Array
) -> list[tuple[float, float]]:
    """Points of a line, those that would fall on the pixel before left out."""
    points: list[tuple[float, float]] = []
    for value_x, value_y in zip(xs.tolist(), ys.tolist(), strict=True):
        point = (x_of(value_x), y_of(value_y))
        if not points or abs(point[0] - points[-1][0]) + abs(point[1] - points[-1][1]) >= 0.7:
            points.append(point)
    return points


def _apart(lines: list[Line]) -> tuple[Line, ...]:
    """Tags of strong lines moved down until none covers another."""
    last_y = -1e9
    apart = []
    for line in sorted(lines, key=lambda item: item.tag_y):
        tag_y = max(line.tag_y, last_y + 16) if line.strong else line.tag_y
        last_y = tag_y if line.strong else last_y
        apart.append(Line(line.tag, line.path, line.strong, line.tag_x, round(tag_y, 1)))
    return tuple(apart)


def draw_evening(evening: EvenedOut, packs: Sequence[Pack], rules: HouseRules, width: float = WIDTH) -> EveningPicture:
    """How the currents of a group die down; positive is being charged."""
    trace = evening.trace
    rates = trace.current_a / np.array([pack.capacity_ah for pack in packs])
    end_s = max(float(trace.t_s[-1]), 60.0)
    right = width - (RIGHT if width == WIDTH else 30.0)
    along = Scale(log10(FIRST_S), log10(end_s), LEFT, right)
    top_c = max(float(np.abs(rates).max()) * 1.08, 0.5)
    up = Scale(-top_c, top_c, HEIGHT - BOTTOM, TOP)

    def at_s(seconds: float) -> float:
        return along(log10(max(seconds, FIRST_S)))

    order = np.argsort(rates[0])
    outermost = {int(order[0]), int(order[-1])}
    lines = []
    for index, pack in enumerate(packs):
        points = _points(at_s, up, trace.t_s, rates[:, index])
        strong = len(packs) <= NAMED_LINES or index in outermost
        lines.append(Line(pack.id, _path(points), strong, LEFT + 6, round(points[0][1] - 5, 1)))
    ticks = ((0.1, "0.1 s"), (1, "1 s"), (10, "10 s"), (60, "1 min"), (300, "5 min"), (1800, "30 min"), (7200, "2 h"))
    marks = []
    for seconds, text in ((evening.balance_s, say("balance leads")), (evening.settled_s, say("nothing flows"))):
        if seconds is not None and seconds > 1:
            x = at_s(seconds)
            marks.append(Mark(x, text, "end" if x > width / 2 else "start"))
    limits = (rules.join_peak_c,) if rules.join_peak_c is not None else ()  # what comes out has a limit a pack
    peak = max(evening.packs, key=lambda item: item.peak_rate_c)
    return EveningPicture(
        lines=_apart(lines),
        ticks_x=_uncrowded([(at_s(seconds), text) for seconds, text in ticks if seconds <= end_s * 1.01]),
        ticks_y=tuple((up(value), f"{value:+g}" if value else "0") for value in up.ticks(up.step_for(36))),
        zero_y=up(0),
        limits_y=tuple(up(value) for value in limits if abs(value) <= top_c),
        marks=tuple(marks),
        label=say(
            "Currents after joining: {peak} sees the most, {peak_rate_c:.1f}C, dying down. The table beside "
            "says the same.",
            peak=peak.id,
            peak_rate_c=peak.peak_rate_c,
        ),
        width=width,
        right=right,
    )


def _uncrowded(ticks: Sequence[tuple[float, str]]) -> tuple[tuple[float, str], ...]:
    """Ticks whose words would touch those before them left out; the last one always stands."""
    kept = [ticks[-1]]
    for x, text in reversed(ticks[:-1]):
        if kept[-1][0] - x >= 46:
            kept.append((x, text))
    return tuple(kept[::-1])


def draw_charge(result: Charge, cells: int, end_v: float, width: float = WIDTH) -> ChargePicture:
    """A predicted charge: volts per cell, and amps beneath."""
    trace = result.trace
    minutes = trace.t_s / 60
    cell_v = trace.node_v / cells
    last_min = max(result.minutes_high, result.minutes, 1.0)
    right = width - RIGHT
    along = Scale(0, last_min * 1.02, LEFT, right)
    up = Scale(min(float(cell_v.min()), end_v - 0.1) - 0.03, end_v + 0.025, HEIGHT - BOTTOM, TOP)
    amps_up = Scale(0, result.current_a * 1.9, HEIGHT - BOTTOM, TOP)
    area = _points(along, amps_up, minutes, trace.feed_a)
    area = [(area[0][0], HEIGHT - BOTTOM), *area, (area[-1][0], HEIGHT - BOTTOM)]
    marks = [Mark(along(result.minutes), say("about {minutes:.0f} min", minutes=result.minutes), "end")]
    if 1 < result.cc_minutes < result.minutes - 1:
        marks.append(Mark(along(result.cc_minutes), say("full volts"), "end"))
    return ChargePicture(
        volts=_path(_points(along, up, minutes, cell_v)),
        amps=_path(area) + "Z",
        ticks_x=tuple((along(value), f"{value:g} min") for value in along.ticks(along.step_for(86))),
        ticks_y=tuple((up(value), figure(value, ".2f")) for value in up.ticks(up.step_for(34))),
        ticks_a=tuple((amps_up(value), f"{value:g} A") for value in (result.current_a / 2, result.current_a)),
        full_y=up(end_v),
        marks=tuple(marks),
        end_low_x=along(result.minutes_low),
        end_high_x=along(result.minutes_high),
        label=say(
            "Expected charge: {current_a:g} A at first, full volts after {cc_minutes:.0f} min, done after "
            "about {minutes:.0f} min.",
            current_a=result.current_a,
            cc_minutes=result.cc_minutes,
            minutes=result.minutes,
        ),
        width=width,
        right=right,
    )
