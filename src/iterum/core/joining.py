"""Joining: the current each pack would see when a group is plugged together, and how to keep it bearable.

The voltage schools judge a difference in volts; what does harm is the current it pushes. Packs are plugged in one
after another, each waiting until those before it have evened out, as the plug-in order says; the model gives the
current of every pack at every plug.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from iterum.core.circuit import Array, Branch, Feeding, Trace, branch_of, run, settled
from iterum.core.estimate import minutes_to_volts
from iterum.core.kit import DEFAULT_LEAD_MOHM
from iterum.core.matching import in_plug_order, refusals, unjoinable
from iterum.core.packs import Level, Pack, Reading
from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, Unsafe, each_once, reason
from iterum.core.resistance import Basis, resistance_of
from iterum.core.rules import HouseRules

SETTLED_C = 0.1
"""Evened out: every pack's current is under this rate. Our choice: the tenth at which a charge is called done."""
BALANCE_LEAD_A = 2.0
"""What a balance lead carries. Common practice, no source."""
SHOWN_S, LONGEST_S = 1800.0, 4 * 3600.0
"""Evening out is followed for half an hour, longer where it has not settled by then."""


@dataclass(frozen=True)
class PackJoined:
    """What one pack sees when the group is joined.

    peak_current_a : its largest current, positive is being charged. peak_rate_c : the size of it in C.
    over_s : seconds above its own charge C. basis : what its resistance rests on.
    """

    id: str
    peak_current_a: float
    peak_rate_c: float
    over_s: float
    charge_c: float
    basis: Basis


@dataclass(frozen=True)
class Plug:
    """One pack being plugged to those before it, which have evened out.

    rate_c : the most C through any pack. worst : the pack longest above its charge C, or seeing the most C.
    wait_s : until currents have died down and the next may be plugged in; only where it was asked for.
    """

    id: str
    rate_c: float
    worst: PackJoined
    wait_s: float = 0.0


@dataclass(frozen=True)
class Evening:
    """How a group evens out.

    packs : what each sees with all joined at once, or the last one joined to the others.
    settled_s : until charging may start, None if not within `LONGEST_S`. balance_s : until balance leads may go in.
    plugs : the same one by one in the plug-in order, which is what the rule judges.
    """

    trace: Trace
    packs: tuple[PackJoined, ...]
    settled_s: float | None
    balance_s: float | None
    plugs: tuple[Plug, ...]
    level: Level
    reasons: tuple[Reason, ...]


def _time_above(t_s: Array, size: Array, limit: float) -> float:
    """Seconds that a quantity running straight between moments spends above a limit."""
    if size.max() <= limit:
        return 0.0
    low, high = np.minimum(size[:-1], size[1:]), np.maximum(size[:-1], size[1:])
    rise = np.where(high > low, high - low, 1.0)
    part = np.clip((high - limit) / rise, 0.0, 1.0)
    return float((np.diff(t_s) * np.where(low > limit, 1.0, np.where(high > limit, part, 0.0))).sum())


def _time_until(t_s: Array, size: Array, limit: float) -> float | None:
    """When a quantity falls under a limit for good; None if it has not at the end."""
    above = np.flatnonzero(size > limit)
    if not len(above):
        return 0.0
    last = int(above[-1])
    if last == len(size) - 1:
        return None
    part = (size[last] - limit) / (size[last] - size[last + 1])
    return float(t_s[last] + part * (t_s[last + 1] - t_s[last]))


def seen_by(packs: Sequence[Pack], trace: Trace) -> tuple[PackJoined, ...]:
    """The largest current of each pack in a trace, and its seconds above its charge C."""
    found = []
    for index, pack in enumerate(packs):
        amps = trace.current_a[:, index]
        peak_a = float(amps[np.abs(amps).argmax()])
        rate_c = np.abs(amps) / pack.capacity_ah
        over_s = _time_above(trace.t_s, rate_c, pack.charge_c + 1e-9)
        basis = resistance_of(pack).basis
        found.append(PackJoined(pack.id, peak_a, abs(peak_a) / pack.capacity_ah, over_s, pack.charge_c, basis))
    return tuple(found)


def _joins(first: Sequence[Branch], second: Sequence[Branch]) -> list[Branch]:
    """Two sets, each evened out by itself, as they meet."""
    return [*settled(first), *settled(second)]


def plug_by_plug(
    packs: Sequence[Pack], lead_mohm: float = DEFAULT_LEAD_MOHM, with_waits: bool = False
) -> tuple[Plug, ...]:
    """Plug the packs in, in the order given, each to those before it evened out: the worst that any pack sees.

    with_waits : follow each plug until its currents have died down, which takes longer to work out.
    """
    branches = [branch_of(pack, lead_mohm) for pack in packs]
    enough_a = [(SETTLED_C if with_waits else pack.charge_c) * pack.capacity_ah for pack in packs]
    found = []
    for count in range(2, len(packs) + 1):
        meeting = _joins(branches[: count - 1], branches[count - 1 : count])
        trace = run(meeting, Feeding(), SHOWN_S, settled_a=enough_a[:count])
        seen = seen_by(packs[:count], trace)
        worst = max(seen, key=lambda item: (item.over_s, item.peak_rate_c))
        fiercest = max(seen, key=lambda item: item.peak_rate_c)
        worst = worst if worst.over_s > 0 else fiercest
        sizes = np.abs(trace.current_a) / [pack.capacity_ah for pack in packs[:count]]
        wait_s = float(trace.t_s[-1]) if with_waits and sizes[0].max() > SETTLED_C else 0.0
        found.append(Plug(packs[count - 1].id, fiercest.peak_rate_c, worst, wait_s))
    return tuple(found)


def join_reasons(plugs: Sequence[Plug], rules: HouseRules) -> tuple[Reason, ...]:
    """Why a group breaks the joining rule, empty when it does not: at which plug, how many C, how long."""
    if rules.join_peak_c is None:
        return ()
    found = []
    for plug in plugs:
        if not at_most(plug.rate_c, rules.join_peak_c):
            found.append(reason("join_peak", id=plug.id, rate_c=plug.rate_c, limit_c=rules.join_peak_c))
        elif not at_most(plug.worst.over_s, rules.join_over_s):
            numbers = {"over_s": plug.worst.over_s, "limit_s": rules.join_over_s, "charge_c": plug.worst.charge_c}
            found.append(reason("join_long", id=plug.id, other=plug.worst.id, **numbers))
    return tuple(found)


def refuse_unjoinable(packs: Sequence[Pack]) -> None:
    """Raises Unsafe, with every reason, for packs that may never be joined or cannot be reckoned with."""
    found = unjoinable(packs)
    if found:
        raise Unsafe(found)


def even_out(
    packs: Sequence[Pack],
    rules: HouseRules,
    lead_mohm: float = DEFAULT_LEAD_MOHM,
    plugged_last: str | None = None,
    ports: int | None = None,
) -> Evening:
    """What flows when these packs are joined: all at once, or one joining the others evened out (`plugged_last`).

    Raises Unsafe for packs that may never be joined. Everything else is computed and reported.
    """
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
    settled_s = _latest([_time_until(trace.t_s, sizes[:, index], most) for index, most in enumerate(settled_a)])
    if settled_s is None:
        trace = run(branches, Feeding(), LONGEST_S, settled_a=settled_a)
        settled_s = float(trace.t_s[-1]) if trace.done else None
        sizes = np.abs(trace.current_a)
    order = [pack for pack in in_plug_order(packs) if pack.id != plugged_last]
    order += [pack for pack in packs if pack.id == plugged_last]
    plugs = plug_by_plug(order, lead_mohm, with_waits=True)
    broken = (*refusals(packs, rules, ports), *join_reasons(plugs, rules))
    seen = seen_by(packs, trace)
    notes = () if broken else tuple(
        reason("join_above_charge_c", id=item.id, rate_c=item.peak_rate_c, charge_c=item.charge_c, over_s=item.over_s)
        for item in seen if item.over_s > 0
    )  # fmt: skip
    rests_on = each_once(rests_on_reason(pack) for pack in packs)
    return Evening(
        trace=trace,
        packs=seen,
        settled_s=settled_s,
        balance_s=_latest([_time_until(trace.t_s, sizes[:, index], BALANCE_LEAD_A) for index in range(len(packs))]),
        plugs=plugs,
        level=Level.STOP if broken else Level.LOOK if notes else Level.FIT,
        reasons=(*(broken or notes or (reason("join_fine", rate_c=_highest(plugs)),)), *rests_on),
    )


def _highest(plugs: Sequence[Plug]) -> float:
    return max((plug.rate_c for plug in plugs), default=0.0)


def _latest(times_s: Sequence[float | None]) -> float | None:
    """The last of several moments; None if one of them never comes."""
    known = [moment_s for moment_s in times_s if moment_s is not None]
    return max(known, default=0.0) if len(known) == len(times_s) else None


def rests_on_reason(pack: Pack) -> Reason:
    """What the resistance of a pack rests on, as a reason to be shown."""
    part = resistance_of(pack)
    if part.basis is Basis.MEASURED:
        return reason("rests_on_measured")
    return reason(f"rests_on_{part.basis.value}", kind=part.kind.label, source=part.kind.source)


# ---------------------------------------------------------------------------------------- ways out


def _passes(packs: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> bool:
    return len(packs) < 2 or not join_reasons(plug_by_plug(packs, lead_mohm), rules)


def ways_out(packs: Sequence[Pack], rules: HouseRules, lead_mohm: float = DEFAULT_LEAD_MOHM) -> tuple[Reason, ...]:
    """For a group inside the voltage rule that breaks the joining rule: how it could be joined after all.

    Another order, a smaller group, the odd ones evened out by themselves first, or the low ones charged up to where
    all may be joined. Empty when nothing needs mending.
    """
    ordered = in_plug_order(packs)
    if _passes(ordered, rules, lead_mohm):
        return ()
    ways = (
        _other_order(ordered, rules, lead_mohm),
        _even_apart(ordered, rules, lead_mohm),
        _smaller_group(ordered, rules, lead_mohm),
        _charge_low_first(ordered, rules, lead_mohm),
    )
    return tuple(way for way in ways if way is not None)


def _other_order(ordered: Sequence[Pack], rules: HouseRules, lead_mohm: float) -> Reason | None:
    """The highest with the lowest first, or from high to low."""
    for order in ([ordered[0], ordered[-1], *ordered[1:-1]], ordered[::-1]):
        if len(ordered) > 2 and _passes(order, rules, lead_mohm):
            return reason("way_other_order", ids=tuple(pack.id for pack in order))
    return None


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
        meeting = run(_joins(branches[:low], branches[low:]), Feeding(), SHOWN_S)
        worst = max(seen_by(ordered, meeting), key=lambda item: item.peak_rate_c)
        if not join_reasons([Plug(worst.id, worst.peak_rate_c, worst)], rules):
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
    rate_c = min(rules.wanted_rate_c(chemistry), *(pack.charge_c for pack in low_ones))
    return reason(
        "way_charge_low_first",
        ids=tuple(pack.id for pack in low_ones),
        until_v=above_v / cells,
        minutes=max(minutes_to_volts(pack, above_v / cells, rate_c) for pack in low_ones),
        current_a=rate_c * sum(pack.capacity_ah for pack in low_ones),
    )


def _rest_v(pack: Pack) -> float:
    if pack.reading is None:
        raise ValueError(f"{pack.id} has no reading")
    return pack.reading.pack_v
