"""Planning a session: search, repair by the full model, proof, and what is left out."""

from collections import Counter
from collections.abc import Iterator, Sequence

from iterum.core.electrical.estimate import charge_to_mah
from iterum.core.match.matching import unfit
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.bounds import leaders_bound_min, lower_bound_min
from iterum.core.planning.exact import solve
from iterum.core.planning.heats import DaySearch
from iterum.core.planning.plan import NotPlanned, Plan, Progress, outcomes, source_uses, visits_in
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene, Schedule, Seated, decode
from iterum.core.planning.score import Prefer, Score, score_of
from iterum.core.planning.search import Candidate, Search
from iterum.core.quantities import MOMENT_MIN
from iterum.core.reasons import Reason, reason
from iterum.core.sizing.arrange import answer
from iterum.core.things.choice import Choice
from iterum.core.things.session import Session

PROVED_WITHIN_MIN = 0.5
"""A plan within this of its bound counts as proved: times are rounded to a twentieth of a minute in the proof."""


REPAIRS, REPAIR_CHUNKS = 4, 3
"""How often, and how long, a plan is sought on when the full model's minutes break what the estimate's met."""
SHARPER_AFTER, SHARPER_COSTS = 8, 200
"""Chunks of search before the sharper bound is asked for, a good plan first, then how good it is; and one more for
every so many pairs of packs, for it takes the longer the more there are."""


class Planner:
    """Plans one session. A plan is there at once and only gets better; take the best whenever."""

    def __init__(
        self,
        session: Session,
        prefer: Prefer = Prefer.SOONEST,
        seed: int = 1,
        start: Sequence[Gene] = (),
        problem: Problem | None = None,
    ) -> None:
        problem = Problem(session) if problem is None else problem
        self.prefer, self.seed = prefer, seed
        self.search = (
            DaySearch(problem, prefer, seed, start)
            if problem.day is not None and problem.day.heats
            else Search(problem, prefer, seed, start)
        )
        self.bound_min = 0.0
        self.proved = False
        self.gentle = True
        """Whether amps are turned down where that costs no time; not where an old plan is kept as it was."""

    def again(self, problem: Problem) -> "Planner":
        """A planner of the same kind and preference for a changed problem."""
        return Planner(problem.session, self.prefer, self.seed, (), problem)

    @property
    def problem(self) -> Problem:
        """What the best plan so far speaks of: the session, with the decisions on its heats."""
        return self.search.best.problem

    def improve(self) -> Iterator[Progress]:
        """Ever better plans until one is proved; stop taking when the time is up. The bound comes after the first."""
        best = self.search.best
        yield Progress(0, best.schedule.makespan_min, 0.0, False)
        by_charge = self.problem.day is None
        if by_charge:
            self.bound_min = lower_bound_min(self.problem, self._charged)
        if by_charge and best.score.whole:
            exact = solve(self.problem, self.search.needed, best.schedule.makespan_min)
            if exact is not None:
                self._take_exact(*exact)
        sharper_after = SHARPER_AFTER + len(self.problem.packs) ** 2 // SHARPER_COSTS
        for chunk, candidate in enumerate(self.search):
            if chunk == sharper_after and by_charge and not self.proved:
                self.bound_min = max(self.bound_min, leaders_bound_min(self.problem, self._charged))
            self.proved = self.proved or self._at_bound(candidate)
            yield Progress(candidate.iterations, candidate.schedule.makespan_min, self.bound_min, self.proved)
            if (self.proved and self.prefer is Prefer.SOONEST) or not candidate.genes:
                return

    @property
    def _charged(self) -> dict[str, int]:
        """By family, how many packs the plan charges: what is left out voids no bound on the rest."""
        packs, placed = self.problem.packs, self.search.best.schedule.placed
        charged = Counter(packs[index].family for item in placed for index in item.gene.members)
        return {family: min(count, charged[family]) for family, count in self.search.needed.items()}

    def _take_exact(self, genes: list[Gene] | None, bound_min: float, optimal: bool) -> None:
        self.bound_min = max(self.bound_min, bound_min)
        if genes is not None:
            schedule = decode(self.problem, genes)
            if schedule is not None and not schedule.unplaced:
                candidate = Candidate(
                    self.problem, tuple(genes), schedule, score_of(self.problem, schedule, self.prefer), 0
                )
                self.search.best = min(self.search.best, candidate, key=lambda item: item.score)
        self.proved = optimal and self._at_bound(self.search.best)

    def _at_bound(self, candidate: Candidate) -> bool:
        return candidate.score.whole and candidate.schedule.makespan_min <= self.bound_min + PROVED_WITHIN_MIN

    # ------------------------------------------------------------------ the plan taken

    def plan(self) -> Plan:
        """The best plan so far, its minutes by the full model, gentler where that costs no time."""
        genes, schedule, score = self._settled()
        batches = tuple(self._batch(item) for item in sorted(schedule.placed, key=lambda item: item.start_min))
        every = (*self.problem.taken, *batches)
        return Plan(
            batches=batches,
            left_out=self._left_out(schedule),
            wanted=outcomes(self.problem, every, self.problem.session.wanted),
            makespan_min=schedule.makespan_min,
            bound_min=min(self.bound_min, schedule.makespan_min),
            proved=self.proved,
            visits=visits_in(every),
            sources=source_uses(self.problem.kit, every),
            score=score,
            genes=genes,
            iterations=self.search.iterations,
        )

    def _settled(self) -> tuple[tuple[Gene, ...], Schedule, Score]:
        """The best list with the full model's minutes; sought on for a while where those minutes break a wish."""
        settled: list[Candidate] = []
        for _ in range(REPAIRS):
            best = self.search.best
            allowed = (*best.score.short[:2], best.score.late_min + MOMENT_MIN)
            gentler = self._gentler(best.genes) if self.gentle and self.prefer is Prefer.SOONEST else best.genes
            for genes in dict.fromkeys((gentler, best.genes)):  # fewer amps are not worth a wish
                schedule = self._refined(genes)
                score = score_of(self.problem, schedule, self.prefer)
                settled.append(Candidate(best.problem, genes, schedule, score, best.iterations))
                if score.short <= allowed:
                    break
            if settled[-1].score.short <= allowed or len(settled) > REPAIRS:
                break
            # Refined minutes are known now, and count from here on.
            self.search.reckon_anew()
            for chunk, candidate in enumerate(self.search):
                if chunk >= REPAIR_CHUNKS or candidate.score.short <= (0, 0, MOMENT_MIN):
                    break
        kept = min(reversed(settled), key=lambda item: item.score.short)
        self.search.best = kept
        return kept.genes, kept.schedule, kept.score

    def _gentler(self, genes: tuple[Gene, ...]) -> tuple[Gene, ...]:
        """Fewer amps wherever the end stays where it is: less wear at no cost."""
        best = decode(self.problem, genes)
        for at in range(len(genes)):
            for part in self.problem.gentler(genes[at].part):
                tried = (*genes[:at], genes[at]._replace(part=part), *genes[at + 1 :])
                schedule = decode(self.problem, tried)
                if best is None or schedule is None:
                    continue
                old, new = (score_of(self.problem, item, self.prefer) for item in (best, schedule))
                if (*new.short, new.unbalanced, new.first) <= (*old.short, old.unbalanced, old.first + MOMENT_MIN):
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

    def _batch(self, item: Seated) -> PlannedBatch:
        packs = [self.problem.packs[index] for index in item.gene.members]
        machine = self.problem.machines[item.gene.machine]
        return PlannedBatch(
            charges=self.problem.plug_order(item.gene.members, item.board),
            family=packs[0].family,
            board=self.problem.boards[item.board].id if item.board >= 0 else None,
            channel=machine.channel.id,
            source=machine.source_id,
            current_a=item.costs.current_a,
            rate_c=item.costs.rate_c,
            start_min=item.start_min,
            lead_min=item.lead_min,
            full_min=item.full_min,
            end_min=item.end_min,
            until_fraction=self.problem.need_of(item.gene.members),
            end_v=self.problem.end_v_of(item.gene.members),
            charge_mah=charge_to_mah(packs, self.problem.rules_of(item.gene.members).full_v(packs[0].chemistry)),
            early_min=None if item.costs.low_min is None else item.lead_min + item.costs.low_min,
            late_min=None if item.costs.high_min is None else item.lead_min + item.costs.high_min,
            power_w=item.costs.power_w,
            energy_in_wh=item.costs.energy_wh / machine.from_source,
            power_in_w=item.costs.power_w / machine.from_source,
        )

    def _left_out(self, schedule: Schedule) -> tuple[NotPlanned, ...]:
        planned = {index for item in schedule.placed for index in item.gene.members}
        left_out = []
        for verdict in self.problem.verdicts:
            left = unfit(verdict)
            if left is not None and (not verdict.charges or verdict.full):
                left_out.append(NotPlanned(verdict.pack, left.reason, left.fix))
        left_out += [
            NotPlanned(pack, reason("in_hand", channel=batch.channel), reason("fix_in_hand", id=pack.id))
            for batch in self.problem.session.running
            for pack in self.problem.session.bench.members(batch.packs)
        ]
        left_out += [
            NotPlanned(pack, reason("in_hand", channel=batch.board), reason("fix_in_hand", id=pack.id))
            for pack, batch in self.problem.evening
        ]
        if self.problem.day is not None:
            left_out += self._not_flown()
        for index, pack in enumerate(self.problem.packs):
            if index not in planned:
                why = self._why_not(index, schedule)
                fix = reason(f"fix_{why.code}", id=pack.id)
                left_out.append(NotPlanned(pack, why, fix, self.problem.keys[index].round))
        return tuple(left_out)

    def _not_flown(self) -> list[NotPlanned]:
        """Packs that could be charged and that no heat needs."""
        asked = {pack.id for pack in self.problem.packs}
        return [
            NotPlanned(verdict.pack, reason("no_heat_needs_it"), reason("fix_not_wanted"))
            for verdict in self.problem.verdicts
            if verdict.charges and not verdict.full and verdict.pack.id not in asked
        ]

    def _why_not(self, index: int, schedule: Schedule) -> Reason:
        """Nothing charges it, nobody asked for it, or the energy is gone."""
        pack = self.problem.packs[index]
        places = [
            (machine, costs)
            for machine in range(len(self.problem.machines))
            if (costs := self.problem.costs((index,), machine, -1, 0)) is not None
        ]
        if not places:
            _, _, refusal = answer(self.problem.session.bench, Choice((pack.id,)))
            long = (item for item in (refusal.reasons if refusal else ()) if item.code == "charge_too_long")
            return next(long, reason("no_channel", id=pack.id))
        wanted = self.search.needed.get(pack.family, 0)
        charged = sum(
            len(item.gene.members) for item in schedule.placed
            if self.problem.packs[item.gene.members[0]].family == pack.family
        )  # fmt: skip
        if self.problem.wanted and not self.problem.rounds and charged >= wanted:
            return reason("not_wanted", id=pack.id, count=wanted)
        left_wh = {
            source.id: source.usable_wh - schedule.used_wh.get(source.id, 0.0)
            for source in self.problem.kit.sources
            if source.usable_wh is not None
        }
        short = []
        for machine, costs in places:
            place = self.problem.machines[machine]
            need_wh = costs.energy_wh / place.from_source
            if place.source_id in left_wh:
                short.append((need_wh - left_wh[place.source_id], need_wh, place.source_id))
        lack_wh, need_wh, source_id = min(short, default=(0.0, 0.0, None))
        return reason("no_energy", id=pack.id, need_wh=need_wh, lack_wh=max(lack_wh, 0.0), source=source_id)
