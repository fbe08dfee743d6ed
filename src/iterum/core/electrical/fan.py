"""What a charge would do in every way that its packs may be, and the bands that follow from it.

The ways go through the circuit in one call where the compiled one is loaded; else one after another through the plain
one, which gives the same (docs/belief.md holds both times).
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from iterum.core.electrical.belief import beliefs_of
from iterum.core.electrical.circuit import FOLLOWED_S, ROUGH_TOLERANCE, Branch, Feeding, Trace, run
from iterum.core.electrical.plugging import time_above
from iterum.core.electrical.resistance import Use, resistance_of
from iterum.core.electrical.ways import EARLY_S, Ran, Ways, room_for
from iterum.core.quantities import NOISE
from iterum.core.things.packs import Pack

Array = NDArray[np.float64]

LOW, HIGH = 0.05, 0.95
"""A band leaves out one way in ten."""


@dataclass(frozen=True)
class Band:
    """A figure as the ways leave it open: nine in ten lie between `low` and `high`, half are below `middle`."""

    low: float
    middle: float
    high: float


def band(values: Array) -> Band:
    """The band of one figure, by ranks of so few ways that one more lies inside nine times in ten (Weibull's).

    values : one by way.
    """
    ordered, last = np.sort(values).tolist(), len(values) - 1
    ends = []
    for part in (LOW, 0.5, HIGH):  # numpy's own quantile takes as long as the circuit of a way
        rank = min(max(part * (last + 2) - 1, 0.0), float(last))
        below = min(int(rank), max(last - 1, 0))
        ends.append(ordered[below] + (rank - below) * (ordered[min(below + 1, last)] - ordered[below]))
    return Band(*ends)


@dataclass(frozen=True, eq=False)
class PackFan:
    """One pack of a charge in every way. peak_c : its highest C. over_s : seconds above its charge C. share_a : A
    into it early, halfway and at the end. joined_c : the highest C into it while the packs are plugged in."""

    id: str
    peak_c: Band
    over_s: Band
    share_a: tuple[Band, ...]
    charge_mah: Band
    joined_c: Band


@dataclass(frozen=True, eq=False)
class Fan:
    """One charge in every way. all_minutes : min, by way. energy_wh : into the packs. contradicted : packs whose
    charges and typed capacity cannot both be true."""

    all_minutes: Array
    minutes: Band
    charge_mah: Band
    energy_wh: Band
    packs: tuple[PackFan, ...]
    contradicted: tuple[str, ...]


RunWays = Callable[[Ways, Feeding, float, Array], Ran]
_compiled: list[RunWays] = []


def hand_over_to(run_ways: RunWays) -> None:
    """Let every later fan be worked out by the compiled circuit, which gives the same.

    run_ways : ways, feeding, tail, and A by pack above which seconds are counted.
    """
    _compiled[:] = [run_ways]


def fan_of(packs: Sequence[Pack], waits_s: Sequence[float], lead_mohm: float, feeding: Feeding, tail: float) -> Fan:
    """Charge measured packs in every way that they may be. Raises ValueError for one without a reading.

    packs : in the order of plugging in. waits_s : after each plug, s, 0 or more. lead_mohm : of one branch, mOhm, 0 or
    more. tail : a charge ends when its amps have fallen to this part of those dialled, 0 to 1.
    """
    rate_c = feeding.current_a / sum(pack.capacity_ah for pack in packs)
    beliefs = beliefs_of(packs, rate_c)
    parts = [resistance_of(pack, Use.CHARGE) for pack in packs]

    def stacked(name: str) -> Array:
        return np.stack([getattr(one, name) for one in beliefs], axis=1)

    capacity_ah = stacked("capacity_ah")
    ways = Ways(
        capacity_as=capacity_ah * 3600,
        r0=stacked("r0_ohm") + lead_mohm / 1000,
        r1=stacked("r1_ohm"),
        r2=stacked("r2_ohm"),
        soc=stacked("soc"),
        table_v=np.stack([one.table_v * pack.cells for one, pack in zip(beliefs, packs, strict=True)], axis=1),
        tau1=np.array([part.tau1_s for part in parts]),
        tau2=np.array([part.tau2_s for part in parts]),
        waits_s=np.array(waits_s, dtype=float),
    )
    limit_a = np.array([pack.max_charge_a for pack in packs]) * (1 + NOISE)
    ran = (_compiled or [run_plainly])[0](ways, feeding, tail, limit_a)
    return Fan(
        all_minutes=ran.minutes,
        minutes=band(ran.minutes),
        charge_mah=band(ran.put_in_as.sum(axis=1) / 3.6),
        energy_wh=band(ran.energy_wh),
        packs=tuple(
            PackFan(
                id=pack.id,
                peak_c=band(ran.peak_a[:, place] / pack.capacity_ah),
                over_s=band(ran.over_s[:, place]),
                share_a=tuple(band(ran.share_a[:, row, place]) for row in range(3)),
                charge_mah=band(ran.put_in_as[:, place] / 3.6),
                joined_c=band(ran.joined_a[:, 0, place] / pack.capacity_ah),
            )
            for place, pack in enumerate(packs)
        ),
        contradicted=tuple(pack.id for pack, one in zip(packs, beliefs, strict=True) if one.contradicted),
    )


def run_plainly(ways: Ways, feeding: Feeding, tail: float, limit_a: Array) -> Ran:
    """Every way through `circuit.run`.

    ways : as arrays. feeding : of the node. tail : part of the amps, 0 to 1. limit_a : A by pack above which seconds
    are counted.
    """
    count = ways.soc.shape[1]
    ran = room_for(len(ways.soc), count)
    for way in range(len(ways.soc)):
        branches = [
            Branch(
                float(ways.capacity_as[way, pack]), float(ways.r0[way, pack]), float(ways.r1[way, pack]),
                float(ways.tau1[pack]), float(ways.r2[way, pack]), float(ways.tau2[pack]),
                tuple(ways.table_v[way, pack].tolist()), float(ways.soc[way, pack]),
            )
            for pack in range(count)
        ]  # fmt: skip
        for plugged in range(2, count + 1):
            still = run(branches[:plugged], Feeding(), float(ways.waits_s[plugged - 1]), tolerance=ROUGH_TOLERANCE)
            branches[:plugged] = still.last
            highest, lowest = still.current_a.max(axis=0), still.current_a.min(axis=0)
            ran.joined_a[way, 0, :plugged] = np.maximum(ran.joined_a[way, 0, :plugged], highest)
            ran.joined_a[way, 1, :plugged] = np.minimum(ran.joined_a[way, 1, :plugged], lowest)
        _charge_plainly(way, ran, branches, run(branches, feeding, FOLLOWED_S, tail, tolerance=ROUGH_TOLERANCE),
                        limit_a)  # fmt: skip
    return ran


def _charge_plainly(way: int, ran: Ran, begun: Sequence[Branch], trace: Trace, limit_a: Array) -> None:
    end_s = float(trace.t_s[-1])
    ran.minutes[way], ran.energy_wh[way] = end_s / 60, trace.energy_wh
    for pack, branch in enumerate(begun):
        amps = trace.current_a[:, pack]
        ran.put_in_as[way, pack] = (float(trace.soc[-1, pack]) - branch.soc) * branch.capacity_as
        ran.peak_a[way, pack] = max(float(amps.max()), 0.0)
        ran.over_s[way, pack] = time_above(trace.t_s, amps, float(limit_a[pack]))
        for row, moment_s in enumerate((min(EARLY_S, end_s), end_s / 2, end_s)):
            ran.share_a[way, row, pack] = np.interp(moment_s, trace.t_s, amps)
