"""Plans to start a large session from: packs side by side in volts as batches, shared out by a linear program.

Set partitioning by columns. A column is a batch of packs that stand next to each other in volts, on one kind of channel
and board, with the minutes that it takes there. The program shares all packs out so that the fullest load of channels,
boards, hands and watts is least; what it wants nearly whole is taken, and the rest shared out again, until every pack
has its batch (diving). It knows loads and no times: `_in_time` gives those, and annealing goes on from there.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from math import inf

from ortools.linear_solver.python import model_builder

from iterum.core.planning.batches import Costs
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene, Occupancy, Seated
from iterum.core.planning.starts import anywhere, chosen_packs

NEARLY_WHOLE = (0.9, 0.5, 0.7)
"""From which share on a column is taken, a plan for each: few at a time leave it free, many keep its balance."""
MANY = 50
"""Packs from which on the columns of every size take longer than a plan can wait for."""
AT_ONCE = 200
"""Columns that are worked out before the search looks up again."""
OVER_MIN = 10.0
"""Minutes that a Wh over the budget of a source weighs in the program, which so always has an answer."""
Load = tuple[str, object]


@dataclass(frozen=True)
class Column:
    """One batch without a time, on the first channel of its kind. loads : what it takes of each thing, by `_loads`."""

    members: tuple[int, ...]
    machine: int
    loads: tuple[tuple[Load, float], ...]


def by_windows(problem: Problem, needed: dict[str, int]) -> Iterator[list[Gene] | None]:
    """Plans to search on from; None in between, while their columns are worked out.

    needed : packs wanted full, by family.
    """
    if problem.rounds or not problem.machines:
        return  # packs that come and go are placed in the order of their heats
    columns: list[Column] = []
    ports = {board.ports for board in problem.boards}
    full = {1, *ports}
    every = set(range(1, max(full) + 1))
    # With many packs, single ones and full boards give a first plan in half the time; every other size comes after it.
    first = full if len(problem.packs) > MANY else every
    for sizes, shares in ((first, NEARLY_WHOLE[:1]), (every - first, NEARLY_WHOLE[1:])):
        for members in chosen_packs(problem, needed):
            for column in _columns(problem, members, sorted(sizes)):
                columns.append(column)
                if len(columns) % AT_ONCE == 0:
                    yield None
        for share in shares:
            picked = _dive(problem, columns, share)
            if picked:
                yield _in_time(problem, picked, columns)


def _columns(problem: Problem, members: Sequence[int], sizes: Sequence[int]) -> Iterator[Column]:
    """Every window of a family of these many packs on every kind of channel and board."""
    machines, boards = problem.alike
    for low in range(len(members)):
        for size in sizes:
            window = tuple(members[low : low + size])
            if len(window) < size or not problem.may_join(window):
                break
            on = problem.boards_for(window)
            for machine in dict.fromkeys(machines):
                for board in dict.fromkeys(-1 if board < 0 else boards[board] for board in on):
                    costs = problem.costs(window, machine, board, 0)
                    if costs is not None:
                        yield Column(window, machine, tuple(_loads(problem, machine, board, costs)))


def _dive(problem: Problem, columns: Sequence[Column], share: float) -> list[Column] | None:
    """Columns that hold every pack once, the fullest load of anything being small; None where there are none."""
    picked: list[Column] = []
    while left := {index for column in columns for index in column.members}:
        values = _shared_out(problem, columns, picked, left)
        if values is None:
            return None
        most = max(values)
        for column, value in zip(columns, values, strict=True):
            if (value >= share or value == most) and left.issuperset(column.members):
                picked.append(column)
                left -= set(column.members)
        columns = [column for column in columns if left.issuperset(column.members)]
    return picked


def _shared_out(
    problem: Problem, columns: Sequence[Column], picked: Sequence[Column], left: set[int]
) -> list[float] | None:
    """By column, which share of it the program takes, beside what is picked already."""
    model = model_builder.Model()  # type: ignore[no-untyped-call]  # ortools ships no types for it
    fullest = model.new_num_var(0.0, inf, "fullest")
    parts = [model.new_num_var(0.0, 1.0, "") for _ in columns]
    of_pack: dict[int, list[object]] = {index: [] for index in left}
    loads: dict[Load, list[object]] = {}
    taken: dict[Load, float] = {}
    for column, part in zip(columns, parts, strict=True):
        for index in column.members:
            of_pack[index].append(part)
        for name, load in column.loads:
            loads.setdefault(name, []).append(load * part)
    for column in picked:
        for name, load in column.loads:
            taken[name] = taken.get(name, 0.0) + load
    usable_wh = {source.id: source.usable_wh for source in problem.kit.sources}
    for mine in of_pack.values():
        model.add(sum(mine) == 1)  # type: ignore[arg-type]
    cost: object = fullest
    for name, items in loads.items():
        whole = sum(items) + taken.get(name, 0.0)  # type: ignore[arg-type]
        if name[0] != "energy":
            model.add(whole <= fullest)
        elif (most_wh := usable_wh.get(str(name[1]))) is not None:
            over = model.new_num_var(0.0, inf, "over")
            model.add(whole <= most_wh + over)
            cost = cost + OVER_MIN * over  # type: ignore[operator]
    model.minimize(cost)  # type: ignore[arg-type]
    solver = model_builder.Solver("GLOP")
    if solver.solve(model) != model_builder.SolveStatus.OPTIMAL:
        return None
    return [float(solver.value(part)) for part in parts]


def _loads(problem: Problem, machine: int, board: int, costs: Costs) -> Iterator[tuple[Load, float]]:
    """Minutes that a batch takes of each thing, those of one kind counted as one that has room for all; its Wh."""
    machines, boards = problem.alike
    feed = problem.machines[machine].feed
    hands_min = problem.rules.setup_min + costs.wait_min
    yield ("person", 0), hands_min
    yield ("channel", machine), (hands_min + costs.minutes) / machines.count(machine)
    for part in problem.board_parts[board] if board >= 0 else ():
        yield ("board", boards[part]), (hands_min + costs.minutes) / boards.count(boards[part])
    alike = [at for at, kind in enumerate(machines) if kind == machine]
    for place, (name, factor) in enumerate(problem.machines[machine].uses):
        if problem.limits_w[name] < inf:
            names = sorted({problem.machines[at].uses[place][0] for at in alike})
            share = costs.power_w * factor / problem.limits_w[name] / len(names)
            yield ("watts", tuple(names)), share * costs.minutes
    if feed.source is not None:
        yield ("energy", feed.source.id), costs.energy_wh / feed.efficiency_from_source


def _in_time(problem: Problem, picked: Sequence[Column], columns: Sequence[Column]) -> list[Gene]:
    """Whichever of the batches can begin next is next, the longest of those that can begin at once."""
    machines, _ = problem.alike
    kinds = {kind: [at for at, one in enumerate(machines) if one == kind] for kind in machines}
    bench, genes, left, own = Occupancy(problem), [], list(picked), True
    while left:
        best: tuple[tuple[float, float], Seated, int] | None = None
        for number, column in enumerate(left):
            for machine in kinds[column.machine] if own else range(len(machines)):
                seat = bench.find(Gene(column.members, machine))
                if seat is not None:
                    rank = (round(seat.start_min, 1), seat.start_min - seat.end_min)
                    if best is None or rank < best[0]:
                        best = rank, seat, number
        if best is None and own:
            own = False  # the energy of their source is gone: on whichever channel there is some
            continue
        if best is None:
            break
        bench.take(best[1])
        genes.append(best[1].gene)
        left.pop(best[2])
    # No room in what is left of the energy: kept at the end of the list, so that the search may prefer them.
    placed = {index for gene in genes for index in gene.members}
    every = dict.fromkeys(index for column in columns for index in column.members)
    return genes + [gene for index in every if index not in placed and (gene := anywhere(problem, index)) is not None]
