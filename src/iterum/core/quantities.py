"""Comparing and rounding measured quantities, so that binary floating point never decides.

A meter reads to 0.001 V or 0.01 A at best. Differences below 1e-9 of a unit are the noise of binary
fractions (3.80 - 3.70 is 0.09999999999999964), never a fact about a pack, and are treated as none.
"""

import math
from collections.abc import Sequence

NOISE = 1e-9
"""Largest difference, in the unit at hand, that counts as equal. No instrument of this trade is near it."""

MOMENT_MIN = 1e-6
"""Minutes of a plan closer than this are one moment: below what a search can tell apart."""
_DIGITS = 9


def at_most(value: float, limit: float) -> bool:
    """Whether `value` is within `limit`; equal is allowed. Both in the same unit."""
    return value <= limit + NOISE


def difference(high: float, low: float) -> float:
    """`high - low` without the noise of binary fractions: 3.80 - 3.70 is 0.10."""
    return round(high - low, _DIGITS)


def spread(values: Sequence[float]) -> float:
    """Highest less lowest, without the noise of binary fractions.

    values : figures of one kind.
    """
    return difference(max(values), min(values))


def floor_to_step(value: float, step: float) -> float:
    """The largest multiple of `step` that is at most `value`: 2.0999999999999996 A in steps of 0.1 A is 2.1 A.

    Raises ValueError when `step` is not above zero.
    """
    if step <= 0:
        raise ValueError(f"step must be above 0, got {step}")
    return round(math.floor(round(value / step, _DIGITS)) * step, _DIGITS)


def ceil_to_step(value: float, step: float) -> float:
    """The smallest multiple of `step` that is at least `value`: 5250 mAh in steps of 100 mAh is 5300 mAh.

    Raises ValueError when `step` is not above zero.
    """
    if step <= 0:
        raise ValueError(f"step must be above 0, got {step}")
    return round(math.ceil(round(value / step, _DIGITS)) * step, _DIGITS)
