"""The day's heats as a board: a row a class, a block a heat as long as its packs are away, along the hours."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from iterum.exchange.heats import Heat
from iterum.web.pictures.scale import Scale
from iterum.wording import family_label

WIDTH, LEFT, ROW, TOP = 1060.0, 96.0, 46, 26
LEAST = 10.0
"""Pixels of a heat for which nobody leaves the bench."""
MARGIN = timedelta(minutes=20)
LONGEST = timedelta(hours=36)
"""What is later than that after the first stands in the list below only."""


@dataclass(frozen=True)
class Block:
    """One heat: its place in the list, where it stands, and what is written on it."""

    number: int
    x: float
    y: int
    width: float
    words: str
    at: str
    over: bool


@dataclass(frozen=True)
class Board:
    """All marks. rows : (y, class). hours : (x, words). now_x : None where now is off the board."""

    height: int
    rows: tuple[tuple[int, str], ...]
    hours: tuple[tuple[float, str], ...]
    blocks: tuple[Block, ...]
    now_x: float | None


def board(heats: Sequence[Heat], now: datetime) -> Board | None:
    """The board of these heats, in the order of time; None without any."""
    if not heats:
        return None
    begins = heats[0].at - MARGIN
    shown = [(number, heat) for number, heat in enumerate(heats) if heat.at - heats[0].at <= LONGEST]
    ends = max(heat.at + timedelta(minutes=heat.wish.fly_min or 0.0) for _, heat in shown) + MARGIN
    along = Scale(0.0, (ends - begins) / timedelta(minutes=1), LEFT, WIDTH - 8)

    def at(moment: datetime) -> float:
        return along((moment - begins) / timedelta(minutes=1))

    families = list(dict.fromkeys(heat.wish.family for _, heat in shown))
    rows = tuple((TOP + ROW * row, family_label(family)) for row, family in enumerate(families))
    blocks = tuple(
        Block(number, at(heat.at), TOP + ROW * families.index(heat.wish.family),
              max(at(heat.at + timedelta(minutes=heat.wish.fly_min or 0.0)) - at(heat.at), LEAST),
              f"{heat.wish.count} × {heat.wish.name or family_label(heat.wish.family)}",
              heat.at.astimezone().strftime("%H:%M"),
              heat.at + timedelta(minutes=heat.wish.fly_min or 0.0) < now)
        for number, heat in shown
    )  # fmt: skip
    return Board(
        TOP + ROW * len(rows), rows, _hours(begins, ends, at), blocks, at(now) if begins <= now <= ends else None
    )


def _hours(begins: datetime, ends: datetime, at: Callable[[datetime], float]) -> tuple[tuple[float, str], ...]:
    every = next((hours for hours in (1, 2, 3, 6) if (ends - begins) / timedelta(hours=hours) <= 12), 12)
    moment = begins.astimezone().replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
    marks = []
    while moment <= ends:
        if moment.hour % every == 0 and at(moment) < WIDTH - 40:
            marks.append((at(moment), moment.strftime("%H:%M")))
        moment += timedelta(hours=1)
    return tuple(marks)
