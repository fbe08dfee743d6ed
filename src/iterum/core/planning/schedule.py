"""From an ordered list of batches to times: each is put as early as everything it needs is free (serial schedule)."""

from bisect import bisect_left, insort
from collections import Counter
from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import dataclass
from itertools import islice
from math import inf
from typing import NamedTuple

from iterum.core.planning.batches import Costs, PlannedBatch
from iterum.core.planning.problem import Problem

EPS = 1e-7
VISIT_GAP_MIN = 5.0
"""Set-ups closer than this are one visit to the bench."""


class Gene(NamedTuple):  # a tuple, as is `Seated`: made again hundreds of thousands of times
    """One batch before it has a time: members (indices of packs, rising), channel, which part of the amps, whether it
    stays on to balance once it is full, and the board it is to be on: whichever ends it first, where that is None or
    does not take it."""

    members: tuple[int, ...]
    machine: int
    part: int = 0
    balance: bool = True
    board: str | None = None

    def minutes(self, costs: Costs) -> float:
        """From the start of charging until it comes off."""
        return costs.minutes if self.balance else costs.full_min


class Seated(NamedTuple):
    """One batch with its board (-1 for none) and times, min, as those of a `PlannedBatch`."""

    gene: Gene
    board: int
    costs: Costs
    start_min: float
    lead_min: float
    full_min: float
    end_min: float

    @property
    def cut(self) -> bool:
        """Whether its packs come off at full for others, not for a heat of theirs, though they are to be balanced."""
        return not self.gene.balance and self.costs.minutes > self.costs.full_min


@dataclass(frozen=True)
class Schedule:
    """Seated batches in the order of their list, and those for which there was no energy or no place.

    listed : all of them in that order.
    """

    placed: tuple[Seated, ...]
    unplaced: tuple[Gene, ...]
    used_wh: dict[str, float]
    listed: tuple[Gene, ...]

    @property
    def makespan_min(self) -> float:
        """When the last pack is full."""
        return max((item.end_min for item in self.placed), default=0.0)

    @property
    def visits(self) -> int:
        """How often somebody goes to the bench."""
        return len(visits_of([(item.start_min, item.lead_min) for item in self.placed]))


def visits_of(setups: Sequence[tuple[float, float]]) -> list[list[int]]:
    """Indices of set-ups (start, end) by visit, in the order of time; those within minutes of each other are one.

    setups : (start, end) in minutes.
    """
    visits: list[list[int]] = []
    until_min = -inf
    for index in sorted(range(len(setups)), key=lambda item: setups[item]):
        start_min, end_min = setups[index]
        if start_min - until_min > VISIT_GAP_MIN + EPS:
            visits.append([])
        visits[-1].append(index)
        until_min = max(until_min, end_min)
    return visits


def free_from(taken: Sequence[tuple[float, float]], start: float, length: float) -> float:
    """The first moment from `start` on at which an interval of this length fits between those taken (sorted)."""
    if not taken or taken[-1][1] <= start + EPS:
        return start
    # Those that end before the start are no concern; only the last that begins before it can reach over it.
    first = max(bisect_left(taken, (start,)) - 1, 0)
    for low, high in islice(taken, first, None):
        if low >= start + length - EPS:
            break
        if high > start + EPS:
            start = high
    return start


def power_free_from(
    drawn: Sequence[tuple[float, float, float]], start: float, length: float, watts: float, limit_w: float
) -> float:
    """The first moment from `start` on at which so many watts more can be drawn for so long; or a later one to try.

    length : minutes, above 0. limit_w : W.
    """
    begins, ends, whole_w = start + EPS, start + length - EPS, watts
    near = []
    for item in drawn:
        if item[0] < ends and item[1] > begins:
            near.append(item)
            whole_w += item[2]
    if whole_w <= limit_w + EPS:
        return start
    for moment in (start, *(item[0] for item in near if item[0] > start)):
        active = [item for item in near if item[0] <= moment + EPS and item[1] > moment + EPS]
        if sum(item[2] for item in active) + watts > limit_w + EPS:
            return min(item[1] for item in active) if active else inf
    return start


class Occupancy:
    """What is taken of channels, boards, the person, watts and watt-hours while batches are placed.

    Watts are kept for a batch from the moment it is set up, as they are once somebody has it in hand: what is planned
    for now can be begun now.
    """

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self.setup_min = problem.rules.setup_min
        self.channels: list[list[tuple[float, float]]] = [[] for _ in problem.machines]
        self.boards: list[list[tuple[float, float]]] = [[] for _ in problem.boards]
        self.person: list[tuple[float, float]] = []
        self.drawn: dict[str, list[tuple[float, float, float]]] = {name: [] for name in problem.limits_w}
        self.waited_for_watts = False
        """Whether a batch that was looked for had to wait for watts, so that fewer amps may be sooner."""
        self.used_wh: dict[str, float] = {}
        self.pilot_wh = dict(problem.session.had_wh) if problem.most_wh else {}
        """By source and pilot, Wh that are taken for packs of theirs, where energy is shared evenly."""
        self.usable_wh = {source.id: source.usable_wh for source in problem.kit.sources if source.usable_wh is not None}
        for low, high in problem.away:
            insort(self.person, (low, high))
        for machine in problem.machines:
            for low, high in problem.quiet_min(machine.feed.source):
                insort(self.channels[machine.index], (low, high))
        for batch in problem.taken:
            self.book(batch)

    def copy(self) -> "Occupancy":
        """The same, to try something in."""
        other = copy(self)
        other.channels, other.boards = [list(line) for line in self.channels], [list(line) for line in self.boards]
        other.person, other.drawn = list(self.person), {name: list(of) for name, of in self.drawn.items()}
        other.used_wh, other.pilot_wh = dict(self.used_wh), dict(self.pilot_wh)
        return other

    def book(self, batch: PlannedBatch) -> None:
        """What a batch that is not to be moved takes."""
        if batch.source is not None:
            self.used_wh[batch.source] = self.used_wh.get(batch.source, 0.0) + batch.energy_in_wh
            if batch.source in self.problem.most_wh:
                owners = Counter(pilot for tag in batch.packs if (pilot := self.problem.owners.get(tag)) is not None)
                parts = {pilot: count / len(batch.packs) for pilot, count in owners.items()}
                self._note_pilots(parts, batch.source, batch.energy_in_wh)
        if batch.end_min <= 0:
            return
        for machine in self.problem.machines:
            if machine.channel.id == batch.channel:
                insort(self.channels[machine.index], (batch.start_min, batch.end_min))
                for name, factor in machine.uses:
                    self.drawn[name].append((batch.start_min, batch.end_min, batch.power_w * factor))
        for index, board in enumerate(self.problem.boards):
            if board.id == batch.board:
                self._occupy(index, (batch.start_min, batch.end_min))
        if batch.lead_min > batch.start_min:
            insort(self.person, (batch.start_min, batch.lead_min))

    def _occupy(self, board: int, times: tuple[float, float]) -> None:
        for part in self.problem.board_parts[board]:
            insort(self.boards[part], times)

    def earliest(self, gene: Gene, board: int, costs: Costs, release_min: float, latest_min: float = inf) -> float:
        """When this batch could start, every resource asked in turn until none objects; without end where that is later
        than `latest_min`.

        board : index of a board of the problem, -1 for none. release_min : minutes from now, from when it can be had.
        """
        machine = gene.machine
        uses = self.problem.machines[machine].uses
        limits_w = self.problem.limits_w
        start, hands_min = release_min, self.setup_min + costs.wait_min
        whole = hands_min + gene.minutes(costs)
        for _ in range(400):
            if start > latest_min:
                return inf
            before = start
            start = free_from(self.channels[machine], start, whole)
            for part in self.problem.board_parts[board] if board >= 0 else ():
                start = free_from(self.boards[part], start, whole)
            start = free_from(self.person, start, hands_min)
            for name, factor in uses:
                drawn = self.drawn[name]
                if drawn:
                    free = power_free_from(drawn, start, whole, costs.power_w * factor, limits_w[name])
                    if free > start:
                        start, self.waited_for_watts = free, True
            if start <= before + EPS:
                return start
        return inf

    def find(self, gene: Gene, release_min: float = 0.0, full_by_min: float = inf) -> Seated | None:
        """The board and the earliest time for a batch; None where it cannot be charged or the energy is gone.

        release_min : minutes from now, from when on it can be had. full_by_min : minutes from now; full later than that
        it is not looked for.
        """
        best: tuple[float, float, float, float, int, Costs] | None = None
        problem = self.problem
        release_min = max(release_min, problem.release_min(gene.members))
        full_by_min = min(full_by_min, problem.last_min(gene.members)) + EPS
        source = problem.machines[gene.machine].source_id
        for board in self._boards(gene):
            costs = problem.costs(gene.members, gene.machine, board, gene.part)
            if costs is None:
                continue
            if source in self.usable_wh:
                taken_wh = costs.energy_wh / problem.machines[gene.machine].from_source
                if self.used_wh.get(source, 0.0) + taken_wh > self.usable_wh[source] + EPS:
                    continue
                if source in problem.most_wh and not self._is_even(gene.members, source, taken_wh):
                    continue
            hands_min = self.setup_min + costs.wait_min
            start = self.earliest(gene, board, costs, release_min, full_by_min - hands_min - costs.full_min)
            lead = start + hands_min
            full, end = lead + costs.full_min, self._taken_off(gene, lead + costs.full_min, lead + gene.minutes(costs))
            if full > full_by_min:
                continue  # its heat will have begun: nothing is charged for it any more
            if start < inf and (best is None or (end, full) < (best[0] - EPS, best[1])):
                best = end, full, start, lead, board, costs
        if best is None:
            return None
        end, full, start, lead, board, costs = best
        return Seated(gene, board, costs, start, lead, full, end)

    def _is_even(self, members: tuple[int, ...], source: str, taken_wh: float) -> bool:
        """Whether no pilot would have more than an even share of a source."""
        most_wh = self.problem.most_wh[source] + EPS
        parts = self.problem.part_of_each(members).items()
        return all(self.pilot_wh.get((source, pilot), 0.0) + part * taken_wh <= most_wh for pilot, part in parts)

    def _note_pilots(self, parts: Mapping[str, float], source: str, wh: float) -> None:
        for pilot, part in parts.items():
            self.pilot_wh[source, pilot] = self.pilot_wh.get((source, pilot), 0.0) + part * wh

    def _boards(self, gene: Gene) -> tuple[int, ...]:
        """The boards to try: the one it is to be on, or all that take it."""
        boards = self.problem.boards_for(gene.members)
        if gene.board is None or len(boards) < 2:
            return boards
        return tuple(board for board in boards if self.problem.boards[board].id == gene.board) or boards

    def _taken_off(self, gene: Gene, full_min: float, balanced_min: float) -> float:
        """When a batch comes off: balanced, or before that where its packs are full and their heat begins."""
        problem = self.problem
        if not problem.rounds:
            return balanced_min
        heats = [problem.rounds[index].heat for index in gene.members if problem.rounds[index].heat.is_heat]
        first_min = min((heat.at_min for heat in heats), default=inf)
        return max(full_min, min(balanced_min, first_min))

    def take(self, placed: Seated) -> None:
        """Book what a placed batch needs."""
        machine = self.problem.machines[placed.gene.machine]
        insort(self.channels[placed.gene.machine], (placed.start_min, placed.end_min))
        if placed.board >= 0:
            self._occupy(placed.board, (placed.start_min, placed.end_min))
        if placed.lead_min > placed.start_min:
            insort(self.person, (placed.start_min, placed.lead_min))
        for name, factor in machine.uses:
            self.drawn[name].append((placed.start_min, placed.end_min, placed.costs.power_w * factor))
        source = machine.source_id
        if source is not None:
            energy_wh = placed.costs.energy_wh / machine.from_source
            self.used_wh[source] = self.used_wh.get(source, 0.0) + energy_wh
            if source in self.problem.most_wh:
                self._note_pilots(self.problem.part_of_each(placed.gene.members), source, energy_wh)


def _in_turn(problem: Problem, genes: Sequence[Gene]) -> Sequence[Gene]:
    """The same list, but no pack's later charge before its earlier one."""
    if not problem.rounds:
        return genes
    place = {index: number for number, gene in enumerate(genes) for index in gene.members}
    ordered: list[Gene] = []
    listed: set[int] = set()

    def add(number: int) -> None:
        if number in listed:
            return
        listed.add(number)
        for index in genes[number].members:
            before = problem.before[index]
            if before is not None and before in place:
                add(place[before])
        ordered.append(genes[number])

    for number in range(len(genes)):
        add(number)
    return ordered


def _back_again_min(problem: Problem, gene: Gene, ends: dict[int, float]) -> float:
    """From when on packs that come round again can be there: a late charge makes a late flight, and none no flight."""
    if not problem.rounds:
        return 0.0
    back = [(ends.get(before, inf), problem.rounds[index].away_min)
            for index in gene.members if (before := problem.before[index]) is not None]  # fmt: skip
    return max((end_min + away_min for end_min, away_min in back), default=0.0)


def _same_so_far(genes: Sequence[Gene], like: Schedule | None) -> int:
    """How many batches at the head of a list are those of a schedule, in the same order: they are not placed again."""
    count = 0
    for gene, other in zip(genes, like.listed if like is not None else (), strict=False):
        if gene is not other and gene != other:
            break
        count += 1
    return count


def decode(
    problem: Problem, genes: Sequence[Gene], worse_than_min: float = inf, like: Schedule | None = None
) -> Schedule | None:
    """Place the batches one after another; None as soon as one ends after `worse_than_min`.

    like : a schedule of a list that may begin with the same batches, to save work.
    """
    bench, genes = Occupancy(problem), _in_turn(problem, genes)
    same = _same_so_far(genes, like)
    known = {item.gene.members: item for item in like.placed} if like is not None and same else {}
    placed = [known[gene.members] for gene in genes[:same] if gene.members in known]
    unplaced = [gene for gene in genes[:same] if gene.members not in known]
    ends: dict[int, float] = {}
    for item in placed:
        if item.end_min > worse_than_min + EPS:
            return None
        bench.take(item)
        if problem.rounds:
            ends.update(dict.fromkeys(item.gene.members, item.full_min))
    for gene in genes[same:]:
        back_min = _back_again_min(problem, gene, ends)
        seat = bench.find(gene, back_min) if back_min < inf else None
        if seat is None:
            unplaced.append(gene)
            continue
        if seat.end_min > worse_than_min + EPS:
            return None
        bench.take(seat)
        placed.append(seat)
        if problem.rounds:
            ends.update(dict.fromkeys(gene.members, seat.full_min))
    return Schedule(tuple(placed), tuple(unplaced), bench.used_wh, tuple(genes))
