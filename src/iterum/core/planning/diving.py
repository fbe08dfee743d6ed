"""Where many packs are to be charged: a draft of single packs and full boards, shared out by a linear program.

Set partitioning by columns. A column is a window on one kind of channel and board. The program shares all packs out so
that the fullest load of channels, boards, hands and watts is least; what it wants nearly whole is taken, and the rest
shared out again, until every pack has its batch (diving).
"""

from collections.abc import Iterator, Sequence
from math import inf

from ortools.linear_solver.python import model_builder

from iterum.core.planning.windows import Draft, Drafted, Run, Way, Window, Windows
from iterum.core.quantities import at_most

NEARLY_WHOLE = 0.9
"""From which share on a column is taken: few at a time leave the rest free."""
AT_ONCE = 50
"""Columns that are worked out in a step."""
LEFT_MIN = 1000.0
"""Minutes that it weighs to leave a pack out."""
OVER_MIN = 10.0
"""Minutes that a Wh over the budget of a source weighs: so the program always has an answer."""


class Diver:
    """A draft from the columns of a session."""

    def __init__(self, windows: Windows) -> None:
        self.windows = windows
        self.kinds = windows.kinds()

    def draft(self) -> Run[Draft]:
        """Windows that hold every pack once, the fullest load of anything being small."""
        columns: list[Drafted] = []
        for column in self._columns():
            columns.append(column)
            if len(columns) % AT_ONCE == 0:
                yield
        picked: list[Drafted] = []
        while columns:
            shares = self._shared_out(columns, picked)
            most, held = max(shares), {place for window, _ in picked for place in window.packs}
            for (window, way), share in zip(columns, shares, strict=True):
                if (share >= NEARLY_WHOLE or share == most) and held.isdisjoint(window.packs):
                    picked.append((window, way))
                    held.update(window.packs)
            columns = [column for column in columns if held.isdisjoint(column[0].packs)]
            yield
        return self._spread(picked)

    def _columns(self) -> Iterator[Drafted]:
        """Single packs, full boards, and the smallest windows where a pack cannot be charged alone; on one channel and
        board of each kind."""
        windows, boards = self.windows, self.windows.problem.boards
        smallest = {window for window, _ in windows.smallest()}
        sizes = sorted({1, *(board.ports for board in boards)})
        every = (
            Window(family, low, low + size)
            for family, members in enumerate(windows.families)
            for low in range(len(members))
            for size in sizes
            if low + size <= len(members)
        )
        for window in dict.fromkeys([*sorted(smallest), *every]):
            for machine, board in windows.places(window):
                on = machine if board < 0 else windows.boards_at + board
                full = board < 0 or window in smallest or boards[board].ports == len(window.packs)
                if full and self.kinds[machine] == machine and self.kinds[on] == on:
                    way = windows.way(window, (machine, board))
                    if way is not None:
                        yield window, way

    def _shared_out(self, columns: Sequence[Drafted], picked: Sequence[Drafted]) -> list[float]:
        """By column, which share of it the program takes, beside what is picked already."""
        model = model_builder.Model()  # type: ignore[no-untyped-call]  # ortools ships no types for it
        fullest = model.new_num_var(0.0, inf, "")
        shares = [model.new_num_var(0.0, 1.0, "") for _ in columns]
        of_pack: dict[tuple[int, int], list[object]] = {}
        loads: list[list[object]] = [[] for _ in self.kinds]
        for (window, way), share in zip(columns, shares, strict=True):
            for place in window.packs:
                of_pack.setdefault(place, []).append(share)
            for at, load in way.loads:
                loads[self.kinds[at]].append(load * share)
        cost: object = fullest
        for mine in of_pack.values():
            left = model.new_num_var(0.0, 1.0, "")
            model.add(sum(mine) + left == 1)  # type: ignore[arg-type]
            cost = cost + LEFT_MIN * left  # type: ignore[operator]
        taken = self.windows.loads(picked)
        for at, items in enumerate(loads):
            if not items:
                continue
            alike = [other for other, kind in enumerate(self.kinds) if kind == at]
            whole = sum(items) + sum(taken[other] for other in alike)  # type: ignore[arg-type]
            if at < self.windows.energy_at:
                model.add(whole <= len(alike) * fullest)
                continue
            over = model.new_num_var(0.0, inf, "")
            model.add(whole <= self.windows.usable_wh[at - self.windows.energy_at][1] + over)
            cost = cost + OVER_MIN * over  # type: ignore[operator]
        model.minimize(cost)  # type: ignore[arg-type]
        solver = model_builder.Solver("GLOP")
        solver.solve(model)
        return [float(solver.value(share)) for share in shares]

    def _spread(self, picked: Sequence[Drafted]) -> Draft:
        """The same on all channels and boards of their kinds, the longest first where least is loaded."""
        draft: Draft = []
        loads = self.windows.begun.copy()
        for window, column in sorted(picked, key=lambda item: -item[1].whole_min):
            kind, ways = self._kind(column), [*self.windows.ways(window)]
            having = [way for way in ways if self._has_energy(way, loads)] or ways
            alike = [way for way in having if self._kind(way) == kind] or having
            way = min(alike, key=lambda way: sum(loads[at] for at, _ in way.loads if at < self.windows.person_at))
            for at, load in way.loads:
                loads[at] += load
            draft.append((window, way))
        return draft

    def _kind(self, way: Way) -> set[int]:
        return {self.kinds[at] for at, _ in way.loads}

    def _has_energy(self, way: Way, loads: Sequence[float]) -> bool:
        """Whether its source has what it takes, beside those loads."""
        if way.source < 0:
            return True
        return at_most(
            loads[self.windows.energy_at + way.source] + way.energy_wh, self.windows.usable_wh[way.source][1]
        )
