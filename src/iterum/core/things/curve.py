"""Rest volts against state of charge: what is believed of a cell, how far other cells of its kind lie from that, and
what charges that a pack had alone taught of its own.

The likeliest table gives the middle figure. Every other table that cells of the kind were published or measured with
gives the doubt: nobody knows which cell is in a pack. A known point (rest volts, state of charge) bends all of them
through it, and the doubt shrinks to what is left between them.
"""

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import lru_cache
from itertools import pairwise
from typing import Annotated

from annotated_types import Ge, Gt, Le, Len

from iterum.core.fields import Says
from iterum.core.quantities import difference

METER_RESOLUTION_V = 0.01
"""What a field cell checker can tell apart, V per cell. Common practice, no source."""
REST_DOUBT_V = 0.01
"""How far rest volts lie beside themselves, V per cell: cells were measured to rest 16 to 38 mV apart by whether they
came from a charge or from a discharge (C/20, ohmic part included), and a full one falls by 0.02 V within the hour."""
LINE_DOUBT = 0.02
"""State of charge by which a table of straight lines is off where its curve bends."""
STEPS = 20
"""Lines of an open-circuit table: one for every 5 %."""


def soc_from_rest(table_v: Sequence[float], rest_v: float) -> float:
    """State of charge at rest volts, the ends of the table going on straight: may pass 0 or 1.

    table_v : open-circuit V at evenly spaced states of charge, rising; of a cell, or of a whole pack.
    rest_v : V at rest, of the same.
    """
    index = min(max(bisect_right(table_v, rest_v) - 1, 0), STEPS - 1)
    low_v, high_v = table_v[index], table_v[index + 1]
    return (index + (rest_v - low_v) / (high_v - low_v)) / STEPS


@dataclass(frozen=True)
class OpenCircuitTable:
    """Rest volts of one cell against its state of charge.

    cell_v : V per cell at 0, 5, 10 ... 100 % state of charge, rising.
    source : the publication, the measurement, or the word "estimate".
    limits : what the table does not claim.
    """

    cell_v: tuple[float, ...]
    source: str
    limits: str = ""

    def rest_v(self, soc: float) -> float:
        """Rest volts of one cell at a state of charge (0..1), linear between entries, flat outside.

        soc : state of charge, 0 to 1.
        """
        position = min(max(soc, 0.0), 1.0) * STEPS
        index = min(int(position), STEPS - 1)
        low, high = self.cell_v[index], self.cell_v[index + 1]
        return low + (high - low) * (position - index)

    def soc(self, cell_v: float) -> float:
        """State of charge (0..1) of a cell at rest volts, the inverse of `rest_v`; 0 or 1 outside the table.

        cell_v : V per cell.
        """
        return min(max(soc_from_rest(self.cell_v, cell_v), 0.0), 1.0)

    @property
    def measured(self) -> bool:
        """Whether its volts were measured on a cell, not computed from published parameters."""
        return self.source.startswith("measured")

    @property
    def estimate(self) -> bool:
        """Whether no cell was measured for it."""
        return self.source.startswith("estimate")


@dataclass(frozen=True)
class KnownPoint:
    """A state of charge that one logged charge told: rest volts per cell before it, and what was missing then."""

    cell_v: Annotated[float, Ge(0), Le(6), Says("Rest volts per cell", "V")]
    soc: Annotated[float, Ge(0), Le(1), Says("State of charge")]
    at: Annotated[datetime | None, Says("Charged at")] = None


@dataclass(frozen=True)
class Learned:
    """What the charges that a pack had alone taught of it.

    step_mohm : per cell, for minutes. capacity_mah : what it holds. doubt : how far that may be off, as a part of it;
    every known point shares in it.
    """

    capacity_mah: Annotated[float, Ge(1), Le(200000), Says("Capacity learned", "mAh")]
    doubt: Annotated[float, Ge(0), Le(1), Says("Doubt of the capacity learned")]
    points: Annotated[tuple[KnownPoint, ...], Len(1, 40), Says("Known points of its curve")]
    step_mohm: Annotated[float | None, Gt(0), Le(10000), Says("Resistance a cell from a step in amps", "mΩ")] = None


@dataclass(frozen=True)
class StateOfCharge:
    """What rest volts tell about the charge, each 0..1.

    value : the likeliest single figure, or None where volts cannot tell one.
    low, high : the range that the meter and the cell nobody knows leave open.
    estimate : whether the table behind it is an estimate without a source. learned : whether its own charges told.
    """

    value: float | None
    low: float
    high: float
    source: str
    estimate: bool
    learned: bool = False

    @property
    def middle(self) -> float:
        """A figure to compute with: the value, or the middle of the range where there is none."""
        return self.value if self.value is not None else (self.low + self.high) / 2


@dataclass(frozen=True)
class Curve:
    """The likeliest table of a cell, and the others that cells of its kind have.

    flat_v : between these volts no single figure is told. doubt : of the capacity behind known points, as a part.
    """

    table: OpenCircuitTable
    others: tuple[OpenCircuitTable, ...] = ()
    flat_v: tuple[float, float] | None = None
    doubt: float = 0.0
    learned: bool = False

    def state_of_charge(self, cell_v: float) -> StateOfCharge:
        """State of charge of a rested cell, with the range of every table, of a meter's half step and of its rest.

        cell_v : V per cell.
        """
        half_v = METER_RESOLUTION_V / 2 + REST_DOUBT_V
        low_v, high_v = difference(cell_v, half_v), cell_v + half_v
        flat = self.flat_v is not None and self.flat_v[0] <= cell_v <= self.flat_v[1]
        if flat and self.flat_v is not None:
            low_v, high_v = min(low_v, self.flat_v[0]), max(high_v, self.flat_v[1])
        tables = (self.table, *self.others)
        low = min(one.soc(low_v) for one in tables) - LINE_DOUBT
        high = max(one.soc(high_v) for one in tables) + LINE_DOUBT
        low, high = max(low - (1 - low) * self.doubt, 0.0), min(high + (1 - high) * self.doubt, 1.0)
        value = None if flat else self.table.soc(cell_v)
        return StateOfCharge(value, low, high, self.table.source, self.table.estimate, self.learned)


def through(table: OpenCircuitTable, points: Iterable[KnownPoint]) -> OpenCircuitTable:
    """The table stretched along its charge so that it passes through known points; empty and full stay where they are.

    Points that would turn it back, or stand within a hundredth of an end or of each other, are left out.
    """
    knots = [(0.0, 0.0)]
    for soc, known in sorted((table.soc(point.cell_v), point.soc) for point in points):
        if soc - knots[-1][0] > 0.01 and known - knots[-1][1] > 0.01 and soc < 0.99 and known < 0.99:
            knots.append((soc, known))
    knots.append((1.0, 1.0))
    stretched = []
    for step in range(STEPS + 1):
        known = step / STEPS
        before, after = next(
            (one, two) for one, two in pairwise(knots) if known <= two[1] or two is knots[-1]
        )  # fmt: skip
        part = (known - before[1]) / (after[1] - before[1])
        stretched.append(table.rest_v(before[0] + part * (after[0] - before[0])))
    return OpenCircuitTable(tuple(stretched), table.source, table.limits)


@lru_cache(maxsize=1024)
def leaning(curve: Curve, points: tuple[KnownPoint, ...]) -> Curve:
    """A kind's curve whose likeliest table goes through points that like packs were taught; its doubt stays."""
    return replace(curve, table=through(curve.table, points), others=(curve.table, *curve.others))


@lru_cache(maxsize=1024)
def taught(curve: Curve, learned: Learned) -> Curve:
    """A kind's curve after what a pack's own charges taught: its table and all the others through the known points."""
    return Curve(
        table=through(curve.table, learned.points),
        others=tuple(through(table, learned.points) for table in curve.others),
        flat_v=curve.flat_v,
        doubt=learned.doubt,
        learned=True,
    )
