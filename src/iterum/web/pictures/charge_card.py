"""The charge card: what was expected and what is seen, volts per cell over the clock, amps beneath."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from math import ceil

from iterum.core.quantities import at_most
from iterum.core.say import figure, say
from iterum.core.season.outlook import Expected, Observation, Outlook
from iterum.core.season.watching import BAND_V
from iterum.core.things.volts import SPREAD_LOOK_V
from iterum.web.pictures.scale import Scale

WIDTH, PHONE_WIDTH, HEIGHT = 745.0, 350.0, 320.0
LEFT, RIGHT, TOP, BOTTOM = 58.0, 20.0, 40.0, 36.0
AMPS_PART = 0.3
"""Of the height, for the amps beneath the volts."""
MOST_POINTS = 240
LINE = 13.0
"""Pixels from one number to the next under it."""


@dataclass(frozen=True)
class Whisker:
    """One pack of a hand check against the curve: where, and whether it is out of line."""

    x: float
    y: float
    due_y: float
    tag: str
    out: bool


@dataclass(frozen=True)
class Check:
    """A hand check on the top line: done, or the one that is due."""

    x: float
    done: bool
    whiskers: tuple[Whisker, ...]


@dataclass(frozen=True)
class CellLine:
    """One cell as the charger reads it: its line, its number at the end of it, and whether it stands off the others.

    told : whether its number stands there: where all lie on each other only the one that stands off has one.
    """

    number: int
    path: str
    x: float
    y: float
    out: bool
    told: bool = True


@dataclass(frozen=True)
class CellPanel:
    """One pack of a board, read by hand: each cell against its middle one, at each check.

    lines : a line a cell; dots : (x, y, out) of single readings. band : (y, height) of what needs no look. ticks : (y,
    text) of the axis, millivolts.
    """

    tag: str
    lines: tuple[CellLine, ...]
    dots: tuple[tuple[float, float, bool], ...]
    band: tuple[float, float]
    ticks: tuple[tuple[float, str], ...]
    words: str
    out: bool


@dataclass(frozen=True)
class ChargeCard:
    """All marks of one card, in pixels."""

    width: float
    right: float
    past: str
    ahead: str
    band: str
    amps_due: str
    seen: str
    amps_seen: str
    full_y: float
    ticks_x: tuple[tuple[float, str], ...]
    ticks_y: tuple[tuple[float, str], ...]
    most_a: str
    amps_top: float
    now_x: float
    now_y: float
    now_text: str
    full_x: float | None
    full_text: str
    checks: tuple[Check, ...]
    cells: tuple[CellLine, ...]
    label: str


def _line(points: Sequence[tuple[float, float]]) -> str:
    return "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points) if points else ""


MOST_CHECKS = 40
"""Hand checks that are drawn, the latest."""


def _thinned(items: Sequence[Observation]) -> Sequence[Observation]:
    step = max(len(items) // MOST_POINTS, 1)
    return [*items[::step], *items[-1:]]


def draw(
    expected: Expected,
    seen: Sequence[Observation],
    ahead: Outlook,
    minute: float,
    charging_at: datetime,
    next_check_min: float,
    width: float = WIDTH,
) -> ChargeCard:
    """The card at a minute of the charge."""
    right = width - RIGHT
    last_min = max(expected.minutes * 1.05, minute * 1.08, ahead.full_at_min + 1)
    along = Scale(0.0, last_min, LEFT, right)
    board = [item for item in seen if item.pack_id is None]
    volts = [item.pack_v / expected.cells for item in board if item.pack_v is not None]
    cells = [item for item in board if len(item.cell_v) > 1]
    every_v = [*volts, *(value for item in cells for value in item.cell_v)]
    low_v = min([*expected.cell_v, *every_v]) - 0.03
    end_v = expected.end_v if expected.end_v is not None else max(expected.cell_v)
    high_v = max([end_v, *every_v]) + 0.025
    bottom = HEIGHT - BOTTOM
    amps_top = bottom - (bottom - TOP) * AMPS_PART
    up = Scale(low_v, high_v, amps_top - 6, TOP)
    most_a = max([expected.dialled_a, *(item.current_a or 0.0 for item in board)]) * 1.1
    amps = Scale(0.0, most_a, bottom, amps_top)
    shift = minute - ahead.progress_min
    curve = list(zip(expected.t_min, expected.cell_v, expected.current_a, strict=True))
    past = [(along(t), up(v)) for t, v, _ in curve if t <= minute]
    to_come = [(along(min(t + shift, last_min)), up(v)) for t, v, _ in curve if t >= ahead.progress_min]
    band = [(along(t), up(min(v + BAND_V, high_v))) for t, v, _ in curve]
    band += [(along(t), up(max(v - BAND_V, low_v))) for t, v, _ in reversed(curve)]
    with_v = [item for item in board if item.pack_v is not None]
    with_a = [item for item in board if item.current_a is not None]
    under = [(along(0), bottom), *((along(t), amps(a)) for t, _, a in curve), (along(curve[-1][0]), bottom)]
    due = Check(along(min(next_check_min, last_min)), False, ())
    step = 0.05 if high_v - low_v < 0.5 else 0.1
    return ChargeCard(
        width=width,
        right=right,
        past=_line(past),
        ahead=_line(to_come),
        band=_line(band) + "Z",
        amps_due=_line(under) + "Z",
        seen=_line([(along(item.at_min), up((item.pack_v or 0.0) / expected.cells)) for item in _thinned(with_v)]),
        amps_seen=_line([(along(item.at_min), amps(item.current_a or 0.0)) for item in _thinned(with_a)]),
        full_y=up(end_v),
        ticks_x=_clock(charging_at, last_min, along, width),
        ticks_y=tuple((up(value), figure(value, ".2f")) for value in up.ticks(step)),
        most_a=f"{figure(expected.dialled_a, 'g')} A",
        amps_top=amps(expected.dialled_a),
        now_x=along(minute),
        now_y=up(max(min(ahead.now_v, high_v), low_v)),
        now_text=f"{figure(ahead.now_v, '.3f')} V, {figure(ahead.now_a, '.1f')} A",
        full_x=along(ahead.full_at_min) if ahead.left_min > 0 else None,
        full_text=(charging_at + timedelta(minutes=ahead.full_at_min)).astimezone().strftime(say("full") + " %H:%M"),
        checks=(*_checks(expected, seen, along, up, (low_v, high_v)), due),
        cells=_cells(cells, along, up),
        label=say("Charge card: minute {minute:.0f}, {left_min:.0f} min left, {now_v:.3f} V per cell and "
        "{now_a:.1f} A expected now.", minute=minute, left_min=ahead.left_min, now_v=ahead.now_v, now_a=ahead.now_a),
    )  # fmt: skip


def _cells(read: Sequence[Observation], along: Scale, up: Scale) -> tuple[CellLine, ...]:
    """A line for each cell of the board: its balance leads join cell 1 with cell 1, so these are the board's."""
    if len(read) < 2:
        return ()
    last = read[-1].cell_v
    middle_v = sorted(last)[len(last) // 2]
    cells = []
    for number, volts in enumerate(last):
        points = [(along(item.at_min), up(item.cell_v[number])) for item in _thinned(read) if len(item.cell_v) > number]
        out = not at_most(abs(volts - middle_v), SPREAD_LOOK_V)
        cells.append(CellLine(number + 1, _line(points), along(read[-1].at_min), up(volts), out))
    wide = abs(up(max(last)) - up(min(last))) >= LINE * (len(last) - 1)
    return tuple(replace(line, told=wide or line.out) for line in (_apart(cells) if wide else cells))


def _apart(lines: list[CellLine]) -> tuple[CellLine, ...]:
    """The same with their numbers one under another where lines end together."""
    placed: list[CellLine] = []
    for line in sorted(lines, key=lambda item: item.y):
        y = max(line.y, placed[-1].y + LINE) if placed else line.y
        placed.append(replace(line, y=round(y, 1)))
    return tuple(sorted(placed, key=lambda item: item.number))


PANEL, PANEL_LEFT = 172.0, 40.0
PANEL_V = 0.06
"""Volts to each side of a panel's middle; what is further stands at its edge."""


def panels(expected: Expected, seen: Sequence[Observation]) -> tuple[CellPanel, ...]:
    """A panel for each pack of a board whose cells were read by hand: only that tells its packs apart."""
    panels = []
    for tag in dict.fromkeys(item.pack_id for item in seen if item.pack_id and len(item.cell_v) > 1):
        read = [item for item in seen if item.pack_id == tag and len(item.cell_v) > 1]
        panels.append(_panel(tag or "", read, expected))
    return tuple(sorted(panels, key=lambda item: not item.out))


def _panel(tag: str, read: Sequence[Observation], expected: Expected) -> CellPanel:
    last_min = max(expected.minutes, read[-1].at_min)
    along = Scale(0.0, last_min, PANEL_LEFT, PANEL - 16)
    up = Scale(-PANEL_V, PANEL_V, PANEL - 12, 30.0)
    lines, dots = [], []
    for number in range(len(read[-1].cell_v)):
        off_v = [(item.at_min, item.cell_v[number] - sorted(item.cell_v)[len(item.cell_v) // 2])
                 for item in read if len(item.cell_v) > number]  # fmt: skip
        points = [(along(at), up(min(max(off, -PANEL_V), PANEL_V))) for at, off in off_v]
        out = not at_most(abs(off_v[-1][1]), SPREAD_LOOK_V)
        lines.append(CellLine(number + 1, _line(points), points[-1][0], points[-1][1], out))
        dots += [(round(x, 1), round(y, 1), out) for x, y in points]
    apart_v = max(read[-1].cell_v) - min(read[-1].cell_v)
    ticks = tuple((up(value), f"{1000 * value:+.0f}") for value in (-0.04, 0.0, 0.04))
    band = (up(SPREAD_LOOK_V), round(up(-SPREAD_LOOK_V) - up(SPREAD_LOOK_V), 1))
    return CellPanel(tag, _apart(lines), tuple(dots), band, ticks, say("{apart_v:.2f} V apart", apart_v=apart_v),
                     any(line.out for line in lines))  # fmt: skip


def _clock(begun: datetime, last_min: float, along: Scale, width: float) -> tuple[tuple[float, str], ...]:
    """Round times of day."""
    steps = (value for value in (5, 10, 15, 30, 60, 120, 240) if last_min / value * 52 <= width - LEFT - RIGHT)
    step = next(steps, 60 * ceil(last_min / 60 / 8))
    local = begun.astimezone()
    minute = -(local.minute + local.second / 60) % step
    ticks = []
    while minute <= last_min:
        if LEFT <= along(minute) <= width - RIGHT - 16:
            ticks.append((along(minute), (local + timedelta(minutes=minute)).strftime("%H:%M")))
        minute += step
    return tuple(ticks)


def _checks(
    expected: Expected, seen: Sequence[Observation], along: Scale, up: Scale, room_v: tuple[float, float]
) -> list[Check]:
    """Hand checks with one whisker a pack, fanned in order of volts; beyond ten packs lowest, middle, highest."""
    checks: list[Check] = []
    times = sorted({item.at_min for item in seen if item.by_hand})[-MOST_CHECKS:]
    for at_min in times:
        packs = [item for item in seen if item.by_hand and item.at_min == at_min and item.pack_id and item.pack_v]
        packs.sort(key=lambda item: item.pack_v or 0.0)
        if len(packs) > 10:
            packs = [packs[0], packs[len(packs) // 2], packs[-1]]
        due_v = _due(expected, at_min)
        whiskers = []
        for number, item in enumerate(packs):
            cell_v = (item.pack_v or 0.0) / expected.cells
            x = along(at_min) + 7 * (number - (len(packs) - 1) / 2)
            y = up(min(max(cell_v, room_v[0]), room_v[1]))
            whiskers.append(Whisker(round(x, 1), y, up(due_v), item.pack_id or "", abs(cell_v - due_v) > BAND_V))
        checks.append(Check(along(at_min), True, tuple(whiskers)))
    return checks


def _due(expected: Expected, at_min: float) -> float:
    """Volts per cell that were expected at a minute."""
    last = expected.cell_v[0]
    for moment, volts in zip(expected.t_min, expected.cell_v, strict=True):
        if moment > at_min:
            break
        last = volts
    return last
