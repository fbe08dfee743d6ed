"""Why a plan is as it is: what each batch waits for, why a pack is alone, and what would widen the bottleneck."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice

from iterum.core.kit import Kit
from iterum.core.matching import obstacles
from iterum.core.planning.plan import Plan
from iterum.core.planning.problem import PlannedBatch, Problem
from iterum.core.planning.schedule import Gene, decode
from iterum.core.planning.search import Prefer, Search
from iterum.core.reasons import Reason, reason
from iterum.core.session import Session

LEAST_GAIN = 0.03
"""Gains under this are noise of the search and are not reported."""
RELAXED_CHUNKS = 6
_EPS = 1e-4


@dataclass(frozen=True)
class BatchWhy:
    """Reasons for one batch: what it waits for, and for a lone pack why nobody joins it."""

    batch: PlannedBatch
    reasons: tuple[Reason, ...]


def explain(session: Session, plan: Plan) -> tuple[BatchWhy, ...]:
    """One entry a batch, in the order of the plan. `session` is the one that was planned, without packs that run."""
    problem = Problem(session)
    return tuple(BatchWhy(batch, _reasons(problem, plan, batch)) for batch in plan.batches)


def _reasons(problem: Problem, plan: Plan, batch: PlannedBatch) -> tuple[Reason, ...]:
    if not any(pack.id == batch.packs[0] for pack in problem.packs):
        return (reason("replan_runs", end_min=batch.end_min),)
    found = [_waits_for(problem, plan, batch)]
    if len(batch.packs) == 1:
        found.append(_alone(problem, plan, batch))
    return tuple(found)


def _waits_for(problem: Problem, plan: Plan, batch: PlannedBatch) -> Reason:
    """What becomes free just as this batch starts: channel, board, hands, or watts."""
    if batch.start_min < _EPS:
        return reason("starts_at_once")
    before = [other for other in plan.batches if other is not batch]
    for other in before:
        if abs(other.end_min - batch.start_min) < _EPS and other.channel == batch.channel:
            return reason("waits_channel", channel=batch.channel, until_min=other.end_min)
    for other in before:
        if batch.board and other.board == batch.board and abs(other.end_min - batch.start_min) < _EPS:
            return reason("waits_board", board=batch.board, until_min=other.end_min)
    for other in before:
        if abs(other.lead_min - batch.start_min) < _EPS:
            return reason("waits_hands", packs=other.packs, until_min=other.lead_min)
    for other in before:
        if abs(other.end_min - batch.lead_min) < _EPS:
            return reason("waits_watts", resource=_shared(problem, batch, other), until_min=other.end_min)
    return reason("waits_order")


def _shared(problem: Problem, batch: PlannedBatch, other: PlannedBatch) -> str:
    """The nearest thing that feeds both."""
    uses = {item.channel.id: [name for name, _ in item.uses] for item in problem.machines}
    return next((name for name in uses[batch.channel] if name in uses[other.channel]), "the source")


def _alone(problem: Problem, plan: Plan, batch: PlannedBatch) -> Reason:
    """The first rule that fails against its nearest mate, or how much later the end would be if it joined."""
    index = next(i for i, pack in enumerate(problem.packs) if pack.id == batch.packs[0])
    pack = problem.packs[index]
    mates = [i for i in problem.families[pack.family] if i != index]
    if not mates:
        return reason("alone_only_one", family=pack.family)
    if not problem.joins[index]:
        return reason("alone_unfit")
    nearest = min(mates, key=lambda i: abs((problem.packs[i].cell_v or 0.0) - (pack.cell_v or 0.0)))
    against = obstacles((pack, problem.packs[nearest]), problem.rules)
    if against:
        return Reason(f"alone_{against[0].code}", {**against[0].numbers, "nearest": problem.packs[nearest].id})
    later = _later_if_joined(problem, plan, index)
    if later is None:
        return reason("alone_no_room")
    return reason("alone_later", minutes=later)


def _later_if_joined(problem: Problem, plan: Plan, index: int) -> float | None:
    """Minutes by which the end moves when the pack joins the batch that suits best; None where none takes it."""
    alone = next(gene for gene in plan.genes if gene.members == (index,))
    best: float | None = None
    for at, gene in enumerate(plan.genes):
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


@dataclass(frozen=True)
class Relaxed:
    """One thing widened by one step, and the minutes it would save."""

    reason: Reason
    makespan_min: float
    saved_min: float


def bottlenecks(session: Session, plan: Plan, chunks: int = RELAXED_CHUNKS) -> Iterator[Relaxed | None]:
    """What one step more of each thing would gain, one after another; None for a thing that gains under 3 %.

    Each relaxed search starts from the plan at hand, so that noise never makes a wider bench look worse.
    """
    for code, changed in _widened(session):
        search = Search(Problem(changed), Prefer.SOONEST, start=plan.genes)
        for _ in islice(search, chunks):
            pass
        end_min = search.best.schedule.makespan_min
        if search.best.score.missing == 0 and end_min < plan.makespan_min * (1 - LEAST_GAIN):
            saved_min = plan.makespan_min - end_min
            yield Relaxed(reason(code, saved_min=saved_min, end_min=end_min), end_min, saved_min)
        else:
            yield None


def _widened(session: Session) -> Sequence[tuple[str, Session]]:
    """The session with one thing widened at a time."""
    kit, rules = session.kit, session.rules
    found: list[tuple[str, Session]] = []
    if kit.chargers:
        busiest = max(kit.chargers, key=lambda item: item.total_power_w or 0.0)
        twin = replace(
            busiest, id=f"{busiest.id} twin",
            channels=tuple(replace(channel, id=f"{channel.id} twin") for channel in busiest.channels[:1]),
        )  # fmt: skip
        found.append(("wider_channel", replace(session, kit=replace(kit, chargers=(*kit.chargers, twin)))))
    if kit.boards:
        largest = max(kit.boards, key=lambda board: board.ports)
        more = replace(largest, id=f"{largest.id} twin")
        found.append(("wider_board", replace(session, kit=replace(kit, boards=(*kit.boards, more)))))
    found.append(("wider_rate", replace(session, rules=replace(rules, rate_c=2.0))))
    found.append(("wider_hands", replace(session, rules=replace(rules, setup_min=0.0))))
    found.append(("wider_watts", replace(session, kit=_more_watts(kit, 1.5))))
    return found


def _more_watts(kit: Kit, factor: float) -> Kit:
    """Half as many watts again of everything that feeds."""

    def times(value: float | None) -> float | None:
        return None if value is None else value * factor

    return replace(
        kit,
        chargers=tuple(
            replace(item, total_power_w=times(item.total_power_w),
                    power_by_input_v=tuple((volts, watts * factor) for volts, watts in item.power_by_input_v),
                    channels=tuple(replace(ch, max_power_w=ch.max_power_w * factor) for ch in item.channels))
            for item in kit.chargers
        ),
        supplies=tuple(replace(item, max_power_w=item.max_power_w * factor) for item in kit.supplies),
        sources=tuple(
            replace(item, max_power_w=times(item.max_power_w), max_current_a=times(item.max_current_a))
            for item in kit.sources
        ),
    )  # fmt: skip
