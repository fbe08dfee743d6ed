"""A fast estimate of charge time and energy, for whoever asks about thousands of batches at once.

A group is taken as one pack: charges add up, resistances stand in parallel and every RC pair as if it were filled
already, behind the falling amps by its time constant. What is left is a single integral over the state of charge,
dt = Q dz / I(z), with I the least of the amps dialled, of what the watts allow and of what the end volts allow.
`tests/core/test_estimate.py` measures how far it is from the full model, and docs/speed.md states it.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from math import ceil

import numpy as np
from numpy.typing import NDArray

from iterum.core.electrical.circuit import TAIL
from iterum.core.electrical.resistance import Use, resistance_of
from iterum.core.things.curve import soc_from_rest
from iterum.core.things.kit import DEFAULT_LEAD_MOHM
from iterum.core.things.packs import Pack

Array = NDArray[np.float64]

LAG_PART = 0.4
"""Of the lag that amps would have had they always fallen: where they begin to fall the pairs are not behind yet. Found
by trial against the full model: within 1.5 % for single packs of every kind, 5 % without."""
POINTS = 48
"""Points of Gauss and Legendre over the charge, crowded towards its end where the amps fall."""
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(POINTS)
_PLACES, _SHARES = 1 - ((1 - _NODES) / 2) ** 2, _WEIGHTS * (1 - _NODES) / 2
"""Of the charge, 1 - (1 - u)^2 where u runs from 0 to 1, and what each counts: so the points crowd at its end."""


@dataclass(frozen=True, eq=False)
class Combined:
    """B groups of one chemistry, each as one pack; every array has shape (B,), table_v (B, 21).

    cells : in series. capacity_ah, soc : of all packs together. ohm : in parallel, RC pairs and leads included. lag_s :
    by which the RC pairs follow amps that fall, as a part of all ohms: tau r / R, both pairs together.
    """

    table_v: Array
    cells: Array
    capacity_ah: Array
    soc: Array
    ohm: Array
    lag_s: Array


@dataclass(frozen=True, eq=False)
class Estimate:
    """Minutes until the amps have fallen to the tail, Ah and Wh that go in; each of shape (B,)."""

    minutes: Array
    charge_ah: Array
    energy_wh: Array


def as_one_pack(groups: Sequence[Sequence[Pack]], lead_mohm: float = DEFAULT_LEAD_MOHM) -> Combined:
    """Measured groups of one chemistry combined, each as one pack. Raises ValueError when volts do not tell its charge.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    if groups[0][0].table is None:
        raise ValueError(f"the volts of {groups[0][0].chemistry.label} do not tell its charge")
    tables, capacities, socs, ohms, lags_s = [], [], [], [], []
    for packs in groups:
        siemens = lagging = 0.0
        for pack in packs:
            part = resistance_of(pack, Use.CHARGE)
            one = 1 / (part.r0_ohm + part.r1_ohm + part.r2_ohm + lead_mohm / 1000)
            siemens += one
            lagging += (part.tau1_s * part.r1_ohm + part.tau2_s * part.r2_ohm) * one * one
        capacity_ah = sum(pack.capacity_ah for pack in packs)
        held_ah = sum(pack.capacity_ah * pack.held for pack in packs)
        tables.append(_common_v(packs, capacity_ah))
        capacities.append(capacity_ah)
        socs.append(held_ah / capacity_ah)
        ohms.append(1 / siemens)
        lags_s.append(lagging / siemens)
    cells = np.array([packs[0].cells for packs in groups], dtype=float)
    return Combined(np.array(tables), cells, np.array(capacities), np.array(socs), np.array(ohms), np.array(lags_s))


def _table_v(pack: Pack) -> tuple[float, ...]:
    """V per cell of its table. Raises ValueError where volts do not tell its charge."""
    if pack.table is None:
        raise ValueError(f"the volts of {pack.chemistry.label} do not tell its charge")
    return pack.table.cell_v


def _common_v(packs: Sequence[Pack], capacity_ah: float) -> tuple[float, ...]:
    """One table for packs that are charged as one: theirs, or the mean by capacity where charges taught them apart."""
    tables = {_table_v(pack) for pack in packs}
    if len(tables) == 1:
        return tables.pop()
    columns = zip(*(_table_v(pack) for pack in packs), strict=True)
    return tuple(sum(v * pack.capacity_ah for v, pack in zip(column, packs, strict=True)) / capacity_ah
                 for column in columns)  # fmt: skip


def _rest_v(table_v: Array, soc: Array) -> tuple[Array, Array]:
    """Open-circuit volts of one cell, by row, the ends going on straight, and how they rise. soc : (B, P)."""
    steps = table_v.shape[1] - 1
    place = soc * steps
    index = np.minimum(np.maximum(place.astype(np.intp), 0), steps - 1)
    row = np.arange(len(table_v))[:, None]
    low_v = table_v[row, index]
    rise_v = table_v[row, index + 1] - low_v
    return low_v + rise_v * (place - index), rise_v * steps


def _soc_at(table_v: Array, cell_v: Array) -> Array:
    """State of charge at open-circuit volts of one cell, the inverse of `_rest_v`."""
    steps, row = table_v.shape[1] - 1, np.arange(len(table_v))
    index = np.minimum(np.maximum((table_v <= np.asarray(cell_v)[:, None]).sum(axis=1) - 1, 0), steps - 1)
    low_v = table_v[row, index]
    return np.asarray((index + (cell_v - low_v) / (table_v[row, index + 1] - low_v)) / steps)


def estimate(combined: Combined, current_a: Array, power_w: Array, end_v: float, tail: float = TAIL) -> Estimate:
    """Charge every as_one_pack from where it is until its amps have fallen to `tail` of those dialled.

    current_a, power_w : (B,) the most at the board. end_v : V per cell. A as_one_pack that is full takes no time.
    """
    end_soc = _soc_at(combined.table_v, end_v - tail * current_a * combined.ohm / combined.cells)
    span = np.maximum(end_soc - combined.soc, 0.0)
    soc = combined.soc[:, None] + span[:, None] * _PLACES
    rest_v, slope_v = (volts * combined.cells[:, None] for volts in _rest_v(combined.table_v, soc))
    ohm = combined.ohm[:, None]
    # The pairs still hold volts of the amps that were: I = (end - rest + lag R dI/dt) / R, dI/dt by the rise of rest.
    lag = combined.lag_s[:, None] * slope_v / (ohm * combined.capacity_ah[:, None] * 3600)
    by_volts_a = (end_v * combined.cells[:, None] - rest_v) / ohm / (1 + LAG_PART * lag)
    by_watts_a = (np.sqrt(rest_v**2 + 4 * ohm * power_w[:, None]) - rest_v) / (2 * ohm)
    amps = np.minimum(np.minimum(current_a[:, None], by_watts_a), by_volts_a)
    amps = np.maximum(amps, tail * current_a[:, None])
    charge_ah = combined.capacity_ah * span
    minutes = 60 * charge_ah * (_SHARES / amps).sum(axis=1)
    energy_wh = charge_ah * (_SHARES * (rest_v + amps * ohm)).sum(axis=1)
    return Estimate(minutes, charge_ah, energy_wh)


def minutes_to_volts(pack: Pack, rest_v: float, rate_c: float) -> float:
    """Minutes that one pack takes at a rate until it rests at `rest_v`, V per cell.

    rate_c : multiples of capacity per hour, above 0. Raises ValueError without a reading, and where volts do not tell.
    """
    table = pack.table
    if table is None or pack.cell_v is None:
        raise ValueError(f"{pack.id} has no reading, or its volts do not tell its charge")
    return 60 * max(soc_from_rest(table.cell_v, rest_v) - pack.held, 0.0) / rate_c


ENERGY_MARGIN = 1.04
"""Over the open-circuit energy: what leads and resistance take. Held against the full model by the tests of plans."""
_ENERGY_STEPS = 20


def energy_to_wh(packs: Sequence[Pack], end_v: float) -> float:
    """Wh into measured packs until they rest at `end_v` per cell: charge missing times volts, and what warms them.

    What is missing is counted at the cautious end of what their volts leave open, so that a budget holds. A chemistry
    whose volts do not tell its charge counts from empty.
    """
    return sum(_energy_to_wh(pack, end_v) for pack in packs)


def charge_to_mah(packs: Sequence[Pack], end_v: float) -> float:
    """mAh into measured packs until they rest at `end_v` per cell, the likeliest; all of it where volts do not tell."""
    total_ah = 0.0
    for pack in packs:
        missing = 1.0 if pack.table is None else soc_from_rest(pack.table.cell_v, end_v) - pack.held
        total_ah += pack.capacity_ah * max(missing, 0.0)
    return 1000 * total_ah


@lru_cache(maxsize=4096)
def _energy_to_wh(pack: Pack, end_v: float) -> float:
    table = pack.table
    if table is None:
        return pack.capacity_ah * pack.cells * end_v
    end = soc_from_rest(table.cell_v, end_v)
    soc = pack.held if pack.soc is None else min(pack.soc.low, pack.held)
    steps = max(ceil((end - soc) * _ENERGY_STEPS), 1)
    volts = [table.rest_v(soc + (end - soc) * (step + 0.5) / steps) for step in range(steps)]
    return pack.capacity_ah * max(end - soc, 0.0) * pack.cells * sum(volts) / steps * ENERGY_MARGIN
