"""The caliper over the cells of one pack: two jaws, the room left, and where each cell lies."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.quantities import spread
from iterum.core.say import figure
from iterum.core.things.volts import SPREAD_LOOK_V
from iterum.web.pictures.scale import Scale

WIDTH, INSET, NUMBER_PX = 400, 22, 24


@dataclass(frozen=True)
class CellMark:
    """A cell's number on its place on the scale; cells that read nearly the same stand side by side."""

    cell: int
    x: float


@dataclass(frozen=True)
class Caliper:
    """Marks of the picture, pixels from the left. `left_v` is negative when the cells are too far apart."""

    low_x: float
    high_x: float
    allowed_x: float
    ticks: tuple[tuple[float, str], ...]
    cells: tuple[CellMark, ...]
    spread_v: float
    left_v: float


def _side_by_side(places: Sequence[float]) -> tuple[CellMark, ...]:
    """Cell numbers under their places, those that would overlap moved apart around their common middle."""
    order = sorted(range(len(places)), key=places.__getitem__)
    runs: list[list[int]] = []
    middles: list[float] = []
    for index in order:
        runs.append([index])
        middles.append(places[index])
        while len(runs) > 1 and middles[-1] - middles[-2] < NUMBER_PX * (len(runs[-1]) + len(runs[-2])) / 2:
            last = runs.pop()
            middles.pop()
            runs[-1] += last
            middles[-1] = sum(places[member] for member in runs[-1]) / len(runs[-1])
            width = NUMBER_PX * len(runs[-1])
            middles[-1] = min(max(middles[-1], width / 2), WIDTH - width / 2)
    marks = [
        CellMark(member + 1, round(middle + (place - (len(run) - 1) / 2) * NUMBER_PX, 2))
        for run, middle in zip(runs, middles, strict=True)
        for place, member in enumerate(run)
    ]
    return tuple(sorted(marks, key=lambda mark: mark.cell))


def draw(cell_v: Sequence[float]) -> Caliper:
    """The caliper on these cells, V each."""
    low, high = min(cell_v), max(cell_v)
    top = max(high, low + SPREAD_LOOK_V)
    margin = max((top - low) * 0.15, 0.008)
    scale = Scale(low - margin, top + margin, INSET, WIDTH - INSET)
    step = scale.step_for(48)
    apart_v = spread(cell_v)
    return Caliper(
        low_x=scale(low),
        high_x=scale(high),
        allowed_x=scale(low + SPREAD_LOOK_V),
        ticks=tuple((scale(volts), figure(volts, ".2f")) for volts in scale.ticks(max(step, 0.01))),
        cells=_side_by_side([scale(volts) for volts in cell_v]),
        spread_v=apart_v,
        left_v=round(SPREAD_LOOK_V - apart_v, 9),
    )
