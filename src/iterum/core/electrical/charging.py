"""What one charge does: how long, how many amps over time, what each pack sees, what it costs the source."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from iterum.core.amps.limits import Limit
from iterum.core.electrical.belief import beliefs_of
from iterum.core.electrical.circuit import FOLLOWED_S, Branch, Feeding, Trace, branch_of, run
from iterum.core.electrical.estimate import as_one_pack, energy_to_wh, estimate
from iterum.core.electrical.fan import Fan, PackFan, fan_of
from iterum.core.electrical.plugging import seen_by
from iterum.core.electrical.resistance import Basis, Use, resistance_of
from iterum.core.electrical.waiting import Start
from iterum.core.permit.permit import permit_of
from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.packs import Pack
from iterum.core.things.rules import Balance, HouseRules
from iterum.core.things.setup import Setup, least_power_w, powers_of, total_ah

DAY_MIN = 24 * 60.0
"""A charge that does not end within so long is refused."""
NICKEL_CHARGING_V = 1.45
"""V per cell of a nickel pack while it charges, for its watts and watt-hours. Common practice, no source."""
BALANCE_EVERY = 5
"""Balanced at least so often where not every charge balances. Common practice, no source: every fifth or sixth."""
BALANCE_ALLOWANCE_MIN = 20.0
"""Full balancing can add up to this; no model here predicts it, so it is a stated allowance."""
NICKEL_FAST = (1.05, 1.2)
"""Of its mAh, what a nickel pack takes at fast rates. Common practice, no source."""
NICKEL_SLOW, NICKEL_SLOW_C = 1.6, 0.1
"""The same at 0.1C: 16 hours, IEC 61951-2's charge (from memory)."""


@dataclass(frozen=True)
class PackCharged:
    """What one pack takes, most likely. share_a : its amps at the start, in the middle and at the end, A; over_s :
    seconds above its charge C."""

    id: str
    peak_rate_c: float
    over_s: float
    charge_mah: float
    end_soc: float
    share_a: tuple[float, float, float]


@dataclass(frozen=True)
class Ranges:
    """What a charge may differ by. minutes, charge_mah : low and high end."""

    minutes: tuple[float, float]
    charge_mah: tuple[float, float]
    fan: Fan | None = None


@dataclass(frozen=True)
class Charge:
    """One predicted charge. It begins when the packs have evened out for `wait_min`.

    minutes : until the amps have fallen to a tenth of those dialled, without balancing, the likeliest. balance_min :
    the allowance on top. cc_minutes : until the end volts are reached. power_limited_min : how long watts, not the
    dial, set the amps; power_costs_min : how much longer the charge takes for it. charge_mah, energy_out_wh : into the
    packs. peak_out_w : at the board. efficiency : from source to board. ranges : works out what all of it may differ
    by, once it is asked for. done : False where it does not end within a day; what it takes is that of the whole
    charge all the same. energy_out_high_wh : Wh into the packs at most, each at the cautious end of what its volts
    leave open: what a budget counts, added up pack by pack, so that a plan and a card count the same.
    """

    trace: Trace
    current_a: float
    wait_min: float
    minutes: float
    balance_min: float
    cc_minutes: float
    power_limited_min: float
    power_costs_min: float
    power_limit: str | None
    charge_mah: float
    energy_out_wh: float
    energy_out_high_wh: float
    peak_out_w: float
    efficiency: float
    packs: tuple[PackCharged, ...]
    done: bool
    ranges: Callable[[], Ranges]

    @cached_property
    def _ranges(self) -> Ranges:
        return self.ranges()

    @property
    def fan(self) -> Fan | None:
        """The charge in every way that its packs may be; None where their volts do not tell their charge."""
        return self._ranges.fan

    @property
    def minutes_low(self) -> float:
        """Nine in ten take longer than the lowest twentieth, min: what no more than one in twenty undercuts."""
        return min(self._ranges.minutes[0], self.minutes)

    @property
    def minutes_high(self) -> float:
        """What no more than one in twenty exceeds, min; timers use it."""
        return max(self._ranges.minutes[1], self.minutes)

    @property
    def charge_low_mah(self) -> float:
        """mAh into the packs, the low end."""
        return min(self._ranges.charge_mah[0], self.charge_mah)

    @property
    def charge_high_mah(self) -> float:
        """mAh into the packs, the high end; stops use it."""
        return max(self._ranges.charge_mah[1], self.charge_mah)

    @property
    def energy_in_wh(self) -> float:
        """Wh out of the source, the likeliest."""
        return self.energy_out_wh / self.efficiency

    @property
    def energy_in_high_wh(self) -> float:
        """Wh out of the source, the high end; budgets use it."""
        return max(self.energy_out_high_wh, self.energy_out_wh) / self.efficiency

    @property
    def peak_input_w(self) -> float:
        """The most W out of the source."""
        return self.peak_out_w / self.efficiency

    def fan_of(self, pack_id: str) -> PackFan | None:
        """One pack in every way. pack_id : its tag."""
        return None if self.fan is None else next(item for item in self.fan.packs if item.id == pack_id)

    def peak_high_c(self, pack_id: str) -> float:
        """The high end of the highest C into a pack. pack_id : its tag."""
        fan, likely = self.fan_of(pack_id), next(item for item in self.packs if item.id == pack_id)
        return likely.peak_rate_c if fan is None else max(fan.peak_c.high, likely.peak_rate_c)


def _at(trace: Trace, moment_s: float, index: int) -> float:
    return float(np.interp(moment_s, trace.t_s, trace.current_a[:, index]))


def _packs_charged(packs: Sequence[Pack], trace: Trace, start: Sequence[Branch]) -> tuple[PackCharged, ...]:
    """What each pack takes, most likely."""
    end_s = float(trace.t_s[-1])
    charged = []
    for index, (seen, branch) in enumerate(zip(seen_by(packs, trace), start, strict=True)):
        share_a = (_at(trace, min(60.0, end_s), index), _at(trace, end_s / 2, index), _at(trace, end_s, index))
        taken = float(trace.soc[-1, index]) - branch.soc
        charge_mah = taken * branch.capacity_as / 3.6
        end_soc = min(max(float(trace.soc[-1, index]), 0.0), 1.0)
        charged.append(PackCharged(seen.id, seen.into_c, seen.over_s, charge_mah, end_soc, share_a))
    return tuple(charged)


def _as_charged(packs: Sequence[Pack], joined: Sequence[Branch], lead_mohm: float) -> list[Branch]:
    """Packs as they stand after they were joined, with the resistance that minutes are counted with."""
    own = [branch_of(pack, lead_mohm, Use.CHARGE) for pack in packs]
    read = [branch_of(pack, lead_mohm) for pack in packs]
    return [
        replace(one, soc=one.soc + after.soc - before.soc, u1_v=after.u1_v, u2_v=after.u2_v)
        for one, before, after in zip(own, read, joined, strict=True)
    ]


def charge_packs(
    packs: Sequence[Pack], setup: Setup, rules: HouseRules, current_a: float, start: Start | None = None
) -> Charge:
    """Charge these packs at `current_a` on this board, channel and feed.

    start : how they were plugged in and stand when the charger starts; None: all at once, as they were read. Nothing
    is judged here. Raises ValueError for packs without a reading.
    """
    if packs[0].chemistry.table is None:
        return _nickel_charge(packs, setup, current_a)
    tail, end_v = rules.tail_fraction, packs[0].cells * rules.full_v(packs[0].chemistry)
    branches = [branch_of(pack, setup.lead_mohm, Use.CHARGE) for pack in packs]
    if start is not None:
        branches = _as_charged(packs, start.of(packs), setup.lead_mohm)
    power = min(powers_of(setup), key=lambda item: item.left_w)
    feeding = Feeding(current_a, power.left_w, end_v)
    trace = run(branches, feeding, FOLLOWED_S, tail)
    minutes = float(trace.t_s[-1]) / 60
    free_minutes = minutes
    if trace.power_limited_s > 0:
        free_minutes = float(run(branches, replace(feeding, power_w=float("inf")), FOLLOWED_S, tail).t_s[-1]) / 60
    charged = _packs_charged(packs, trace, branches)
    whole_wh = energy_to_wh(packs, rules.full_v(packs[0].chemistry))

    def ranges() -> Ranges:
        order = packs if start is None else start.in_order(packs)
        waits_s = (0.0,) * len(packs) if start is None else start.waits_s
        fan = fan_of(order, waits_s, setup.lead_mohm, feeding, tail)
        return Ranges(
            (fan.minutes.low, fan.minutes.high),
            (fan.charge_mah.low, fan.charge_mah.high),
            fan,
        )

    return Charge(
        trace=trace,
        current_a=current_a,
        wait_min=0.0 if start is None else start.wait_min,
        minutes=minutes,
        balance_min=balance_allowance_min(packs, rules),
        cc_minutes=(float(trace.t_s[-1]) if trace.end_v_at_s is None else trace.end_v_at_s) / 60,
        power_limited_min=trace.power_limited_s / 60,
        power_costs_min=minutes - free_minutes,
        power_limit=power.kind.name if trace.power_limited_s > 0 else None,
        charge_mah=sum(item.charge_mah for item in charged),
        # What was still going after days is counted to its end without the model.
        energy_out_wh=trace.energy_wh if trace.done else max(trace.energy_wh, whole_wh),
        energy_out_high_wh=whole_wh,
        peak_out_w=float((trace.node_v * trace.feed_a).max()),
        efficiency=setup.feed.efficiency_from_source,
        packs=charged,
        done=trace.done and at_most(minutes, DAY_MIN),
        ranges=ranges,
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
    rates_c = [share_a / pack.capacity_ah for share_a, pack in zip(amps[0], packs, strict=True)]
    charged = tuple(
        PackCharged(pack.id, float(rate_c), 0.0, 1000 * item, 1.0, (float(share_a),) * 3)
        for pack, rate_c, item, share_a in zip(packs, rates_c, ah, amps[0], strict=True)
    )
    return Charge(
        trace=trace, current_a=current_a, wait_min=0.0, minutes=high_min, balance_min=0.0, cc_minutes=high_min,
        power_limited_min=0.0, power_costs_min=0.0, power_limit=None, charge_mah=1000 * sum(ah),
        energy_out_wh=energy_wh, energy_out_high_wh=energy_wh, peak_out_w=node_v * current_a,
        efficiency=setup.feed.efficiency_from_source,
        packs=charged, done=at_most(high_min, DAY_MIN),
        ranges=lambda: Ranges((low_min, high_min), (0.0, 1000 * sum(ah))),
    )  # fmt: skip


def narrowing(packs: Sequence[Pack]) -> tuple[Reason, ...]:
    """What would narrow the ranges that are told of these packs, and where what is known of one cannot all be true."""
    untaught = tuple(pack.id for pack in packs if pack.curve is not None and pack.learned is None)
    unmeasured = tuple(
        pack.id for pack in packs if resistance_of(pack, Use.CHARGE).basis not in (Basis.MEASURED, Basis.LEARNED)
    )
    measured = [pack for pack in packs if pack.curve is not None and pack.reading is not None]
    believed = beliefs_of(measured, 1.0)
    disputed = tuple(pack.id for pack, one in zip(measured, believed, strict=True) if one.contradicted)
    reasons = [reason("capacity_disputed", ids=disputed)] if disputed else []
    reasons += [reason("narrow_by_charge", ids=untaught)] if untaught else []
    return (*reasons, *([reason("narrow_by_mohm", ids=unmeasured)] if unmeasured and packs[0].curve else []))


def watts_cost_min(packs: Sequence[Pack], setup: Setup, rules: HouseRules, limits: Sequence[Limit]) -> float:
    """Minutes by which a charge takes longer because watts, not packs, board or channel amps, set the amps to dial.

    0 where something else is the narrow part. By the fast estimate, both times.
    """
    binding = min(limits, key=lambda limit: limit.current_a)
    free = [limit.current_a for limit in limits if not limit.kind.is_watts]
    if not binding.kind.is_watts or packs[0].chemistry.table is None:
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
