"""Packs side by side in volts as batches without a time: what may be charged so, where, and what it loads.

A window is packs of a family that stand next to each other in volts; a draft is windows that hold every pack once, each
with a way to charge it. Both are what plans are begun from (`drafts`), and cost far less to reckon with than times.
"""

from collections.abc import Generator, Iterator, Sequence
from functools import cached_property
from itertools import product
from math import inf
from typing import NamedTuple, TypeVar

from iterum.core.planning.batches import Costs
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene
from iterum.core.planning.starts import anywhere, chosen_packs


class Window(NamedTuple):
    """Packs of a family from `low` until before `high`, in the order of their volts."""

    family: int
    low: int
    high: int

    @property
    def packs(self) -> list[tuple[int, int]]:
        """Its packs, each by family and place in it."""
        return [(self.family, place) for place in range(self.low, self.high)]


class Way(NamedTuple):
    """How a window may be charged. board : -1 for none. holds : its channel and its boards, as things that are loaded.
    source : by number, -1 for one without a budget. loads : (of what, how much) in minutes, energy in Wh."""

    machine: int
    board: int
    holds: tuple[int, ...]
    whole_min: float
    hands_min: float
    source: int
    energy_wh: float
    loads: tuple[tuple[int, float], ...]


Place = tuple[int, int]
Drafted = tuple[Window, Way]
Draft = list[Drafted]
Result = TypeVar("Result")
Run = Generator[None, None, Result]
"""What takes a while: None every so often, and at the end what came of it."""


class Windows:
    """Every window of the packs to charge with its ways, worked out when first asked for, and what they load.

    What can be loaded goes by numbers: channels from 0 on, then boards, the person, limits on watts, and from
    `energy_at` on watt-hours of sources.
    """

    def __init__(self, problem: Problem, needed: dict[str, int]) -> None:
        """needed : packs wanted full, by family."""
        self.problem = problem
        self.families = [members for members in chosen_packs(problem, needed) if members]
        self.largest = max((board.ports for board in problem.boards), default=1)
        self.limits_w = [(name, limit_w) for name, limit_w in problem.limits_w.items() if limit_w < inf]
        self.usable_wh = [(one.id, one.usable_wh) for one in problem.kit.sources if one.usable_wh is not None]
        self.boards_at = len(problem.machines)
        self.person_at = self.boards_at + len(problem.boards)
        self.watts_at = self.person_at + 1
        self.energy_at = self.watts_at + len(self.limits_w)
        self.begun = self._begun()
        self._places: dict[Window, tuple[Place, ...]] = {}
        self._ways: dict[tuple[Window, Place], Way | None] = {}

    def _begun(self) -> list[float]:
        """The loads of what is not to be moved."""
        loads = [0.0] * (self.energy_at + len(self.usable_wh))
        for batch in self.problem.taken:
            machine, board = self.problem.machine_of(batch.channel), self.problem.board_of(batch.board)
            on = [] if machine is None else [machine.index]
            on += [self.boards_at + part for part in self._parts(-1 if board is None else board)]
            for at in on:
                loads[at] = max(loads[at], batch.end_min)
            for at, (source, _) in enumerate(self.usable_wh):
                loads[self.energy_at + at] += batch.energy_in_wh * (source == batch.source)
        return loads

    def _parts(self, board: int) -> tuple[int, ...]:
        return self.problem.board_parts[board] if board >= 0 else ()

    def places(self, window: Window) -> tuple[Place, ...]:
        """Channels and boards, -1 for none, on which these packs might be; none where they may not be joined."""
        if window not in self._places:
            problem, members = self.problem, self.members(window)
            may = len(members) <= self.largest and problem.may_join(members)
            boards = problem.boards_for(members) if may else ()
            self._places[window] = tuple(product(range(len(problem.machines)), boards))
        return self._places[window]

    def way(self, window: Window, place: Place) -> Way | None:
        """How these packs are charged there; None where they cannot be.

        place : indices of a channel and of a board of the problem, -1 for no board.
        """
        key = window, place
        if key not in self._ways:
            costs = self.problem.costs(self.members(window), *place, 0) if place in self.places(window) else None
            self._ways[key] = self._way(*place, costs) if costs is not None else None
        return self._ways[key]

    def ways(self, window: Window) -> Iterator[Way]:
        """Every way to charge these packs, one after another; none where they may not be joined."""
        return (way for place in self.places(window) if (way := self.way(window, place)) is not None)

    def members(self, window: Window) -> tuple[int, ...]:
        """The indices of its packs."""
        return self.families[window.family][window.low : window.high]

    def _way(self, machine: int, board: int, costs: Costs) -> Way:
        place = self.problem.machines[machine]
        uses = dict(place.uses)
        hands_min = self.problem.rules.setup_min + costs.wait_min
        whole_min = hands_min + costs.minutes
        holds = (machine, *(self.boards_at + part for part in self._parts(board)))
        loads = [*((at, whole_min) for at in holds), (self.person_at, hands_min)]
        for at, (name, limit_w) in enumerate(self.limits_w):
            if name in uses:
                loads.append((self.watts_at + at, costs.power_w * uses[name] / limit_w * whole_min))
        budgets = [source for source, _ in self.usable_wh]
        source = budgets.index(place.source_id) if place.source_id in budgets else -1
        energy_wh = costs.energy_wh / place.from_source
        if source >= 0:
            loads.append((self.energy_at + source, energy_wh))
        return Way(machine, board, holds, whole_min, hands_min, source, energy_wh, tuple(loads))

    # ------------------------------------------------------------------ drafts

    def smallest(self) -> Draft:
        """Every pack in the smallest window that can be charged, mostly alone."""
        draft: Draft = []
        for family, members in enumerate(self.families):
            low = 0
            while low < len(members):
                highs = range(low + 1, min(low + self.largest, len(members)) + 1)
                windows = (Window(family, low, high) for high in highs)
                item = next(((window, way) for window in windows for way in self.ways(window)), None)
                if item is not None:
                    draft.append(item)
                low = item[0].high if item is not None else low + 1
        return draft

    def loads(self, draft: Sequence[Drafted]) -> list[float]:
        """What a draft loads, with what is not to be moved."""
        loads = self.begun.copy()
        for _, way in draft:
            for at, load in way.loads:
                loads[at] += load
        return loads

    @cached_property
    def short_of_energy(self) -> bool:
        """Whether a source could be asked for more than it has."""
        most_wh = self.begun[self.energy_at :]
        for window, _ in self.smallest():
            for source in range(len(most_wh)):
                most_wh[source] += max(
                    (way.energy_wh for way in self.ways(window) if way.source == source), default=0.0
                )
        return self.over_wh(most_wh) > 0

    def fullest_min(self, draft: Sequence[Drafted]) -> float:
        """The fullest load of anything but energy: no plan of these batches, at these amps, ends before."""
        return max(self.loads(draft)[: self.energy_at])

    def over_wh(self, drawn_wh: Sequence[float]) -> float:
        """Wh over the budgets of sources.

        drawn_wh : Wh drawn from each of them, by number.
        """
        over_wh = 0.0
        for wh, (_, most_wh) in zip(drawn_wh, self.usable_wh, strict=False):
            if wh > most_wh:
                over_wh += wh - most_wh
        return over_wh

    def kinds(self) -> list[int]:
        """By thing that can be loaded, the first one that is just like it."""
        machines, boards = self.problem.alike
        like: dict[str, str] = {}
        for machine, first in zip(self.problem.machines, machines, strict=True):
            for (name, _), (as_name, _) in zip(machine.uses, self.problem.machines[first].uses, strict=True):
                like.setdefault(name, as_name)
        names = [name for name, _ in self.limits_w]
        watts = [self.watts_at + names.index(like.get(name, name)) for name in names]
        energy = range(self.energy_at, len(self.begun))
        return [*machines, *(self.boards_at + first for first in boards), self.person_at, *watts, *energy]

    def genes(self, draft: Sequence[Drafted]) -> list[Gene]:
        """As the search takes it; packs that are in no window come last, so that the search may prefer them."""
        boards = self.problem.boards
        genes = [
            Gene(self.members(window), way.machine, board=boards[way.board].id if way.board >= 0 else None)
            for window, way in draft
        ]
        held = {index for gene in genes for index in gene.members}
        left = (index for members in self.families for index in members if index not in held)
        return genes + [gene for index in left if (gene := anywhere(self.problem, index)) is not None]
