"""Covering packs with the fewest groups: a minimum clique cover with a limit on size, bottleneck first.

In one dimension (volts only) the best groups are runs of neighbours, and a greedy walk from the bottom is
optimal. Cells and capacities add dimensions, in which the task is NP-hard; the packs of one evening are few,
so a depth-first search with bounds settles it, under a budget of steps that keeps it short and repeatable.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

from iterum.core.quantities import NOISE

STEP_BUDGET = 1_500
"""Search steps per family, some 8 ms on a slow machine. Counted, not timed, so that results repeat."""
LARGEST_SEARCHED = 200
"""Families of more packs than this are grouped as runs of neighbours only."""
REGROUPINGS = 60
"""Rounds of regrouping where the search ran out, some 0.2 ms each for 60 packs."""


@dataclass(frozen=True)
class Cover:
    """Groups as indices into the packs, and whether their number is proved to be the least."""

    groups: tuple[tuple[int, ...], ...]
    proven: bool


def _bits(mask: int) -> list[int]:
    places = []
    while mask:
        low = mask & -mask
        places.append(low.bit_length() - 1)
        mask ^= low
    return places


def _is_run(mask: int) -> bool:
    """Whether the set bits of `mask` lie side by side."""
    shifted = mask >> ((mask & -mask).bit_length() - 1)
    return shifted & (shifted + 1) == 0


def _runs(volts: Sequence[float], masks: Sequence[int], size_limit: int) -> list[tuple[int, ...]]:
    """Best cover by runs of neighbours: fewest first, then the smallest sum of widths."""
    count = len(volts)
    best: list[tuple[int, float]] = [(0, 0.0)] + [(count + 1, 0.0)] * count
    start_of = [0] * (count + 1)
    for end in range(1, count + 1):
        common = (1 << count) - 1
        for start in range(end - 1, max(end - size_limit, 0) - 1, -1):
            common &= masks[start]
            run = ((1 << end) - 1) ^ ((1 << start) - 1)
            if common & run != run:
                break
            groups, width_v = best[start]
            candidate = (groups + 1, width_v + volts[end - 1] - volts[start])
            if candidate[0] < best[end][0] or (candidate[0] == best[end][0] and candidate[1] < best[end][1] - NOISE):
                best[end], start_of[end] = candidate, start
    runs = []
    end = count
    while end:
        runs.append(tuple(range(start_of[end], end)))
        end = start_of[end]
    return runs[::-1]


def _lower_bounds(masks: Sequence[int], size_limit: int) -> list[int]:
    """For each i, groups that the packs from i on need at least: pairwise strangers, and ports.

    Strangers (no two may join) each need a group of their own. Packs by count need ceil(n / ports).
    """
    count = len(masks)
    bounds = [0] * (count + 1)
    for start in range(count - 1, -1, -1):
        strangers = 0
        rest = ((1 << count) - 1) ^ ((1 << start) - 1)
        while rest:
            index = (rest & -rest).bit_length() - 1
            strangers += 1
            rest &= ~masks[index]
        bounds[start] = max(strangers, -(-(count - start) // size_limit), bounds[start + 1])
    return bounds


def _packing_bound(masks: Sequence[int], size_limit: int) -> int:
    """A sharper bound for volts with ports: walk up, each group takes all it could at best.

    The lowest pack left over must be in some group; no group with it reaches beyond its own neighbours. Taking
    the `size_limit` lowest packs within reach of it is at least as good as any choice when reach grows with
    volts, which holds for the relaxed problem that keeps only each pack's farthest neighbour.
    """
    count = len(masks)
    farthest = [mask.bit_length() - 1 for mask in masks]
    for index in range(1, count):  # relaxing: make the reach grow with the volts
        farthest[index] = max(farthest[index], farthest[index - 1])
    groups = 0
    index = 0
    while index < count:
        groups += 1
        index = min(index + size_limit, farthest[index] + 1)
    return groups


@dataclass
class _Search:
    """Depth-first over packs in rising volts: each joins an open group or opens one."""

    volts: Sequence[float]
    masks: Sequence[int]
    size_limit: int
    bounds: list[int]
    floor: int
    best: list[tuple[int, ...]]
    best_count: int
    best_width_v: float
    steps: int = 0
    open: list[int] = field(default_factory=list)

    def run(self) -> bool:
        """Improve `best`; whether the search ended by itself rather than by its budget."""
        return self._place(0, 0.0)

    def _place(self, index: int, width_v: float) -> bool:
        if self.steps >= STEP_BUDGET:
            return False
        self.steps += 1
        count = len(self.open)
        if count > self.best_count or (count == self.best_count and width_v >= self.best_width_v - NOISE):
            return True
        if index == len(self.volts):
            self.best = [tuple(_bits(mask)) for mask in self.open]
            self.best_count, self.best_width_v = count, width_v
            return True
        free = sum(self.size_limit - mask.bit_count() for mask in self.open)
        left = len(self.volts) - index
        needed = max(count - (-max(left - free, 0) // self.size_limit), self.bounds[index], self.floor)
        if needed > self.best_count or (needed == self.best_count and width_v >= self.best_width_v - NOISE):
            return True
        mine = self.masks[index]
        fits = [
            (self.volts[index] - self.volts[mask.bit_length() - 1], position)
            for position, mask in enumerate(self.open)
            if mask & mine == mask and mask.bit_count() < self.size_limit
        ]
        fits.sort()
        ended = True
        for added_v, position in fits:
            self.open[position] |= 1 << index
            ended = self._place(index + 1, width_v + added_v) and ended
            self.open[position] ^= 1 << index
        if count < self.best_count:
            self.open.append(1 << index)
            ended = self._place(index + 1, width_v) and ended
            self.open.pop()
        return ended


def _regrouped(groups: Sequence[tuple[int, ...]], masks: Sequence[int], size_limit: int) -> list[int]:
    """First fit, group after group: never more groups than before, since what is left of a group fits one new one."""
    opened: list[int] = []
    for group in groups:
        for index in group:
            mine = masks[index]
            for position, mask in enumerate(opened):
                if mask & mine == mask and mask.bit_count() < size_limit:
                    opened[position] |= 1 << index
                    break
            else:
                opened.append(1 << index)
    return opened


def _improve(search: "_Search") -> None:
    """Iterated greedy (Culberson and Luo 1996, for colouring graphs): regroup in ever other orders of the groups."""
    groups = search.best
    for turn in range(REGROUPINGS):
        if turn % 3 == 0:
            ordered = groups[::-1]
        elif turn % 3 == 1:
            ordered = sorted(groups, key=len, reverse=True)
        else:  # a shuffle that is the same each time
            ordered = sorted(groups, key=lambda group: (group[0] * 40_503 + turn * 9_973) % 65_537)
        groups = [tuple(_bits(mask)) for mask in _regrouped(ordered, search.masks, search.size_limit)]
        width_v = sum(search.volts[group[-1]] - search.volts[group[0]] for group in groups)
        if (len(groups), width_v) < (search.best_count, search.best_width_v - NOISE):
            search.best, search.best_count, search.best_width_v = groups, len(groups), width_v


def cover(volts: Sequence[float], masks: Sequence[int], size_limit: int) -> Cover:
    """Cover all packs with as few groups as can be, then with the smallest sum of widths.

    volts : V per cell, rising. masks : for each pack a bit mask of those it may join, itself included.
    size_limit : most packs in a group, at least 1.
    """
    runs = _runs(volts, masks, size_limit)
    if all(_is_run(mask) for mask in masks):
        return Cover(tuple(runs), proven=True)  # volts alone decide, and runs of neighbours are the best there
    bounds = _lower_bounds(masks, size_limit)
    floor = max(bounds[0], _packing_bound(masks, size_limit))
    width_v = sum(volts[run[-1]] - volts[run[0]] for run in runs)
    search = _Search(volts, masks, size_limit, bounds, floor, runs, len(runs), width_v)
    ended = len(volts) <= LARGEST_SEARCHED and search.run()
    if not ended and len(volts) <= LARGEST_SEARCHED:
        _improve(search)
    proven = ended or search.best_count == floor
    return Cover(tuple(sorted(search.best)), proven)
