"""Finding a plan: there at once by rules, then only better, by annealing over the list of batches.

Solutions are lists of batches; `schedule.decode` gives them times. The search starts from the best of what rules give
and of what a pilot would do by hand (one pack a channel; boards filled in order of volts), so it is never later than
either. It counts iterations, not seconds, and its numbers are drawn from a seed: the same input gives the same plan.
"""

import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import cycle
from math import exp, inf

from iterum.core.planning.problem import RATE_PARTS, Problem
from iterum.core.planning.schedule import Bench, Gene, Schedule, decode

CHUNK = 100
"""Iterations between two reports."""
RESTART_AFTER = 2_500
"""Several short runs beat one long one on large sessions."""
HOT, COLD = (3.0, 20.0), 0.1
"""Temperatures at the start of one run and of the next, and at their end: minutes that a worse plan may cost. Cold
runs are soon good on large sessions, hot ones leave a plan that only looks good on small ones."""


LAST_FIRST = 0.3
"""How often a move begins with the batch that ends last."""


class Prefer(StrEnum):
    """What comes after what must be met."""

    SOONEST = "soonest"
    GENTLEST = "gentlest"
    FEWEST_VISITS = "fewest-visits"


@dataclass(frozen=True, order=True)
class Score:
    """Compared from left to right: worth of packs not charged, minutes late, then the preference, then less wear."""

    missing: float
    late_min: float
    first: float
    second: float
    third: float

    def weight(self) -> float:
        """One figure for annealing only, never for what is best or proved."""
        return 1e4 * self.missing + 20 * self.late_min + self.first + 0.02 * self.second + 0.01 * self.third


KIND_C = 0.5
"""Slower than this is no gentler. Common practice, no source: below 1C when there is time."""


def mean_rate_c(schedule: Schedule) -> float:
    """Mean C over packs, rates under `KIND_C` counted as that."""
    count = sum(len(item.gene.members) for item in schedule.placed)
    total_c = sum(max(item.costs.rate_c, KIND_C) * len(item.gene.members) for item in schedule.placed)
    return total_c / count if count else 0.0


def full_by(problem: Problem, schedule: Schedule, family: str) -> list[float]:
    """Minutes at which packs of a family are full, rising; 0 for those that are full already."""
    ready = [0.0 for verdict in problem.verdicts if verdict.full and verdict.pack.family == family and verdict.charges]
    for item in schedule.placed:
        if problem.packs[item.gene.members[0]].family == family:
            ready += [item.end_min] * len(item.gene.members)
    return sorted(ready)


def _heats_unmet(problem: Problem, schedule: Schedule) -> tuple[float, float]:
    """Worth of packs that are missing in heats, and minutes by which packs come late, each times its worth."""
    assert problem.day is not None
    placed, late_min, missing = 0.0, 0.0, 0.0
    for item in schedule.placed:
        for index in item.gene.members:
            heat = problem.rounds[index].heat
            placed += heat.value
            late_min += heat.value * max(item.end_min - heat.at_min, 0.0)
    for seat in problem.day.seats:
        if seat.pack_id is None:
            missing += seat.heat.value
        elif seat.ready_min is not None:
            late_min += seat.heat.value * max(seat.ready_min - seat.heat.at_min, 0.0)
    return missing + sum(item.heat.value for item in problem.rounds) - placed, late_min


def score_of(problem: Problem, schedule: Schedule, prefer: Prefer) -> Score:
    """How good a schedule is."""
    missing, late_min = 0.0, 0.0
    charged = sum(len(item.gene.members) for item in schedule.placed)
    if problem.day is not None:
        missing, late_min = _heats_unmet(problem, schedule)
    elif problem.wanted:
        for wish in problem.wanted:
            ready = full_by(problem, schedule, wish.family)
            missing += wish.value * max(wish.count - len(ready), 0)
            have = min(wish.count, len(ready))
            late_min += wish.value * max((ready[have - 1] if have else 0.0) - wish.at_min, 0.0)
    else:
        missing = len(problem.packs) - charged
    makespan, visits, rate_c = schedule.makespan_min, float(schedule.visits), 100 * mean_rate_c(schedule)
    ends = sum(item.end_min for item in schedule.placed) / max(len(schedule.placed), 1)
    order = {
        Prefer.SOONEST: (makespan, rate_c, ends + charged),
        Prefer.GENTLEST: (rate_c, makespan, ends + charged),
        Prefer.FEWEST_VISITS: (60 * visits, makespan, rate_c + charged),
    }[prefer]
    return Score(missing, round(late_min, 6), *(round(value, 6) for value in order))


@dataclass(frozen=True)
class Found:
    """The best so far."""

    genes: tuple[Gene, ...]
    schedule: Schedule
    score: Score
    iterations: int


class Search:
    """One search over one problem. Iterate it for ever better plans; stop whenever."""

    def __init__(self, problem: Problem, prefer: Prefer, seed: int = 1, start: Sequence[Gene] = ()) -> None:
        self.problem, self.prefer = problem, prefer
        self.random = random.Random(seed)
        self.needed = self._needed()
        self.iterations = 0
        # With a plan to start from, a repair of it is there at once; the other ways are tried when the search goes on.
        self._begun = not start
        self.best = self.found(tuple(start)) if start else self._from_rules()

    def _from_rules(self) -> Found:
        """The best of what rules give and of both ways by hand."""
        ways = (by_rules, one_pack_a_channel, boards_by_hand)
        tried = [self.found(tuple(way(self.problem, self.needed))) for way in ways]
        return min(tried, key=lambda found: found.score)

    def _needed(self) -> dict[str, int]:
        """How many packs of each family are to be charged."""
        counts = {family: len(members) for family, members in self.problem.families.items()}
        if not self.problem.wanted or self.problem.day is not None:
            return counts
        needed = dict.fromkeys(counts, 0)
        for wish in self.problem.wanted:
            full = sum(v.full and v.charges and v.pack.family == wish.family for v in self.problem.verdicts)
            short = max(wish.count - full, 0)
            needed[wish.family] = min(max(needed.get(wish.family, 0), short), counts.get(wish.family, 0))
        return needed

    def found(self, genes: tuple[Gene, ...]) -> Found:
        """A list of batches with its times and its score."""
        schedule = decode(self.problem, genes)
        assert schedule is not None
        return Found(genes, schedule, score_of(self.problem, schedule, self.prefer), self.iterations)

    def __iter__(self) -> Iterator[Found]:
        """Runs of annealing, one after another, reporting the best after each chunk."""
        if not self._begun:
            self._begun = True
            self.best = min(self.best, self._from_rules(), key=lambda found: found.score)
        if not self.best.genes:
            yield self.best
            return
        for hot in cycle(HOT):
            yield from self._anneal(hot)

    def _anneal(self, hot: float) -> Iterator[Found]:
        current = self.best
        for turn in range(RESTART_AFTER):
            heat = hot * (COLD / hot) ** (turn / RESTART_AFTER)
            genes = self._neighbour(list(current.genes), current.schedule)
            self.iterations += 1
            if genes is not None:
                worse = inf
                if self.prefer is Prefer.SOONEST and current.score.missing == 0:
                    worse = current.schedule.makespan_min + 6 * heat
                schedule = decode(self.problem, genes, worse, current.schedule)
                if schedule is not None:
                    found = Found(
                        tuple(genes), schedule, score_of(self.problem, schedule, self.prefer), self.iterations
                    )
                    gain = current.score.weight() - found.score.weight()
                    if gain >= 0 or self.random.random() < exp(gain / heat):
                        current = found
                    if found.score < self.best.score:
                        self.best = found
            if turn % CHUNK == CHUNK - 1:
                yield self.best

    # ------------------------------------------------------------------ moves

    def _at(self, genes: Sequence[Gene], schedule: Schedule) -> int:
        """A batch of the list: any, or, a third of the time, the one that ends last, which holds the rest up."""
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
            genes[at] = Gene(gene.members, self.random.randrange(len(self.problem.machines)), gene.part)
            return genes
        if pick < 0.6:
            genes[at] = Gene(gene.members, gene.machine, self.random.randrange(len(RATE_PARTS)))
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
        genes[at : at + 1] = [Gene(parts[0], gene.machine, gene.part), Gene(parts[1], self._machine(), gene.part)]
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
        genes[other] = Gene(tuple(sorted(theirs)), genes[other].machine, genes[other].part)
        if mine:
            genes[at] = Gene(tuple(sorted(mine)), gene.machine, gene.part)
        else:
            genes.pop(at)
        return genes

    def _exchange_with_pool(self, genes: list[Gene], at: int) -> list[Gene] | None:
        """Put a pack that is not planned in the place of one that is."""
        gene = genes[at]
        used = {index for item in genes for index in item.members}
        family = self.problem.packs[gene.members[0]].family
        pool = [index for index in self.problem.families[family] if index not in used]
        if not pool:
            return None
        out = self.random.choice(gene.members)
        members = tuple(sorted({*gene.members, self.random.choice(pool)} - {out}))
        if not self.problem.may_join(members):
            return None
        genes[at] = Gene(members, gene.machine, gene.part)
        return genes


# ---------------------------------------------------------------------------------------- starting plans


def _best_place(problem: Problem, bench: Bench, members: tuple[int, ...], parts: Sequence[int] = (0,)) -> Gene | None:
    """The channel and rate at which these packs are full first, as things stand on the bench."""
    best: tuple[float, float, Gene] | None = None
    for machine in range(len(problem.machines)):
        for part in parts:
            found = bench.find(Gene(members, machine, part))
            if found and (best is None or (found.end_min, found.costs.rate_c) < best[:2]):
                best = found.end_min, found.costs.rate_c, found.gene
    return best[2] if best else None


def _anywhere(problem: Problem, index: int) -> Gene | None:
    """One pack on the first channel that can charge it at all."""
    for machine in range(len(problem.machines)):
        if problem.costs((index,), machine, -1, 0) is not None:
            return Gene((index,), machine)
    return None


def _placed_in_turn(problem: Problem, groups: Sequence[tuple[int, ...]], parts: Sequence[int] = (0,)) -> list[Gene]:
    bench, genes = Bench(problem), []
    for members in groups:
        gene = _best_place(problem, bench, members, parts)
        if gene is None:
            # No room in what is left of the energy: kept at the end of the list, so that the search may prefer them.
            genes += [item for index in members if (item := _anywhere(problem, index)) is not None]
            continue
        found = bench.find(gene)
        if found:
            bench.take(found)
        genes.append(gene)
    return genes


def _chosen(problem: Problem, needed: dict[str, int]) -> list[tuple[int, ...]]:
    """The packs to charge, family by family: the fullest, where not all are wanted; heat by heat, where they fly."""
    if not problem.rounds:
        return [members[len(members) - needed.get(family, 0) :] for family, members in problem.families.items()]
    found: dict[tuple[float, str], list[int]] = {}
    for index, pack in enumerate(problem.packs):
        found.setdefault((problem.rounds[index].heat.at_min, pack.family), []).append(index)
    return [tuple(found[key]) for key in sorted(found)]


def _windows(problem: Problem, members: Sequence[int], largest: int) -> list[tuple[int, ...]]:
    """Filled from the lowest up: each pack joins the open group if it may and there is a port."""
    groups: list[list[int]] = []
    for index in members:
        for group in groups:
            key = tuple(sorted((*group, index)))
            if len(group) < largest and problem.boards_for(key) and problem.may_join(key):
                group.append(index)
                break
        else:
            groups.append([index])
    return [tuple(sorted(group)) for group in groups]


def one_pack_a_channel(problem: Problem, needed: dict[str, int]) -> list[Gene]:
    """By hand, the one way: every pack alone, the neediest first, on whichever channel has it full first."""
    packs = [index for members in _chosen(problem, needed) for index in members]
    packs.sort(
        key=lambda index: (problem.due_min(index) if problem.rounds else 0.0, problem.packs[index].cell_v or 0.0)
    )
    return _placed_in_turn(problem, [(index,) for index in packs])


def boards_by_hand(problem: Problem, needed: dict[str, int]) -> list[Gene]:
    """By hand, the other way: boards filled in order of volts, family after family."""
    groups: list[tuple[int, ...]] = []
    for members in _chosen(problem, needed):
        groups += _windows(problem, members, max((board.ports for board in problem.boards), default=1))
    return _placed_in_turn(problem, groups)


def by_rules(problem: Problem, needed: dict[str, int]) -> list[Gene]:
    """The best of several fillings: boards of every size, longest batches first, at every rate."""
    sizes = sorted({board.ports for board in problem.boards} | {2, 1}, reverse=True)
    best: tuple[Score, list[Gene]] | None = None
    for largest in sizes:
        groups: list[tuple[int, ...]] = []
        for members in _chosen(problem, needed):
            groups += _windows(problem, members, largest)
        groups.sort(key=lambda group: (problem.due_min(group[0]), problem.packs[group[0]].cell_v or 0.0))
        for parts in ((0,), tuple(range(len(RATE_PARTS)))):
            genes = _placed_in_turn(problem, groups, parts)
            schedule = decode(problem, genes)
            if schedule is None:
                continue
            score = score_of(problem, schedule, Prefer.SOONEST)
            if best is None or score < best[0]:
                best = score, genes
    return best[1] if best else []
