"""Planning a session: search, repair by the full model, proof, and what is left out."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from iterum.core.electrical.estimate import charge_to_mah
from iterum.core.groups.matching import unfit
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.bounds import leaders_bound_min, lower_bound_min
from iterum.core.planning.fast import FastSearch, is_fast
from iterum.core.planning.heats import DaySearch
from iterum.core.planning.plan import NotPlanned, Plan, Progress, outcomes, source_uses, visits_in
from iterum.core.planning.problem import Problem
from iterum.core.planning.proving import Prover, is_worth_it
from iterum.core.planning.schedule import Gene, Schedule, Seated, decode
from iterum.core.planning.score import Prefer, Score, score_of
from iterum.core.planning.search import Candidate, Search
from iterum.core.quantities import MOMENT_MIN
from iterum.core.reasons import Reason, reason
from iterum.core.sizing.arrange import answer
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice
from iterum.core.things.session import Session, Wish

PROVED_WITHIN_MIN = 0.5
"""A plan within this of its bound is as soon as any: nobody sets up a batch to half a minute."""


REPAIRS, REPAIR_CHUNKS = 4, 3
"""How often, and how long, a plan is sought on when the full model's minutes break what the estimate's met."""


class Planner:
    """Plans one session. A plan is there at once and only gets better; take the best whenever."""

    def __init__(
        self,
        session: Session,
        prefer: Prefer = Prefer.SOONEST,
        seed: int = 1,
        start: Sequence[Gene] = (),
        problem: Problem | None = None,
        threads: int = 1,
    ) -> None:
        """start : batches to begin from. problem : where it is known already. threads : of search, 1 or more; with more
        than one, and with time as the limit, plans are not the same each time.
        """
        problem = Problem(session) if problem is None else problem
        self.prefer, self.seed = prefer, seed
        self.search: DaySearch | Search | FastSearch = _search(problem, prefer, seed, start, threads)
        self.bound_min: float | None = None
        self.heats_over: Mapping[str, int] = {}
        """By tag, heats of the day that it has flown in."""
        self.gentle = True
        """Whether amps are turned down where that costs no time; not where an old plan is kept as it was."""
        self.helped = True
        """Whether a helper process may work out a bound meanwhile."""

    def again(self, problem: Problem) -> "Planner":
        """A planner of the same kind and preference for a changed problem."""
        return Planner(problem.session, self.prefer, self.seed, (), problem)

    @property
    def standing(self) -> tuple[float, ...]:
        """What is wanted and not had by the best plan so far, then when its last pack is full, min: the less the
        better."""
        if isinstance(self.search, FastSearch):
            return float(self.search.not_charged), self.search.makespan_min
        unfair, *short = self.search.best.score.short
        return (*unfair, *short, self.search.makespan_min)

    @property
    def problem(self) -> Problem:
        """What the best plan so far speaks of: the session, with the decisions on its heats."""
        return self.search.problem if isinstance(self.search, FastSearch) else self.search.best.problem

    def improve(self, seconds: float | None = None) -> Iterator[Progress]:
        """Ever better plans.

        seconds : for so long, with a helper that works out a bound where there is time for one; None: until nobody
        takes more, the same for the same seed.
        """
        yield Progress(0, self.search.makespan_min, None)
        prover = self._prover(seconds)
        steps = self.search.improve(seconds) if seconds is not None else iter(self.search)
        try:
            for _ in steps:
                self._look_at(prover)
                yield Progress(self.search.iterations, self.search.makespan_min, self.bound_min)
                if self._soonest_possible(prover):
                    return
        finally:
            if prover is not None:
                prover.end()

    def prove(self) -> None:
        """Work out the bound here and now, however long it takes."""
        if self._may_be_bounded:
            charged = self._charged
            first, second = lower_bound_min(self.problem, charged), leaders_bound_min(self.problem, charged)
            self._bound(max(first, second), charged)

    @property
    def _may_be_bounded(self) -> bool:
        """Days of heats have no bound: what they charge is a decision of the plan."""
        return self.search.problem.day is None and type(self.search.problem) is Problem

    def _prover(self, seconds: float | None) -> Prover | None:
        if seconds is None or not self.helped or not is_worth_it(len(self.search.problem.packs), seconds):
            return None
        if not self._may_be_bounded or not self.search.needed:
            return None
        return Prover(self.search.problem, self._charged)

    def _look_at(self, prover: Prover | None) -> None:
        bound_min = prover.poll() if prover is not None else None
        if prover is not None and bound_min is not None:
            self._bound(bound_min, prover.charged)

    def _bound(self, bound_min: float, charged: Mapping[str, int]) -> None:
        self._bounded = dict(charged)
        self.bound_min = max(bound_min, self.bound_min or 0.0)

    def _soonest_possible(self, prover: Prover | None) -> bool:
        """Whether nothing is left to find: the plan stands at a bound that nobody works on any more."""
        at_bound = self.bound_min is not None and self.search.makespan_min <= self.bound_min + PROVED_WITHIN_MIN
        return at_bound and self.prefer is Prefer.SOONEST and (prover is None or prover.done)

    @property
    def _charged(self) -> dict[str, int]:
        """By family, how many packs the plan charges: what is left out voids no bound on the rest."""
        best = self.search.best
        packs = best.problem.packs
        charged = Counter(packs[index].family for item in best.schedule.placed for index in item.gene.members)
        return {family: min(count, charged[family]) for family, count in self.search.needed.items()}

    def _bound_of(self, charged: Mapping[str, int], makespan_min: float) -> float | None:
        """The bound that holds for a plan that charges so many packs; None where none is known."""
        if self.bound_min is None or any(charged.get(family, 0) < count for family, count in self._bounded.items()):
            return None
        return min(self.bound_min, makespan_min)

    # ------------------------------------------------------------------ the plan taken

    def plan(self) -> Plan:
        """The best plan so far, its minutes by the full model, gentler where that costs no time."""
        genes, schedule, score = self._settled()
        batches = tuple(self._batch(item) for item in sorted(schedule.placed, key=lambda item: item.start_min))
        every = (*self.problem.taken, *batches)
        bound_min = self._bound_of(self._charged, schedule.makespan_min)
        at_bound = bound_min is not None and schedule.makespan_min <= bound_min + PROVED_WITHIN_MIN
        return Plan(
            batches=batches,
            left_out=self._left_out(schedule),
            wanted=outcomes(self.problem, every, self.problem.session.wanted),
            makespan_min=schedule.makespan_min,
            bound_min=bound_min,
            proved=at_bound and score.whole,
            visits=visits_in(every),
            sources=source_uses(self.problem.kit, every),
            score=score,
            genes=genes,
            iterations=self.search.iterations,
        )

    def _settled(self) -> tuple[tuple[Gene, ...], Schedule, Score]:
        """The best list with the full model's minutes; sought on for a while where those minutes break a wish."""
        if isinstance(self.search, FastSearch):
            return self._softened(self.search)
        settled: list[Candidate] = []
        for _ in range(REPAIRS):
            best = self.search.best
            allowed = (*best.score.short[:3], best.score.late_min + MOMENT_MIN)
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
                if chunk >= REPAIR_CHUNKS or candidate.score.short[1:] <= (0, 0, MOMENT_MIN):
                    break
        kept = min(reversed(settled), key=lambda item: item.score.short)
        self.search.best = kept
        return kept.genes, kept.schedule, kept.score

    def _softened(self, search: FastSearch) -> tuple[tuple[Gene, ...], Schedule, Score]:
        """The best list of a search that knows the full model's minutes."""
        if self.gentle and self.prefer is Prefer.SOONEST:
            search.soften()
        genes = search.best.genes
        schedule = self._refined(genes)
        return genes, schedule, score_of(self.problem, schedule, self.prefer)

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
            ways_min=item.costs.ways_min,
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
            whys = refusal.reasons if refusal else ()
            too_long = next((item for item in whys if item.code == "charge_too_long"), None)
            if too_long is not None or not whys:
                return too_long or reason("no_channel", id=pack.id)
            return whys[0] if whys[0].code == "no_channel" else reason("no_channel_because", id=pack.id, why=whys[0])
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


def plan(
    bench: Bench, wanted: Sequence[Wish] = (), seconds: float = 2.0, prefer: Prefer = Prefer.SOONEST, seed: int = 1
) -> Plan:
    """The best plan for a bench that is found in time: which packs charge where, when, and how fast.

    wanted : packs that are to be full by some minute, and heats; none: every pack, as soon as can be. seconds : of
    search, 0 or more; a first plan is there in any case. seed : of the search. No bound comes with it: that takes a
    process of its own, which would run the script of whoever calls this once more.
    """
    session = Session(bench.packs, bench.kit, bench.rules, tuple(wanted), running=bench.running)
    planner = Planner(session, prefer, seed)
    planner.helped = False
    for _ in planner.improve(seconds):
        pass
    return planner.plan()


def _search(
    problem: Problem, prefer: Prefer, seed: int, start: Sequence[Gene], threads: int
) -> DaySearch | Search | FastSearch:
    """The search that fits a problem."""
    if problem.day is not None and problem.day.heats:
        return DaySearch(problem, prefer, seed, start)
    if is_fast(problem, prefer):
        return FastSearch(problem, prefer, seed, start, threads)
    return Search(problem, prefer, seed, start)
