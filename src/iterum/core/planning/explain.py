"""Why a plan is as it is: what each batch waits for, why a pack is alone, and what would widen the bottleneck."""

from collections.abc import Iterator
from dataclasses import replace
from itertools import islice
from math import ceil

from iterum.core.groups.group import obstacles
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.fast import FastSearch, is_fast
from iterum.core.planning.plan import BatchWhy, Plan, Relaxed
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene, Schedule, decode
from iterum.core.planning.score import Prefer
from iterum.core.planning.search import Search
from iterum.core.quantities import MOMENT_MIN, at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.kit import Kit
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session

LEAST_GAIN = 0.03
"""Gains under this are noise of the search and are not reported."""
RELAXED_CHUNKS = 16
_EPS = 1e-4
MOST_PLACED = 1_500
"""Batches that are placed at most to say why packs are alone: a plan of many is not explained for minutes."""
NEAREST = 4
"""Batches that a lone pack is tried in, the nearest in volts first."""


def explain(problem: Problem, plan: Plan) -> tuple[BatchWhy, ...]:
    """One entry a batch, in the order of the plan. `problem` is the one that was planned, without packs that run."""
    lone = [batch for batch in plan.batches if len(batch.packs) == 1]
    tried = {id(batch) for batch in lone[: MOST_PLACED // max(len(plan.genes), 1)]}
    return tuple(BatchWhy(batch, _reasons(problem, plan, batch, id(batch) in tried)) for batch in plan.batches)


def _reasons(problem: Problem, plan: Plan, batch: PlannedBatch, tried: bool) -> tuple[Reason, ...]:
    if batch.charges[0] not in problem.index:
        return (reason("kept_by_you" if batch.locked else "replan_runs", end_min=batch.end_min),)
    reasons = [reason("kept_by_you")] if batch.locked else [_waits_for(problem, plan, batch)]
    if len(batch.packs) == 1:
        reasons.append(_alone(problem, plan, batch, tried))
    return tuple(reasons)


def _waits_for(problem: Problem, plan: Plan, batch: PlannedBatch) -> Reason:
    """What becomes free just as this batch starts: packs, channel, board, hands, or watts."""
    if batch.start_min < _EPS:
        return reason("starts_at_once")
    before = [other for other in plan.batches if other is not batch]
    for other in before:
        if abs(other.end_min - batch.start_min) < _EPS and other.channel == batch.channel:
            return reason("waits_channel", channel=batch.channel, until_min=other.end_min)
    for other in before:
        if _same_board(problem, batch.board, other.board) and abs(other.end_min - batch.start_min) < _EPS:
            return reason("waits_board", board=batch.board, until_min=other.end_min)
    outside = _waits_outside(problem, batch)
    if outside is not None:
        return outside
    for other in before:
        if abs(other.lead_min - batch.start_min) < _EPS:
            return reason("waits_hands", packs=other.packs, until_min=other.lead_min)
    for other in before:
        if abs(other.end_min - batch.start_min) < _EPS:
            return reason("waits_watts", resource=_shared(problem, batch, other), until_min=other.end_min)
    return reason("waits_order")


def _waits_outside(problem: Problem, batch: PlannedBatch) -> Reason | None:
    """Packs that come back, a heat that is over, or a source that may run again, just as this batch starts."""
    release_min = problem.release_min(tuple(problem.index[charge] for charge in batch.charges))
    if release_min and abs(release_min - batch.start_min) < _EPS:
        return reason("waits_return", until_min=release_min)
    if any(abs(until_min - batch.start_min) < _EPS for _, until_min in problem.away):
        return reason("waits_flight", until_min=batch.start_min)
    feed = next(machine.feed for machine in problem.machines if machine.channel.id == batch.channel)
    if any(abs(until_min - batch.start_min) < _EPS for _, until_min in problem.quiet_min(feed.source)):
        return reason("waits_quiet", source=batch.source, until_min=batch.start_min)
    return None


def _same_board(problem: Problem, one: str | None, other: str | None) -> bool:
    """Whether two batches need a board in common, chained ones counted by their parts."""
    mine, theirs = problem.kit.board(one), problem.kit.board(other)
    return bool(mine and theirs and set(mine.part_ids) & set(theirs.part_ids))


def _shared(problem: Problem, batch: PlannedBatch, other: PlannedBatch) -> str:
    """The nearest thing that feeds both."""
    uses = {item.channel.id: [name for name, _ in item.uses] for item in problem.machines}
    return next((name for name in uses[batch.channel] if name in uses[other.channel]), "the source")


_ALONE_BY_FIGURES = frozenset({"window_too_wide", "same_cell_apart", "capacities_differ", "ports_full"})
"""Obstacles that have a sentence of their own for a pack that is alone, shorter than theirs for a group."""


def _alone(problem: Problem, plan: Plan, batch: PlannedBatch, tried: bool) -> Reason:
    """The first rule that fails against its nearest mate, or how much later the end would be if it joined. tried :
    whether that is worked out."""
    index = problem.index[batch.charges[0]]
    pack = problem.packs[index]
    mates = [i for i in problem.families[pack.family] if i != index]
    if not mates:
        return reason("alone_only_one", family=pack.family)
    if not problem.joins[index]:
        return reason("alone_unfit")
    nearest = min(mates, key=lambda i: abs((problem.packs[i].cell_v or 0.0) - (pack.cell_v or 0.0)))
    against = obstacles((pack, problem.packs[nearest]), problem.rules)
    if against:
        first = against[0]
        if first.code not in _ALONE_BY_FIGURES:
            return reason("alone_against", why=first)
        return Reason(f"alone_{first.code}", {**first.numbers, "nearest": problem.packs[nearest].id})
    if not tried:
        return reason("alone_as_found")
    later = _later_if_joined(problem, plan, index)
    if later is None:
        return reason("alone_no_room")
    return reason("alone_later", minutes=later)


def _later_if_joined(problem: Problem, plan: Plan, index: int) -> float | None:
    """Minutes by which the end moves when the pack joins one of the batches nearest in volts; None where none takes
    it."""
    alone = next(gene for gene in plan.genes if gene.members == (index,))
    best: float | None = None
    volts = [pack.cell_v or 0.0 for pack in problem.packs]
    apart = {at: abs(volts[gene.members[0]] - volts[index]) for at, gene in enumerate(plan.genes)
             if problem.packs[gene.members[0]].family == problem.packs[index].family}  # fmt: skip
    for at in sorted(apart, key=lambda at: apart[at])[:NEAREST]:
        gene = plan.genes[at]
        key = tuple(sorted((*gene.members, index)))
        if gene is alone or problem.packs[gene.members[0]].family != problem.packs[index].family:
            continue
        if not problem.may_join(key) or not problem.boards_for(key):
            continue
        tried = [Gene(key, gene.machine, gene.part) if place == at else item for place, item in enumerate(plan.genes)]
        schedule = decode(problem, [item for item in tried if item is not alone])
        if schedule is not None and not schedule.unplaced:
            later = schedule.makespan_min - plan.makespan_min
            best = later if best is None else min(best, later)
    return best


# ---------------------------------------------------------------------------------------- the bottleneck


def bottlenecks(problem: Problem, plan: Plan, chunks: int = RELAXED_CHUNKS) -> Iterator[Relaxed | None]:
    """What one step more of each thing would gain, one after another; None for a thing that gains under 3 %.

    Where something wanted is not met, what would buy it back; else what would end the whole sooner. Each relaxed
    search starts from the plan at hand, so that noise never makes a wider bench look worse.
    chunks : of search for each, 1 or more.
    """
    short = not plan.score.whole or plan.score.late_min > MOMENT_MIN
    for code, numbers, changed in _widened(problem, plan, short):
        relaxed = Problem(changed)
        start = plan.genes if len(relaxed.packs) == len(problem.packs) else ()
        search = (
            FastSearch(relaxed, Prefer.SOONEST, start=start)
            if is_fast(relaxed)
            else Search(relaxed, Prefer.SOONEST, start=start)
        )
        for _ in islice(search, chunks):
            pass
        best = search.best
        end_min = best.schedule.makespan_min
        saved_min = plan.makespan_min - end_min
        if short:
            worth = best.score.short < (*plan.score.short[:3], plan.score.late_min - 0.5)
            whole = best.score.whole and best.score.late_min < MOMENT_MIN
            back = plan.score.missing - best.score.missing
            faster = _faster(best.schedule, problem.rules)
            more = {**numbers, "whole": whole, "packs": back, "late_min": best.score.late_min, "faster": faster}
            yield Relaxed(reason(f"buys_{code}", **more), end_min, saved_min) if worth else None
        elif best.score.whole and end_min < plan.makespan_min * (1 - LEAST_GAIN):
            yield Relaxed(reason(f"wider_{code}", **numbers, saved_min=saved_min, end_min=end_min), end_min, saved_min)
        else:
            yield None


def _faster(schedule: Schedule, rules: HouseRules) -> int:
    """How many batches are charged faster than the house rules want."""
    return sum(item.costs.rate_c > wanted_c + _EPS for item in schedule.placed if (wanted_c := rules.rate_c or 1.0))


def _widened(problem: Problem, plan: Plan, short: bool) -> list[tuple[str, dict[str, object], Session]]:
    """(code, numbers, the session with one thing widened), the thing by its name; with `short` also what only a plan in
    want needs. What the house rules allow already, and watts that the plan does not use up, are not among them."""
    session = problem.session
    kit, rules = session.kit, session.rules
    wider: list[tuple[str, dict[str, object], Session]] = []
    if kit.chargers:
        busiest = max(kit.chargers, key=lambda item: item.total_power_w or 0.0)
        twin = replace(
            busiest, id=f"{busiest.id} twin",
            channels=tuple(replace(channel, id=f"{channel.id} twin") for channel in busiest.channels[:1]),
        )  # fmt: skip
        like: dict[str, object] = {"like": busiest.name or busiest.id}
        wider.append(("channel", like, replace(session, kit=replace(kit, chargers=(*kit.chargers, twin)))))
    if kit.boards:
        largest = max(kit.boards, key=lambda board: board.ports)
        more = replace(largest, id=f"{largest.id} twin")
        named: dict[str, object] = {"like": largest.name or largest.id}
        wider.append(("board", named, replace(session, kit=replace(kit, boards=(*kit.boards, more)))))
    if not at_most(FASTER_C, rules.rate_c or 1.0):
        wider.append(("rate", {}, replace(session, rules=replace(rules, rate_c=FASTER_C))))
    if rules.setup_min > 0:
        wider.append(("hands", {}, replace(session, rules=replace(rules, setup_min=0.0))))
    wider += [("watts", {"of": thing}, replace(session, kit=_more_watts(kit, thing, MORE_WATTS)))
              for thing in used_up(problem, plan)]  # fmt: skip
    if short:
        wider += [("energy", {"wh": wh, "source": tag}, replace(session, kit=_more_energy(kit, tag, wh)))
                  for tag, wh in _lacking_wh(plan)]  # fmt: skip
        later = tuple(replace(wish, at_min=wish.at_min + LATER_MIN) for wish in session.wanted)
        if later:
            wider.append(("time", {"minutes": LATER_MIN}, replace(session, wanted=later)))
    return wider


FASTER_C, MORE_WATTS, USED_UP = 2.0, 1.5, 0.9
"""What is tried: the highest rate that is usual at the field, half as many watts again. A limit of which so much is
drawn at once counts as used up."""


def used_up(problem: Problem, plan: Plan) -> tuple[str, ...]:
    """Chargers, supplies and sources of whose watts hardly anything is left at some moment of the plan."""
    uses = {machine.channel.id: dict(machine.uses) for machine in problem.machines}
    found = []
    for thing, limit_w in problem.limits_w.items():
        drawn = [(batch.start_min, batch.end_min, batch.power_w * uses[batch.channel].get(thing, 0.0))
                 for batch in plan.batches if batch.channel in uses]  # fmt: skip
        peak_w = max((sum(w for low, high, w in drawn if low <= at < high) for at, _, _ in drawn), default=0.0)
        if peak_w >= USED_UP * limit_w:
            found.append(thing)
    return tuple(found)


LATER_MIN = 10.0
_STEP_WH = 5


def _lacking_wh(plan: Plan) -> list[tuple[str, float]]:
    """(source, Wh) that would charge every pack that was given up for want of energy, in steps of 5 Wh."""
    lack: dict[str, float] = {}
    for left in plan.left_out:
        if left.reason.code == "no_energy" and left.reason.numbers["source"]:
            source = str(left.reason.numbers["source"])
            lack[source] = lack.get(source, 0.0) + float(left.reason.numbers["need_wh"])
    return [(source, _STEP_WH * ceil(wh * 1.02 / _STEP_WH)) for source, wh in lack.items()]


def _more_energy(kit: Kit, source_id: str, more_wh: float) -> Kit:
    """So many usable watt-hours more in one source."""
    return replace(
        kit,
        sources=tuple(
            replace(item, energy_wh=(item.energy_wh or 0.0) + more_wh / item.usable_part)
            if item.id == source_id and item.usable_part
            else item
            for item in kit.sources
        ),
    )


def _more_watts(kit: Kit, thing: str, factor: float) -> Kit:
    """So many times the watts of one charger, supply or source, by its kind and tag."""
    kind, tag = thing.split(" ", 1)

    def times(value: float | None) -> float | None:
        return None if value is None else value * factor

    if kind == "charger":
        wider = tuple(
            replace(item, total_power_w=times(item.total_power_w),
                    power_by_input_v=tuple((volts, watts * factor) for volts, watts in item.power_by_input_v))
            if item.id == tag else item for item in kit.chargers
        )  # fmt: skip
        return replace(kit, chargers=wider)
    if kind == "supply":
        return replace(kit, supplies=tuple(
            replace(item, max_power_w=item.max_power_w * factor) if item.id == tag else item for item in kit.supplies
        ))  # fmt: skip
    return replace(kit, sources=tuple(
        replace(item, max_power_w=times(item.max_power_w), max_current_a=times(item.max_current_a))
        if item.id == tag else item for item in kit.sources
    ))  # fmt: skip
