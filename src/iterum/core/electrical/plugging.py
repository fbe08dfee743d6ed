"""What packs see when they are plugged together: at each plug the largest current of any pack, and for how long."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from iterum.core.bench.kit import DEFAULT_LEAD_MOHM
from iterum.core.bench.packs import Pack
from iterum.core.bench.rules import HouseRules
from iterum.core.electrical.circuit import Array, Branch, Feeding, Trace, branch_of, run, settled
from iterum.core.electrical.resistance import Basis, resistance_of
from iterum.core.quantities import NOISE, at_most
from iterum.core.reasons import Reason, reason

SHOWN_S = 1800.0
"""EvenedOut out is followed for half an hour."""
BALANCE_WIRE_MOHM = 30.0
"""One balance wire with its contacts: 10 to 20 cm of 22 to 26 AWG copper at 53 to 134 mOhm a metre. An estimate."""


@dataclass(frozen=True)
class PackJoined:
    """What one pack sees when the group is joined.

    peak_current_a : its largest current, positive is being charged. peak_rate_c : the size of it in C.
    over_s : seconds above its own charge C. basis : what its resistance rests on.
    """

    id: str
    peak_current_a: float
    peak_rate_c: float
    over_s: float
    charge_c: float
    basis: Basis


@dataclass(frozen=True)
class Plug:
    """One pack being plugged to those before it.

    rate_c, current_a : the most C, and amps, through any pack. worst : the pack longest above its charge C, or seeing
    the most C. wait_s : to wait before it is plugged in.
    """

    id: str
    rate_c: float
    current_a: float
    worst: PackJoined
    wait_s: float = 0.0


def time_above(t_s: Array, size: Array, limit: float) -> float:
    """Seconds that a quantity running straight between moments spends above a limit."""
    if size.max() <= limit:
        return 0.0
    low, high = np.minimum(size[:-1], size[1:]), np.maximum(size[:-1], size[1:])
    rise = np.where(high > low, high - low, 1.0)
    part = np.clip((high - limit) / rise, 0.0, 1.0)
    return float((np.diff(t_s) * np.where(low > limit, 1.0, np.where(high > limit, part, 0.0))).sum())


def time_until(t_s: Array, size: Array, limit: float) -> float | None:
    """When a quantity falls under a limit for good; None if it has not at the end."""
    above = np.flatnonzero(size > limit)
    if not len(above):
        return 0.0
    last = int(above[-1])
    if last == len(size) - 1:
        return None
    part = (size[last] - limit) / (size[last] - size[last + 1])
    return float(t_s[last] + part * (t_s[last + 1] - t_s[last]))


def latest(times_s: Sequence[float | None]) -> float | None:
    """The last of several moments; None if one of them never comes.

    times_s : moments, s; None for never.
    """
    known = [moment_s for moment_s in times_s if moment_s is not None]
    return max(known, default=0.0) if len(known) == len(times_s) else None


def seen_by(packs: Sequence[Pack], trace: Trace) -> tuple[PackJoined, ...]:
    """The largest current of each pack in a trace, and its seconds above its charge C."""
    sizes_a = np.abs(trace.current_a)
    peaks_a = trace.current_a[sizes_a.argmax(axis=0), range(len(packs))].tolist()
    seen = []
    for index, (pack, peak_a) in enumerate(zip(packs, peaks_a, strict=True)):
        peak_c, most_c = abs(peak_a) / pack.capacity_ah, pack.charge_c + NOISE
        over_s = time_above(trace.t_s, sizes_a[:, index] / pack.capacity_ah, most_c) if peak_c > most_c else 0.0
        seen.append(PackJoined(pack.id, peak_a, peak_c, over_s, pack.charge_c, resistance_of(pack).basis))
    return tuple(seen)


def joins(first: Sequence[Branch], second: Sequence[Branch]) -> list[Branch]:
    """Two sets, each evened out by itself, as they meet."""
    return [*settled(first), *settled(second)]


def plug_by_plug(packs: Sequence[Pack], lead_mohm: float = DEFAULT_LEAD_MOHM) -> tuple[Plug, ...]:
    """Plug the packs in, in the order given, each to those before it evened out: the worst that any pack sees.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    return _plug_by_plug(tuple(packs), lead_mohm)


@lru_cache(maxsize=16_384)
def _plug_by_plug(packs: tuple[Pack, ...], lead_mohm: float) -> tuple[Plug, ...]:
    """Those before the last are known from when they were asked for: a planner asks for one more each time."""
    if len(packs) < 2:
        return ()
    branches = [branch_of(pack, lead_mohm) for pack in packs]
    trace = run(
        joins(branches[:-1], branches[-1:]), Feeding(), SHOWN_S, settled_a=[pack.max_charge_a for pack in packs]
    )
    return (*_plug_by_plug(packs[:-1], lead_mohm), _plug(packs, trace))


def _plug(packs: Sequence[Pack], trace: Trace) -> Plug:
    """What the last of these packs does to any of them."""
    seen = seen_by(packs, trace)
    fiercest = max(seen, key=lambda item: item.peak_rate_c)
    worst = max(seen, key=lambda item: (item.over_s, item.peak_rate_c))
    worst = worst if worst.over_s > 0 else fiercest
    return Plug(packs[-1].id, fiercest.peak_rate_c, max(abs(item.peak_current_a) for item in seen), worst)


def join_reasons(plugs: Sequence[Plug], rules: HouseRules) -> tuple[Reason, ...]:
    """Why a group breaks the joining rule, empty when it does not: at which plug, how many C, how long."""
    if rules.join_peak_c is None:
        return ()
    reasons = []
    for plug in plugs:
        if not at_most(plug.rate_c, rules.join_peak_c):
            reasons.append(reason("join_peak", id=plug.id, rate_c=plug.rate_c, limit_c=rules.join_peak_c))
        elif not at_most(plug.worst.over_s, rules.join_over_s):
            numbers = {"over_s": plug.worst.over_s, "limit_s": rules.join_over_s, "charge_c": plug.worst.charge_c}
            reasons.append(reason("join_long", id=plug.id, other=plug.worst.id, **numbers))
    return tuple(reasons)


# ---------------------------------------------------------------------------------------- balance leads first


def balance_first_a(packs: Sequence[Pack]) -> float:
    """The most amps through any balance wire when only balance leads join these packs, all at once.

    Every pack is its cells in series; each of its wires meets those of the others at a tap of the board. Solved as a
    network of resistances at the first instant, before any pair of the model has filled.
    """
    cells = packs[0].cells
    taps = cells + 1
    size = taps * (len(packs) + 1)  # the board's taps, then those of each pack
    siemens, pushed = np.zeros((size, size)), np.zeros(size)
    wire_s = 1000 / BALANCE_WIRE_MOHM
    for number, pack in enumerate(packs, 1):
        ohms = _cell_ohms(pack)
        volts = _cell_volts(pack)
        for tap in range(taps):
            _connect(siemens, number * taps + tap, tap, wire_s)
        for cell in range(cells):
            low, high = number * taps + cell, number * taps + cell + 1
            _connect(siemens, low, high, 1 / ohms[cell])
            pushed[high] += volts[cell] / ohms[cell]
            pushed[low] -= volts[cell] / ohms[cell]
    node_v = np.zeros(size)
    node_v[1:] = np.linalg.solve(siemens[1:, 1:], pushed[1:])  # the board's lowest tap stands at 0 V
    boards = node_v[:taps]
    drops_v = [np.abs(node_v[n * taps : (n + 1) * taps] - boards).max() for n in range(1, len(packs) + 1)]
    return float(max(drops_v)) * wire_s


def _connect(siemens: Array, one: int, other: int, conductance_s: float) -> None:
    siemens[one, one] += conductance_s
    siemens[other, other] += conductance_s
    siemens[one, other] -= conductance_s
    siemens[other, one] -= conductance_s


def _cell_ohms(pack: Pack) -> list[float]:
    if pack.resistance_mohm:
        return [max(mohm, 0.1) / 1000 for mohm in pack.resistance_mohm]
    return [resistance_of(pack).r0_ohm / pack.cells] * pack.cells


def _cell_volts(pack: Pack) -> Sequence[float]:
    if pack.reading is None:
        raise ValueError(f"{pack.id} has no reading")
    return pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) * pack.cells
