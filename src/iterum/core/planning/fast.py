"""The compiled search for plans: a problem's arrays, ways to start, runs of annealing, in as many threads as wanted.

For problems in which every pack is charged once and nothing comes back from a heat; days of heats
and putting away are searched by `search`. Compiled functions let other threads run meanwhile.
"""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import product
from math import inf
from shutil import rmtree
from time import perf_counter

import numpy as np

from iterum.core.compiled import READY, cache_folder, is_ready
from iterum.core.electrical import swift
from iterum.core.electrical.circuit import Feeding
from iterum.core.electrical.fan import fan_of
from iterum.core.planning.annealing import (
    COUNT,
    END,
    FEWEST_VISITS,
    GENTLEST,
    KEPT,
    POOLS,
    ROW,
    SOONEST,
    SPREADS,
    START,
    STEADIEST,
    Asked,
    Hand,
    Lines,
    Memory,
    Plan,
    Work,
    anneal,
    gentler,
    start_with,
    weigh,
)
from iterum.core.planning.problem import Problem
from iterum.core.planning.resources import RATE_PARTS
from iterum.core.planning.schedule import Gene, Occupancy, decode
from iterum.core.planning.score import Prefer, score_of
from iterum.core.planning.search import Candidate, needed_by_family
from iterum.core.planning.starts import chosen_packs
from iterum.core.planning.tables import Tables, tables_of
from iterum.core.quantities import MOMENT_MIN, NOISE
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.session import Session

PREFERS = {
    Prefer.SOONEST: SOONEST,
    Prefer.GENTLEST: GENTLEST,
    Prefer.FEWEST_VISITS: FEWEST_VISITS,
    Prefer.STEADIEST: STEADIEST,
}


class Annealer:
    """One search with its own arrays, memory and random numbers: it shares nothing with others, so several may run
    beside each other in threads."""

    def __init__(self, problem: Problem, prefer: Prefer, seed: int, tables: Tables | None = None) -> None:
        """seed : of its random numbers. tables : of the problem, where they are there already."""
        self.problem = problem
        self.tables = tables_of(problem) if tables is None else tables
        self.asked = _asked(problem, prefer)
        self.work = _work(problem, seed)
        self.weights = np.array([np.inf, np.inf])

    def load(self, genes: Sequence[Gene]) -> float:
        """Begin from these batches; what they weigh."""
        work, problem = self.work, self.problem
        plan, rows = work.now, len(problem.packs)
        held: set[int] = set()
        for row, gene in enumerate(genes):
            batch = plan.rows[row]
            plan.members[row, : len(gene.members)] = gene.members
            batch.many, batch.machine, batch.part = len(gene.members), gene.machine, gene.part
            batch.board, batch.exact = self._board(gene), False
            held |= set(gene.members)
        plan.heads[:] = len(genes), rows - len(genes), 0
        plan.order[: len(genes)] = range(len(genes))
        plan.free[: rows - len(genes)] = range(len(genes), rows)
        pool = [index for index in range(rows) if index not in held]
        plan.heads[POOLS] = len(pool)
        plan.pool[: len(pool)] = pool
        weight = float(weigh(self.tables, work, self.asked, False))
        self._go_on_from(plan)
        if weight < self.weights[1]:
            copy(plan, work.best)
            self.weights[1] = weight
        self.weights[0] = weight
        return weight

    def start(self, packs: Sequence[int], sizes: Sequence[int], keep: int, lean: bool) -> float:
        """Begin from batches of up to so many packs, filled in turn, each where it ends first; what they weigh.

        packs : those to charge, in the order to take them. sizes : of the first batch, the second, and so on. keep :
        batches of several packs that are kept at most, those that save most; the packs of the others are charged by
        themselves. lean : whether those that need little energy come first.
        """
        work = self.work
        chosen = np.array(packs, dtype=np.int64)
        most = np.minimum(np.array(sizes, dtype=np.int64), work.now.members.shape[1])
        self.weights[0] = start_with(self.tables, work, self.asked, chosen, most, keep, lean)
        self._go_on_from(work.now)
        if self.weights[0] < self.weights[1]:
            copy(work.now, work.best)
            self.weights[1] = self.weights[0]
        return float(self.weights[0])

    def _go_on_from(self, plan: Plan) -> None:
        hand = self.work.hand
        copy(plan, hand.plan)
        times = plan.rows.times
        hand.ends[:] = np.where(times[:, START] >= 0, times[:, END], -1.0)

    def _board(self, gene: Gene) -> int:
        """The board that a batch is to be on: its own, or the smallest that takes it."""
        boards = self.problem.boards_for(gene.members)
        named = [board for board in boards if board >= 0 and self.problem.boards[board].id == gene.board]
        return (named or boards)[0]

    def run(self, heat: float, moves: int, lightly: bool = False) -> None:
        """So many moves of annealing at one temperature.

        heat : weight that a worse plan may have more, above 0. moves : 1 or more. lightly : whether only a plan that
        would be the best is worked out by the full circuit.
        """
        anneal(self.tables, self.work, self.asked, heat, moves, self.weights, lightly)

    def weigh_ends(self, by_ends: float) -> None:
        """Count the mean end of batches so much beside the last end from now on, from the best plan.

        by_ends : 0 or more.
        """
        self.asked = self.asked._replace(by_ends=by_ends)
        copy(self.work.best, self.work.now)
        self.weights[:] = weigh(self.tables, self.work, self.asked, False)
        copy(self.work.now, self.work.best)
        self._go_on_from(self.work.now)

    def take(self, plan: Plan) -> None:
        """Go on from a plan, which is the best from now on."""
        copy(plan, self.work.best)
        self.weigh_ends(self.asked.by_ends)

    def weight_by_last(self) -> float:
        """What the best plan weighs where the last end counts, and the mean end only between equals."""
        return float(weigh(self.tables, self.work, self.asked._replace(by_ends=BETWEEN_EQUALS), True))

    def soften(self) -> None:
        """Fewer amps in the best plan wherever it costs nothing."""
        copy(self.work.best, self.work.now)
        gentler(self.tables, self.work, self.asked._replace(by_ends=0.0), len(RATE_PARTS))
        copy(self.work.now, self.work.best)
        self.weights[:] = weigh(self.tables, self.work, self.asked, False)


def _asked(problem: Problem, prefer: Prefer) -> Asked:
    families = list(problem.families)
    wishes = [wish for wish in problem.wanted if wish.family in families]
    ready = [0] * len(families)
    for verdict in problem.verdicts:
        if verdict.full and verdict.charges and verdict.pack.family in families:
            ready[families.index(verdict.pack.family)] += 1
    return Asked(
        prefer=PREFERS[prefer],
        wish_class=np.array([families.index(wish.family) for wish in wishes], dtype=np.int64),
        wish_count=np.array([wish.count for wish in wishes], dtype=np.int64),
        wish_at=np.array([wish.at_min for wish in wishes], dtype=float),
        wish_value=np.array([wish.value for wish in wishes], dtype=float),
        ready=np.array(ready, dtype=np.int64),
        by_ends=0.3,
    )


def genes_of(problem: Problem, plan: Plan) -> tuple[Gene, ...]:
    """The batches of a plan in the order in which they begin, then those that have no place.

    Placed in that order no batch needs a gap that others leave: a gap that is a second too short for the full model's
    minutes would send it to the end of the day.
    """
    order = plan.order[: plan.heads[COUNT]]
    begins = plan.rows.times[order, START]
    order = order[np.argsort(np.where(begins >= 0, begins, inf), kind="stable")]
    rows, members = plan.rows[order][["many", "machine", "part", "board"]].tolist(), plan.members[order].tolist()
    return tuple(
        Gene(tuple(packs[:many]), machine, part, board=problem.boards[board].id if board >= 0 else None)
        for (many, machine, part, board), packs in zip(rows, members, strict=True)
    )


def copy(source: Plan, target: Plan) -> None:
    """A whole plan into another."""
    for of, to in zip(source, target, strict=True):
        to[:] = of


def _plan(rows: int, width: int) -> Plan:
    of = np.zeros(rows, ROW).view(np.recarray)
    order, free, pool = (np.zeros(rows, np.int64) for _ in range(3))
    return Plan(order, np.zeros(3, np.int64), of, np.zeros((rows, width), np.int64), free, pool)


def _lines(problem: Problem) -> Lines:
    """What is taken before anything is placed."""
    bench = Occupancy(problem)
    taken = [*bench.channels, *bench.boards, bench.person]
    names = [name for name, limit_w in problem.limits_w.items() if limit_w < np.inf]
    steps = [_levels(bench.drawn[name]) for name in names]
    room = 2 * len(problem.packs) + max([*map(len, taken), *map(len, steps)], default=0) + 3
    low, high = np.zeros((len(taken), room)), np.zeros((len(taken), room))
    for line, intervals in enumerate(taken):
        for at, (begin, end) in enumerate(sorted(intervals)):
            low[line, at], high[line, at] = begin, end
    level_min, level_w = np.zeros((len(names), room)), np.zeros((len(names), room))
    for resource, of in enumerate(steps):
        for at, (moment, watts) in enumerate(of):
            level_min[resource, at], level_w[resource, at] = moment, watts
    sources = [one.id for one in problem.kit.sources if one.usable_wh is not None]
    used_wh = np.array([bench.used_wh.get(name, 0.0) for name in sources], dtype=float)
    return Lines(low, high, _counts(taken), level_min, level_w, _counts(steps), used_wh, np.zeros(len(taken)))


def _counts(items: Sequence[Sequence[object]]) -> "np.ndarray[tuple[int], np.dtype[np.int64]]":
    return np.array([len(item) for item in items], dtype=np.int64)


def _levels(drawn: Sequence[tuple[float, float, float]]) -> list[tuple[float, float]]:
    """(from when on, W that are drawn), from long ago on."""
    moments = sorted({begin for begin, _, _ in drawn} | {end for _, end, _ in drawn})
    return [(LONG_AGO, 0.0)] + [
        (moment, sum(watts for begin, end, watts in drawn if begin <= moment < end)) for moment in moments
    ]


LONG_AGO = -1e9


def _work(problem: Problem, seed: int) -> Work:
    rows = len(problem.packs)
    width = max([1, *(board.ports for board in problem.boards)])
    chance = np.random.default_rng(seed)
    marks = chance.integers(1, 1 << 62, rows)
    memory = Memory(
        np.zeros(KEPT, np.int64), np.zeros((KEPT, 1 + 3 * width)), np.zeros(KEPT, np.int64), np.zeros(KEPT),
        np.zeros(2, np.int64), np.full((len(problem.families), SPREADS), -1.0), np.ones((len(problem.families), 2)),
        np.zeros(2, np.int64),
    )  # fmt: skip
    ready = sum(1 for verdict in problem.verdicts if verdict.full)
    fixed = _lines(problem)
    luck = chance.integers(1, 2147483647, 1)
    return Work(
        now=_plan(rows, width),
        best=_plan(rows, width),
        hand=Hand(_plan(rows, width), np.zeros(rows), luck, np.zeros(10, np.int64)),
        lines=Lines._make(item.copy() for item in fixed),
        fixed=fixed,
        memory=memory,
        marks=marks,
        times=np.zeros(rows + ready),
    )


# --------------------------------------------------------------------------------------- the search

MOVES_PER_PACK, LEAST_MOVES = 250, 5_000
"""Moves of one run, where nobody says how long it may take."""
CHUNK, CHUNK_S = 200, 0.02
"""Moves between two looks at the pace; where time counts, about as many as take so long."""
HOT = {40: 0.05, 100: 0.015}
HOT_LARGE = 0.003
"""Temperature at the start, as a part of the minutes of the plan, up to so many packs, and for more."""
COLD, COOLER = 0.05, 0.15
"""Temperature at the end, min; how much of the first one the second part of a run begins with."""
FIRST_PART, BY_ENDS, BY_LAST, BETWEEN_EQUALS = 0.7, 0.3, 0.02, 1e-4
"""A run first counts how early batches end in the mean, which makes room, then hardly anything but the last end; the
best of all is told by that alone."""
MANY = 100
"""Packs from which on fewer ways to start are tried: each takes a quarter of a second then."""


def is_fast(problem: Problem, prefer: Prefer = Prefer.SOONEST) -> bool:
    """Whether the compiled search can plan it: batches as `Problem` knows them, each pack charged once, a
    preference that it knows, and packs of one pilot."""
    plain = problem.rounds or problem.not_before or type(problem) is not Problem
    several = len({pack.pilot for pack in problem.packs}) > 1
    known = prefer in PREFERS and not several and not plain
    return known and bool(problem.packs and problem.machines) and is_ready()


class FastSearch:
    """One search over one problem: a plan is there at once, `improve` makes it better."""

    def __init__(
        self, problem: Problem, prefer: Prefer, seed: int = 1, start: Sequence[Gene] = (), threads: int = 1
    ) -> None:
        """seed : of its random numbers; each thread has numbers of its own. start : batches to begin from, beside other
        ways to start. threads : 1 or more; more than one plan is not the same each time.
        """
        self.problem, self.prefer, self.iterations = problem, prefer, 0
        self.needed = needed_by_family(problem)
        first = Annealer(problem, prefer, seed)
        others = (Annealer(problem, prefer, seed + 1000 * number, first.tables) for number in range(1, threads))
        self._threads = self._annealers = [first, *others]
        if start:
            first.load(start)
        ways = list(self._starts(bool(start)))
        with ThreadPoolExecutor(threads) as pool:
            list(pool.map(_begin, self._threads, (ways[number::threads] for number in range(threads))))
        self._top, self._top_weight = _plan(len(problem.packs), first.work.now.members.shape[1]), inf
        self._found: Candidate | None = None
        self._note_top()

    def _starts(self, has_start: bool) -> Iterator[tuple[list[int], Sequence[int], int, bool]]:
        """Ways to start: (packs in turn, packs of the batches in turn, batches kept, whether energy decides)."""
        choices = {tuple(index for members in chosen_packs(self.problem, self.needed, alike) for index in members): None
                   for alike in ((False, True) if self.problem.wanted else (False,))}  # fmt: skip
        for chosen in choices:
            yield from self._starts_with(list(chosen), has_start)

    def _starts_with(
        self, chosen: list[int], has_start: bool
    ) -> Iterator[tuple[list[int], Sequence[int], int, bool]]:  # fmt: skip
        """The same with these packs."""
        problem, tables = self.problem, self._annealers[0].tables
        by_rate = sorted(chosen, key=lambda index: (int(tables.packs.klass[index]), -tables.limit_c[index, -1], index))
        lean = self._short_of_energy(chosen)
        ports = sorted(board.ports for board in problem.boards if board.ports > 1)
        # Batches of the usual size, or as the boards are, all of them or the larger ones.
        usual, all_ports, larger = ports[len(ports) // 2 :][:1], ports[::-1], ports[len(ports) // 3 :][::-1]
        boards = len(problem.boards)
        many = len(chosen) > MANY
        if not ports or not many:
            yield chosen, (1,), 0, lean
        if has_start and many:
            return
        if many and ports:
            for of, keep, order in ((usual, 2 * boards, chosen), (all_ports, len(chosen), chosen),
                                    (larger, len(chosen), chosen), (all_ports, 2 * boards, by_rate)):  # fmt: skip
                yield order, of, keep, lean
            return
        one_size = [(size,) for size in dict.fromkeys([*usual, *all_ports])][:3]
        sizes = dict.fromkeys([*one_size, tuple(all_ports), tuple(larger)] if ports else [])
        for size, keep, order in product(sizes, (boards, 2 * boards, len(chosen)), (chosen, by_rate)):
            yield order, size, keep, lean

    def _short_of_energy(self, chosen: Sequence[int]) -> bool:
        """Whether the sources with a budget may not have enough for all of these packs."""
        tables = self._annealers[0].tables
        limited = tables.machines.source >= 0
        if not limited.all():
            return False
        asked_wh = tables.packs.energy_wh[list(chosen)].sum() / tables.machines.from_source.max()
        return bool(asked_wh > (tables.usable_wh - self._annealers[0].work.fixed.used_wh).sum())

    # ------------------------------------------------------------------ the best so far

    @property
    def makespan_min(self) -> float:
        """When the last pack of the best plan is full, min."""
        times = self._top.rows.times[self._top.order[: self.batches]]
        placed = times[times[:, START] >= 0]
        return float(placed[:, END].max()) if len(placed) else 0.0

    @property
    def batches(self) -> int:
        """How many batches the best plan has."""
        return int(self._top.heads[COUNT])

    @property
    def not_charged(self) -> int:
        """How many packs the best plan does not charge."""
        return int(self._top.heads[POOLS])

    def _note_top(self) -> None:
        """Keep the best plan that any thread has found."""
        for one in self._annealers:
            weight = one.weight_by_last()
            if weight < self._top_weight - MOMENT_MIN:
                copy(one.work.best, self._top)
                self._top_weight, self._found = weight, None

    def candidate(self, genes: tuple[Gene, ...]) -> Candidate:
        """A list of batches with its times and its score."""
        schedule = decode(self.problem, genes)
        assert schedule is not None  # nothing cuts it short
        return Candidate(self.problem, genes, schedule, score_of(self.problem, schedule, self.prefer), self.iterations)

    @property
    def best(self) -> Candidate:
        """The best plan so far, with its times and its score."""
        if self._found is None:
            self._found = self.candidate(genes_of(self.problem, self._top))
        return self._found

    @best.setter
    def best(self, candidate: Candidate) -> None:
        """Go on from another plan, which is the best from now on."""
        first = self._annealers[0]
        first.weights[:] = inf
        first.load(candidate.genes)
        self._annealers, self._top_weight = [first], inf
        self._note_top()
        self._found = candidate

    def soften(self) -> None:
        """Fewer amps wherever they cost nothing: the last thing that is done to a plan."""
        first = self._annealers[0]
        first.take(self._top)
        first.soften()
        self._annealers, self._top_weight = [first], inf
        self._note_top()

    # ------------------------------------------------------------------ runs

    def __iter__(self) -> Iterator[None]:
        """Runs of a fixed number of moves, one after another, for ever."""
        moves = max(MOVES_PER_PACK * len(self.problem.packs), LEAST_MOVES)
        while self.batches:
            begun = self.iterations
            yield from self._run(lambda begun=begun: (self.iterations - begun) / moves)  # type: ignore[misc]

    def improve(self, seconds: float) -> Iterator[None]:
        """One run that ends when the time is up.

        seconds : 0 or more.
        """
        begun_s = perf_counter()
        yield from self._run(lambda: (perf_counter() - begun_s) / max(seconds, NOISE), CHUNK_S)

    def _run(self, pace: Callable[[], float], chunk_s: float = 0.0) -> Iterator[None]:
        """Anneal while the pace goes from 0 to 1, first for room, then for the last end. chunk_s : adapt the moves
        between two looks so that they take so long, s; 0 for a fixed number.
        """
        packs = len(self.problem.packs)
        if not self.batches:
            return
        part = next((hot for most, hot in HOT.items() if packs <= most), HOT_LARGE)
        hot = max(part * self.makespan_min, 4 * COLD)
        self._annealers = threads = self._threads
        for one in threads:
            one.take(self._top)
        with ThreadPoolExecutor(len(threads)) as pool:
            for begin, end, hottest, by_ends in ((0.0, FIRST_PART, hot, BY_ENDS),
                                                 (FIRST_PART, 1.0, max(COOLER * hot, 2 * COLD), BY_LAST)):  # fmt: skip
                best = min(threads, key=lambda one: one.weights[1]).work.best
                for one in threads:
                    if one.work.best is not best:
                        copy(best, one.work.best)
                    one.weigh_ends(by_ends)
                yield from self._stage(threads, pool, pace, (begin, end, hottest), chunk_s)

    def _stage(
        self, threads: Sequence[Annealer], pool: ThreadPoolExecutor, pace: Callable[[], float],
        stage: tuple[float, float, float], chunk_s: float,
    ) -> Iterator[None]:  # fmt: skip
        begin, end, hottest = stage
        moves = [CHUNK] * len(threads)
        while (at := pace()) < end:
            heat = hottest * (COLD / hottest) ** max((at - begin) / (end - begin), 0.0)
            took = list(pool.map(_timed_run, threads, [heat] * len(threads), moves, [begin == 0.0] * len(threads)))
            self.iterations += sum(moves)
            self._note_top()
            if chunk_s:
                moves = [max(min(int(of * chunk_s / max(s, 1e-6)), 20 * CHUNK), 20)
                         for of, s in zip(moves, took, strict=True)]  # fmt: skip
            yield


def _begin(annealer: Annealer, ways: Sequence[tuple[list[int], Sequence[int], int, bool]]) -> None:
    """Try some ways to start, one after another."""
    for way in ways:
        annealer.start(*way)


def _timed_run(annealer: Annealer, heat: float, moves: int, lightly: bool) -> float:
    """Seconds that so many moves took."""
    begun_s = perf_counter()
    annealer.run(heat, moves, lightly)
    return perf_counter() - begun_s


def main() -> None:
    """Compile ahead: everything that a search needs is worked out once on a small made-up bench."""
    begun_s = perf_counter()
    swift.hand_over()
    kit = Kit((Board("B", 4),), (Charger("C", (Channel("c", 10.0, 100.0),)),))
    packs = tuple(Pack(f"P{number}", "lipo", 3, 2200, reading=Reading.of_cells((3.7 + 0.01 * number,) * 3))
                  for number in range(4))  # fmt: skip
    search = FastSearch(Problem(Session(packs, kit)), Prefer.SOONEST)
    for _ in zip(range(2), search, strict=False):
        pass
    search.soften()
    fan_of(packs, (0.0,) * len(packs), 5.0, Feeding(2.2), 0.1)
    (cache_folder() / READY).touch()
    for before in cache_folder().parent.glob("compiled-*"):  # of sources as they were once
        if before != cache_folder():
            rmtree(before, ignore_errors=True)
    print(f"compiled in {perf_counter() - begun_s:.0f} s")


if __name__ == "__main__":
    main()
