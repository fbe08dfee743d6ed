"""Joining: the current each pack would see when a group is plugged together, how long to wait, and the ways out.

The voltage schools judge a difference in volts; what does harm is the current it pushes. Packs are plugged in one
after another; the model gives the current of every pack at every plug. Waiting has one purpose: that no pack takes
more than it may and no balance lead carries more than about 2 A. The minutes found here are the ones that the joining
steps, the card, the plan, the run and the commands all count. They are one timetable.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import pairwise

import numpy as np

from iterum.core.amps.limits import board_faults
from iterum.core.electrical.circuit import Feeding, Trace, branch_of, run, settled
from iterum.core.electrical.estimate import minutes_to_volts
from iterum.core.electrical.order import least_into
from iterum.core.electrical.plugging import (
    SHOWN_S,
    PackJoined,
    Plug,
    balance_first_a,
    join_reasons,
    joins,
    latest,
    plug_by_plug,
    plug_of,
    seen_by,
    time_until,
)
from iterum.core.electrical.resistance import Basis, resistance_of
from iterum.core.electrical.waiting import BALANCE_LEAD_A, Start, balance_s, spread_per_cell_v, start_of, waits
from iterum.core.groups.group import in_plug_order, refusals, unjoinable
from iterum.core.permit.facts import Level
from iterum.core.quantities import at_most, ceil_to_step
from iterum.core.reasons import Reason, Unsafe, each_once, reason
from iterum.core.things.chemistry import END_STEP_V
from iterum.core.things.kit import Board, Port
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules, JoinOrder

PORT = Port()
"""A plug and a lead as they usually are."""
SETTLED_C = 0.1
"""Evened out: every pack's current is under this rate. Our choice: the tenth at which a charge is called done."""
LONGEST_S = 4 * 3600.0
"""Evening out is followed for half an hour, longer where it has not settled by then."""
NO_CURRENT_S = 1.0
"""Shorter than this nothing is over anything."""


@dataclass(frozen=True)
class Step:
    """One step of joining: what to plug in, and the minutes to wait after it. into : the pack that takes most then."""

    plug: str
    wait_min: float
    into: PackJoined | None


@dataclass(frozen=True)
class Joining:
    """The verdict on joining one group, and how to do it.

    order : the packs as they are to be plugged in. start : how the packs stand when charging begins;
    None for one pack, and where the rule is broken. last_wait_min : between the last plug and the charger's start.
    balance_a : the most amps through a balance wire if balance leads go in first; None for one pack.
    balance_first : whether they do. ways : how a group that breaks the rule could be joined after all.
    """

    order: tuple[str, ...]
    plugs: tuple[Plug, ...]
    last_wait_min: float
    balance_a: float | None
    balance_first: bool
    level: Level
    reasons: tuple[Reason, ...]
    ways: tuple[Reason, ...] = ()
    start: Start | None = None

    @property
    def timetable(self) -> tuple[Step, ...]:
        """Every plug with the wait after it: the steps of the card, the plan, the run and the commands."""
        if not self.plugs:
            return tuple(Step(tag, 0.0, None) for tag in self.order)
        waits_min = [plug.wait_s / 60 for plug in self.plugs] + [self.last_wait_min]
        into = [None, *(plug.into for plug in self.plugs)]
        return tuple(map(Step, self.order, waits_min, into))

    @property
    def wait_min(self) -> float:
        """All waits of the timetable together, min."""
        return sum(step.wait_min for step in self.timetable)

    @property
    def passes(self) -> bool:
        """Whether the joining rule allows it."""
        return self.level is not Level.STOP

    @property
    def peak_rate_c(self) -> float:
        """The most C into any pack at any plug."""
        return max((plug.rate_c for plug in self.plugs), default=0.0)

    @property
    def peak_out_c(self) -> float:
        """The most C out of any pack at any plug."""
        return max((plug.out.out_c for plug in self.plugs), default=0.0)

    @property
    def peak_current_a(self) -> float:
        """The most amps through any pack at any plug, whichever way."""
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
    packs: Sequence[Pack], rules: HouseRules, port: Port = PORT, rate_c: float | None = None, with_ways: bool = True
) -> Joining:
    """The verdict on plugging these measured packs together, in what order, and how long to wait.

    port : of the board. rate_c : at which they are to be charged, multiples of capacity per hour; None takes the rate
    that is wanted, 0 is for packs that no charger follows. with_ways : look for ways out where the rule is broken,
    which takes longer.
    """
    return _joining(tuple(packs), rules, port, waits_at_c(packs, rules, rate_c), with_ways)


def waits_at_c(packs: Sequence[Pack], rules: HouseRules, rate_c: float | None) -> float:
    """The rate for which the waits are counted, so that every page and command counts the same ones.

    A charge that is slower than wanted, because watts are short, waits as long as one that is not.
    rate_c : multiples of capacity per hour; None for the wanted rate, 0 for no charge at all.
    """
    if rate_c == 0 or not packs:
        return 0.0
    allowed_c = min(pack.max_charge_a / pack.capacity_ah for pack in packs)
    return max(min(rules.wanted_rate_c(packs[0].chemistry), allowed_c), rate_c or 0.0)


@lru_cache(maxsize=4096)
def _joining(packs: tuple[Pack, ...], rules: HouseRules, port: Port, rate_c: float, with_ways: bool) -> Joining:
    """The same, worked out once for the same packs, rules and amps."""
    if len(packs) < 2:
        return Joining(tuple(pack.id for pack in packs), (), 0.0, None, False, Level.FIT, ())
    order = passing_order(packs, rules, port) or in_plug_order(packs)
    joined = _in_order(order, rules, port, rate_c)
    if joined.passes or not with_ways:
        return joined
    return replace(joined, ways=ways_out(packs, rules, port))


def _in_order(order: Sequence[Pack], rules: HouseRules, port: Port, rate_c: float) -> Joining:
    """The verdict on packs that are plugged in in this order."""
    plugs = plug_by_plug(order, port.lead_mohm)
    broken = join_reasons(plugs, rules, port)
    waiting = None if broken else waits(order, port, rules, rate_c)
    if waiting is not None:
        plugs = tuple(replace(plug, wait_s=wait_s) for plug, wait_s in zip(plugs, waiting.between_s, strict=True))
    first_a = balance_first_a(order)
    notes: list[Reason] = []
    wished = rules.join_order is JoinOrder.BALANCE_FIRST
    if wished and not at_most(first_a, BALANCE_LEAD_A):
        notes.append(reason("balance_first_refused", current_a=first_a, limit_a=BALANCE_LEAD_A))
    elif wished:
        notes.append(reason("balance_first_allowed", current_a=first_a, limit_a=BALANCE_LEAD_A))
    seen = {plug.longest.id: plug.longest for plug in plugs if plug.longest.over_s >= NO_CURRENT_S}
    notes += [
        reason("join_above_charge_c", id=item.id, rate_c=item.into_c, charge_c=item.charge_c, over_s=item.over_s)
        for item in seen.values()
    ]
    level = Level.STOP if broken else Level.LOOK if seen else Level.FIT
    fine = reason("join_fine", rate_c=max((plug.rate_c for plug in plugs), default=0.0))
    return Joining(
        order=tuple(pack.id for pack in order),
        plugs=plugs,
        last_wait_min=waiting.charge_min if waiting else 0.0,
        start=start_of(order, waiting) if waiting else None,
        balance_a=first_a,
        balance_first=wished and at_most(first_a, BALANCE_LEAD_A),
        level=level,
        reasons=broken or (*notes, *(() if seen else (fine,))),
    )


@lru_cache(maxsize=16_384)
def _passing_order(packs: tuple[Pack, ...], rules: HouseRules, port: Port) -> tuple[Pack, ...] | None:
    for order in _orders(in_plug_order(packs), port):
        if not join_reasons(plug_by_plug(order, port.lead_mohm), rules, port):
            return tuple(order)
    return None


def passing_order(packs: Sequence[Pack], rules: HouseRules, port: Port = PORT) -> tuple[Pack, ...] | None:
    """Of the orders of plugging in that are allowed, the one with the least C into any pack; None for none.

    port : of the board.
    """
    return _passing_order(tuple(packs), rules, port)


def _orders(lowest: Sequence[Pack], port: Port) -> list[Sequence[Pack]]:
    """Orders to try: the one with the least C into any pack; where that one gives too much, or for too long, from low
    to high, the lowest with the highest first, and from high to low."""
    if len(lowest) < 3:
        return [lowest]
    orders: list[Sequence[Pack]] = [lowest, [lowest[0], lowest[-1], *lowest[1:-1]], lowest[::-1]]
    if spread_per_cell_v(lowest) == 0:  # nothing flows, whatever the order
        return orders
    best = least_into([branch_of(pack, port.lead_mohm) for pack in lowest])
    return [[lowest[place] for place in best], *orders]


def refuse_unjoinable(packs: Sequence[Pack]) -> None:
    """Raises Unsafe, with every reason, for packs that may never be joined or cannot be counted with."""
    against = unjoinable(packs)
    if against:
        raise Unsafe(against)


def even_out(
    packs: Sequence[Pack],
    rules: HouseRules,
    board: Board | None = None,
    plugged_last: str | None = None,
    rate_c: float | None = None,
) -> EvenedOut:
    """What flows when these packs are joined: all at once, or one joining the others evened out (`plugged_last`).

    board : None where none is known. rate_c : the rate at which they are to be charged then. Raises Unsafe for packs
    that may never be joined. All else is computed and reported.
    """
    return _even_out(tuple(packs), rules, board, plugged_last, rate_c)


@lru_cache(maxsize=512)
def _even_out(
    packs: tuple[Pack, ...], rules: HouseRules, board: Board | None, plugged_last: str | None, rate_c: float | None
) -> EvenedOut:
    refuse_unjoinable(packs)
    if packs[0].table is None:
        raise Unsafe((reason("ends_by_drop", chemistry=packs[0].chemistry.label, id=packs[0].id),))
    port = board.port if board else PORT
    branches = [branch_of(pack, port.lead_mohm) for pack in packs]
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
    verdict = _as_asked(packs, rules, port, plugged_last, rate_c)
    broken = (
        *refusals(packs, rules, board.ports if board else None),
        *board_faults(packs, board),
        *(verdict.reasons if not verdict.passes else ()),
    )
    rests_on = each_once(rests_on_reason(pack) for pack in packs)
    return EvenedOut(
        trace=trace,
        packs=seen_by(packs, trace),
        settled_s=settled_s,
        balance_s=balance_s(packs, trace, port.lead_mohm),
        joining=verdict,
        level=Level.STOP if broken else verdict.level,
        reasons=(*(each_once(broken) or verdict.reasons), *rests_on),
    )


def _as_asked(
    packs: Sequence[Pack], rules: HouseRules, port: Port, plugged_last: str | None, rate_c: float | None
) -> Joining:
    """The verdict, for the order that was asked for where one pack is to be the last."""
    answer = joining(packs, rules, port, rate_c)
    if plugged_last is None or len(packs) < 2 or answer.order[-1] == plugged_last:
        return answer
    order = [pack for pack in in_plug_order(packs) if pack.id != plugged_last]
    order += [pack for pack in packs if pack.id == plugged_last]
    asked = _in_order(order, rules, port, waits_at_c(packs, rules, rate_c))
    ways = (reason("way_other_order", ids=answer.order),) if not asked.passes and answer.passes else answer.ways
    return replace(asked, ways=ways)


def rests_on_reason(pack: Pack) -> Reason:
    """What the resistance of a pack rests on, as a reason to be shown."""
    part = resistance_of(pack)
    if part.basis is Basis.MEASURED:
        return reason("rests_on_measured")
    told = "no_label" if part.basis is Basis.DEFAULT and len(pack.chemistry.kinds) > 1 else part.basis.value
    return reason(f"rests_on_{told}", kind=part.kind.label, source=part.kind.source)


# ---------------------------------------------------------------------------------------- ways out


def _passes(packs: Sequence[Pack], rules: HouseRules, port: Port) -> bool:
    return passing_order(packs, rules, port) is not None


def ways_out(packs: Sequence[Pack], rules: HouseRules, port: Port = PORT) -> tuple[Reason, ...]:
    """For a group inside the voltage rule that breaks the joining rule: how it could be joined after all.

    A smaller group, the odd ones evened out by themselves first, or the low ones charged up to where
    all may be joined. Empty when nothing needs mending.
    port : of the board.
    """
    ordered = in_plug_order(packs)
    if _passes(ordered, rules, port):
        return ()
    ways = (
        _even_apart(ordered, rules, port),
        _smaller_group(ordered, rules, port),
        _charge_low_first(ordered, rules, port),
    )
    return tuple(way for way in ways if way is not None)


def _smaller_group(ordered: Sequence[Pack], rules: HouseRules, port: Port) -> Reason | None:
    """The fewest packs at one end that must stay away."""
    for left in range(1, len(ordered) - 1):
        for kept in (ordered[:-left], ordered[left:]):
            if _passes(kept, rules, port):
                return reason("way_smaller_group", ids=tuple(pack.id for pack in ordered if pack not in kept))
    return None


def _even_apart(ordered: Sequence[Pack], rules: HouseRules, port: Port) -> Reason | None:
    """Two sets that each even out by themselves and then meet; None where that does not help either."""
    branches = [branch_of(pack, port.lead_mohm) for pack in ordered]
    for low in range(len(ordered) - 2, 0, -1):
        if not (_passes(ordered[low:], rules, port) and _passes(ordered[:low], rules, port)):
            continue
        meeting = run(joins(branches[:low], branches[low:]), Feeding(), SHOWN_S)
        if not join_reasons([plug_of(ordered[low].id, seen_by(ordered, meeting))], rules, port):
            high = ordered[low:]
            apart = run(branches[low:], Feeding(), LONGEST_S, settled_a=[SETTLED_C * pack.capacity_ah for pack in high])
            minutes = float(apart.t_s[-1]) / 60
            return reason("way_even_first", ids=tuple(pack.id for pack in high), minutes=minutes)
    return None


def _charge_low_first(ordered: Sequence[Pack], rules: HouseRules, port: Port) -> Reason | None:
    """Charge those below the widest gap by themselves, up to volts at which the whole group may be joined."""
    gaps = [_rest_v(high) - _rest_v(low) for low, high in pairwise(ordered)]
    low_ones = ordered[: gaps.index(max(gaps)) + 1]
    if not _passes(low_ones, rules, port):
        return None
    below_v, above_v = _rest_v(low_ones[-1]), _rest_v(ordered[-1])
    for _ in range(7):
        middle_v = (below_v + above_v) / 2
        raised = [replace(pack, reading=Reading(max(middle_v, _rest_v(pack)))) for pack in low_ones]
        together = sorted([*raised, *ordered[len(low_ones) :]], key=_rest_v)
        below_v, above_v = (below_v, middle_v) if _passes(together, rules, port) else (middle_v, above_v)
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
