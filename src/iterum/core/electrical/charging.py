"""What one charge does: how long, how many amps over time, what each pack sees, what it costs the source."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from operator import attrgetter

import numpy as np

from iterum.core.amps.limits import POWER_LIMITS, Limit
from iterum.core.electrical.circuit import ROUGH_TOLERANCE, Branch, Feeding, Trace, branch_of, run
from iterum.core.electrical.estimate import as_one_pack, energy_to_wh, estimate
from iterum.core.electrical.plugging import seen_by
from iterum.core.electrical.resistance import Basis, Use, resistance_of
from iterum.core.permit.permit import permit_of
from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.curve import StateOfCharge
from iterum.core.things.packs import Pack
from iterum.core.things.rules import Balance, HouseRules
from iterum.core.things.setup import Setup, least_power_w, powers_of, total_ah

DAY_MIN = 24 * 60.0
"""A charge that does not end within so long is refused."""
FOLLOWED_S = 8 * 24 * 3600.0
"""So long a charge is followed, so that its watt-hours are those of all of it."""
NICKEL_CHARGING_V = 1.45
"""V per cell of a nickel pack while it charges, for its watts and watt-hours. Common practice, no source."""
BALANCE_EVERY = 5
"""Balanced at least so often where not every charge balances. Common practice, no source: every fifth or sixth."""
BALANCE_ALLOWANCE_MIN = 20.0
"""Full balancing can add up to this; no model here predicts it, so it is a stated allowance."""
KNOWN_TIMES, UNKNOWN_TIMES = 1.2, 2.4
"""By how much resistance may be more than believed, where a meter or its charges told it, and where nothing did: cells
sold under one kind were measured from 17 to 47 mOhm Ah."""
NICKEL_FAST = (1.05, 1.2)
"""Of its mAh, what a nickel pack takes at fast rates. Common practice, no source."""
NICKEL_SLOW, NICKEL_SLOW_C = 1.6, 0.1
"""The same at 0.1C: 16 hours, IEC 61951-2's charge (from memory)."""


@dataclass(frozen=True)
class PackCharged:
    """What one pack takes. share_a : its amps at the start, in the middle and at the end, A; over_s : seconds above
    its charge C."""

    id: str
    peak_rate_c: float
    over_s: float
    charge_mah: float
    end_soc: float
    share_a: tuple[float, float, float]


@dataclass(frozen=True)
class Charge:
    """One predicted charge. It begins when the packs have evened out for `wait_min`.

    minutes : until the amps have fallen to a tenth of those dialled, without balancing; minutes_low and minutes_high
    the same for what the volts leave open: a meter's step, and which cell of its kind it is. charge_low_mah,
    charge_high_mah, energy_in_high_wh : the ends of that range for what goes in; budgets, stops and timers use the
    high one. balance_min : the allowance on top. cc_minutes : until the end volts are reached. power_limited_min : how
    long watts, not the dial, set the amps; power_costs_min : how much longer the charge takes for it. charge_mah,
    energy_out_wh : into the packs. energy_in_wh, peak_input_w : at the source.
    done : False where it does not end within a day; what it takes is that of the whole charge all the same.
    """

    trace: Trace
    current_a: float
    wait_min: float
    minutes: float
    minutes_low: float
    minutes_high: float
    balance_min: float
    cc_minutes: float
    power_limited_min: float
    power_costs_min: float
    power_limit: str | None
    charge_mah: float
    charge_low_mah: float
    charge_high_mah: float
    energy_out_wh: float
    energy_in_wh: float
    energy_in_high_wh: float
    peak_out_w: float
    peak_input_w: float
    packs: tuple[PackCharged, ...]
    done: bool


def _at(trace: Trace, moment_s: float, index: int) -> float:
    return float(np.interp(moment_s, trace.t_s, trace.current_a[:, index]))


def _packs_charged(
    packs: Sequence[Pack], trace: Trace, start: Sequence[Branch], others: Sequence[Trace]
) -> tuple[PackCharged, ...]:
    """What each pack takes. others : the same charge at the ends of what the volts leave open; the highest C counts."""
    end_s = float(trace.t_s[-1])
    charged = []
    for index, (seen, branch) in enumerate(zip(seen_by(packs, trace), start, strict=True)):
        share_a = (_at(trace, min(60.0, end_s), index), _at(trace, end_s / 2, index), _at(trace, end_s, index))
        taken = float(trace.soc[-1, index]) - branch.soc
        highest_a = max(0.0, *(float(one.current_a[:, index].max()) for one in (trace, *others)))
        rate_c = highest_a / packs[index].capacity_ah
        charge_mah = taken * branch.capacity_as / 3.6
        end_soc = min(max(float(trace.soc[-1, index]), 0.0), 1.0)
        charged.append(PackCharged(seen.id, rate_c, seen.over_s, charge_mah, end_soc, share_a))
    return tuple(charged)


def _as_charged(packs: Sequence[Pack], joined: Sequence[Branch], lead_mohm: float) -> list[Branch]:
    """Packs as they stand after they were joined, with the resistance that minutes are reckoned with."""
    own = [branch_of(pack, lead_mohm, Use.CHARGE) for pack in packs]
    read = [branch_of(pack, lead_mohm) for pack in packs]
    return [
        replace(one, soc=one.soc + after.soc - before.soc, u1_v=after.u1_v, u2_v=after.u2_v)
        for one, before, after in zip(own, read, joined, strict=True)
    ]


def _shifted(packs: Sequence[Pack], branches: Sequence[Branch], to: Callable[[StateOfCharge], float]) -> list[Branch]:
    """The branches as they would be were every pack at another state of charge that its volts leave open.

    The emptier ones also have the more resistance that cells of the kind may have, which lengthens the falling part.
    """
    shifted = []
    for pack, branch in zip(packs, branches, strict=True):
        soc = pack.soc
        off = 0.0 if soc is None else to(soc) - pack.held
        known = resistance_of(pack, Use.CHARGE).basis in (Basis.MEASURED, Basis.LEARNED)
        times = (KNOWN_TIMES if known else UNKNOWN_TIMES) if off < 0 else 1.0
        shifted.append(
            replace(
                branch,
                soc=min(max(branch.soc + off, 0.0), max(branch.soc, 1.0)),
                r0_ohm=branch.r0_ohm * times,
                r1_ohm=branch.r1_ohm * times,
                r2_ohm=branch.r2_ohm * times,
            )
        )
    return shifted


_LOW: Callable[[StateOfCharge], float] = attrgetter("low")
_HIGH: Callable[[StateOfCharge], float] = attrgetter("high")


def _put_in_mah(trace: Trace) -> float:
    """mAh that went into the node."""
    return float(np.sum(np.diff(trace.t_s) * (trace.feed_a[1:] + trace.feed_a[:-1]) / 2)) / 3.6


def charge_packs(
    packs: Sequence[Pack],
    setup: Setup,
    rules: HouseRules,
    current_a: float,
    wait_min: float = 0.0,
    start: Sequence[Branch] | None = None,
) -> Charge:
    """Charge these packs at `current_a` on this board, channel and feed.

    start : the packs as they stand when the charger starts, after they have evened out for `wait_min`; None: as they
    were read. Nothing is judged here. Raises ValueError for packs without a reading.
    """
    if packs[0].chemistry.table is None:
        return _nickel_charge(packs, setup, current_a)
    tail = rules.tail_fraction
    if start is None:
        start = [branch_of(pack, setup.lead_mohm, Use.CHARGE) for pack in packs]
    else:
        start = _as_charged(packs, start, setup.lead_mohm)
    end_v = packs[0].cells * rules.full_v(packs[0].chemistry)
    power = min(powers_of(setup), key=lambda item: item.left_w)
    feeding = Feeding(current_a, power.left_w, end_v)
    trace = run(start, feeding, FOLLOWED_S, tail)
    minutes = float(trace.t_s[-1]) / 60
    slow, fast = (
        run(_shifted(packs, start, to), feeding, FOLLOWED_S, tail, tolerance=ROUGH_TOLERANCE) for to in (_LOW, _HIGH)
    )
    ends = [float(end.t_s[-1]) / 60 for end in (slow, fast)]
    put_in = [_put_in_mah(end) for end in (trace, slow, fast)]
    free_minutes = minutes
    if trace.power_limited_s > 0:
        free_minutes = float(run(start, replace(feeding, power_w=float("inf")), FOLLOWED_S, tail).t_s[-1]) / 60
    peak_out_w = float((trace.node_v * trace.feed_a).max())
    efficiency = setup.feed.efficiency_from_source
    charged = _packs_charged(packs, trace, start, (slow, fast))
    # What was still going after days is reckoned to its end without the model.
    whole_wh = 0.0 if trace.done else energy_to_wh(packs, rules.full_v(packs[0].chemistry))
    return Charge(
        trace=trace,
        current_a=current_a,
        wait_min=wait_min,
        minutes=minutes,
        minutes_low=min(*ends, minutes),
        minutes_high=max(*ends, minutes),
        balance_min=balance_allowance_min(packs, rules),
        cc_minutes=(float(trace.t_s[-1]) if trace.end_v_at_s is None else trace.end_v_at_s) / 60,
        power_limited_min=trace.power_limited_s / 60,
        power_costs_min=minutes - free_minutes,
        power_limit=power.name if trace.power_limited_s > 0 else None,
        charge_mah=sum(item.charge_mah for item in charged),
        charge_low_mah=min(put_in),
        charge_high_mah=max(put_in),
        energy_out_wh=max(trace.energy_wh, whole_wh),
        energy_in_wh=max(trace.energy_wh, whole_wh) / efficiency,
        energy_in_high_wh=max(whole_wh, *(end.energy_wh for end in (trace, slow, fast))) / efficiency,
        peak_out_w=peak_out_w,
        peak_input_w=peak_out_w / efficiency,
        packs=charged,
        done=trace.done and at_most(minutes, DAY_MIN),
    )


def _nickel_charge(packs: Sequence[Pack], setup: Setup, current_a: float) -> Charge:
    """A charge that ends by a drop in volts: the set amps throughout, from empty, because volts do not tell the charge.

    The mAh are those of the longest; the charger's drop ends it earlier where the pack was not empty.
    """
    low_min, high_min = nickel_minutes(packs, current_a)
    ah = [current_a * high_min / 60 * pack.capacity_ah / sum(item.capacity_ah for item in packs) for pack in packs]
    node_v = NICKEL_CHARGING_V * packs[0].cells
    t_s = np.array([0.0, 60 * high_min])
    amps = np.array([[current_a * item / sum(ah) for item in ah]] * 2)
    soc = np.array([[0.0] * len(packs), [1.0] * len(packs)])
    energy_wh = sum(ah) * node_v
    trace = Trace(t_s, np.full(2, node_v), np.full(2, current_a), amps, soc, energy_wh, None, 0.0, True, ())
    efficiency = setup.feed.efficiency_from_source
    rates_c = [share_a / pack.capacity_ah for share_a, pack in zip(amps[0], packs, strict=True)]
    charged = tuple(
        PackCharged(pack.id, float(rate_c), 0.0, 1000 * item, 1.0, (float(share_a),) * 3)
        for pack, rate_c, item, share_a in zip(packs, rates_c, ah, amps[0], strict=True)
    )
    return Charge(
        trace=trace, current_a=current_a, wait_min=0.0, minutes=high_min, minutes_low=low_min, minutes_high=high_min,
        balance_min=0.0, cc_minutes=high_min, power_limited_min=0.0, power_costs_min=0.0, power_limit=None,
        charge_mah=1000 * sum(ah),
        charge_low_mah=0.0, charge_high_mah=1000 * sum(ah), energy_out_wh=energy_wh,
        energy_in_wh=energy_wh / efficiency, energy_in_high_wh=energy_wh / efficiency,
        peak_out_w=node_v * current_a, peak_input_w=node_v * current_a / efficiency, packs=charged,
        done=at_most(high_min, DAY_MIN),
    )  # fmt: skip


def narrowing(packs: Sequence[Pack]) -> tuple[Reason, ...]:
    """What would narrow the ranges that are told of these packs, where anything would."""
    untaught = tuple(pack.id for pack in packs if pack.curve is not None and pack.learned is None)
    unmeasured = tuple(
        pack.id for pack in packs if resistance_of(pack, Use.CHARGE).basis not in (Basis.MEASURED, Basis.LEARNED)
    )
    reasons = [reason("narrow_by_charge", ids=untaught)] if untaught else []
    return (*reasons, *([reason("narrow_by_mohm", ids=unmeasured)] if unmeasured and packs[0].curve else []))


def watts_cost_min(packs: Sequence[Pack], setup: Setup, rules: HouseRules, limits: Sequence[Limit]) -> float:
    """Minutes by which a charge takes longer because watts, not packs, board or channel amps, set the amps to dial.

    0 where something else is the narrow part. By the fast estimate, both times.
    """
    binding = min(limits, key=lambda limit: limit.current_a)
    free = [limit.current_a for limit in limits if limit.name not in POWER_LIMITS]
    if binding.name not in POWER_LIMITS or packs[0].chemistry.table is None:
        return 0.0
    combined, end_v, tail = as_one_pack([packs], setup.lead_mohm), rules.full_v(packs[0].chemistry), rules.tail_fraction
    slow = estimate(combined, np.array([binding.current_a]), np.array([least_power_w(setup)]), end_v, tail)
    fast = estimate(combined, np.array([min(free)]), np.array([float("inf")]), end_v, tail)
    return max(float(slow.minutes[0]) - float(fast.minutes[0]), 0.0)


def nickel_minutes(packs: Sequence[Pack], current_a: float) -> tuple[float, float]:
    """Minutes that an empty pack which ends by a drop in volts takes: at least and at most.

    current_a : A at the charger, above 0.
    """
    hours = total_ah(packs) / current_a
    if at_most(current_a / total_ah(packs), NICKEL_SLOW_C):
        return 60 * hours * NICKEL_FAST[0], 60 * hours * NICKEL_SLOW
    return 60 * hours * NICKEL_FAST[0], 60 * hours * NICKEL_FAST[1]


def balance_due(packs: Sequence[Pack]) -> bool:
    """Whether this is the fifth charge of one of them since it was balanced, for those who do not balance each time."""
    return any(pack.since_balance >= BALANCE_EVERY - 1 for pack in packs)


def balance_allowance_min(packs: Sequence[Pack], rules: HouseRules) -> float:
    """Minutes that balancing may add once these packs are full."""
    first = packs[0]
    weak = any(permit_of(pack, rules).weak for pack in packs)
    balanced = rules.balance is Balance.EVERY_CHARGE or weak or balance_due(packs)
    return BALANCE_ALLOWANCE_MIN if balanced and first.cells > 1 and first.chemistry.joins else 0.0
