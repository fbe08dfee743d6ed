"""The compiled circuit behind `circuit.run` and `fan.fan_of`, for processes that have loaded it."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from iterum.core.compiled import COMPILED, is_ready
from iterum.core.electrical import circuit, fan
from iterum.core.electrical.circuit import ROUGH_TOLERANCE, Branch, Feeding, Trace
from iterum.core.electrical.kernel import MOMENTS, Branches, Fed, State, run_once
from iterum.core.electrical.ways import Ran, Ways, room_for, run_ways


def run_compiled(
    branches: Sequence[Branch],
    feeding: Feeding,
    until_s: float,
    tail: float,
    settled_a: Sequence[float] | None,
    tolerance: float,
) -> Trace | None:
    """`circuit.run`, compiled; None where it needs more moments than there is room for.

    until_s : s. tail : part of the amps, 0 to 1. settled_a : A, by pack. tolerance : part of a current, above 0.
    """
    count = len(branches)
    rows = np.array(
        [(b.capacity_as, b.r0_ohm, b.r1_ohm, b.tau1_s, b.r2_ohm, b.tau2_s, b.soc, b.u1_v, b.u2_v) for b in branches]
    ).T.copy()
    table_v = np.array([branch.table_v for branch in branches])
    state = State(rows[6], rows[7], rows[8], np.zeros(count))
    fed = Fed(float(feeding.current_a), float(feeding.power_w), float(feeding.end_v), float(until_s), float(tail),
              float(tolerance))  # fmt: skip
    settled = np.array([] if settled_a is None else settled_a, dtype=float)
    trace = np.empty((MOMENTS, 3 + 2 * count))
    ran = run_once(Branches._make((*rows[:6], table_v)), state, fed, settled, trace)
    if ran.moments > MOMENTS:
        return None
    seen = trace[: ran.moments].copy()
    last = zip(branches, state.soc.tolist(), state.u1.tolist(), state.u2.tolist(), strict=True)
    return Trace(
        t_s=seen[:, 0],
        node_v=seen[:, 1],
        feed_a=seen[:, 2],
        current_a=seen[:, 3 : 3 + count],
        soc=seen[:, 3 + count :],
        energy_wh=ran.energy_wh,
        end_v_at_s=None if ran.end_v_at_s < 0 else ran.end_v_at_s,
        power_limited_s=ran.limited_s,
        done=bool(ran.done),
        last=tuple(replace(branch, soc=soc, u1_v=u1_v, u2_v=u2_v) for branch, soc, u1_v, u2_v in last),
    )


def run_ways_compiled(ways: Ways, feeding: Feeding, tail: float, limit_a: NDArray[np.float64]) -> Ran:
    """`fan.run_plainly`, compiled.

    ways : as arrays. feeding : of the node. tail : part of the amps, 0 to 1. limit_a : A by pack above which seconds
    are counted.
    """
    ran = room_for(*ways.soc.shape)
    fed = Fed(float(feeding.current_a), float(feeding.power_w), float(feeding.end_v), circuit.FOLLOWED_S, float(tail),
              ROUGH_TOLERANCE)  # fmt: skip
    run_ways(Ways._make(np.ascontiguousarray(array, dtype=float) for array in ways), fed, limit_a, ran)
    return ran


def hand_over() -> None:
    """Let every later circuit of this process be compiled."""
    circuit.hand_over_to(run_compiled)
    fan.hand_over_to(run_ways_compiled)


if COMPILED and is_ready():  # else the first page would wait until the compiler is done
    hand_over()
