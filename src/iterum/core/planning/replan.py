"""Planning again from what is true now: what runs stays, what is done is done, and as little as can be changes."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from math import inf

from iterum.core.planning.batches import PlannedBatch, later
from iterum.core.planning.by_hand import in_the_way
from iterum.core.planning.history import Flown, could_fly, flights_of, have_flown, packs_as_they_are, shifted
from iterum.core.planning.plan import NotPlanned, Plan, outcomes
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.rounds import Flight, heats_to_come, is_sound
from iterum.core.planning.schedule import Gene, Occupancy
from iterum.core.planning.score import Prefer
from iterum.core.quantities import MOMENT_MIN, at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.session import Session, Wish

FROZEN_MIN = 5.0
"""A batch that is to be set up within this is not moved any more: hands are on it."""
WORTH_MIN = 3.0
"""A change must save this much, or let more be charged, or meet what was late. Who flies is not changed for minutes."""
SAME_MIN = 1.0
"""A batch that moves by less has not moved."""


@dataclass(frozen=True)
class Kept:
    """What of an old plan holds at a moment: batches done, batches fixed (running or about to be), batches to come.

    Times of `fixed` and `to_come` are from that moment on: a running batch begins before 0.
    """

    done: tuple[PlannedBatch, ...]
    fixed: tuple[PlannedBatch, ...]
    to_come: tuple[PlannedBatch, ...]


def kept_at(batches: Sequence[PlannedBatch], now_min: float) -> Kept:
    """Sort a plan that was followed so far by what has become of each batch at minute `now_min`."""
    shifted = [later(batch, -now_min) for batch in batches]
    return Kept(
        done=tuple(batch for batch in shifted if batch.end_min <= 0),
        fixed=tuple(batch for batch in shifted if batch.end_min > 0 and _stays(batch)),
        to_come=tuple(batch for batch in shifted if batch.end_min > 0 and not _stays(batch)),
    )


def _stays(batch: PlannedBatch) -> bool:
    return batch.locked or batch.start_min <= FROZEN_MIN


def _holding(kept: Kept, session: Session, flown: Sequence[Flown]) -> Kept:
    """The same, but what was to stay and can no longer be begun as it is, is still to come.

    A pack hurt, a channel lost, a heat moved, less in the source. What charges already stays: stopping is for the run.
    """
    problem = Problem(replace(session, wanted=()))
    flights = flights_of(flown)
    fixed = [batch for batch in kept.fixed if batch.lead_min <= 0]
    bench = Occupancy(Problem(session, fixed=(*kept.done, *fixed)))
    let_go = []
    for batch in sorted(kept.fixed, key=lambda batch: batch.start_min):
        if batch.lead_min <= 0:
            continue
        if _can_begin(problem, batch, flights) and not in_the_way(bench, batch):
            bench.book(batch)
            fixed.append(batch)
        else:
            let_go.append(batch)
    to_come = tuple(sorted([*let_go, *kept.to_come], key=lambda batch: batch.start_min))
    return replace(kept, fixed=tuple(fixed), to_come=to_come)


def _can_begin(problem: Problem, batch: PlannedBatch, flights: Mapping[str, Sequence[Wish]]) -> bool:
    """Whether a batch may be set up as it was planned, by what is known of its packs and of the kit now."""
    sound = {verdict.pack.id for verdict in problem.verdicts if is_sound(verdict.pack, problem.rules)}
    machine, board = problem.machine_of(batch.channel), problem.board_of(batch.board)
    if machine is None or board is None or not sound.issuperset(batch.packs):
        return False
    flown = {tag: flights.get(tag, ()) for tag in batch.packs}
    if any(len(flown[tag]) < number - 1 for tag, number in batch.charges):
        return False  # it is to fly first, and who flies is settled again
    if max(batch.rounds) > 1:  # their volts are foreseen, not read
        back_min = (heat.over_min + heat.rest_min for heats in flown.values() for heat in heats)
        return max(back_min, default=0.0) <= batch.start_min + MOMENT_MIN
    if any(charge not in problem.index for charge in batch.charges):
        return False
    members = tuple(sorted(problem.index[charge] for charge in batch.charges))
    costs = problem.costs(members, machine.index, board, 0) if problem.may_join(members) else None
    return costs is not None and at_most(batch.current_a, costs.current_a)


def _genes(problem: Problem, batches: Sequence[PlannedBatch]) -> list[Gene]:
    """The batches still to come as genes; those whose packs or company are gone fall apart into single packs."""
    machines = {machine.channel.id: machine.index for machine in problem.machines}
    genes, used = [], set()
    for batch in batches:
        members = tuple(sorted(problem.index[charge] for charge in batch.charges if charge in problem.index))
        if not members or not problem.machines:
            continue
        machine = machines.get(batch.channel, 0)
        used |= set(members)
        if problem.may_join(members) and problem.boards_for(members):
            stays = batch.end_min > batch.full_min + MOMENT_MIN or not problem.rounds
            part = _part(problem, members, machine, batch)
            genes.append(Gene(members, machine, part, stays, batch.board))
        else:
            genes += [Gene((member,), machine) for member in members]
    if not problem.wanted:
        genes += [Gene((number,), 0) for number in range(len(problem.packs)) if number not in used and problem.machines]
    return genes


def _part(problem: Problem, members: tuple[int, ...], machine: int, batch: PlannedBatch) -> int:
    """The part of the amps that comes nearest to what the batch had."""
    boards, own = problem.boards_for(members), problem.board_of(batch.board)
    board = own if own in boards else boards[0]
    best = (inf, 0)
    for part in range(problem.parts):
        costs = problem.costs(members, machine, board, part)
        if costs is not None:
            best = min(best, (abs(costs.current_a - batch.current_a), part))
        if best[0] < MOMENT_MIN:  # the same amps: no need to ask further
            break
    return best[1]


def _still_short(wanted: Sequence[Wish], stay: Sequence[PlannedBatch]) -> tuple[Wish, ...]:
    """Wishes with what is full or on its way taken off."""
    there = Counter(batch.family for batch in stay for _ in batch.packs)
    return tuple(
        replace(wish, count=wish.count - there[wish.family]) for wish in wanted if wish.count > there[wish.family]
    )


def _counted(batches: Sequence[PlannedBatch], session: Session) -> tuple[PlannedBatch, ...]:
    """Batches as they count for what was asked: without packs that were hurt, or taken out of use, since."""
    sound = {pack.id for pack in session.packs if is_sound(pack, session.rules)}
    return tuple(
        replace(batch, charges=tuple(charge for charge in batch.charges if charge.tag in sound)) for batch in batches
    )


def _flights_told(session: Session, told: Sequence[Flown]) -> tuple[Flight, ...]:
    """The decisions of the plan that was followed, for the heats that are still to come: the same packs fly first."""
    left = [item for item in told if item.heat.is_heat]
    flights = []
    for heat in heats_to_come(session):
        same = next((item for item in left if (item.heat.family, item.heat.name) == (heat.family, heat.name)), None)
        if same is None:
            flights.append(Flight())
            continue
        left.remove(same)
        count = None if len(same.packs) >= heat.count or not heat.is_heat else len(same.packs)
        flights.append(Flight(count=count, first=same.packs))
    return tuple(flights)


class Replanner(Planner):
    """A planner that starts from an old plan and leaves what runs alone."""

    def __init__(
        self,
        session: Session,
        batches: Sequence[PlannedBatch],
        now_min: float,
        prefer: Prefer = Prefer.SOONEST,
        seed: int = 1,
        flown: Sequence[Flown] = (),
    ) -> None:
        from_now = session.later(now_min)
        at_now = kept_at(batches, now_min)
        not_begun = [batch for batch in (*at_now.fixed, *at_now.to_come) if batch.lead_min > 0]
        self.flown = could_fly(shifted(have_flown(session.wanted, flown, now_min), now_min), not_begun)
        self.kept = _holding(at_now, from_now, self.flown)
        self.let_go = [batch for batch in self.kept.to_come if batch.locked]
        stay = (*self.kept.done, *self.kept.fixed)
        coming = packs_as_they_are(from_now, stay, self.flown)
        known = {item.pack.id for item in coming}
        self.asked = from_now.wanted
        self.whole = session
        self.session = replace(
            from_now,
            packs=tuple(pack for pack in session.packs if pack.id not in known),
            wanted=self.asked
            if any(wish.is_heat for wish in self.asked)
            else _still_short(self.asked, _counted(stay, session)),
        )
        if self.asked and not self.session.wanted:  # all that was asked for is full or on its way
            self.session = replace(self.session, packs=())
        problem = Problem(self.session, fixed=stay, coming=coming)
        self.as_told = problem.otherwise(_flights_told(problem.session, flown)) if problem.day else problem
        self.keeps_close = tuple(_genes(self.as_told, self.kept.to_come))
        super().__init__(self.session, prefer, seed, self.keeps_close, self.as_told)
        self.heats_over = Counter(tag for item in self.flown for tag in item.packs)

    def _where_they_were(self) -> dict[tuple[int, ...], float]:
        """By their packs, when the batches to come were to be set up."""
        index = self.as_told.index
        return {
            tuple(sorted(index[charge] for charge in batch.charges)): batch.start_min
            for batch in self.kept.to_come
            if all(charge in index for charge in batch.charges)
        }

    def plan(self) -> Plan:
        """The old plan repaired, or the better one where it is worth a change; running batches first."""
        if self.keeps_close or self.as_told.day is not None:
            best = self.search.best
            self.as_told.not_before = self._where_they_were()
            repaired = self.search.candidate(self.keeps_close)
            worth = (
                best.score.short[:3] < repaired.score.short[:3]
                or best.score.late_min < repaired.score.late_min - MOMENT_MIN
                or (
                    not self.let_go
                    and not self.as_told.rounds
                    and best.schedule.makespan_min <= repaired.schedule.makespan_min - WORTH_MIN
                )
            )
            if worth:
                self.as_told.not_before = {}
            else:
                self.search.best, self.gentle = repaired, False
        return self.with_kept(super().plan(), self.problem)

    def again(self, problem: Problem) -> Planner:
        """A planner for a changed problem that leaves alone what this one does."""
        return _Beside(self, problem)

    def with_kept(self, plan: Plan, problem: Problem) -> Plan:
        """A plan of what is to come, with what runs and what was done."""
        ends = [batch.end_min for batch in self.kept.fixed]
        asked = self.asked if problem.day is None else problem.session.wanted
        return replace(
            plan,
            left_out=(*plan.left_out, *self._unnamed(plan)),
            batches=(*self.kept.fixed, *map(self._as_locked, plan.batches)),
            wanted=outcomes(problem, _counted((*problem.taken, *plan.batches), self.whole), asked),
            makespan_min=max([plan.makespan_min, *ends]),
            bound_min=None if plan.bound_min is None else max([plan.bound_min, *ends]),
        )

    def _unnamed(self, plan: Plan) -> list[NotPlanned]:
        """Packs that neither a batch nor a reason names so far: charged already, or asked for by nobody any more."""
        batches = (*self.kept.fixed, *plan.batches)
        named = {tag for batch in batches for tag in batch.packs} | {left.pack.id for left in plan.left_out}
        done = {tag: batch.end_min for batch in self.kept.done for tag in batch.packs}
        flying = {tag for item in plan.wanted for tag in item.packs}
        unnamed = []
        for pack in self.whole.packs:
            if pack.id in named or pack.id in flying:
                continue
            code = "done_before" if pack.id in done else "not_asked_any_more"
            why = reason(code, end_min=done[pack.id]) if pack.id in done else reason(code)
            unnamed.append(NotPlanned(pack, why, reason("fix_done", id=pack.id)))
        return unnamed

    def _as_locked(self, batch: PlannedBatch) -> PlannedBatch:
        """A batch kept by hand is so still, where it could stay."""
        same = any(
            was.charges == batch.charges and was.channel == batch.channel
            and abs(was.start_min - batch.start_min) <= SAME_MIN for was in self.let_go
        )  # fmt: skip
        return replace(batch, locked=same)


class _Beside(Planner):
    """A planner for a change of what another replans: the same batches are kept."""

    def __init__(self, beside: Replanner, problem: Problem) -> None:
        super().__init__(problem.session, beside.prefer, beside.seed, (), problem)
        self._beside, self.heats_over = beside, beside.heats_over

    def plan(self) -> Plan:
        """What is to come by the change, with what is kept."""
        return self._beside.with_kept(super().plan(), self.problem)


def changes(old: Sequence[PlannedBatch], new: Sequence[PlannedBatch]) -> tuple[Reason, ...]:
    """What a new plan does otherwise than the old one, both counted from the same moment."""
    told: list[Reason] = []
    before = {frozenset(batch.charges): batch for batch in old}
    after = {frozenset(batch.charges): batch for batch in new}
    for charges, batch in after.items():
        was = before.get(charges)
        if was is None:
            told.append(reason("replan_new", packs=batch.packs, channel=batch.channel, start_min=batch.start_min))
        elif was.channel != batch.channel or abs(was.start_min - batch.start_min) > SAME_MIN:
            told.append(
                reason(
                    "replan_moved",
                    packs=batch.packs,
                    channel=batch.channel,
                    was_channel=was.channel,
                    start_min=batch.start_min,
                    was_min=was.start_min,
                )
            )
    told += [reason("replan_gone", packs=was.packs) for charges, was in before.items() if charges not in after]
    return tuple(told) or (reason("replan_same"),)
