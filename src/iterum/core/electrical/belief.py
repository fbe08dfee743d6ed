"""What is believed of a pack that nobody measured whole: draws of its curve, its capacity and its resistances.

A pack is `DRAWS` equally likely ways that it may be. Its figures give the seed, not its tag nor its
place, so the same pack is always believed the same; equal packs take different parts of one stream.
Packs of one label are most likely of one make, so they share what a make gives (curve, kinetics,
most of the ohmic part); in one way of `OTHER_MAKE` each is of its own.
What charges taught (rest volts before, mAh that went in) counts as evidence: ways in which it could
not have happened are dropped. The widths were chosen on some full-order models and are judged on
others (docs/belief.md).
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, fields, is_dataclass
from enum import IntEnum
from functools import lru_cache
from hashlib import sha256
from math import sqrt
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from iterum.core.electrical.resistance import AT_C, LAWS, Basis, Use, inverse_kelvin, resistance_of
from iterum.core.things.curve import METER_RESOLUTION_V, STEPS, KnownPoint
from iterum.core.things.packs import Pack

Array = NDArray[np.float64]

DRAWS = 50
POOL = 1500
"""Ways to choose from where there is evidence."""
LEAST_EFFECTIVE = 25.0
"""Evidence that would leave fewer ways than this (Kish's effective sample size) is trusted less."""
OTHER_MAKE = 0.2
"""Chance that a pack is not of the make of the others with its label. Common practice, no source: labels outlive
makes."""
OWN_PART = 0.25
"""Of the spread (squared) of the ohmic part, what is the pack's own and not its make's: age, plugs, soldering."""
LIKELIEST = 0.3
"""Chance of the likeliest curve; the others of its kind share the rest."""
BLEND = 0.4
"""Every second cell lies between two curves: up to this part of the way to another one."""
REST_V = 0.007
"""V per cell by which a cell rests beside its curve, one standard deviation: half of the hysteresis measured."""
HOLDS_MORE, HOLDS_LESS = 0.03, 0.05
"""Part by which a pack holds more than its label, or by its age less, one standard deviation. Common practice, no
source."""
AGED = 0.10
"""The same either way around what its charges told: they may tell of an old pack."""
LEARNED_TIMES = 0.15
"""Part by which a resistance may be off that a step in amps told."""
METER_TIMES = 0.10
"""The same for one that a meter told."""
COUNT = 0.02
"""Part by which a charger's mAh may be off. Common practice, no source."""
TAIL = 0.01
"""Part of the capacity by which one charge ends elsewhere than another."""
LIKE_COUNT = 0.05
"""Part by which another pack of the same label may hold something else."""
CONTRADICTED = 4.0
"""Evidence that lies so many standard deviations beside every way is contradicted by the other facts."""
WIDENED = 2.0
"""By how much a belief is widened then."""


class Column(IntEnum):
    """What each column of draws decides."""

    CURVE = 0
    SECOND_CURVE = 1
    LEAN = 2
    KINETIC = 3
    SLOW = 4
    OHMIC = 5
    COLD = 6
    CAPACITY = 7
    METER_STEP = 8
    REST = 9
    REST_BEFORE = 10
    OWN_OHMIC = 11
    ALIKE = 12
    MEASURED_AT = 13


OF_THE_MAKE = (Column.CURVE, Column.SECOND_CURVE, Column.LEAN, Column.KINETIC, Column.SLOW, Column.OHMIC, Column.COLD)


@dataclass(frozen=True, eq=False)
class Belief:
    """The ways that one pack may be; every array has shape (DRAWS,) but table_v, (DRAWS, 21), V per cell.

    capacity_ah : Ah. soc : as it was read. r0_ohm, r1_ohm, r2_ohm : of the whole pack, without its lead. contradicted :
    whether its charges and what was typed of its capacity cannot both be true.
    """

    table_v: Array
    capacity_ah: Array
    soc: Array
    r0_ohm: Array
    r1_ohm: Array
    r2_ohm: Array
    contradicted: bool


def beliefs_of(packs: Sequence[Pack], rate_c: float) -> tuple[Belief, ...]:
    """What is believed of measured packs of one group. Raises ValueError for one without a reading or a curve.

    rate_c : of the charge, multiples of capacity per hour: kinetics flatten with it.
    """
    seen: Counter[tuple[object, ...]] = Counter()
    beliefs: dict[int, Belief] = {}
    for index in sorted(range(len(packs)), key=lambda index: packs[index].cell_v or 0.0):
        pack, figures = packs[index], _figures(packs[index])
        beliefs[index] = _belief(pack, round(rate_c, 2), seen[figures])
        seen[figures] += 1
    return tuple(beliefs[index] for index in range(len(packs)))


def _figures(pack: Pack) -> tuple[object, ...]:
    """What the seed of a pack is made of: all that lasts, so that a reading moves what is believed and no more."""
    return (
        pack.chemistry_name, pack.cells, pack.capacity_mah, pack.capacity_now_mah, pack.discharge_c,
        pack.resistance_mohm, pack.learned, pack.like,
    )  # fmt: skip


def _written(figures: object) -> str:
    """Figures as text that is alike for equal ones: 1800 mAh and 1800.0 mAh are one pack, and one place in a cache."""
    if isinstance(figures, tuple):
        return "(" + ",".join(map(_written, figures)) + ")"
    if is_dataclass(figures):
        return _written(tuple(getattr(figures, field.name) for field in fields(figures)))
    return repr(float(figures)) if isinstance(figures, int | float) else str(figures)


@lru_cache(maxsize=8)
def _levels(count: int) -> tuple[Array, Array]:
    """Evenly spread parts of 1, and the standard normal values at them."""
    parts = (np.arange(count) + 0.5) / count
    return parts, np.array([NormalDist().inv_cdf(part) for part in parts])


@lru_cache(maxsize=64)
def _stream(figures: tuple[object, ...], place: int, count: int) -> tuple[Array, Array]:
    """Uniform and normal draws, (count, columns): each column spread evenly (a Latin hypercube).

    Kept for a while, because every pack of a label asks for those of its make; nobody writes into them.
    """
    seed = int.from_bytes(sha256(_written((figures, place)).encode()).digest()[:8], "big")
    rng = np.random.default_rng(seed)
    parts, normals = _levels(count)
    order = np.argsort(rng.random((count, len(Column))), axis=0)
    return parts[order], normals[order]


def _ways(pack: Pack, place: int, count: int) -> tuple[Array, Array]:
    """Uniform and normal draws of a pack: its own, and what it has from its make. count : of ways."""
    of_label = (pack.chemistry_name, pack.cells, pack.capacity_mah, pack.discharge_c, pack.max_charge_c)
    own, make = _stream(_figures(pack), place, count), _stream(of_label, -1, count)
    other = own[0][:, Column.ALIKE] < OTHER_MAKE
    uniform, normal = own[0].copy(), own[1].copy()
    for mine, of_make in ((uniform, make[0]), (normal, make[1])):
        mine[:, OF_THE_MAKE] = np.where(other[:, None], mine[:, OF_THE_MAKE], of_make[:, OF_THE_MAKE])
    normal[:, Column.OHMIC] *= sqrt(1 - OWN_PART)
    normal[:, Column.OHMIC] += sqrt(OWN_PART) * normal[:, Column.OWN_OHMIC]
    return uniform, normal


@lru_cache(maxsize=1024)
def _belief(pack: Pack, rate_c: float, place: int) -> Belief:
    curve = pack.chemistry.curve
    if curve is None or pack.reading is None:
        raise ValueError(f"{pack.id} has no reading, or its volts do not tell its charge")
    evidence = _evidence(pack)
    uniform, normal = _ways(pack, place, POOL if evidence else DRAWS)
    measured = tuple(table for table in curve.others if table.measured)  # of a real cell: counts twice
    table_v = _curves(np.array([table.cell_v for table in (curve.table, *curve.others, *measured)]), uniform)
    capacity_ah = _capacities(pack, normal[:, Column.CAPACITY], 1.0)
    contradicted = False
    if evidence:
        beside = _beside(table_v, capacity_ah, evidence, normal[:, Column.REST_BEFORE])
        contradicted = bool(np.sqrt((beside**2).mean(axis=1)).min() > CONTRADICTED)
        if contradicted:
            capacity_ah = _capacities(pack, normal[:, Column.CAPACITY], WIDENED)
            beside = _beside(table_v, capacity_ah, evidence, normal[:, Column.REST_BEFORE])
        kept = _chosen(beside)
        uniform, normal, table_v, capacity_ah = uniform[kept], normal[kept], table_v[kept], capacity_ah[kept]
    soc = _charges(pack, table_v, uniform[:, Column.METER_STEP], normal[:, Column.REST])
    return Belief(table_v, capacity_ah, soc, *_resistances(pack, rate_c, uniform, normal), contradicted)


def _curves(tables_v: Array, uniform: Array) -> Array:
    """A curve for each way: one of those that cells of the kind have, leaning towards another."""
    others = max(len(tables_v) - 1, 1)
    part = uniform[:, Column.CURVE]
    first = np.where(part < LIKELIEST, 0, 1 + ((part - LIKELIEST) / (1 - LIKELIEST) * others).astype(int))
    first = np.minimum(first, len(tables_v) - 1)
    second = np.minimum((uniform[:, Column.SECOND_CURVE] * len(tables_v)).astype(int), len(tables_v) - 1)
    lean = BLEND * np.maximum(2 * uniform[:, Column.LEAN, None] - 1, 0.0)
    return np.asarray(tables_v[first] * (1 - lean) + tables_v[second] * lean)


def _capacities(pack: Pack, normal: Array, times: float) -> Array:
    """Ah: by what was typed, which has no width unless it is contradicted; else by the label."""
    if pack.capacity_now_mah is not None:
        width = 0.0 if times == 1.0 else AGED * times
        return np.asarray(pack.capacity_now_mah / 1000 * np.exp(width * normal))
    if pack.learned is not None:
        return np.asarray(pack.learned.capacity_mah / 1000 * np.exp(AGED * times * normal))
    return np.asarray(pack.capacity_mah / 1000 * np.exp(np.where(normal < 0, HOLDS_LESS, HOLDS_MORE) * times * normal))


@dataclass(frozen=True)
class _Charged:
    """One charge from rest to full: rest volts per cell before it, Ah that went in, and how far that may be off."""

    cell_v: float
    charge_ah: float
    part: float


def _evidence(pack: Pack) -> tuple[_Charged, ...]:
    def charged(points: Sequence[KnownPoint], capacity_mah: float, part: float) -> tuple[_Charged, ...]:
        return tuple(_Charged(point.cell_v, (1 - point.soc) * capacity_mah / 1000, part) for point in points)

    if pack.learned is not None:
        return charged(pack.learned.points, pack.learned.capacity_mah, COUNT)
    return charged(pack.like, pack.capacity_mah, LIKE_COUNT)


def _soc_at(table_v: Array, cell_v: Array) -> Array:
    """State of charge of each way at rest volts per cell, going on straight past empty and full."""
    row, line = np.arange(len(table_v)), (table_v <= cell_v[:, None]).sum(axis=1) - 1
    line = np.minimum(np.maximum(line, 0), STEPS - 1)  # np.clip takes three times as long for so few
    low_v = table_v[row, line]
    return np.asarray((line + (cell_v - low_v) / (table_v[row, line + 1] - low_v)) / STEPS)


def _beside(table_v: Array, capacity_ah: Array, evidence: Sequence[_Charged], rest: Array) -> Array:
    """By how many standard deviations each charge lies beside what each way would have taken: (ways, charges)."""
    columns = []
    for charged in evidence:
        missing_ah = (1 - _soc_at(table_v, charged.cell_v + REST_V * rest)) * capacity_ah
        width_ah = np.hypot(charged.part * charged.charge_ah, TAIL * capacity_ah)
        columns.append((charged.charge_ah - missing_ah) / width_ah)
    return np.stack(columns, axis=1)


def _chosen(beside: Array) -> NDArray[np.intp]:
    """Which ways are kept, each as often as its weight says; evidence that leaves too few is trusted less."""
    surprise = 0.5 * (np.minimum(np.abs(beside), 8.0) ** 2).sum(axis=1)
    surprise -= surprise.min()
    trust = 1.0
    weights = np.exp(-surprise)
    while weights.sum() ** 2 / (weights**2).sum() < LEAST_EFFECTIVE:
        trust *= 0.8
        weights = np.exp(-trust * surprise)
    places = (np.arange(DRAWS) + 0.5) / DRAWS * weights.sum()
    return np.asarray(np.minimum(np.searchsorted(np.cumsum(weights), places), len(weights) - 1))


def _charges(pack: Pack, table_v: Array, step: Array, rest: Array) -> Array:
    """State of charge as it was read, in each way: somewhere in the meter's step, and beside its curve."""
    soc = pack.soc
    if soc is not None and soc.value is None:  # its volts tell a range only
        return np.asarray(soc.low + (soc.high - soc.low) * step)
    cell_v = pack.cell_v or 0.0
    return _soc_at(table_v, cell_v + (step - 0.5) * METER_RESOLUTION_V + REST_V * rest)


def _resistances(pack: Pack, rate_c: float, uniform: Array, normal: Array) -> tuple[Array, Array, Array]:
    """Ohmic part and both pairs of the whole pack, ohm, in each way."""
    law, part = LAWS[pack.chemistry_name], resistance_of(pack, Use.CHARGE)
    flatter = law.flatter(rate_c)
    r1_ohm = part.r1_ohm * flatter * np.exp(law.kinetic_spread * normal[:, Column.KINETIC])
    r2_ohm = part.r2_ohm * np.exp(law.slow_spread * normal[:, Column.SLOW])
    times = {Basis.MEASURED: METER_TIMES, Basis.LEARNED: LEARNED_TIMES}.get(part.basis, part.kind.spread)
    r0_ohm = part.r0_ohm * np.exp(times * normal[:, Column.OHMIC])
    if pack.temperature_c is None:
        return r0_ohm, r1_ohm, r2_ohm
    colder = inverse_kelvin(pack.temperature_c) * (np.exp(law.cold_spread * normal[:, Column.COLD]) - 1)
    if part.basis not in (Basis.MEASURED, Basis.LEARNED):
        r0_ohm = r0_ohm * np.exp(law.ohmic_k * colder)
    elif pack.temperature_c < AT_C:  # nobody said how warm it was when it was measured
        now = uniform[:, Column.MEASURED_AT] < 0.5
        r0_ohm = np.where(now, r0_ohm, r0_ohm * np.exp(law.ohmic_k * inverse_kelvin(pack.temperature_c)))
    return r0_ohm, r1_ohm * np.exp(law.kinetic_k * colder), r2_ohm * np.exp(law.slow_k * colder)
