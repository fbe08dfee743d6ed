"""Plans to start a search from, there at once: by rules, by a dispatcher's hand, and as pilots do it by hand."""

from collections.abc import Iterator, Sequence
from itertools import product
from math import inf

from iterum.core.planning.problem import Problem
from iterum.core.planning.resources import RATE_PARTS
from iterum.core.planning.schedule import Gene, Occupancy, Schedule, Seated, decode
from iterum.core.planning.score import Prefer, Score, score_of
from iterum.core.quantities import at_most


def _best_place(
    problem: Problem, bench: Occupancy, members: tuple[int, ...], parts: Sequence[int] = (0,), balance: bool = True
) -> Seated | None:
    """The channel and rate at which these packs are full first, as things stand on the bench."""
    best: tuple[float, float, Seated] | None = None
    for machine in range(len(problem.machines)):
        for part in parts:
            bench.waited_for_watts = False
            # The first one that is full by then is not beaten by what is full later.
            full_by_min = best[0] if best is not None and problem.rounds else inf
            seat = bench.find(Gene(members, machine, part, balance), full_by_min=full_by_min)
            if seat is not None:
                done_min = seat.full_min if problem.rounds else seat.end_min
                if best is None or (done_min, seat.costs.rate_c) < best[:2]:
                    best = done_min, seat.costs.rate_c, seat
            if part < len(RATE_PARTS) and not bench.waited_for_watts:
                break  # fewer amps take longer, and nothing else would begin sooner
    return best[2] if best else None


def anywhere(problem: Problem, index: int) -> Gene | None:
    """One pack on the first channel that can charge it at all.

    index : of a pack of the problem.
    """
    for machine in range(len(problem.machines)):
        if problem.costs((index,), machine, -1, 0) is not None:
            return Gene((index,), machine)
    return None


def _placed_in_turn(
    problem: Problem, groups: Sequence[tuple[int, ...]], parts: Sequence[int] = (0,), balance: bool = True
) -> list[Gene]:
    bench, genes = Occupancy(problem), []
    for members in groups:
        seat = _best_place(problem, bench, members, parts, balance)
        if seat is None:
            # No room in what is left of the energy: kept at the end of the list, so that the search may prefer them.
            genes += [item for index in members if (item := anywhere(problem, index)) is not None]
            continue
        bench.take(seat)
        genes.append(seat.gene)
    return genes


def chosen_packs(problem: Problem, needed: dict[str, int], alike: bool = False) -> list[tuple[int, ...]]:
    """The packs to charge, family by family: the fullest, where not all are wanted; heat by heat, where they fly.

    needed : packs wanted full, by family. alike : those next to each other in volts instead, which may share a board.
    """
    if not problem.rounds:
        of_each = ((members, needed.get(family, 0)) for family, members in problem.families.items())
        return [
            _closest(problem, members, count) if alike else members[len(members) - count :]
            for members, count in of_each
        ]
    chosen: dict[tuple[float, str], list[int]] = {}
    for index, pack in enumerate(problem.packs):
        chosen.setdefault((problem.rounds[index].heat.at_min, pack.family), []).append(index)
    return [tuple(chosen[key]) for key in sorted(chosen)]


def _closest(problem: Problem, members: Sequence[int], count: int) -> tuple[int, ...]:
    """So many packs of a family with the least between them in volts, the fullest of several."""
    if count == 0:
        return ()
    by_volts = sorted((problem.packs[index].cell_v or 0.0, index) for index in members)
    last = len(by_volts) - count
    first = min(range(last, -1, -1), key=lambda at: round(by_volts[at + count - 1][0] - by_volts[at][0], 3))
    return tuple(sorted(index for _, index in by_volts[first : first + count]))


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
    """By hand, the one way: every pack alone, the neediest first, on whichever channel has it full first.

    needed : packs wanted full, by family.
    """
    packs = [index for members in chosen_packs(problem, needed) for index in members]
    packs.sort(
        key=lambda index: (problem.due_min(index) if problem.rounds else 0.0, problem.packs[index].cell_v or 0.0)
    )
    return _placed_in_turn(problem, [(index,) for index in packs])


def boards_by_hand(problem: Problem, needed: dict[str, int], alike: bool = False) -> list[Gene]:
    """By hand, the other way: boards filled in order of volts, family after family.

    needed : packs wanted full, by family. alike : see `chosen_packs`.
    """
    groups: list[tuple[int, ...]] = []
    for members in chosen_packs(problem, needed, alike):
        groups += _windows(problem, members, max((board.ports for board in problem.boards), default=1))
    return _placed_in_turn(problem, groups)


def by_rules(problem: Problem, needed: dict[str, int]) -> list[Gene]:
    """The best of several fillings: boards of every size, longest batches first, at every rate.

    needed : packs wanted full, by family.
    """
    sizes = sorted({board.ports for board in problem.boards} | {2, 1}, reverse=True)
    best: tuple[Score, list[Gene]] | None = None
    for largest in sizes:
        groups: list[tuple[int, ...]] = []
        for members in chosen_packs(problem, needed):
            groups += _windows(problem, members, largest)
        groups.sort(key=lambda group: (problem.due_min(group[0]), problem.packs[group[0]].cell_v or 0.0))
        for parts, balance in product(((0,), range(problem.parts)), (True, False) if problem.rounds else (True,)):
            genes = _placed_in_turn(problem, groups, parts, balance)
            schedule = decode(problem, genes)
            if schedule is None:
                continue
            score = score_of(problem, schedule, Prefer.SOONEST)
            if best is None or score < best[0]:
                best = score, genes
    return best[1] if best else []


def for_heats(problem: Problem) -> tuple[list[Gene], Schedule]:
    """Quickly, for one set of decisions on the heats: heat after heat, packs together as far as boards take them, each
    batch where it is full first, taken off at full. The better of large and of small batches."""
    best: tuple[Score, list[Gene], Schedule] | None = None
    largest = max((board.ports for board in problem.boards), default=1)
    sizes = sorted({largest, min(largest, 2), 1}, reverse=True)
    for each in ([sizes] if len(sizes) > 1 else []) + [[size] for size in sizes]:
        genes = _heat_after_heat(problem, each)
        schedule = decode(problem, genes)
        assert schedule is not None  # nothing cuts it short
        score = score_of(problem, schedule, Prefer.SOONEST)
        if best is None or score < best[0]:
            best = score, genes, schedule
        if not score.unmet:
            break
    assert best is not None  # there is a size at least
    return best[1:]


def _heat_after_heat(problem: Problem, sizes: Sequence[int]) -> list[Gene]:
    """Heat after heat, its packs in batches of up to so many: of several sizes the one by which they are full first."""
    bench, genes = Occupancy(problem), []
    for members in chosen_packs(problem, {}):
        tried = [_seats_for(problem, bench.copy() if len(sizes) > 1 else bench, members, size) for size in sizes]
        _, bench, placed = min(tried, key=lambda item: item[0])
        genes += placed
    return genes


def _seats_for(
    problem: Problem, bench: Occupancy, members: Sequence[int], size: int
) -> tuple[tuple[int, float, float], Occupancy, list[Gene]]:
    """Place the packs of one heat: how many have no place, when the last is full, and the minutes that channels are
    taken; the bench then, and the batches."""
    genes: list[Gene] = []
    lost, last_min, taken_min = 0, 0.0, 0.0
    for group in _windows(problem, members, size):
        seat = _best_place(problem, bench, group, range(len(RATE_PARTS)), balance=False)
        if seat is None:
            lost += len(group)
            genes += [item for index in group if (item := anywhere(problem, index)) is not None]
            continue
        bench.take(seat)
        genes.append(seat.gene)
        last_min, taken_min = max(last_min, seat.full_min), taken_min + seat.end_min - seat.start_min
    return (lost, last_min, taken_min), bench, genes


SHARES = (0.5, 0.7, 1.0, 1.3)
"""How much a large batch is preferred, as the power of the minutes that it saves; the best of these is taken."""


def by_dispatch(problem: Problem, needed: dict[str, int]) -> Iterator[list[Gene]]:
    """Whenever a channel is free it takes the batch that saves most of charging one by one, for its time on it.

    So boards go where they help, and channels without one charge single packs meanwhile.
    needed : packs wanted full, by family.
    """
    if problem.rounds:
        return  # packs that come and go are placed in the order of their heats
    alone_min = [_alone_min(problem, index) for index in range(len(problem.packs))]
    for share in SHARES:
        yield _dispatched(problem, needed, alone_min, share)


def _alone_min(problem: Problem, index: int) -> float:
    """Minutes in which one pack is full by itself on the best channel."""
    costs = (problem.costs((index,), machine, -1, 0) for machine in range(len(problem.machines)))
    return min((item.minutes for item in costs if item is not None), default=0.0)


def _dispatched(problem: Problem, needed: dict[str, int], alone_min: Sequence[float], share: float) -> list[Gene]:
    bench, genes = Occupancy(problem), []
    left = [list(members) for members in chosen_packs(problem, needed) if members]
    busy_min = dict.fromkeys(range(len(problem.machines)), 0.0)
    while busy_min and any(left):
        machine = min(busy_min, key=lambda index: busy_min[index])
        seat = _most_saved(problem, bench, left, machine, busy_min[machine], alone_min, share)
        if seat is None:
            del busy_min[machine]  # nothing that is left can be charged there
            continue
        bench.take(seat)
        genes.append(seat.gene)
        busy_min[machine] = seat.end_min
        left = [[index for index in members if index not in seat.gene.members] for members in left]
    # No room in what is left of the energy: kept at the end of the list, so that the search may prefer them.
    return genes + [item for members in left for index in members if (item := anywhere(problem, index)) is not None]


def _most_saved(
    problem: Problem, bench: Occupancy, left: Sequence[Sequence[int]], machine: int, free_min: float,
    alone_min: Sequence[float], share: float,
) -> Seated | None:  # fmt: skip
    """The batch, at its best rate, that saves most for each minute of this channel."""
    best: tuple[float, Seated] | None = None
    for members in left:
        sizes = {board.ports for board in problem.boards} | {1, 2, 3}
        groups = {_first_window(problem, members, size) for size in sizes} if members else set()
        for group in sorted(groups, reverse=True):
            for part in range(len(RATE_PARTS)):
                seat = bench.find(Gene(group, machine, part))
                if seat is None:
                    continue
                saved = sum(alone_min[index] for index in group) ** share / max(seat.end_min - free_min, 1e-3)
                if best is None or not at_most(saved, best[0]):
                    best = saved, seat
    return best[1] if best else None


def _first_window(problem: Problem, members: Sequence[int], largest: int) -> tuple[int, ...]:
    """The lowest pack, and those after it that may join, up to so many."""
    group = [members[0]]
    for index in members[1:]:
        if len(group) == largest:
            break
        key = tuple(sorted((*group, index)))
        if problem.boards_for(key) and problem.may_join(key):
            group.append(index)
    return tuple(sorted(group))
