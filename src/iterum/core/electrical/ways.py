"""Every way that a group may be, plugged in and charged in one call: the circuit of `kernel.py` over and over.

Arrays are by way first, then by pack in the order of plugging in.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from iterum.core.compiled import compiled, entry
from iterum.core.electrical.kernel import Branches, Fed, State, run

Array = NDArray[np.float64]

EARLY_S = 60.0
"""Shares are told this long after the start, halfway, and at the end."""
MOMENTS = 600
"""Room for the moments of one charge, followed roughly."""


class Ways(NamedTuple):
    """capacity_as A s, r0 with lead, r1, r2 ohm, soc: (D, N). table_v : V of the whole pack, (D, N, 21). tau1, tau2 s,
    waits_s after each plug: (N,)."""

    capacity_as: Array
    r0: Array
    r1: Array
    r2: Array
    soc: Array
    table_v: Array
    tau1: Array
    tau2: Array
    waits_s: Array


class Ran(NamedTuple):
    """minutes, energy_wh into the node: (D,). put_in_as A s, peak_a, over_s above limit_a: (D, N). share_a : early,
    halfway and at the end, (D, 3, N). joined_a : highest and lowest A while they are plugged in, (D, 2, N)."""

    minutes: Array
    energy_wh: Array
    put_in_as: Array
    peak_a: Array
    over_s: Array
    share_a: Array
    joined_a: Array


def room_for(ways: int, packs: int) -> Ran:
    """Arrays to write in. ways, packs : how many, 1 or more."""
    by_pack = (ways, packs)
    return Ran(np.zeros(ways), np.zeros(ways), np.zeros(by_pack), np.zeros(by_pack), np.zeros(by_pack),
               np.zeros((ways, 3, packs)), np.zeros((ways, 2, packs)))  # fmt: skip


@compiled
def share_at(trace: Array, moments: int, moment_s: float, pack: int) -> float:
    """A into a pack at a moment of a run."""
    amps = trace[moments - 1, 3 + pack]
    for row in range(1, moments):
        if trace[row, 0] >= moment_s:
            before_s, after_s = trace[row - 1, 0], trace[row, 0]
            part = (moment_s - before_s) / (after_s - before_s) if after_s > before_s else 1.0
            amps = trace[row - 1, 3 + pack] + part * (trace[row, 3 + pack] - trace[row - 1, 3 + pack])
            break
    return float(amps)


@entry
def run_ways(ways: Ways, fed: Fed, limit_a: Array, ran: Ran) -> None:
    """Plug in and charge every way, into `ran`. limit_a : A above which seconds are counted, (N,)."""
    count = ways.soc.shape[1]
    nothing, no_rows = np.empty(0), np.empty((0, 0))
    trace = np.empty((MOMENTS, 3 + 2 * count))
    for way in range(len(ways.soc)):
        soc, u1, u2, amps = ways.soc[way].copy(), np.zeros(count), np.zeros(count), np.zeros(count)
        for plugged in range(2, count + 1):
            branches = Branches(
                ways.capacity_as[way, :plugged].copy(), ways.r0[way, :plugged].copy(), ways.r1[way, :plugged].copy(),
                ways.tau1[:plugged].copy(), ways.r2[way, :plugged].copy(), ways.tau2[:plugged].copy(),
                ways.table_v[way, :plugged].copy(),
            )  # fmt: skip
            part = State(soc[:plugged].copy(), u1[:plugged].copy(), u2[:plugged].copy(), amps[:plugged].copy())
            peaks_a = np.zeros((2, plugged))
            still = Fed(0.0, fed.watts, fed.end_v, ways.waits_s[plugged - 1], fed.tail, fed.tolerance)
            run(branches, part, still, nothing, nothing, nothing, peaks_a, no_rows)
            for pack in range(plugged):
                soc[pack], u1[pack], u2[pack] = part.soc[pack], part.u1[pack], part.u2[pack]
                ran.joined_a[way, 0, pack] = max(ran.joined_a[way, 0, pack], peaks_a[0, pack])
                ran.joined_a[way, 1, pack] = min(ran.joined_a[way, 1, pack], peaks_a[1, pack])
        branches = Branches(
            ways.capacity_as[way].copy(), ways.r0[way].copy(), ways.r1[way].copy(), ways.tau1.copy(),
            ways.r2[way].copy(), ways.tau2.copy(), ways.table_v[way].copy(),
        )  # fmt: skip
        begun = soc.copy()
        state, peaks_a = State(soc, u1, u2, amps), np.zeros((2, count))
        over_s = np.zeros(count)
        result = run(branches, state, fed, nothing, limit_a, over_s, peaks_a, trace)
        ran.minutes[way], ran.energy_wh[way] = result.seconds / 60, result.energy_wh
        moments = min(result.moments, MOMENTS)
        for pack in range(count):
            ran.put_in_as[way, pack] = (soc[pack] - begun[pack]) * ways.capacity_as[way, pack]
            ran.peak_a[way, pack], ran.over_s[way, pack] = peaks_a[0, pack], over_s[pack]
            ran.share_a[way, 0, pack] = share_at(trace, moments, min(EARLY_S, result.seconds), pack)
            ran.share_a[way, 1, pack] = share_at(trace, moments, result.seconds / 2, pack)
            ran.share_a[way, 2, pack] = share_at(trace, moments, result.seconds, pack)
