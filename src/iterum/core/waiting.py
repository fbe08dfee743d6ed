"""How long to wait: so long that no pack takes more than it may and no balance lead more than about 2 A.

The limits are those of the house rule on joining, the charger's share counted in from the moment it starts.
"""

from collections.abc import Callable, Sequence

import numpy as np

from iterum.core.circuit import Branch, Feeding, Trace, branch_of, run
from iterum.core.packs import Pack
from iterum.core.plugging import BALANCE_WIRE_MOHM, SHOWN_S, latest, time_above, time_until
from iterum.core.quantities import at_most, ceil_to_step, difference
from iterum.core.rules import HouseRules, JoinOrder

BALANCE_LEAD_A = 2.0
"""What a balance lead carries. Common practice, no source."""
NO_WAIT_V = 0.02
"""Within this much per cell there is nothing to wait for: plug in and go on. Common practice, no source."""
OVER_SHARE = 1.25
"""While it charges, a pack is over its charge C from this many times it on: unlike resistance alone makes shares
differ by a fifth for ten minutes in any charge."""
SHARE_FOLLOWED_S = 600.0
"""How long the first minutes of a charge are followed for what evening out adds to them."""
WAIT_STEP_MIN, WAIT_TOLERANCE_S = 0.5, 10.0


def _spread_per_cell_v(packs: Sequence[Pack]) -> float:
    volts = [pack.cell_v or 0.0 for pack in packs]
    return difference(max(volts), min(volts))


def _over_by_pack(packs: Sequence[Pack], trace: Trace, times: float) -> list[float]:
    """Seconds of each pack above so many times its charge C."""
    return [
        time_above(trace.t_s, np.abs(trace.current_a[:, index]) / pack.capacity_ah, times * pack.charge_c)
        for index, pack in enumerate(packs)
    ]


def _peak_c(packs: Sequence[Pack], trace: Trace) -> float:
    return float((np.abs(trace.current_a) / [pack.capacity_ah for pack in packs]).max())


def _waits_between(packs: Sequence[Pack], lead_mohm: float, rules: HouseRules) -> tuple[list[float], list[Branch]]:
    """Seconds to wait before each plug from the second on, and the packs just after the last one.

    None where all could be joined at once; else each plug waits until the rule holds for it.
    """
    assert rules.join_peak_c is not None  # asked by whoever calls
    branches = [branch_of(pack, lead_mohm) for pack in packs]
    at_once = run(branches, Feeding(), SHOWN_S, settled_a=[pack.max_charge_a for pack in packs])
    longest_s = max(_over_by_pack(packs, at_once, 1.0))
    if at_most(_peak_c(packs, at_once), rules.join_peak_c) and at_most(longest_s, rules.join_over_s):
        return [0.0] * (len(packs) - 1), branches
    waits, now = [], branches[:1]
    for count in range(2, len(packs) + 1):
        members = packs[:count]
        wait_s, waited = 0.0, now
        for tried_s in (0.0, 30.0, 60.0, 120.0, 300.0, 600.0, SHOWN_S):
            wait_s, waited = tried_s, _after(now, tried_s)
            trace = run([*waited, branches[count - 1]], Feeding(), SHOWN_S, settled_a=[p.max_charge_a for p in members])
            over_s = max(_over_by_pack(members, trace, 1.0))
            if at_most(_peak_c(members, trace), rules.join_peak_c) and at_most(over_s, rules.join_over_s):
                break
        waits.append(wait_s)
        now = [*waited, branches[count - 1]]
    return waits, now


def _after(branches: Sequence[Branch], seconds: float) -> list[Branch]:
    """The same packs after they have evened out for so long."""
    return list(run(branches, Feeding(), seconds).last) if seconds > 0 and len(branches) > 1 else list(branches)


def _wait_before_charge_s(packs: Sequence[Pack], joined: Sequence[Branch], rules: HouseRules, rate_c: float) -> float:
    """Seconds from the last plug until the charger may add its share to what evening out still pushes."""
    assert rules.join_peak_c is not None
    amps = rate_c * sum(pack.capacity_ah for pack in packs)
    most_c = max(rules.join_peak_c, rate_c * OVER_SHARE)

    def bearable(wait_s: float) -> bool:
        over = [0.0] * len(packs)
        waited: Sequence[Branch] = joined
        if wait_s > 0:
            trace = run(joined, Feeding(), wait_s)
            over, waited = _over_by_pack(packs, trace, 1.0), trace.last
        trace = run(waited, Feeding(amps), SHARE_FOLLOWED_S)
        over = [one + more for one, more in zip(over, _over_by_pack(packs, trace, OVER_SHARE), strict=True)]
        return at_most(max(over), rules.join_over_s) and at_most(_peak_c(packs, trace), most_c)

    return _least(bearable, SHOWN_S)


def _least(holds: Callable[[float], bool], most: float) -> float:
    """The least figure up to `most` for which something holds, to `WAIT_TOLERANCE_S`; `most` where nothing helps."""
    if holds(0.0):
        return 0.0
    if not holds(most):
        return most
    low, high = 0.0, most
    while high - low > WAIT_TOLERANCE_S:
        middle = (low + high) / 2
        low, high = (low, middle) if holds(middle) else (middle, high)
    return high


def balance_wire_part(lead_mohm: float) -> float:
    """The part of a pack's current that its two outer balance wires carry once its main lead is in as well."""
    return lead_mohm / (lead_mohm + 2 * BALANCE_WIRE_MOHM)


def wait_before_charge_min(packs: Sequence[Pack], lead_mohm: float, rules: HouseRules, rate_c: float) -> float:
    """Minutes from the last plug until charging may start at `rate_c` of these packs; in steps of half a minute."""
    return waits(packs, lead_mohm, rules, rate_c)[1]


def waits(packs: Sequence[Pack], lead_mohm: float, rules: HouseRules, rate_c: float) -> tuple[list[float], float]:
    """Seconds before each plug from the second on, and minutes before charging. packs : in their order."""
    none = [0.0] * max(len(packs) - 1, 0)
    if len(packs) < 2 or rules.join_peak_c is None or at_most(_spread_per_cell_v(packs), NO_WAIT_V):
        return none, 0.0
    between_s, joined = _waits_between(packs, lead_mohm, rules)
    wait_s = _wait_before_charge_s(packs, joined, rules, rate_c)
    if rules.join_order is JoinOrder.SETTLE_THEN_BALANCE:
        evening = run(joined, Feeding(), SHOWN_S)
        wait_s = max(wait_s, balance_s(packs, evening, lead_mohm) or 0.0)
    return between_s, ceil_to_step(wait_s / 60, WAIT_STEP_MIN)


def balance_s(packs: Sequence[Pack], trace: Trace, lead_mohm: float) -> float | None:
    """When no balance wire would carry more than it may, main leads being in."""
    limit_a = BALANCE_LEAD_A / balance_wire_part(lead_mohm)
    sizes = np.abs(trace.current_a)
    return latest([time_until(trace.t_s, sizes[:, index], limit_a) for index in range(len(packs))])
