"""The compiled circuit behind `circuit.run`, for processes that have loaded it."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from iterum.core.electrical.circuit import Branch, Feeding, Trace, hand_over_to
from iterum.core.electrical.kernel import MOMENTS, Branches, Fed, State, run_once


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


hand_over_to(run_compiled)
