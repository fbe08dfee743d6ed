"""What one charge does: how long, how many amps over time, what each pack sees, what it costs the source."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from iterum.core.chemistry import state_of_charge
from iterum.core.circuit import Branch, Feeding, Trace, branch_of, run, settled
from iterum.core.estimate import estimate, lump
from iterum.core.joining import join_reasons, plug_by_plug, refuse_unjoinable, rests_on_reason, seen_by
from iterum.core.kit import DEFAULT_LEAD_MOHM
from iterum.core.matching import in_plug_order, refusals
from iterum.core.packs import Level, Pack
from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, each_once, reason
from iterum.core.rules import Balance, HouseRules
from iterum.core.sizing import BALANCE_ALLOWANCE_MIN, POWER_LIMITS, Setup, Sizing, power_limits_w

LONGEST_S = 24 * 3600.0


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
    """One predicted charge.

    minutes : until the amps have fallen to a tenth of those dialled, without balancing; minutes_low and minutes_high
    the same for what the meter leaves open. balance_min : the allowance on top. cc_minutes : until the end volts are
    reached. power_limited_min : how long watts, not the dial, set the amps; power_costs_min : how much longer the
    charge takes for it. charge_mah, energy_out_wh : into the packs. energy_in_wh, peak_input_w : at the source.
    done : False where it was still going after a day.
    """

    trace: Trace
    current_a: float
    minutes: float
    minutes_low: float
    minutes_high: float
    balance_min: float
    cc_minutes: float
    power_limited_min: float
    power_costs_min: float
    power_limit: str | None
    charge_mah: float
    energy_out_wh: float
    energy_in_wh: float
    peak_out_w: float
    peak_input_w: float
    packs: tuple[PackCharged, ...]
    level: Level
    reasons: tuple[Reason, ...]
    done: bool


def lead_of(setup: Setup) -> float:
    """Plug and lead of one branch, mOhm; a pack alone has them too."""
    return setup.board.lead_mohm if setup.board else DEFAULT_LEAD_MOHM


def _at(trace: Trace, moment_s: float, index: int) -> float:
    return float(np.interp(moment_s, trace.t_s, trace.current_a[:, index]))


def _packs_charged(packs: Sequence[Pack], trace: Trace, start: Sequence[Branch]) -> tuple[PackCharged, ...]:
    end_s = float(trace.t_s[-1])
    found = []
    for index, (seen, branch) in enumerate(zip(seen_by(packs, trace), start, strict=True)):
        share_a = (_at(trace, min(60.0, end_s), index), _at(trace, end_s / 2, index), _at(trace, end_s, index))
        taken = float(trace.soc[-1, index]) - branch.soc
        highest_a = max(float(trace.current_a[:, index].max()), 0.0)
        rate_c = highest_a / packs[index].capacity_ah
        charge_mah = taken * branch.capacity_as / 3.6
        found.append(PackCharged(seen.id, rate_c, seen.over_s, charge_mah, float(trace.soc[-1, index]), share_a))
    return tuple(found)


def _shifted(packs: Sequence[Pack], branches: Sequence[Branch], low: bool) -> list[Branch]:
    """The branches at the lowest, or highest, state of charge that the meter leaves open."""
    found = []
    for pack, branch in zip(packs, branches, strict=True):
        soc = state_of_charge(pack.chemistry, pack.cell_v or 0.0)
        found.append(branch if soc is None else replace(branch, soc=soc.low if low else soc.high))
    return found


def charge(
    packs: Sequence[Pack],
    setup: Setup,
    rules: HouseRules,
    current_a: float,
    settle_first: bool = False,
) -> Charge:
    """Charge these packs at `current_a` on this board, channel and feed, joined as they are or evened out first.

    Raises Unsafe for packs that may never be joined; everything else is computed and reported with its verdict.
    """
    refuse_unjoinable(packs)
    tail = rules.tail_fraction
    start: Sequence[Branch] = [branch_of(pack, lead_of(setup)) for pack in packs]
    if settle_first and len(packs) > 1:
        start = settled(start)
    end_v = packs[0].cells * rules.full_v(packs[0].chemistry)
    limits_w = power_limits_w(setup)
    name, power_w = min(limits_w, key=lambda item: item[1])
    feeding = Feeding(current_a, power_w, end_v)
    trace = run(start, feeding, LONGEST_S, tail)
    minutes = float(trace.t_s[-1]) / 60
    ends = [float(run(_shifted(packs, start, low), feeding, LONGEST_S, tail).t_s[-1]) / 60 for low in (False, True)]
    free_minutes = minutes
    if trace.power_limited_s > 0:
        free_minutes = float(run(start, replace(feeding, power_w=float("inf")), LONGEST_S, tail).t_s[-1]) / 60
    peak_out_w = float((trace.node_v * trace.feed_a).max())
    efficiency = setup.feed.efficiency_from_source
    charged = _packs_charged(packs, trace, start)
    level, reasons = _verdict(packs, setup, rules, charged)
    balance = rules.balance is Balance.EVERY_CHARGE and packs[0].cells > 1
    return Charge(
        trace=trace,
        current_a=current_a,
        minutes=minutes,
        minutes_low=min(*ends, minutes),
        minutes_high=max(*ends, minutes),
        balance_min=BALANCE_ALLOWANCE_MIN if balance else 0.0,
        cc_minutes=(float(trace.t_s[-1]) if trace.end_v_at_s is None else trace.end_v_at_s) / 60,
        power_limited_min=trace.power_limited_s / 60,
        power_costs_min=minutes - free_minutes,
        power_limit=name if trace.power_limited_s > 0 else None,
        charge_mah=sum(item.charge_mah for item in charged),
        energy_out_wh=trace.energy_wh,
        energy_in_wh=trace.energy_wh / efficiency,
        peak_out_w=peak_out_w,
        peak_input_w=peak_out_w / efficiency,
        packs=charged,
        level=level,
        reasons=reasons,
        done=trace.done,
    )


def watts_cost_min(packs: Sequence[Pack], setup: Setup, rules: HouseRules, sizing: Sizing) -> float:
    """Minutes by which a charge takes longer because watts, not packs, board or channel amps, set the amps to dial.

    0 where something else is the narrow part. By the fast estimate, both times.
    """
    free = [limit.current_a for limit in sizing.limits if limit.name not in POWER_LIMITS]
    if sizing.binding not in POWER_LIMITS or packs[0].chemistry.table is None:
        return 0.0
    amps, watts = np.array([min(free)]), np.array([float("inf")])
    found = estimate(lump([packs], lead_of(setup)), amps, watts, rules.full_v(packs[0].chemistry), rules.tail_fraction)
    return max(sizing.minutes - float(found.minutes[0]), 0.0)


def _verdict(
    packs: Sequence[Pack], setup: Setup, rules: HouseRules, charged: Sequence[PackCharged]
) -> tuple[Level, tuple[Reason, ...]]:
    """Stop for what a rule forbids, look for a pack that passes its charge C."""
    broken = list(refusals(packs, rules, setup.board.ports if setup.board else None))
    broken += join_reasons(plug_by_plug(in_plug_order(packs), lead_of(setup)), rules)
    notes = [
        reason("charge_above_c", id=item.id, rate_c=item.peak_rate_c, charge_c=pack.charge_c, over_s=item.over_s)
        for pack, item in zip(packs, charged, strict=True)
        if not at_most(item.peak_rate_c, pack.charge_c * 1.02)
    ]
    level = Level.STOP if broken else Level.LOOK if notes else Level.FIT
    found = [*broken, *notes] or [reason("charge_fine")]
    return level, (*found, *each_once(rests_on_reason(pack) for pack in packs))
