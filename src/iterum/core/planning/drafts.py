"""Plans to begin a search from: windows in volts, shared out by their loads, then put in order.

Runs of annealing that reckon next to nothing, at some hundred thousand moves a second where `decode` allows thousands:
first which windows, on which channel and board, so that the fullest load of anything is least; then their order, by a
plain clock on which each waits for its channel, its board and hands; then both together. What comes of it `decode`
says, and the search goes on from there. Common method (simulated annealing from several starts), weights found by
trial.
"""

from collections.abc import Iterator, Sequence
from math import exp, inf
from random import Random

from iterum.core.planning.diving import OVER_MIN, Diver
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene
from iterum.core.planning.windows import Draft, Drafted, Run, Way, Window, Windows
from iterum.core.quantities import at_most

SHARING, ORDERING, TOGETHER = 125, 50, 75
"""Moves for each pack in a run of each kind."""
SHARING_HEAT, ORDERING_HEAT, TOGETHER_HEAT = (30.0, 0.3), (8.0, 0.2), (2.0, 0.2)
"""Temperatures at its start and at its end: minutes that something worse may cost."""
MANY, MANY_SHARING, MANY_HEAT = 50, 60, (3.0, 0.1)
"""Packs from which on drafts begin from a linear program, not from single packs: so many are shared out better by it.
Moves for each pack, fewer since much is done, and temperatures that do not undo it."""
REGROUPED = 0.6
"""How many moves of the last run make other windows; the rest only change the order."""
NEAR = 1.05
"""A draft this near to the best is worth looking for a better one beside it."""
EVENLY, ENDS = 0.02, 0.3
"""How much it weighs that everything is loaded evenly, beside the fullest load, and that batches end early in the mean,
beside the last end, min for min: both make room."""
AT_ONCE = 2_500
"""Moves before a run looks up: about as long as a hundred that are decoded."""
Change = tuple[tuple[int, ...], list[Drafted]]
"""Places in a draft and what comes there instead: one for two joins them, two for one part it."""


def by_windows(problem: Problem, needed: dict[str, int], seed: int = 1) -> Iterator[tuple[list[Gene], float] | None]:
    """Plans to search on from, each with the minutes in which its clock has it done, without end; None in between,
    while they are worked out.

    needed : packs wanted full, by family. seed : of its random numbers.
    """
    if problem.rounds or not problem.machines:
        return  # packs that come and go are placed in the order of their heats
    windows, luck = Windows(problem, needed), Random(seed)
    begin, moves, heats = windows.smallest(), SHARING, SHARING_HEAT
    if not begin:
        return
    drafting, best_min = Drafting(windows, luck), inf
    packs = sum(map(len, windows.families))
    if packs > MANY:
        begin, moves, heats = (yield from Diver(windows).draft()), MANY_SHARING, MANY_HEAT
        end_min, draft = yield from drafting.in_order(begin, ORDERING * packs)
        yield windows.genes(draft), end_min
    while True:
        draft = yield from drafting.shared_out(begin, moves * packs, heats)
        fullest_min = windows.fullest_min(draft)
        if fullest_min < best_min:  # nothing ends before its fullest load
            end_min, draft = yield from drafting.in_order(draft, ORDERING * packs, fullest_min)
            if end_min < NEAR * best_min:
                end_min, draft = yield from drafting.together(draft, TOGETHER * packs)
            best_min = min(best_min, end_min)
            yield windows.genes(draft), end_min
        else:
            yield None


class Drafting:
    """Better drafts from others, by runs that look up every so many moves."""

    def __init__(self, windows: Windows, luck: Random) -> None:
        self.windows, self.luck = windows, luck
        self.short = windows.short_of_energy

    # ------------------------------------------------------------------ runs

    def shared_out(self, draft: Draft, turns: int, heats: tuple[float, float]) -> Run[Draft]:
        """Windows whose fullest load is smaller, in no order.

        turns : moves, 1 or more. heats : min, above 0.
        """
        loads = self.windows.loads(draft)
        cost = self._cost(loads)
        best = cost, draft
        for turn, heat in enumerate(_cooling(turns, *heats), start=1):
            if turn % AT_ONCE == 0:
                yield
            change = self._change(draft)
            if change is None:
                continue
            places, instead = change
            changed = loads.copy()
            for place in places:
                for at, load in draft[place][1].loads:
                    changed[at] -= load
            for _, way in instead:
                for at, load in way.loads:
                    changed[at] += load
            other = self._cost(changed)
            if self._taken(cost - other, heat):
                draft, loads, cost = self._changed(draft, change), changed, other
                if cost < best[0]:
                    best = cost, draft
        return best[1]

    def _cost(self, loads: Sequence[float]) -> float:
        times = loads[: self.windows.energy_at]
        fullest = max(times)
        over_wh = self.windows.over_wh(loads[self.windows.energy_at :]) if self.short else 0.0
        return fullest + EVENLY * sum([load * load for load in times]) / fullest + OVER_MIN * over_wh

    def in_order(self, draft: Draft, turns: int, enough_min: float = 0.0) -> Run[tuple[float, Draft]]:
        """The same windows in a better order, and when the last one ends by the clock, min.

        turns : moves, 1 or more. enough_min : min, an end that is good enough.
        """
        return self._by_clock(draft, turns, ORDERING_HEAT, 0.0, enough_min)

    def together(self, draft: Draft, turns: int) -> Run[tuple[float, Draft]]:
        """Other windows in another order, and when the last one ends by the clock, min.

        turns : moves, 1 or more.
        """
        return self._by_clock(draft, turns, TOGETHER_HEAT, REGROUPED, 0.0)

    def _by_clock(
        self, draft: Draft, turns: int, heats: tuple[float, float], regrouped: float, enough_min: float
    ) -> Run[tuple[float, Draft]]:
        over_min = self._over_min(draft)
        end_min, weight = self._ends(draft, over_min)
        best = end_min, draft
        for turn, heat in enumerate(_cooling(turns, *heats), start=1):
            if turn % AT_ONCE == 0:
                yield
            if self.luck.random() < regrouped:
                change = self._change(draft)
                if change is None:
                    continue
                other = self._changed(draft, change)
                changed_min = self._over_min(other)
            else:
                other, changed_min = self._moved(draft), over_min
            end_min, changed = self._ends(other, changed_min)
            if self._taken(weight - changed, heat):
                draft, weight, over_min = other, changed, changed_min
                if end_min < best[0]:
                    best = end_min, draft
                    if at_most(end_min, enough_min):
                        break
        return best

    def _taken(self, gain: float, heat: float) -> bool:
        return gain >= 0 or self.luck.random() < exp(gain / heat)

    def _over_min(self, draft: Sequence[Drafted]) -> float:
        """What it weighs that sources are asked for more than they have."""
        if not self.short:
            return 0.0
        return OVER_MIN * self.windows.over_wh(self.windows.loads(draft)[self.windows.energy_at :])

    def _ends(self, draft: Sequence[Drafted], over_min: float) -> tuple[float, float]:
        """When the last batch ends where each begins once its channel, board and hands are free, so much later where
        energy is short; and a weight. Asked for most often of all: comparisons cost a third of `max`."""
        free = self.windows.begun.copy()
        hands_free = last = total = 0.0
        for _, (_, _, holds, whole_min, hands_min, _, _, _) in draft:
            start = hands_free
            for at in holds:
                if free[at] > start:  # noqa: PLR1730 (see above)
                    start = free[at]
            end = start + whole_min
            for at in holds:
                free[at] = end
            hands_free = start + hands_min
            total += end
            if end > last:  # noqa: PLR1730
                last = end
        last += over_min
        return last, last + ENDS * total / len(draft)

    # ------------------------------------------------------------------ moves

    def _below(self, count: int) -> int:
        return int(self.luck.random() * count)  # half the time of randrange

    def _moved(self, draft: Draft) -> Draft:
        """One batch at another place in the order."""
        moved = draft.copy()
        moved.insert(self._below(len(draft)), moved.pop(self._below(len(draft))))
        return moved

    def _change(self, draft: Draft) -> Change | None:
        """One change, or None where that which was drawn cannot be made."""
        at, pick = self._below(len(draft)), self.luck.random()
        window, way = draft[at]
        if pick < 0.35:
            other = self._any(window)
            return ((at,), [(window, other)]) if other is not None else None
        if pick < 0.5:
            return self._places_changed(draft, at, self._below(len(draft)))
        if pick < 0.65:
            cut = window.low + 1 + self._below(window.high - window.low)
            return self._parted(window, cut, (at,), (way, None))
        above = next((place for place, (one, _) in enumerate(draft) if one[:2] == (window[0], window.high)), None)
        if above is None:
            return None
        (_, _, high), their_way = draft[above]
        both = Window(window.family, window.low, high)
        cut = high if pick < 0.78 else window.high + self.luck.choice((-3, -2, -1, 1, 2, 3))
        return self._parted(both, cut, (at, above), (way, their_way))

    def _any(self, window: Window) -> Way | None:
        """Some way to charge a window, the next one where that which was drawn cannot be."""
        places = self.windows.places(window)
        first = self._below(len(places))
        for place in range(first - len(places), first):
            way = self.windows.way(window, places[place])
            if way is not None:
                return way
        return None

    def _places_changed(self, draft: Draft, at: int, other: int) -> Change | None:
        """Each of two batches on the channel and board of the other."""
        (window, way), (theirs, their_way) = draft[at], draft[other]
        mine, yours = self.windows.way(window, their_way[:2]), self.windows.way(theirs, way[:2])
        if mine is None or yours is None or at == other:
            return None
        return (at, other), [(window, mine), (theirs, yours)]

    def _parted(self, window: Window, cut: int, places: tuple[int, ...], ways: tuple[Way, Way | None]) -> Change | None:
        """A window parted before the pack at `cut`, or whole where that is its end; on the same boards if it can be."""
        if not window.low < cut <= window.high:
            return None
        below, rest = Window(window.family, window.low, cut), Window(window.family, cut, window.high)
        parts = [below, rest] if cut < window.high else [below]
        instead: list[Drafted] = []
        for part, way in zip(parts, ways, strict=False):
            same = self.windows.way(part, way[:2]) if way is not None else None
            found = same or self._any(part)
            if found is None:
                return None
            instead.append((part, found))
        return places, instead

    def _changed(self, draft: Draft, change: Change) -> Draft:
        places, instead = change
        changed = draft.copy()
        for place, item in zip(places, instead, strict=False):
            changed[place] = item
        for item in instead[len(places) :]:
            changed.insert(self._below(len(changed) + 1), item)
        for place in places[len(instead) :]:
            changed.pop(place)
        return changed


def _cooling(turns: int, hot: float, cold: float) -> Iterator[float]:
    """Temperatures of a run, min, from hot to cold.

    turns : 1 or more. hot, cold : min, above 0.
    """
    for turn in range(turns):
        yield hot * (cold / hot) ** (turn / turns)
