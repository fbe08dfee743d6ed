"""Finding a plan for a day of heats, or for putting away: there at once by rules, then only better, by annealing.

Solutions are lists of batches; `schedule.decode` gives them times. The search starts from the best of what rules give
and of what a pilot would do by hand (one pack a channel; boards filled in order of volts), so it is never later than
either. It counts iterations, not seconds, and its numbers are
drawn from a seed: the same input gives the same plan.
"""

import random
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import cycle
from math import exp, inf
from time import perf_counter

from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene, Schedule, decode
from iterum.core.planning.score import Prefer, Score, score_of
from iterum.core.planning.starts import boards_by_hand, by_dispatch, by_rules, one_pack_a_channel

CHUNK = 100
"""Iterations between two reports."""
SMALL = 30
"""Packs up to which a session counts as small."""
SMALL_HOT, SMALL_RUN = (15.0, 40.0), 3_000
LARGE_HOT, LARGE_RUN = (3.0, 20.0), 2_500
COLD = 0.1
"""Temperatures at the start of one run and of the next, iterations of a run, and the temperature at its end: minutes
that a worse plan may cost. Cold runs are soon good on large sessions, hot ones leave a plan that only looks good on
small ones; several short runs beat one long one."""
FIRST = 300
"""Iterations of the run with which a search begins that has a start."""
BESIDE_OTHERS = 0.5
"""How often a pack that was not planned goes to other packs and not into the place of the one that is left out for it:
two packs that may share a board are found in one step, where each step by itself would be worse."""
LAST_FIRST = 0.2
"""How often a move begins with the batch that ends last."""


@dataclass(frozen=True)
class Candidate:
    """The best so far. problem : the one that its genes speak of, with the decisions on its heats."""

    problem: Problem
    genes: tuple[Gene, ...]
    schedule: Schedule
    score: Score
    iterations: int


def needed_by_family(problem: Problem) -> dict[str, int]:
    """How many packs of each family are to be charged."""
    counts = {family: len(members) for family, members in problem.families.items()}
    if not problem.wanted or problem.day is not None:
        return counts
    needed = dict.fromkeys(counts, 0)
    for wish in problem.wanted:
        full = sum(v.full and v.charges and v.pack.family == wish.family for v in problem.verdicts)
        short = max(wish.count - full, 0)
        needed[wish.family] = min(max(needed.get(wish.family, 0), short), counts.get(wish.family, 0))
    return needed


def until(seconds: float, steps: Iterable[Candidate]) -> Iterator[Candidate]:
    """Steps of a search until the time is up.

    seconds : 0 or more.
    """
    end_s = perf_counter() + seconds
    going = iter(steps)
    while perf_counter() < end_s and (step := next(going, None)) is not None:
        yield step
        if not step.genes:
            return


class Improving(ABC):
    """A search that goes on for as long as somebody takes what it finds."""

    best: Candidate

    @abstractmethod
    def __iter__(self) -> Iterator[Candidate]:
        """The best so far, again and again."""

    @property
    def makespan_min(self) -> float:
        """When the last pack of the best plan is full, min."""
        return self.best.schedule.makespan_min

    @property
    def batches(self) -> int:
        """How many batches the best plan has."""
        return len(self.best.genes)

    def improve(self, seconds: float) -> Iterator[Candidate]:
        """The same until the time is up.

        seconds : 0 or more.
        """
        return until(seconds, self)


class Search(Improving):
    """One search over one problem. Iterate it for ever better plans; stop whenever."""

    def __init__(self, problem: Problem, prefer: Prefer, seed: int = 1, start: Sequence[Gene] = ()) -> None:
        self.problem, self.prefer = problem, prefer
        self.random = random.Random(seed)
        self.needed = needed_by_family(problem)
        self.iterations = 0
        # A repair of a plan to start from, or what a pilot would do by hand, is there at once also for a large session;
        # the other ways are tried when the search goes on.
        self._begun, self._has_start = False, bool(start)
        self._ruled = not start and len(problem.packs) <= SMALL
        self.best = self.candidate(tuple(start)) if start else self._from_rules() if self._ruled else self._by_hand()

    def _from_rules(self) -> Candidate:
        """The best of what rules and a dispatcher give, and of both ways by hand."""
        ways = (self.candidate(tuple(way)) for way in self._by_the_rest())
        return min(*ways, self._by_hand(), key=lambda candidate: candidate.score)

    def _by_the_rest(self) -> Iterator[Sequence[Gene]]:
        """What rules give, and a dispatcher."""
        yield by_rules(self.problem, self.needed)
        yield from by_dispatch(self.problem, self.needed)

    def _by_hand(self) -> Candidate:
        """The better of both ways by hand."""
        ways = [way(self.problem, self.needed) for way in (one_pack_a_channel, boards_by_hand)]
        if self.problem.wanted and not self.problem.rounds:  # the fullest packs may not share a board
            ways.append(boards_by_hand(self.problem, self.needed, alike=True))
        return min((self.candidate(tuple(way)) for way in ways), key=lambda candidate: candidate.score)

    def candidate(self, genes: tuple[Gene, ...]) -> Candidate:
        """A list of batches with its times and its score."""
        schedule = decode(self.problem, genes)
        assert schedule is not None
        return Candidate(self.problem, genes, schedule, score_of(self.problem, schedule, self.prefer), self.iterations)

    def reckon_anew(self) -> None:
        """The best again, by what is known of its minutes now."""
        self.best = self.candidate(self.best.genes)

    def from_here(self) -> Iterator[Candidate]:
        """The same without other ways to start: for who has a start that was made for this."""
        self._begun = True
        return iter(self)

    def __iter__(self) -> Iterator[Candidate]:
        """Runs of annealing, one after another, reporting the best after each chunk; other ways to start only once."""
        small = len(self.problem.packs) <= SMALL
        hots = SMALL_HOT if small else LARGE_HOT
        if not self._begun:
            self._begun = True
            yield from self._by_other_ways(hots[0])
        if not self.best.genes:
            yield self.best
            return
        for hot in cycle(hots):
            yield from self._anneal(hot, SMALL_RUN if small else LARGE_RUN)

    def _by_other_ways(self, hot: float) -> Iterator[Candidate]:
        """From the start that it has, from drafts, and from what rules give where that was not tried."""
        if self._has_start and self.best.genes and not self.problem.rounds:
            yield from self._anneal(hot, FIRST)
        if not self._ruled:
            for way in self._by_the_rest():
                self.best = min(self.best, self.candidate(tuple(way)), key=lambda candidate: candidate.score)
                yield self.best

    def _anneal(self, hot: float, turns: int, begun: Candidate | None = None) -> Iterator[Candidate]:
        """One run, from the best plan or another one."""
        current = begun or self.best
        soonest = self.prefer is Prefer.SOONEST and not self.problem.rounds
        by_ends = soonest and len(self.problem.packs) > SMALL
        for turn in range(turns):
            heat = hot * (COLD / hot) ** (turn / turns)
            genes = self._neighbour(list(current.genes), current.schedule)
            self.iterations += 1
            if genes is not None:
                worse = inf
                if soonest and current.score.whole:
                    worse = current.schedule.makespan_min + 6 * heat
                schedule = decode(self.problem, genes, worse, current.schedule)
                if schedule is not None:
                    score = score_of(self.problem, schedule, self.prefer)
                    candidate = Candidate(self.problem, tuple(genes), schedule, score, self.iterations)
                    gain = current.score.weight(by_ends) - candidate.score.weight(by_ends)
                    if gain >= 0 or self.random.random() < exp(gain / heat):
                        current = candidate
                    if candidate.score < self.best.score:
                        self.best = candidate
            if turn % CHUNK == CHUNK - 1:
                yield self.best

    # ------------------------------------------------------------------ moves

    def _at(self, genes: Sequence[Gene], schedule: Schedule) -> int:
        """A batch of the list: any, or, a fifth of the time, the one that ends last, which holds the rest up."""
        if self.random.random() < LAST_FIRST and schedule.placed:
            last = max(schedule.placed, key=lambda item: item.end_min).gene
            return next((at for at, gene in enumerate(genes) if gene is last), 0)
        return self.random.randrange(len(genes))

    def _neighbour(self, genes: list[Gene], schedule: Schedule) -> list[Gene] | None:
        """A list one move away, or None where the move cannot be made."""
        pick = self.random.random()
        if pick < 0.25 and len(genes) > 1:
            gene = genes.pop(self._at(genes, schedule))
            genes.insert(self.random.randrange(len(genes) + 1), gene)
            return genes
        at = self._at(genes, schedule)
        gene = genes[at]
        if pick < 0.45:
            genes[at] = gene._replace(machine=self._machine(), board=None)
            return genes
        if self.problem.rounds and pick < 0.52:
            genes[at] = gene._replace(balance=not gene.balance)
            return genes
        if pick < 0.6:
            genes[at] = gene._replace(part=self.random.randrange(self.problem.parts))
            return genes
        if pick < 0.7:
            return self._split(genes, at)
        if self.problem.wanted and not self.problem.rounds and pick < 0.78:
            return self._exchange_with_pool(genes, at)
        return self._regroup(genes, at)

    def _machine(self) -> int:
        return self.random.randrange(len(self.problem.machines))

    def _split(self, genes: list[Gene], at: int) -> list[Gene] | None:
        gene = genes[at]
        if len(gene.members) < 2:
            return None
        cut = self.random.randrange(1, len(gene.members))
        parts = [gene.members[:cut], gene.members[cut:]]
        genes[at : at + 1] = [gene._replace(members=parts[0]), gene._replace(members=parts[1], machine=self._machine())]
        return genes

    def _regroup(self, genes: list[Gene], at: int) -> list[Gene] | None:
        """Merge two batches of a family, or move a pack from one to the other, or swap two packs."""
        gene = genes[at]
        family = self.problem.packs[gene.members[0]].family
        others = [
            index
            for index, item in enumerate(genes)
            if index != at and self.problem.packs[item.members[0]].family == family
        ]
        if not others:
            return None
        other = self.random.choice(others)
        mine, theirs = set(gene.members), set(genes[other].members)
        kind = self.random.random()
        if kind < 0.35:
            theirs, mine = theirs | mine, set()
        else:
            moved = self.random.choice(sorted(mine))
            mine, theirs = mine - {moved}, theirs | {moved}
            if kind > 0.7:
                back = self.random.choice(sorted(theirs - {moved}))
                mine, theirs = mine | {back}, theirs - {back}
        for members in (mine, theirs):
            key = tuple(sorted(members))
            if members and not (self.problem.boards_for(key) and self.problem.may_join(key)):
                return None
        genes[other] = genes[other]._replace(members=tuple(sorted(theirs)))
        if mine:
            genes[at] = gene._replace(members=tuple(sorted(mine)))
        else:
            genes.pop(at)
        return genes

    def _exchange_with_pool(self, genes: list[Gene], at: int) -> list[Gene] | None:
        """Put a pack that is not planned in the place of one that is, or beside others while that one is left out."""
        gene = genes[at]
        used = {index for item in genes for index in item.members}
        family = self.problem.packs[gene.members[0]].family
        pool = [index for index in self.problem.families[family] if index not in used]
        if not pool:
            return None
        out, new = self.random.choice(gene.members), self.random.choice(pool)
        alike = self.problem.families[family]
        others = [place for place, item in enumerate(genes) if place != at and item.members[0] in alike]
        if others and self.random.random() < BESIDE_OTHERS:
            other = self.random.choice(others)
            more = tuple(sorted((*genes[other].members, new)))
            if not (self.problem.boards_for(more) and self.problem.may_join(more)):
                return None
            genes[other] = genes[other]._replace(members=more, board=None)
            left = tuple(index for index in gene.members if index != out)
            genes[at : at + 1] = [gene._replace(members=left)] if left else []
            return genes
        members = tuple(sorted({*gene.members, new} - {out}))
        if not self.problem.may_join(members):
            return None
        genes[at] = gene._replace(members=members)
        return genes
