"""How long to wait: so long that no pack takes more than it may and no balance lead more than about 2 A.

The limits are those of the house rule on joining, the charger's share counted in from the moment it starts.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from math import ceil

import numpy as np

from iterum.core.electrical.circuit import ROUGH_TOLERANCE, Branch, Feeding, Trace, branch_of, run
from iterum.core.electrical.plugging import BALANCE_WIRE_MOHM, SHOWN_S, latest, time_above, time_until
from iterum.core.quantities import NOISE, at_most, ceil_to_step, difference
from iterum.core.things.kit import Port
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules, JoinOrder

BALANCE_LEAD_A = 2.0
"""What a balance lead carries. Common practice, no source."""
NO_WAIT_V = 0.02
"""Within this much per cell there is nothing to wait for: plug in and go on. Common practice, no source."""
OVER_SHARE = 1.25
"""While it charges, a pack is over its charge C from this many times it on: unlike resistance alone makes shares
differ by a fifth for ten minutes in any charge."""
SHARE_FOLLOWED_S = 600.0
"""How long the first minutes of a charge are followed for what evening out adds to them."""
WAIT_STEP_S = 30.0
HAND_S = 5.0
"""From one plug to the next, and from the last to the charger, a hand takes so long at least. Our choice."""
BETWEEN_S = (0.0, 15.0, 30.0, 60.0, 120.0, 300.0, 600.0, SHOWN_S)
"""Waits that are tried between plugs."""


def spread_per_cell_v(packs: Sequence[Pack]) -> float:
    """V between the highest and the lowest pack, per cell."""
    volts = [pack.cell_v or 0.0 for pack in packs]
    return difference(max(volts), min(volts))


def _over_by_pack(packs: Sequence[Pack], trace: Trace, times: float) -> list[float]:
    """Seconds in which more than so many times its charge C flows into each pack."""
    return [
        time_above(trace.t_s, trace.current_a[:, index] / pack.capacity_ah, times * pack.charge_c)
        for index, pack in enumerate(packs)
    ]


def _within(packs: Sequence[Pack], trace: Trace, into_c: float, port: Port) -> bool:
    """Whether no pack takes more C than `into_c` or gives more than it may, and no fuse carries too much."""
    capacity_ah = np.array([pack.capacity_ah for pack in packs])
    gives_a = np.array([pack.gives_c for pack in packs]) * capacity_ah
    fused = port.fuse_a is None or at_most(float(np.abs(trace.current_a).max()), port.fuse_a)
    return (
        fused
        and at_most(float((trace.current_a / capacity_ah).max()), into_c)
        and bool((trace.current_a + gives_a >= -NOISE).all())
    )


@dataclass(frozen=True)
class _Joined:
    """Packs as they hang together at one moment: the branches, and the seconds each was over its charge C so far."""

    branches: tuple[Branch, ...]
    over_s: tuple[float, ...]


def _later(packs: Sequence[Pack], joined: _Joined, seconds: float) -> _Joined:
    """The same packs after they have evened out for so long."""
    if seconds <= 0 or len(joined.branches) < 2:
        return joined
    trace = run(joined.branches, Feeding(), seconds, tolerance=ROUGH_TOLERANCE)
    over = _over_by_pack(packs, trace, 1.0)
    return _Joined(trace.last, tuple(one + more for one, more in zip(joined.over_s, over, strict=True)))


def _plugged(packs: Sequence[Pack], port: Port, rules: HouseRules) -> tuple[list[float], _Joined]:
    """Seconds to wait before each plug from the second on, and the packs just after the last one.

    0 where a hand that goes from plug to plug is slow enough, as for the second pack, to which the first is all there
    is; else each plug waits until the rule holds for it.
    """
    first = tuple(branch_of(pack, port.lead_mohm) for pack in packs[:2])
    joined, waits_s = _Joined(first, (0.0, 0.0)), [0.0]
    for count in range(3, len(packs) + 1):
        members, before = packs[:count], packs[: count - 1]
        new = branch_of(packs[count - 1], port.lead_mohm)
        for wait_s in BETWEEN_S:
            waited = _later(before, joined, HAND_S + wait_s)
            meeting = _Joined((*waited.branches, new), (*waited.over_s, 0.0))
            if wait_s == BETWEEN_S[-1] or _bearable(members, meeting, rules, port):
                break
        waits_s.append(wait_s)
        joined = meeting
    return waits_s, joined


def _bearable(packs: Sequence[Pack], joined: _Joined, rules: HouseRules, port: Port) -> bool:
    """Whether these packs, just plugged together, keep the joining rule if they are left to even out."""
    assert rules.join_peak_c is not None  # asked by whoever calls
    trace = run(joined.branches, Feeding(), SHOWN_S, settled_a=[pack.max_charge_a for pack in packs])
    over = zip(joined.over_s, _over_by_pack(packs, trace, 1.0), strict=True)
    longest_s = max(one + more for one, more in over)
    return at_most(longest_s, rules.join_over_s) and _within(packs, trace, rules.join_peak_c, port)


def _wait_before_charge_s(
    packs: Sequence[Pack], joined: _Joined, rules: HouseRules, rate_c: float, port: Port
) -> float:
    """Seconds from the last plug until the charger may add its share to what evening out still pushes."""
    assert rules.join_peak_c is not None
    amps = rate_c * sum(pack.capacity_ah for pack in packs)
    most_c = max(rules.join_peak_c, rate_c * OVER_SHARE)

    def bearable(waited: _Joined) -> bool:
        trace = run(waited.branches, Feeding(amps), SHARE_FOLLOWED_S, tolerance=ROUGH_TOLERANCE)
        over = zip(waited.over_s, _over_by_pack(packs, trace, OVER_SHARE), strict=True)
        longest_s = max(one + more for one, more in over)
        return at_most(longest_s, rules.join_over_s) and _within(packs, trace, most_c, port)

    waited, too_short, enough = _later(packs, joined, HAND_S), 0, ceil(SHOWN_S / WAIT_STEP_S)
    if bearable(waited):
        return 0.0
    while enough - too_short > 1:  # `waited` is after `too_short` steps: what is known of them is not run again
        middle = (too_short + enough) // 2
        later = _later(packs, waited, (middle - too_short) * WAIT_STEP_S)
        if bearable(later):
            enough = middle
        else:
            waited, too_short = later, middle
    return min(enough * WAIT_STEP_S, SHOWN_S)


def balance_wire_part(lead_mohm: float) -> float:
    """The part of a pack's current that its two outer balance wires carry once its main lead is in as well.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    return lead_mohm / (lead_mohm + 2 * BALANCE_WIRE_MOHM)


@dataclass(frozen=True)
class Waits:
    """How long to wait, and how the packs stand then.

    between_s : seconds before each plug from the second on. charge_min : from the last plug until charging, in steps of
    half a minute. plugged : the packs as branches just after the last plug, in the order in which they were plugged in.
    evened_s : from then until charging begins.
    """

    between_s: tuple[float, ...]
    charge_min: float
    plugged: tuple[Branch, ...]
    evened_s: float = 0.0

    @property
    def all_min(self) -> float:
        """All waits together, min."""
        return sum(self.between_s) / 60 + self.charge_min

    @cached_property
    def start(self) -> tuple[Branch, ...]:
        """The packs as they are when charging begins. Counted when asked for: most who ask for minutes do not."""
        if self.evened_s <= 0:
            return self.plugged
        return run(self.plugged, Feeding(), self.evened_s, tolerance=ROUGH_TOLERANCE).last


@dataclass(frozen=True)
class Start:
    """How packs were plugged in, and how they stand when the charger starts.

    order : their tags as plugged in; branches, waits_s : of each in that order; s after its plug. wait_min : the waits
    that a person keeps, together.
    """

    order: tuple[str, ...]
    branches: tuple[Branch, ...]
    waits_s: tuple[float, ...]
    wait_min: float

    def in_order(self, packs: Sequence[Pack]) -> tuple[Pack, ...]:
        """The packs as they are plugged in. packs : in any order."""
        return tuple(sorted(packs, key=lambda pack: self.order.index(pack.id)))

    def of(self, packs: Sequence[Pack]) -> list[Branch]:
        """The branches in the order of `packs`. packs : in any order."""
        by_id = dict(zip(self.order, self.branches, strict=True))
        return [by_id[pack.id] for pack in packs]


def start_of(packs: Sequence[Pack], waited: Waits) -> Start:
    """How packs stand after their waits. packs : in the order of plugging in. waited : what `waits` told of them."""
    hand_s = HAND_S if waited.evened_s > 0 else 0.0
    between_s = [max(wait_s, hand_s) for wait_s in waited.between_s]
    return Start(tuple(pack.id for pack in packs), waited.start, (*between_s, waited.evened_s), waited.all_min)


def waits(packs: Sequence[Pack], port: Port, rules: HouseRules, rate_c: float) -> Waits:
    """How long these packs wait to be charged. packs : in the order to plug them in.

    port : of the board. rate_c : multiples of capacity per hour; 0 for packs that no charger follows.
    """
    branches = tuple(branch_of(pack, port.lead_mohm) for pack in packs)
    none = (0.0,) * max(len(packs) - 1, 0)
    if len(packs) < 2 or at_most(spread_per_cell_v(packs), NO_WAIT_V):
        return Waits(none, 0.0, branches)
    if rules.join_peak_c is None:
        return Waits(none, 0.0, _by_hand(packs, branches))
    between_s, joined = _plugged(packs, port, rules)
    wait_s = _wait_before_charge_s(packs, joined, rules, rate_c, port)
    if rules.join_order is JoinOrder.SETTLE_THEN_BALANCE:
        evening = run(joined.branches, Feeding(), SHOWN_S)
        wait_s = max(wait_s, balance_s(packs, evening, port.lead_mohm) or 0.0)
    charge_min = ceil_to_step(wait_s, WAIT_STEP_S) / 60
    return Waits(tuple(between_s), charge_min, joined.branches, HAND_S + 60 * charge_min)


def _by_hand(packs: Sequence[Pack], branches: Sequence[Branch]) -> tuple[Branch, ...]:
    """The packs plugged in one after another with no waiting."""
    joined = _Joined((branches[0],), (0.0,))
    for count, branch in enumerate(branches[1:], 1):
        waited = _later(packs[:count], joined, HAND_S)
        joined = _Joined((*waited.branches, branch), (*waited.over_s, 0.0))
    return _later(packs, joined, HAND_S).branches


def balance_s(packs: Sequence[Pack], trace: Trace, lead_mohm: float) -> float | None:
    """When no balance wire would carry more than it may, main leads being in.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    limit_a = BALANCE_LEAD_A / balance_wire_part(lead_mohm)
    sizes = np.abs(trace.current_a)
    return latest([time_until(trace.t_s, sizes[:, index], limit_a) for index in range(len(packs))])
