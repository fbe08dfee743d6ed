"""The caliper over the cells of one pack: two jaws, the room left, and where each cell lies."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.packs import SPREAD_LOOK_V
from iterum.core.quantities import spread
from iterum.web.pictures.scale import Scale

WIDTH, INSET, NUMBER_PX = 400, 22, 24


@dataclass(frozen=True)
class CellMark:
    """A cell's number on its place on the scale; cells that read the same stand side by side."""

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


def draw(cell_v: Sequence[float]) -> Caliper:
    """The caliper on these cells, V each."""
    low, high = min(cell_v), max(cell_v)
    top = max(high, low + SPREAD_LOOK_V)
    margin = max((top - low) * 0.15, 0.008)
    scale = Scale(low - margin, top + margin, INSET, WIDTH - INSET)
    step = scale.step_for(48)
    numbers: dict[float, list[int]] = {}
    for number, volts in enumerate(cell_v, 1):
        numbers.setdefault(volts, []).append(number)
    cells = [
        CellMark(number, round(scale(volts) + (place - (len(same) - 1) / 2) * NUMBER_PX, 2))
        for volts, same in numbers.items()
        for place, number in enumerate(same)
    ]
    apart_v = spread(cell_v)
    return Caliper(
        low_x=scale(low),
        high_x=scale(high),
        allowed_x=scale(low + SPREAD_LOOK_V),
        ticks=tuple((scale(volts), f"{volts:.2f}") for volts in scale.ticks(max(step, 0.01))),
        cells=tuple(cells),
        spread_v=apart_v,
        left_v=round(SPREAD_LOOK_V - apart_v, 9),
    )
