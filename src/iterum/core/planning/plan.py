"""The plan: what a search found, with exact times, its bound, what was left out and why."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from iterum.core.matching import plug_in_order, unfit
from iterum.core.packs import Pack
from iterum.core.planning.bounds import lower_bound_min
from iterum.core.planning.exact import solve
from iterum.core.planning.problem import RATE_PARTS, PlannedBatch, Problem
from iterum.core.planning.schedule import Gene, Placed, Schedule, decode
from iterum.core.planning.search import Found, Prefer, Score, Search, full_by, score_of
from iterum.core.reasons import Reason, reason
from iterum.core.session import Session, Wish

PROVED_WITHIN_MIN = 0.5
"""A plan within this of its bound counts as proved: times are rounded to a twentieth of a minute in the proof."""


@dataclass(frozen=True)
class NotPlanned:
    """A pack without a batch, why, and what would mend it."""

    pack: Pack
    reason: Reason
    fix: Reason


@dataclass(frozen=True)
class WishOutcome:
    """What became of a wish: how many are full by then, and when the last of them is full (None if never)."""

    wish: Wish
    met: bool
    have: int
    ready_min: float | None


@dataclass(frozen=True)
class SourceUse:
    """What a plan takes from one source. usable_wh None for one without end."""

    id: str
    used_wh: float
    usable_wh: float | None
    peak_w: float


@dataclass(frozen=True)
class Plan:
    """A whole plan with its proved lower bound on the makespan."""

    batches: tuple[PlannedBatch, ...]
    left_out: tuple[NotPlanned, ...]
    wanted: tuple[WishOutcome, ...]
    makespan_min: float
    bound_min: float
    proved: bool
    visits: int
    sources: tuple[SourceUse, ...]
    score: Score
    genes: tuple[Gene, ...]
    iterations: int

    @property
    def gap(self) -> float:
        """How far the makespan may be over the best there is, as a part of the bound."""
        return self.makespan_min / self.bound_min - 1 if self.bound_min > 0 else 0.0


@dataclass(frozen=True)
class Progress:
    """Where a search stands."""

    iterations: int
    makespan_min: float
    bound_min: float
    proved: bool


class Planner:
    """Plans one session. A plan is there at once and only gets better; take the best whenever."""

    def __init__(
        self,
        session: Session,
        prefer: Prefer = Prefer.SOONEST,
        seed: int = 1,
        start: Sequence[Gene] = (),
        fixed: tuple[PlannedBatch, ...] = (),
    ) -> None:
        self.problem = Problem(session, fixed=fixed)
        self.prefer = prefer
        self.search = Search(self.problem, prefer, seed, start)
        self.bound_min = 0.0
        self.proved = False

    def improve(self) -> Iterator[Progress]:
        """Ever better plans until one is proved; stop taking when the time is up. The bound comes after the first."""
        best = self.search.best
        yield Progress(0, best.schedule.makespan_min, 0.0, False)
        if best.score.missing == 0:
            self.bound_min = lower_bound_min(self.problem, self.search.needed)
            exact = solve(self.problem, self.search.needed, best.schedule.makespan_min)
            if exact is not None:
                self._take_exact(*exact)
        for found in self.search:
            self.proved = self.proved or self._at_bound(found)
            yield Progress(found.iterations, found.schedule.makespan_min, self.bound_min, self.proved)
            if (self.proved and self.prefer is Prefer.SOONEST) or not found.genes:
                return

    def _take_exact(self, genes: list[Gene] | None, bound_min: float, optimal: bool) -> None:
        self.bound_min = max(self.bound_min, bound_min)
        if genes is not None:
            schedule = decode(self.problem, genes)
            if schedule is not None and not schedule.unplaced:
                found = Found(tuple(genes), schedule, score_of(self.problem, schedule, self.prefer), 0)
                self.search.best = min(self.search.best, found, key=lambda item: item.score)
        self.proved = optimal and self._at_bound(self.search.best)

    def _at_bound(self, found: Found) -> bool:
        return found.score.missing == 0 and found.schedule.makespan_min <= self.bound_min + PROVED_WITHIN_MIN

    # ------------------------------------------------------------------ the plan taken

    def plan(self) -> Plan:
        """The best plan so far, its minutes by the full model, gentler where that costs no time."""
        genes = self._gentler(self.search.best.genes) if self.prefer is Prefer.SOONEST else self.search.best.genes
        schedule = self._refined(genes)
        score = score_of(self.problem, schedule, self.prefer)
        return Plan(
            batches=tuple(self._batch(item) for item in sorted(schedule.placed, key=lambda item: item.start_min)),
            left_out=self._left_out(schedule),
            wanted=tuple(self._outcome(wish, schedule) for wish in self.problem.session.wanted),
            makespan_min=schedule.makespan_min,
            bound_min=min(self.bound_min, schedule.makespan_min),
            proved=self.proved,
            visits=schedule.visits,
            sources=self._sources(schedule),
            score=score,
            genes=genes,
            iterations=self.search.iterations,
        )

    def _gentler(self, genes: tuple[Gene, ...]) -> tuple[Gene, ...]:
        """Fewer amps wherever the end stays where it is: less wear at no cost."""
        best = decode(self.problem, genes)
        for at in range(len(genes)):
            for part in range(len(RATE_PARTS) - 1, genes[at].part, -1):
                tried = (*genes[:at], replace(genes[at], part=part), *genes[at + 1 :])
                schedule = decode(self.problem, tried)
                if best is None or schedule is None:
                    continue
                old, new = (score_of(self.problem, item, self.prefer) for item in (best, schedule))
                if (new.missing, new.late_min, new.first) <= (old.missing, old.late_min, old.first + 1e-6):
                    genes, best = tried, schedule
                    break
        return genes

    def _refined(self, genes: Sequence[Gene]) -> Schedule:
        """The schedule with the full model's minutes for every batch in it."""
        while True:
            schedule = decode(self.problem, genes)
            assert schedule is not None  # without a limit on time, decoding always ends
            changed = [
                self.problem.refine(item.gene.members, item.gene.machine, item.board, item.gene.part)
                for item in schedule.placed
            ]
            if not any(changed):
                return schedule

    def _batch(self, item: Placed) -> PlannedBatch:
        packs = [self.problem.packs[index] for index in item.gene.members]
        machine = self.problem.machines[item.gene.machine]
        return PlannedBatch(
            packs=plug_in_order(packs) if len(packs) > 1 else (packs[0].id,),
            family=packs[0].family,
            board=self.problem.boards[item.board].id if item.board >= 0 else None,
            channel=machine.channel.id,
            source=machine.source_id,
            current_a=item.costs.current_a,
            rate_c=item.costs.rate_c,
            start_min=item.start_min,
            lead_min=item.lead_min,
            end_min=item.end_min,
            power_w=item.costs.power_w,
            energy_in_wh=item.costs.energy_wh / machine.feed.efficiency_from_source,
            power_in_w=item.costs.power_w / machine.feed.efficiency_from_source,
        )

    def _left_out(self, schedule: Schedule) -> tuple[NotPlanned, ...]:
        planned = {index for item in schedule.placed for index in item.gene.members}
        found = []
        for verdict in self.problem.verdicts:
            left = unfit(verdict)
            if left is not None and (not verdict.charges or verdict.full):
                found.append(NotPlanned(verdict.pack, left.reason, left.fix))
        for index, pack in enumerate(self.problem.packs):
            if index not in planned:
                why = self._why_not(index, schedule)
                found.append(NotPlanned(pack, why, reason(f"fix_{why.code}", id=pack.id)))
        return tuple(found)

    def _why_not(self, index: int, schedule: Schedule) -> Reason:
        """Nothing charges it, nobody asked for it, or the energy is gone."""
        pack = self.problem.packs[index]
        places = [
            (machine, costs)
            for machine in range(len(self.problem.machines))
            if (costs := self.problem.costs((index,), machine, -1, 0)) is not None
        ]
        if not places:
            return reason("no_channel", id=pack.id)
        wanted = self.search.needed.get(pack.family, 0)
        charged = sum(
            len(item.gene.members) for item in schedule.placed
            if self.problem.packs[item.gene.members[0]].family == pack.family
        )  # fmt: skip
        if self.problem.wanted and charged >= wanted:
            return reason("not_wanted", id=pack.id, count=wanted)
        left_wh = {
            source.id: source.usable_wh - schedule.used_wh.get(source.id, 0.0)
            for source in self.problem.kit.sources
            if source.usable_wh is not None
        }
        short = []
        for machine, costs in places:
            found = self.problem.machines[machine]
            need_wh = costs.energy_wh / found.feed.efficiency_from_source
            if found.source_id in left_wh:
                short.append((need_wh - left_wh[found.source_id], need_wh, found.source_id))
        lack_wh, need_wh, source_id = min(short, default=(0.0, 0.0, None))
        return reason("no_energy", id=pack.id, need_wh=need_wh, lack_wh=max(lack_wh, 0.0), source=source_id)

    def _outcome(self, wish: Wish, schedule: Schedule) -> WishOutcome:
        ready = full_by(self.problem, schedule, wish.family)
        have = sum(end_min <= wish.at_min + 1e-6 for end_min in ready)
        last = ready[wish.count - 1] if len(ready) >= wish.count else None
        return WishOutcome(wish, have >= wish.count, have, last)

    def _sources(self, schedule: Schedule) -> tuple[SourceUse, ...]:
        found = []
        for source in self.problem.kit.sources:
            drawn = [
                (item.lead_min, item.end_min, item.costs.power_w * factor)
                for item in schedule.placed
                for name, factor in self.problem.machines[item.gene.machine].uses
                if name == f"source {source.id}"
            ]
            drawn += [
                (batch.lead_min, batch.end_min, batch.power_in_w)
                for batch in self.problem.fixed
                if batch.source == source.id and batch.end_min > 0
            ]
            peak_w = max(
                (sum(w for low, high, w in drawn if low <= start < high - 1e-9) for start, _, _ in drawn), default=0.0
            )
            found.append(SourceUse(source.id, schedule.used_wh.get(source.id, 0.0), source.usable_wh, peak_w))
        return tuple(found)
