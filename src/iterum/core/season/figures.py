"""Whether figures of a charger, a file or a person can be true, before anything is concluded from them."""

from collections.abc import Sequence
from math import isfinite

from iterum.core.reasons import Reason, reason
from iterum.core.things.chemistry import MAX_CELLS

MOST_CELL_V = 5.0
"""No cell of any chemistry shows more, in any state in which it may be read."""
MOST_A, MOST_MAH, MOST_MIN = 200.0, 500_000.0, 7 * 24 * 60.0
"""Beyond any field charger: figures above are of another unit, or of nothing."""
MOST_INPUT_V = 400.0
AIR_C = (-40.0, 150.0)
SUM_V, SUM_PART = 0.15, 0.02
"""A pack's volts may stand off the sum of its cells by so much and this part of it: leads and meters differ."""
MILLIVOLTS_FROM = 1000.0


def not_true(
    cells: int,
    pack_v: float | None = None,
    current_a: float | None = None,
    charge_mah: float | None = None,
    cell_v: Sequence[float] = (),
    temperature_c: float | None = None,
    input_v: float | None = None,
    minutes: float | None = None,
) -> Reason | None:
    """Why these figures cannot be those of a pack; None where they can.

    cells : in series, 1 to 14; 0 where nothing is plugged in. pack_v, cell_v, input_v : V. current_a : A. charge_mah :
    mAh so far. temperature_c : degrees Celsius. minutes : since the start.
    """
    bounds = (
        ("pack_v", pack_v, 0.0, MOST_CELL_V * (cells or MAX_CELLS)),
        ("current_a", current_a, -MOST_A, MOST_A),
        ("charge_mah", charge_mah, 0.0, MOST_MAH),
        ("minutes", minutes, 0.0, MOST_MIN),
        ("temperature_c", temperature_c, *AIR_C),
        ("input_v", input_v, 0.0, MOST_INPUT_V),
        *(("cell_v", volts, 0.0, MOST_CELL_V) for volts in cell_v),
    )
    for name, value, low, high in bounds:
        if value is not None and not (isfinite(value) and low <= value <= high):
            return reason("figure_beyond", figure=name, value=value, low=low, high=high)
    if cell_v and cells and len(cell_v) != cells:
        return reason("figure_cells", count=len(cell_v), cells=cells)
    whole_v = sum(cell_v)
    if cell_v and pack_v and abs(whole_v - pack_v) > SUM_V + SUM_PART * whole_v:
        return reason("figure_sum", whole_v=whole_v, pack_v=pack_v)
    return None


def in_millivolts(volts: Sequence[float]) -> bool:
    """Whether a column of volts is in millivolts, as many chargers write it: every figure is, or stands at nothing.

    volts : of packs or cells, as a file has them.
    """
    told = [value for value in volts if value]
    return bool(told) and all(value >= MILLIVOLTS_FROM for value in told)
