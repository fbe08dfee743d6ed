"""What the charger shows against what the card says, before anyone confirms."""

from dataclasses import dataclass

from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.sizing.dial import DialCard

# ---------------------------------------------------------------------------------------- reading back


@dataclass(frozen=True)
class Shown:
    """What the charger shows before anyone confirms; None for what it does not show."""

    cells: int | None = None
    pack_v: float | None = None
    current_a: float | None = None
    end_v: float | None = None


CURRENT_TOLERANCE_A = 0.051
END_TOLERANCE_V = 0.011
"""Per cell. A charger that ends at 4.35 V on a LiPo is another chemistry, not a rounding."""


def read_back(card: DialCard, shown: Shown, asks_balance: bool = True, sets_amps: bool = True) -> float:
    """Compare what the charger shows with the card; the amps that it will give: those of the card, or gentler ones.

    What must be shown: cells, pack volts and amps. asks_balance : whether the charger reads its balance plug.
    sets_amps : whether amps are set at all. Raises Unsafe with each difference and its likely cause.
    """
    differences = []
    if shown.cells is None or shown.pack_v is None or (sets_amps and not shown.current_a):
        differences.append(reason("back_missing"))
    if shown.cells is not None and shown.cells != card.cells:
        cause = "back_balance_out" if shown.cells == 0 and asks_balance else "back_count"
        differences.append(reason(cause, shown=shown.cells, cells=card.cells))
    if shown.pack_v is not None and not at_most(abs(shown.pack_v - card.pack_v), card.pack_tolerance_v):
        differences.append(_volts_differ(card, shown.pack_v))
    if shown.current_a is not None and shown.current_a > card.current_a + CURRENT_TOLERANCE_A:
        differences.append(reason("back_amps_high", shown_a=shown.current_a, card_a=card.current_a))
    if shown.end_v is not None and card.end_v is not None and abs(shown.end_v - card.end_v) > END_TOLERANCE_V:
        differences.append(reason("back_chemistry", shown_v=shown.end_v, card_v=card.end_v, chemistry=card.chemistry))
    if differences:
        raise Unsafe(tuple(differences))
    return card.current_a if shown.current_a is None else min(shown.current_a, card.current_a)


def _volts_differ(card: DialCard, pack_v: float) -> Reason:
    """Whether it looks like another cell count, a lead that is not home, or other packs."""
    cell_v = card.pack_v / card.cells
    likely = round(pack_v / cell_v) if cell_v else 0
    if pack_v < 1.0:
        return reason("back_no_lead", pack_v=pack_v)
    if likely not in (0, card.cells) and abs(pack_v - likely * cell_v) <= card.pack_tolerance_v:
        return reason("back_volts_count", pack_v=pack_v, card_v=card.pack_v, likely=likely, cells=card.cells)
    return reason("back_volts", pack_v=pack_v, card_v=card.pack_v, tolerance_v=card.pack_tolerance_v)
