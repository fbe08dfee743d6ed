"""The charge card: what was expected and what is seen, volts per cell over the clock, amps beneath."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from math import ceil

from iterum.core.season.outlook import Expected, Observation, Outlook
from iterum.core.season.watching import BAND_V
from iterum.web.pictures.scale import Scale

WIDTH, PHONE_WIDTH, HEIGHT = 745.0, 350.0, 320.0
LEFT, RIGHT, TOP, BOTTOM = 58.0, 20.0, 40.0, 36.0
AMPS_PART = 0.3
"""Of the height, for the amps beneath the volts."""
MOST_POINTS = 240


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
    low_v = min([*expected.cell_v, *volts]) - 0.03
    end_v = expected.end_v if expected.end_v is not None else max(expected.cell_v)
    high_v = max([end_v, *volts]) + 0.025
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
        ticks_y=tuple((up(value), f"{value:.2f}") for value in up.ticks(step)),
        most_a=f"{expected.dialled_a:g} A",
        amps_top=amps(expected.dialled_a),
        now_x=along(minute),
        now_y=up(max(min(ahead.now_v, high_v), low_v)),
        now_text=f"{ahead.now_v:.3f} V, {ahead.now_a:.1f} A expected now",
        full_x=along(ahead.full_at_min) if ahead.left_min > 0 else None,
        full_text=(charging_at + timedelta(minutes=ahead.full_at_min)).astimezone().strftime("full %H:%M"),
        checks=(*_checks(expected, seen, along, up, (low_v, high_v)), due),
        label=f"Charge card: minute {minute:.0f}, {ahead.left_min:.0f} min left, "
        f"{ahead.now_v:.3f} V per cell and {ahead.now_a:.1f} A expected now.",
    )  # fmt: skip


def _clock(begun: datetime, last_min: float, along: Scale, width: float) -> tuple[tuple[float, str], ...]:
    """Round times of day."""
    steps = (value for value in (5, 10, 15, 30, 60, 120, 240) if last_min / value * 52 <= width - LEFT - RIGHT)
    step = next(steps, 60 * ceil(last_min / 60 / 8))
    local = begun.astimezone()
    minute = -(local.minute + local.second / 60) % step
    found = []
    while minute <= last_min:
        if LEFT <= along(minute) <= width - RIGHT - 16:
            found.append((along(minute), (local + timedelta(minutes=minute)).strftime("%H:%M")))
        minute += step
    return tuple(found)


def _checks(
    expected: Expected, seen: Sequence[Observation], along: Scale, up: Scale, room_v: tuple[float, float]
) -> list[Check]:
    """Hand checks with one whisker a pack, fanned in order of volts; beyond ten packs lowest, middle, highest."""
    found: list[Check] = []
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
        found.append(Check(along(at_min), True, tuple(whiskers)))
    return found


def _due(expected: Expected, at_min: float) -> float:
    """Volts per cell that were expected at a minute."""
    last = expected.cell_v[0]
    for moment, volts in zip(expected.t_min, expected.cell_v, strict=True):
        if moment > at_min:
            break
        last = volts
    return last
