"""Joining: the current each pack would see when a group is plugged together, how long to wait, and the ways out.

The voltage schools judge a difference in volts; what does harm is the current it pushes. Packs are plugged in one
after another; the model gives the current of every pack at every plug. Waiting has one purpose: that no pack takes
more than it may and no balance lead carries more than about 2 A. The minutes found here are the ones that the joining
steps, the card, the plan, the run and the commands all count.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import pairwise

import numpy as np

from iterum.core.bench.chemistry import END_STEP_V
from iterum.core.bench.faults import Level
from iterum.core.bench.kit import DEFAULT_LEAD_MOHM
from iterum.core.bench.packs import Pack, Reading
from iterum.core.bench.rules import HouseRules, JoinOrder
from iterum.core.electrical.circuit import Branch, Feeding, Trace, branch_of, run, settled
from iterum.core.electrical.estimate import minutes_to_volts
from iterum.core.electrical.plugging import (
    SHOWN_S,
    PackJoined,
    Plug,
    balance_first_a,
    join_reasons,
    joins,
    latest,
    plug_by_plug,
    seen_by,
    time_until,
)
from iterum.core.electrical.resistance import Basis, resistance_of
from iterum.core.electrical.waiting import BALANCE_LEAD_A, balance_s, waits
from iterum.core.match.group import in_plug_order, refusals, unjoinable
from iterum.core.quantities import at_most, ceil_to_step
from iterum.core.reasons import Reason, Unsafe, each_once, reason

SETTLED_C = 0.1
"""Evened out: every pack's current is under this rate. Our choice: the tenth at which a charge is called done."""
LONGEST_S = 4 * 3600.0
"""EvenedOut out is followed for half an hour, longer where it has not settled by then."""
NO_CURRENT_S = 1.0
"""Shorter than this nothing is over anything."""


@dataclass(frozen=True)
class Joining:
    """The verdict on joining one group, and how to do it.

    order : the packs as they are to be plugged in. start : the packs as branches when charging begins, in that order;
    empty for one pack, and where the rule is broken. wait_min : between the last plug and the start of the charger.
    balance_a : the most amps through a balance wire if balance leads go in first; None for one pack.
    balance_first : whether they do. ways : how a group that breaks the rule could be joined after all.
    """

    order: tuple[str, ...]
    plugs: tuple[Plug, ...]
    wait_min: float
    balance_a: float | None
    balance_first: bool
    level: Level
    reasons: tuple[Reason, ...]
    ways: tuple[Reason, ...] = ()
    start: tuple[Branch, ...] = ()

    def start_of(self, packs: Sequence[Pack]) -> tuple[Branch, ...] | None:
        """The branches at the start of charging in the order of `packs`; None where they are as they were read."""
        if not self.start:
            return None
        by_id = dict(zip(self.order, self.start, strict=True))
        return tuple(by_id[pack.id] for pack in packs)

    @property
    def passes(self) -> bool:
        """Whether the joining rule allows it."""
        return self.level is not Level.STOP

    @property
    def peak_rate_c(self) -> float:
        """The most C that any pack sees at any plug."""
        return max((plug.rate_c for plug in self.plugs), default=0.0)

    @property
    def peak_current_a(self) -> float:
        """The most amps that any pack sees at any plug."""
        return max((plug.current_a for plug in self.plugs), default=0.0)


@dataclass(frozen=True)
class EvenedOut:
    """How a group evens out.

    packs : what each sees with all joined at once, or the last one joined to the others.
    settled_s : until every current has died down, None if not within `LONGEST_S`. balance_s : until they would no
    longer push 2 A through a balance wire. joining : the verdict, plug by plug.
    """

    trace: Trace
    packs: tuple[PackJoined, ...]
    settled_s: float | None
    balance_s: float | None
    joining: Joining
    level: Level
    reasons: tuple[Reason, ...]


# ---------------------------------------------------------------------------------------- the verdict


def joining(
    packs: Sequence[Pack], rules: HouseRules, lead_mohm: float = DEFAULT_LEAD_MOHM, rate_c: float | None = None,
    with_ways: bool = True,
) -> Joining:  # fmt: skip
    """The verdict on plugging these measured packs together, in what order, and how long to wait.

    rate_c : at which they are to be charged, multiples of capacity per hour; None takes the rate that is wanted.
    with_ways : look for ways out where the rule is broken, which takes longer.
    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    return _joining(tuple(packs), rules, lead_mohm, rate_c, with_ways)


@lru_cache(maxsize=4096)
def _joining(
    packs: tuple[Pack, ...], rules: HouseRules, lead_mohm: float, rate_c: float | None, with_ways: bool
) -> Joining:
    """The same, worked out once for the same packs, rules and amps."""
    if len(packs) < 2:
        return Joining(tuple(pack.id for pack in packs), (), 0.0, None, False, Level.FIT, ())
    order = passing_order(packs, rules, lead_mohm) or in_plug_order(packs)
    plugs = plug_by_plug(order, lead_mohm)
    broken = join_reasons(plugs, rules)
    if rate_c is None:
        allowed_c = min(pack.max_charge_a / pack.capacity_ah for pack in packs)
        rate_c = min(rules.wanted_rate_c(packs[0].chemistry), allowed_c)
    waiting = None if broken else waits(order, lead_mohm, rules, rate_c)
    if waiting is not None:
        plugs = tuple(replace(plug, wait_s=wait_s) for plug, wait_s in zip(plugs, waiting.between_s, strict=True))
    first_a = balance_first_a(order)
    notes: list[Reason] = []
    wished = rules.join_order is JoinOrder.BALANCE_FIRST
    if wished and not at_most(first_a, BALANCE_LEAD_A):
        notes.append(reason("balance_first_refused", current_a=first_a, limit_a=BALANCE_LEAD_A))
    elif wished:
        notes.append(reason("balance_first_allowed", current_a=first_a, limit_a=BALANCE_LEAD_A))
    seen = {plug.worst.id: plug.worst for plug in plugs if plug.worst.over_s >= NO_CURRENT_S}
    notes += [
        reason("join_above_charge_c", id=item.id, rate_c=item.peak_rate_c, charge_c=item.charge_c, over_s=item.over_s)
        for item in seen.values()
    ]
    level = Level.STOP if broken else Level.LOOK if seen else Level.FIT
    fine = reason("join_fine", rate_c=max((plug.rate_c for plug in plugs), default=0.0))
    return Joining(
        order=tuple(pack.id for pack in order),
        plugs=plugs,
        wait_min=waiting.charge_min if waiting else 0.0,
        start=waiting.start if waiting else (),
        balance_a=first_a,
        balance_first=wished and at_most(first_a, BALANCE_LEAD_A),
        level=level,
        reasons=broken or (*notes, *(() if seen else (fine,))),
        ways=ways_out(packs, rules, lead_mohm) if broken and with_ways else (),
    )


def passing_order(packs: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> tuple[Pack, ...] | None:
    """The first order of plugging in that the joining rule allows, from low to high where it does; None for none.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    for order in _orders(in_plug_order(packs)):
        if not join_reasons(plug_by_plug(order, lead_mohm), rules):
            return tuple(order)
    return None


def _orders(lowest: Sequence[Pack]) -> list[Sequence[Pack]]:
    """Orders to try: from low to high; the lowest with the highest first; from high to low."""
    if len(lowest) < 3:
        return [lowest]
    return [lowest, [lowest[0], lowest[-1], *lowest[1:-1]], lowest[::-1]]


def refuse_unjoinable(packs: Sequence[Pack]) -> None:
    """Raises Unsafe, with every reason, for packs that may never be joined or cannot be reckoned with."""
    against = unjoinable(packs)
    if against:
        raise Unsafe(against)


def even_out(
    packs: Sequence[Pack],
    rules: HouseRules,
    lead_mohm: float = DEFAULT_LEAD_MOHM,
    plugged_last: str | None = None,
    ports: int | None = None,
    rate_c: float | None = None,
) -> EvenedOut:
    """What flows when these packs are joined: all at once, or one joining the others evened out (`plugged_last`).

    rate_c : the rate at which they are to be charged then. Raises Unsafe for packs that may never be joined. All else
    is computed and reported.
    lead_mohm : plug and lead of one branch, mOhm, 0 or more. ports : of the board; None where no board is known.
    """
    return _even_out(tuple(packs), rules, lead_mohm, plugged_last, ports, rate_c)


@lru_cache(maxsize=512)
def _even_out(
    packs: tuple[Pack, ...], rules: HouseRules, lead_mohm: float, plugged_last: str | None, ports: int | None,
    rate_c: float | None,
) -> EvenedOut:  # fmt: skip
    refuse_unjoinable(packs)
    branches = [branch_of(pack, lead_mohm) for pack in packs]
    if plugged_last is not None and len(packs) > 1:
        others = [item for pack, item in zip(packs, branches, strict=True) if pack.id != plugged_last]
        evened = iter(settled(others))
        branches = [
            item if pack.id == plugged_last else next(evened) for pack, item in zip(packs, branches, strict=True)
        ]
    settled_a = [SETTLED_C * pack.capacity_ah for pack in packs]
    trace = run(branches, Feeding(), SHOWN_S)
    sizes = np.abs(trace.current_a)
    settled_s = latest([time_until(trace.t_s, sizes[:, index], most) for index, most in enumerate(settled_a)])
    if settled_s is None:
        trace = run(branches, Feeding(), LONGEST_S, settled_a=settled_a)
        settled_s = float(trace.t_s[-1]) if trace.done else None
    verdict = _as_asked(packs, rules, lead_mohm, plugged_last, rate_c)
    broken = (*refusals(packs, rules, ports), *(verdict.reasons if not verdict.passes else ()))
    rests_on = each_once(rests_on_reason(pack) for pack in packs)
    return EvenedOut(
        trace=trace,
        packs=seen_by(packs, trace),
        settled_s=settled_s,
        balance_s=balance_s(packs, trace, lead_mohm),
        joining=verdict,
        level=Level.STOP if broken else verdict.level,
        reasons=(*(broken or verdict.reasons), *rests_on),
    )


def _as_asked(
    packs: Sequence[Pack], rules: HouseRules, lead_mohm: float, plugged_last: str | None, rate_c: float | None
) -> Joining:
    """The verdict, for the order that was asked for where one pack is to be the last."""
    answer = joining(packs, rules, lead_mohm, rate_c)
    if plugged_last is None or len(packs) < 2 or answer.order[-1] == plugged_last:
        return answer
    order = [pack for pack in in_plug_order(packs) if pack.id != plugged_last]
    order += [pack for pack in packs if pack.id == plugged_last]
    plugs = plug_by_plug(order, lead_mohm)
    broken = join_reasons(plugs, rules)
    seen = [plug.worst for plug in plugs if plug.worst.over_s >= NO_CURRENT_S]
    notes = tuple(
        reason("join_above_charge_c", id=item.id, rate_c=item.peak_rate_c, charge_c=item.charge_c, over_s=item.over_s)
        for item in seen
    ) or (reason("join_fine", rate_c=max(plug.rate_c for plug in plugs)),)
    level = Level.STOP if broken else Level.LOOK if seen else Level.FIT
    ways = (reason("way_other_order", ids=answer.order),) if broken and answer.passes else answer.ways
    return replace(
        answer, order=tuple(pack.id for pack in order), plugs=plugs, level=level, reasons=broken or notes, ways=ways
    )


def rests_on_reason(pack: Pack) -> Reason:
    """What the resistance of a pack rests on, as a reason to be shown."""
    part = resistance_of(pack)
    if part.basis is Basis.MEASURED:
        return reason("rests_on_measured")
    told = "no_label" if part.basis is Basis.DEFAULT and len(pack.chemistry.kinds) > 1 else part.basis.value
    return reason(f"rests_on_{told}", kind=part.kind.label, source=part.kind.source)


# ---------------------------------------------------------------------------------------- ways out


def _passes(packs: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> bool:
    return len(packs) < 2 or not join_reasons(plug_by_plug(packs, lead_mohm), rules)


def ways_out(packs: Sequence[Pack], rules: HouseRules, lead_mohm: float = DEFAULT_LEAD_MOHM) -> tuple[Reason, ...]:
    """For a group inside the voltage rule that breaks the joining rule: how it could be joined after all.

    A smaller group, the odd ones evened out by themselves first, or the low ones charged up to where
    all may be joined. Empty when nothing needs mending.
    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    ordered = in_plug_order(packs)
    if _passes(ordered, rules, lead_mohm):
        return ()
    ways = (
        _even_apart(ordered, rules, lead_mohm),
        _smaller_group(ordered, rules, lead_mohm),
        _charge_low_first(ordered, rules, lead_mohm),
    )
    return tuple(way for way in ways if way is not None)


def _smaller_group(ordered: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> Reason | None:
    """The fewest packs at one end that must stay away."""
    for left in range(1, len(ordered) - 1):
        for kept in (ordered[:-left], ordered[left:]):
            if _passes(kept, rules, lead_mohm):
                return reason("way_smaller_group", ids=tuple(pack.id for pack in ordered if pack not in kept))
    return None


def _even_apart(ordered: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> Reason | None:
    """Two sets that each even out by themselves and then meet; None where that does not help either."""
    branches = [branch_of(pack, lead_mohm) for pack in ordered]
    for low in range(len(ordered) - 2, 0, -1):
        if not (_passes(ordered[low:], rules, lead_mohm) and _passes(ordered[:low], rules, lead_mohm)):
            continue
        meeting = run(joins(branches[:low], branches[low:]), Feeding(), SHOWN_S)
        worst = max(seen_by(ordered, meeting), key=lambda item: item.peak_rate_c)
        if not join_reasons([Plug(worst.id, worst.peak_rate_c, 0.0, worst)], rules):
            high = ordered[low:]
            apart = run(branches[low:], Feeding(), LONGEST_S, settled_a=[SETTLED_C * pack.capacity_ah for pack in high])
            minutes = float(apart.t_s[-1]) / 60
            return reason("way_even_first", ids=tuple(pack.id for pack in high), minutes=minutes)
    return None


def _charge_low_first(ordered: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> Reason | None:
    """Charge those below the widest gap by themselves, up to volts at which the whole group may be joined."""
    gaps = [_rest_v(high) - _rest_v(low) for low, high in pairwise(ordered)]
    low_ones = ordered[: gaps.index(max(gaps)) + 1]
    if not _passes(low_ones, rules, lead_mohm):
        return None
    below_v, above_v = _rest_v(low_ones[-1]), _rest_v(ordered[-1])
    for _ in range(7):
        middle_v = (below_v + above_v) / 2
        raised = [replace(pack, reading=Reading(max(middle_v, _rest_v(pack)))) for pack in low_ones]
        together = sorted([*raised, *ordered[len(low_ones) :]], key=_rest_v)
        below_v, above_v = (below_v, middle_v) if _passes(together, rules, lead_mohm) else (middle_v, above_v)
    cells, chemistry = ordered[0].cells, ordered[0].chemistry
    rate_c = min(rules.wanted_rate_c(chemistry), *(pack.max_charge_a / pack.capacity_ah for pack in low_ones))
    until_v = ceil_to_step(above_v / cells, END_STEP_V)
    return reason(
        "way_charge_low_first",
        ids=tuple(pack.id for pack in low_ones),
        until_v=until_v,
        minutes=max(minutes_to_volts(pack, until_v, rate_c) for pack in low_ones),
        current_a=rate_c * sum(pack.capacity_ah for pack in low_ones),
    )


def _rest_v(pack: Pack) -> float:
    if pack.reading is None:
        raise ValueError(f"{pack.id} has no reading")
    return pack.reading.pack_v
