"""The circuit of `electrical/circuit.py` on arrays, compiled: the same method and the same steps.

For whoever asks about thousands of groups: the search for plans, and everything that has loaded it.
`circuit.run` hands over to it then. Arrays are by pack; see `circuit.Branch` and `circuit.run` for
what they hold.
"""

from math import exp
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from iterum.core.compiled import compiled, entry
from iterum.core.quantities import NOISE

Array = NDArray[np.float64]

LINES = 20
"""Lines of an open-circuit table."""
FLOOR_C, FIRST_STEP_S, LONGEST_STEP_S = 0.02, 0.02, 120.0
PASSES = 4
CURRENT, POWER, VOLTS = 0, 1, 2


class Branches(NamedTuple):
    """Packs as branches of one node: capacity_as A s, r0 with lead, r1, r2 ohm, tau1, tau2 s, table_v (N, 21) V."""

    capacity_as: Array
    r0: Array
    r1: Array
    tau1: Array
    r2: Array
    tau2: Array
    table_v: Array


class State(NamedTuple):
    """What changes of them: state of charge, V over the RC pairs, A into each. Written in place."""

    soc: Array
    u1: Array
    u2: Array
    amps: Array


class Fed(NamedTuple):
    """What feeds the node, and when a run ends: see `circuit.Feeding` and `circuit.run`."""

    amps: float
    watts: float
    end_v: float
    until_s: float
    tail: float
    tolerance: float


class Ran(NamedTuple):
    """What came of a run: seconds, Wh into the node, when the end volts were reached (negative: never), how long watts
    set the amps, whether it came to its own end, how many moments were written down."""

    seconds: float
    energy_wh: float
    end_v_at_s: float
    limited_s: float
    done: bool
    moments: int


@compiled
def line_at(soc: float) -> int:
    """The line of the table on which a state of charge lies."""
    line = int(soc * LINES)
    return 0 if soc < 0 else min(line, LINES - 1)


@compiled
def source_v(branches: Branches, state: State, pack: int) -> float:
    """V behind the ohmic part of a pack now."""
    line = line_at(state.soc[pack])
    low = branches.table_v[pack, line]
    slope = (branches.table_v[pack, line + 1] - low) * LINES
    return low + slope * (state.soc[pack] - line / LINES) + state.u1[pack] + state.u2[pack]


@compiled
def node_of(conductance_s: float, pushed_a: float, fed: Fed) -> tuple[float, float, int, float]:
    """See `circuit._node`."""
    if fed.amps == 0.0:
        return pushed_a / conductance_s, 0.0, CURRENT, pushed_a / conductance_s
    node_v, limit = (fed.amps + pushed_a) / conductance_s, CURRENT
    if node_v * fed.amps > fed.watts:
        node_v = (pushed_a + (pushed_a * pushed_a + 4 * conductance_s * fed.watts) ** 0.5) / (2 * conductance_s)
        limit = POWER
    free_v = node_v
    if node_v > fed.end_v:
        node_v, limit = max(fed.end_v, pushed_a / conductance_s), VOLTS
    return node_v, node_v * conductance_s - pushed_a, limit, free_v


@compiled
def begin(branches: Branches, state: State, fed: Fed) -> tuple[float, float, int, float]:
    """Amps at the instant of joining into `state`; what the node does then."""
    conductance_s = pushed_a = 0.0
    for pack in range(len(state.soc)):
        conductance_s += 1 / branches.r0[pack]
        pushed_a += source_v(branches, state, pack) / branches.r0[pack]
    node = node_of(conductance_s, pushed_a, fed)
    for pack in range(len(state.soc)):
        state.amps[pack] = (node[0] - source_v(branches, state, pack)) / branches.r0[pack]
    return node


@compiled
def step(
    branches: Branches, now: State, new: State, fed: Fed, step_s: float, work: Array
) -> tuple[float, float, int, float]:
    """The state so much later, into `new`. work : (9, N), to write in. See `circuit._Stepper.step`."""
    count = len(now.soc)
    for pack in range(count):
        new.amps[pack] = now.amps[pack]
    tau1 = tau2 = -1.0
    decay1 = begin1 = end1 = decay2 = begin2 = end2 = 0.0
    node = (0.0, 0.0, 0, 0.0)
    for _ in range(PASSES):
        conductance_s = pushed_a = 0.0
        for pack in range(count):
            if branches.tau1[pack] != tau1 or branches.tau2[pack] != tau2:
                tau1, tau2 = branches.tau1[pack], branches.tau2[pack]
                decay1 = exp(-step_s / tau1)
                end1 = 1 - tau1 / step_s * (1 - decay1)
                begin1 = 1 - decay1 - end1
                decay2 = exp(-step_s / tau2)
                end2 = 1 - tau2 / step_s * (1 - decay2)
                begin2 = 1 - decay2 - end2
            kept1 = decay1 * now.u1[pack] + branches.r1[pack] * begin1 * now.amps[pack]
            kept2 = decay2 * now.u2[pack] + branches.r2[pack] * begin2 * now.amps[pack]
            half = 0.5 / branches.capacity_as[pack] * step_s
            soc = now.soc[pack] + half * now.amps[pack]
            line = line_at(soc + half * new.amps[pack])
            low = branches.table_v[pack, line]
            slope = (branches.table_v[pack, line + 1] - low) * LINES
            source = low - slope * line / LINES + slope * soc + kept1 + kept2
            ohm1, ohm2 = branches.r1[pack] * end1, branches.r2[pack] * end2
            conductance = 1 / (branches.r0[pack] + ohm1 + ohm2 + slope * half)
            conductance_s += conductance
            pushed_a += conductance * source
            work[0, pack], work[1, pack], work[2, pack], work[3, pack] = source, conductance, soc, half
            work[4, pack], work[5, pack], work[6, pack], work[7, pack] = kept1, kept2, ohm1, ohm2
            work[8, pack] = line
        node = node_of(conductance_s, pushed_a, fed)
        stayed = True
        for pack in range(count):
            amps = (node[0] - work[0, pack]) * work[1, pack]
            soc = work[2, pack] + work[3, pack] * amps
            new.amps[pack], new.soc[pack] = amps, soc
            new.u1[pack] = work[4, pack] + work[6, pack] * amps
            new.u2[pack] = work[5, pack] + work[7, pack] * amps
            if 0 <= soc < 1 and int(soc * LINES) != int(work[8, pack]):
                stayed = False
        if stayed:
            break
    return node


@compiled
def overshoot(now: tuple[float, float, int, float], new: tuple[float, float, int, float], fed: Fed) -> float:
    """See `circuit._overshoot`; negative where nothing was passed."""
    if new[2] != VOLTS:
        return -1.0
    cut_a = fed.tail * fed.amps
    if now[2] != VOLTS and new[3] - fed.end_v > 1e-6:
        return (fed.end_v - now[0]) / (new[3] - now[0])
    if cut_a - new[1] > 1e-5 * cut_a and now[1] > cut_a:
        return (now[1] - cut_a) / (now[1] - new[1])
    return -1.0


@compiled
def off_by(branches: Branches, now: State, new: State, before_a: Array, ahead: float) -> float:
    """See `circuit._off`."""
    worst = 0.0
    for pack in range(len(before_a)):
        size = max(abs(new.amps[pack]), FLOOR_C * branches.capacity_as[pack] / 3600)
        foretold = now.amps[pack] + (now.amps[pack] - before_a[pack]) * ahead
        worst = max(worst, abs(new.amps[pack] - foretold) / size)
    return worst


@compiled
def copy_state(source: State, target: State) -> None:
    """Write one state into another."""
    for pack in range(len(source.soc)):
        target.soc[pack], target.amps[pack] = source.soc[pack], source.amps[pack]
        target.u1[pack], target.u2[pack] = source.u1[pack], source.u2[pack]


@compiled
def within(amps: Array, settled_a: Array) -> bool:
    """Whether every current is within its limit."""
    largest = 0.0
    for pack in range(len(amps)):
        largest = max(largest, abs(amps[pack]) - settled_a[pack])
    return largest <= 0.0


@compiled
def seconds_above(low: float, high: float, limit: float, step_s: float) -> float:
    """Seconds of a step, in which a quantity runs straight, that it spends above a limit."""
    if low > high:
        low, high = high, low
    if high <= limit:
        return 0.0
    return step_s if low >= limit else step_s * (high - limit) / (high - low)


@compiled
def seen(amps: Array, peaks_a: Array) -> None:
    """Keep the highest and the lowest amps of each pack; `peaks_a` may have no rows."""
    if len(peaks_a):
        for pack in range(len(amps)):
            peaks_a[0, pack] = max(peaks_a[0, pack], amps[pack])
            peaks_a[1, pack] = min(peaks_a[1, pack], amps[pack])


@compiled
def run(
    branches: Branches,
    state: State,
    fed: Fed,
    settled_a: Array,
    limit_a: Array,
    over_s: Array,
    peaks_a: Array,
    trace: Array,
) -> Ran:
    """Let the branches run under a feeding, as `circuit.run` does; `state` is brought to the end.

    settled_a : by pack, A at which evening out ends; empty to go on. limit_a : by pack, A; the seconds that each pack
    takes more are added to `over_s`; both may be empty. peaks_a : (2, N), highest and lowest A of each pack, kept from
    what is there; no rows to keep nothing. trace : (moments, 3 + 2 N): seconds, node V, feed A, amps and states of
    charge by pack; no rows to write nothing down.
    """
    count = len(state.soc)
    new = State(np.empty(count), np.empty(count), np.empty(count), np.empty(count))
    work, before_a = np.empty((9, count)), np.empty(count)
    node = begin(branches, state, fed)
    before_s = -1.0
    t_s, step_s, energy_ws, limited_s = 0.0, FIRST_STEP_S, 0.0, 0.0
    reached_s = 0.0 if node[2] == VOLTS else -1.0
    done = fed.amps > 0 and node[2] == VOLTS and node[1] <= fed.tail * fed.amps
    moments = note(trace, 0, t_s, node, state)
    seen(state.amps, peaks_a)
    while not done and t_s < fed.until_s - NOISE:
        step_s = min(step_s, fed.until_s - t_s, LONGEST_STEP_S)
        after = step(branches, state, new, fed, step_s, work)
        off = 1.0
        if before_s > 0:
            off = off_by(branches, state, new, before_a, step_s / before_s) / fed.tolerance
        if off > 2.0 and step_s > FIRST_STEP_S:
            step_s = max(step_s * max(0.8 * off**-0.5, 0.2), FIRST_STEP_S)
            continue
        part = overshoot(node, after, fed)
        if part >= 0 and step_s > 1e-6:
            step_s *= min(max(part, 1e-3), 0.999)
            continue
        t_s += step_s
        v0, a0, v1, a1 = node[0], node[1], after[0], after[1]
        energy_ws += step_s / 6 * (2 * v0 * a0 + v0 * a1 + v1 * a0 + 2 * v1 * a1)
        if after[2] == POWER:
            limited_s += step_s
        if reached_s < 0 and after[2] == VOLTS:
            reached_s = t_s
        for pack in range(len(limit_a)):
            over_s[pack] += seconds_above(state.amps[pack], new.amps[pack], limit_a[pack], step_s)
        for pack in range(count):
            before_a[pack] = state.amps[pack]
        before_s = step_s
        copy_state(new, state)
        node = after
        moments = note(trace, moments, t_s, node, state)
        seen(state.amps, peaks_a)
        step_s *= min(max(0.9 * max(off, NOISE) ** -0.5, 0.3), 2.5)
        if fed.amps > 0:
            done = node[2] == VOLTS and node[1] <= fed.tail * fed.amps * (1 + 1e-5)
        elif len(settled_a):
            done = within(state.amps, settled_a)
    return Ran(t_s, energy_ws / 3600, reached_s, limited_s, done, moments)


@compiled
def note(trace: Array, moments: int, t_s: float, node: tuple[float, float, int, float], state: State) -> int:
    """Write a moment down where there is room; how many there are then."""
    if moments < len(trace):
        count = len(state.soc)
        trace[moments, 0], trace[moments, 1], trace[moments, 2] = t_s, node[0], node[1]
        for pack in range(count):
            trace[moments, 3 + pack], trace[moments, 3 + count + pack] = state.amps[pack], state.soc[pack]
    return moments + 1


MOMENTS = 2_000
"""Room for so many moments of a run; one that needs more is run without the compiled circuit."""


@entry
def run_once(branches: Branches, state: State, fed: Fed, settled_a: Array, trace: Array) -> Ran:
    """`run`, from outside."""
    return run(branches, state, fed, settled_a, np.empty(0), np.empty(0), np.empty((0, 0)), trace)
