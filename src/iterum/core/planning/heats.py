"""Who flies, and what is given up: the search over the decisions on a day of heats.

The inner search places batches for one set of decisions; this one changes the decisions. It begins with every heat that
can be made at all, gives up or cuts down what the bench cannot carry, tries other packs and orders, and takes up again
what was given up. What it found best is then sought on by the inner search. It counts steps, not seconds: the same
input and the same number of steps give the same plan.
"""

import random
from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import replace
from math import exp, inf

from iterum.core.planning.problem import Problem
from iterum.core.planning.rounds import Flight, Order, heats_to_come
from iterum.core.planning.schedule import Gene, Schedule, decode
from iterum.core.planning.score import Prefer, Score, ready_for_heats, score_of, uneven, unfair
from iterum.core.planning.search import CHUNK, Candidate, Improving, Search
from iterum.core.planning.starts import for_heats
from iterum.core.quantities import NOISE, at_most
from iterum.core.things.pilots import TableRule

TRIES = 24
"""Sets of decisions that are tried between two chunks of the inner search."""
FEWER_EVERY = 4
"""Rounds between two in which more packs are sought for a heat that is not met: whole heats come first."""
STALE = 30
"""After so many tries without a better one it goes on from the best again, shaken."""
WARM = 0.15
"""How readily worse decisions are gone on from, as a part of what all heats are worth."""


class DaySearch(Improving):
    """One search over a day of heats, with the manner of `Search`: iterate it for ever better plans; stop whenever."""

    def __init__(
        self, problem: Problem, prefer: Prefer, seed: int = 1, start: Sequence[Gene] = (),
    ) -> None:  # fmt: skip
        """problem : with the decisions of an earlier plan, if there was one; start : its batches."""
        self.problem, self.prefer, self.seed = problem, prefer, seed
        self.random = random.Random(seed)
        self.iterations, self.tries = 0, TRIES
        self.heats = heats_to_come(problem.session)
        self.worth = sum(heat.value * heat.count for heat in self.heats)
        self._seen: dict[tuple[Flight, ...], Candidate] = {}
        self._worked: set[tuple[Flight, ...]] = set()
        self._placed: dict[Hashable, tuple[tuple[Gene, ...], Schedule, Score]] = {}
        self._problems: dict[tuple[Flight, ...], Problem] = {}
        tried = [self.candidate(tuple(start))] if start else []
        tried += [self.tried(problem.flights)] if problem.flights is not None else []
        tried += [self.tried(tuple(Flight() for _ in self.heats))]
        self._noted_genes: tuple[Gene, ...] = ()
        self.best = min(map(self._sure, tried), key=lambda item: item.score)
        self._noted()

    @property
    def needed(self) -> dict[str, int]:
        """How many packs of each family are to be charged by the best decisions."""
        return {family: len(members) for family, members in self.best.problem.families.items()}

    def candidate(self, genes: tuple[Gene, ...]) -> Candidate:
        """A list of batches, of the problem as it was given, with its times and its score."""
        return Search(self.problem, self.prefer, self.seed, genes).candidate(genes)

    def tried(self, flights: tuple[Flight, ...]) -> Candidate:
        """What one set of decisions comes to, quickly; once and for all."""
        if flights not in self._seen:
            problem = self._of(flights)
            seated = self._seated(problem)
            if seated not in self._placed:
                genes, schedule = for_heats(problem)
                self._placed[seated] = tuple(genes), schedule, score_of(problem, schedule, self.prefer)
            self._seen[flights] = Candidate(problem, *self._placed[seated], iterations=0)
        return self._seen[flights]

    def _of(self, flights: tuple[Flight, ...]) -> Problem:
        """The problem under these decisions, made once."""
        if flights not in self._problems:
            self._problems[flights] = self.problem.otherwise(flights)
        return self._problems[flights]

    def _seated(self, problem: Problem) -> Hashable:
        """Who flies in which heat: other decisions that come to the same seats come to the same plan."""
        assert problem.day is not None  # there are heats
        places = {id(heat): at for at, heat in enumerate(problem.day.heats)}
        return tuple((places[id(seat.heat)], seat.charge, seat.ready_min) for seat in problem.day.seats)

    def reckon_anew(self) -> None:
        """The best again, by what is known of its minutes now; what was tried before is forgotten."""
        self._seen.clear()
        self._placed.clear()
        self._worked.clear()
        again = Search(self.best.problem, self.prefer, self.seed, self.best.genes).candidate(self.best.genes)
        self.best = min(again, self.tried(self.best.problem.flights or ()), key=lambda item: item.score)

    def __iter__(self) -> Iterator[Candidate]:
        """Rounds of trying other decisions, each followed by a chunk of the inner search on the best of them."""
        if self.best.score.unmet:
            yield from self._heat_by_heat(by_turns=True)
            yield from self._heat_by_heat(by_turns=False)
        yield from self._otherwise()

    def _otherwise(self) -> Iterator[Candidate]:
        current, stale, turn = self.best, 0, 0
        inner: Iterator[Candidate] | None = None
        of: Candidate | None = None
        while True:
            turn += 1
            for _ in range(self.tries if self.best.score.unmet or turn < 3 else self.tries // 4):
                self.iterations += 1
                stale += 1
                flights, luck = self._other(current), self.random.random()
                if stale > STALE:
                    current, stale = self.best, 0
                # What it gives up is the least that it loses: where that is too much it need not be placed.
                hurt, given_up, _ = self._lost(self._of(flights))
                hopeless = (hurt, given_up) > self.best.score.short[:2]
                if hopeless and not self._taken(current, given_up + self._uneven(hurt), luck):
                    continue
                other = self.tried(flights)
                if self._taken(current, self._weight(other.score), luck):
                    current = other
                if other.score.short < self.best.score.short:
                    other = self._sure(other)
                    if other.score < self.best.score:
                        self.best, stale = other, 0
            yield self._noted()
            if of is None or self.best.problem is not of.problem:
                of = self.best
                inner = Search(of.problem, self.prefer, self.seed + turn, of.genes).from_here()
            assert inner is not None  # made just above
            sought = next(inner, None)
            self.iterations += CHUNK
            if sought is not None and sought.score < self.best.score:
                sought = self._sure(sought)
                if sought.score < self.best.score:
                    of = self.best = sought
            yield self._noted()
            if self.best.score.unmet:
                self._work_on_another(turn)

    def _heat_by_heat(self, by_turns: bool) -> Iterator[Candidate]:
        """From nothing on, one heat more as long as that is better: a start where there are many heats, which giving
        them up one by one would not come to. by_turns : finals, those of the pilot who is worst off, and the worthier
        ones first; else as they come."""
        flights = [Flight(count=0) if heat.is_heat else Flight() for heat in self.heats]
        left = [at for at, heat in enumerate(self.heats) if heat.is_heat]
        met: Counter[str | None] = Counter()
        finals = self.problem.rules.table is TableRule.FINALS_FIRST
        best = self.tried(tuple(flights))
        while left:
            turns = [(finals and not heat.final, met[heat.pilot], -heat.value) for heat in self.heats]
            at = min(left, key=lambda at: (turns[at], at)) if by_turns else left[0]
            left.remove(at)
            self.iterations += 1
            other = self.tried((*flights[:at], Flight(), *flights[at + 1 :]))
            if other.score < best.score:
                best, flights[at] = other, Flight()
                met[self.heats[at].pilot] += 1
                yield self.best
        self.best = min(self.best, self._sure(best), key=lambda item: item.score)
        yield self._noted()

    def _taken(self, current: Candidate, weight: float, luck: float) -> bool:
        """Whether decisions that weigh so much are gone on from."""
        gain = self._weight(current.score) - weight
        return gain >= 0 or luck < exp(gain / (WARM * self.worth + NOISE))

    def _work_on_another(self, turn: int) -> None:
        """A chunk of the inner search on decisions that would meet more than the best do, were all batches in time: a
        start that is placed quickly does not show what they are worth. Every few rounds on some that would only fly
        more packs in a heat that is not met."""
        short = self.best.score.short
        new = [(self._lost(candidate.problem), candidate)
               for flights, candidate in self._seen.items() if flights not in self._worked]  # fmt: skip
        whole = [(lost[:2], one.score, one) for lost, one in new if lost[:2] < short[:2]]
        if whole and turn % FEWER_EVERY:
            *_, candidate = min(whole, key=lambda item: item[:2])
        else:
            fewer = [one for lost, one in new if lost < short[:3]]
            if not fewer:
                return
            candidate = min(fewer, key=lambda item: item.score)
        self._worked.add(candidate.problem.flights or ())
        inner = Search(candidate.problem, self.prefer, self.seed + turn, candidate.genes).from_here()
        sought = next(inner, None)
        self.iterations += CHUNK
        if sought is not None and sought.score.short < self.best.score.short:
            self.best = min(self.best, self._sure(sought), key=lambda item: item.score)

    def _lost(self, problem: Problem) -> tuple[tuple[float, ...], float, float]:
        """What decisions lose whatever the batches: what that does to the pilots, the worth of heats that find too few
        packs, and of those packs."""
        day = problem.day
        assert day is not None  # there are heats
        seated = Counter(id(seat.heat) for seat in day.seats)
        short = {at: heat for at, heat in enumerate(day.heats) if seated[id(heat)] < heat.count}
        lost = {at: heat.value * heat.count for at, heat in short.items()}
        missing = sum(heat.value * (heat.count - seated[id(heat)]) for heat in short.values())
        return unfair(problem, lost), sum(lost.values()), missing

    def _sure(self, candidate: Candidate) -> Candidate:
        """The same with the full model's minutes for each batch of a heat: one that an estimate meets by a minute may
        be missed by them, or hold up another, and what is best must stay so."""
        # What was placed before other minutes were known stands in it with the old ones.
        sure = self._exactly(candidate.problem, candidate.genes)
        flights = candidate.problem.flights
        if flights in self._seen and self._seen[flights].genes == candidate.genes:
            self._seen[flights] = sure
        return sure

    def _exactly(self, problem: Problem, genes: tuple[Gene, ...]) -> Candidate:
        """A list of batches with the full model's minutes for each that charges for a heat."""
        search = Search(problem, self.prefer, self.seed, genes)
        while any([
            problem.refine(item.gene.members, item.gene.machine, item.board, item.gene.part)
            for item in search.best.schedule.placed
            if problem.last_min(item.gene.members) < inf
        ]):  # fmt: skip
            search.reckon_anew()
        return search.best

    def _noted(self) -> Candidate:
        """The best so far, balanced where that costs nothing: quick starts take all batches off at full."""
        if self.best.genes != self._noted_genes:
            self.best = min(
                self._exactly(self.best.problem, self._balanced(self.best)), self.best, key=lambda item: item.score
            )
            self._noted_genes = self.best.genes
        self.best = replace(self.best, iterations=self.iterations)
        return self.best

    def _balanced(self, of: Candidate) -> tuple[Gene, ...]:
        """Its batches, each left on to balance where that makes a better plan, the last ones first."""
        best = of
        for item in sorted(of.schedule.placed, key=lambda item: -item.end_min):
            if item.cut:
                at = best.genes.index(item.gene)
                genes = (*best.genes[:at], item.gene._replace(balance=True), *best.genes[at + 1 :])
                schedule = decode(of.problem, genes, like=best.schedule)
                assert schedule is not None  # nothing cuts it short
                score = score_of(of.problem, schedule, self.prefer)
                if score < best.score:
                    best = replace(best, genes=genes, schedule=schedule, score=score)
        return best.genes

    def _weight(self, score: Score) -> float:
        short = score.unmet + self._uneven(score.unfair) + 0.3 * score.missing
        return short + 1e-3 * score.late_min + 1e-5 * score.first

    def _uneven(self, parts: tuple[float, ...]) -> float:
        """How unevenly pilots fare, in worth of heats."""
        return self.worth * uneven(parts) / max(len(parts), 1)

    # ------------------------------------------------------------------ other decisions

    def _other(self, of: Candidate) -> tuple[Flight, ...]:
        """Decisions one or two changes away."""
        flights = list(of.problem.day.flights) if of.problem.day else []
        for _ in range(1 if self.random.random() < 0.7 else 2):
            self._change(flights, of)
        return tuple(flights)

    def _change(self, flights: list[Flight], of: Candidate) -> None:
        """One change: mostly at a heat that is not met, by what it lacks."""
        short = self._short_of(of)
        given_up = [at for at, flight in enumerate(flights) if flight.count == 0]
        pick = self.random.random()
        if given_up and pick < 0.25:
            at = self.random.choice(given_up)
            flights[at] = replace(flights[at], count=None)
            return
        at = self.random.choice(sorted(short)) if short and pick < 0.7 else self.random.randrange(len(flights))
        flight, heat = flights[at], self.heats[at]
        kind = self.random.random()
        if not heat.is_heat or kind < 0.25:
            flights[at] = replace(flight, order=self.random.choice(tuple(Order)))
        elif kind < 0.5:
            flights[at] = replace(flight, count=0)
        elif kind < 0.65 and short.get(at):
            # Those that are not ready stay away, and are charged for the next heat instead.
            flights[at] = replace(flight, without=flight.without | frozenset(short[at]))
        elif kind < 0.8:
            flights[at] = replace(flight, without=self._one_other(flight.without, of, at))
        else:
            flights[at] = replace(flight, count=self._fewer(of, at))

    def _fewer(self, of: Candidate, at: int) -> int | None:
        """Another number of packs for a heat: those that could be ready, any fewer, or all again."""
        day, count = of.problem.day, self.heats[at].count
        if day is None or (day.flights[at].count is not None and self.random.random() < 0.4):
            return None
        most = min(day.could[at], count - 1)
        return most if self.random.random() < 0.6 else self.random.randint(0, max(most, 0))

    def _one_other(self, without: frozenset[str], of: Candidate, at: int) -> frozenset[str]:
        """One pack more, or one fewer, that stays away from a heat."""
        assert of.problem.day is not None
        if without and self.random.random() < 0.5:
            return without - {self.random.choice(sorted(without))}
        flying = sorted(seat.charge.tag for seat in of.problem.day.seats if seat.heat is self.heats[at])
        return without | {self.random.choice(flying)} if flying else without

    def _short_of(self, of: Candidate) -> dict[int, list[str]]:
        """By heat that is not met, the tags of its packs that are not ready for it."""
        assert of.problem.day is not None
        charged = {of.problem.keys[i] for item in of.schedule.placed for i in item.gene.members}
        lacking: dict[int, list[str]] = {}
        for at, (heat, ready) in enumerate(ready_for_heats(of.problem, of.schedule)):
            if sum(at_most(at_min, heat.at_min) for at_min in ready) >= heat.count:
                continue
            lacking[at] = [
                seat.charge.tag
                for seat in of.problem.day.seats
                if seat.heat is heat and seat.ready_min is None and seat.charge not in charged
            ]
        return lacking
