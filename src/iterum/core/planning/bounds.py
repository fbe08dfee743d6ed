"""Not before this minute whatever you do: lower bounds that hold for every plan that this problem allows.

Each is a relaxation of its own; the largest counts. None rests on how the plan was found.
"""

from collections.abc import Iterable, Mapping
from math import inf
from typing import Any

from ortools.linear_solver.python import model_builder

from iterum.core.bench.curve import soc_from_rest
from iterum.core.bench.limits import limits_of, setup_faults
from iterum.core.bench.packs import Pack
from iterum.core.match.group import measure_window
from iterum.core.planning.problem import Problem
from iterum.core.quantities import at_most

SPARED = 0.02
"""The part of its capacity that a pack may lack when its amps have fallen to a tenth: the table's last step at most."""


def lower_bound_min(problem: Problem, needed: Mapping[str, int]) -> float:
    """The largest of the bounds on the makespan, when `needed` packs of each family are charged."""
    if not problem.machines or not any(needed.values()):
        return 0.0
    return max(_neediest_pack(problem, needed), _shares(problem, needed))


def _rates_c(problem: Problem, index: int) -> float:
    """The highest rate of any batch with this pack."""
    pack = problem.packs[index]
    wish_c = problem.rules.wanted_rate_c(pack.chemistry)
    # A channel's smallest current may pass the wish, so the label alone binds then.
    floor_a = max(machine.channel.min_current_a for machine in problem.machines)
    return min(pack.max_charge_a / pack.capacity_ah, max(wish_c, floor_a / pack.capacity_ah))


def _missing(problem: Problem, index: int) -> float:
    """The part of its capacity that a pack lacks until its amps start to fall, 0..1; 0 where volts do not tell."""
    pack = problem.packs[index]
    table = pack.table
    if table is None:
        return 0.0
    end_v = problem.rules.full_v(pack.chemistry)
    return max(soc_from_rest(table.cell_v, end_v) - pack.held, 0.0)


def _floor_minutes(problem: Problem, index: int) -> float:
    """Minutes of charging that any batch with this pack takes at least.

    Joined packs even out first, so its batch starts from their mean: at best the highest ones that may join it
    lift it. Charge goes in at the batch's rate at most, and the last tail of it is left aside.
    """
    pack = problem.packs[index]
    ports = max((board.ports for board in problem.boards if board.takes(pack.cells)), default=1)
    mates = sorted(
        (
            (_missing(problem, other) * problem.packs[other].capacity_ah, problem.packs[other].capacity_ah)
            for other in problem.families[pack.family]
            if other != index and problem.may_join((index, other))
        ),
        key=lambda item: item[0] / item[1],
    )[: max(ports - 1, 0)]
    lacking_ah, capacity_ah = _missing(problem, index) * pack.capacity_ah, pack.capacity_ah
    for more_ah, more_capacity_ah in mates:
        if more_ah / more_capacity_ah < lacking_ah / capacity_ah:
            lacking_ah, capacity_ah = lacking_ah + more_ah, capacity_ah + more_capacity_ah
    by_rate = 60 * (lacking_ah / capacity_ah - SPARED) / _rates_c(problem, index)
    most_a = max(_most_current_a(problem, index, place[0], -1) for place in _places(problem, (index,)))
    by_amps = 60 * (lacking_ah - SPARED * capacity_ah) / most_a
    return max(by_rate, by_amps, 0.0)


def _balance_min(problem: Problem, members: tuple[int, ...]) -> float:
    """Minutes of balancing that no plan can leave out: none where packs may be taken off for a heat."""
    return 0.0 if problem.rounds else problem.balance_of(members)


def _easiest(problem: Problem, family: str, count: int) -> list[int]:
    """The packs of a family that are left when the neediest may stay away."""
    members = sorted(problem.families[family], key=lambda index: _floor_minutes(problem, index))
    return members[:count]


def _neediest_pack(problem: Problem, needed: Mapping[str, int]) -> float:
    """Setting up, the pack that takes longest, balancing."""
    found = 0.0
    for family, count in needed.items():
        for index in _easiest(problem, family, count):
            minutes = _floor_minutes(problem, index) + _balance_min(problem, (index,))
            found = max(found, problem.release_min((index,)) + problem.rules.setup_min + minutes)
    return found


def _shares(problem: Problem, needed: Mapping[str, int]) -> float:
    """A linear program over who is charged where, every batch's cost shared among its packs.

    A batch of n packs takes a set-up, a balancing and its charge, so each of its packs stands for an n-th of the first
    two and for its own part of the charge; no pack is in a larger batch than its mates and the board's ports allow.
    Loads of channels, boards and the person, watts and watt-hours are sums of those parts, and none exceeds its time.
    """
    model = model_builder.Model()  # type: ignore[no-untyped-call]  # ortools ships no types for it
    makespan = model.new_num_var(0.0, inf, "makespan")
    loads: dict[str, list[Any]] = {}
    for family, count in needed.items():
        members = problem.families.get(family, ())
        if not count or not members:
            continue
        places = _places(problem, members)
        if not places:
            continue
        here: list[Any] = []
        for index in members:
            mine = []
            for machine, board, largest_board in places:
                size = min(_largest_batch(problem, index), largest_board)
                minutes, fixed_min = _part_min(problem, members, index, machine, board, size)
                part = model.new_num_var(0.0, 1.0, f"{index} {machine} {board}")
                mine.append(part)
                whole = fixed_min / size + minutes
                loads.setdefault(f"channel {machine}", []).append(whole * part)
                if board >= 0:
                    loads.setdefault(f"board {board}", []).append(whole * part)
                loads.setdefault("person", []).append(problem.rules.setup_min / size * part)
                energy_wh = _lacking_wh(problem, index)
                for name, factor in problem.machines[machine].uses:
                    if problem.limits_w[name] < inf:
                        loads.setdefault(name, []).append(60 * energy_wh * factor / problem.limits_w[name] * part)
            model.add(sum(mine) <= 1)
            here += mine
        model.add(sum(here) >= min(count, len(members)))
    return _least_min(model, makespan, loads.values())


def _least_min(model: Any, makespan: Any, loads: Iterable[list[Any]]) -> float:
    """The least makespan that no load exceeds, a hair under it so that rounding never makes a bound too high."""
    for items in loads:
        model.add(sum(items) <= makespan)
    model.minimize(makespan)
    solver = model_builder.Solver("GLOP")
    if solver.solve(model) != model_builder.SolveStatus.OPTIMAL:
        return 0.0
    return max(float(solver.objective_value) - 1e-6, 0.0)


MOST_LED = 45
"""Packs up to which the program over leaders is solved: it grows with the square of the packs of a family."""


def leaders_bound_min(problem: Problem, needed: Mapping[str, int]) -> float:
    """A sharper linear program: each batch is led by its pack of lowest volts, and others join it or do not.

    A pack joins only a leader with which it may share a board, and no more than there are ports; so set-ups and
    balancing are shared as far as volts allow, not as far as ports would. A batch takes its fixed minutes, and its
    charge at the mean of what its packs lack, or at the amps of its channel and board. 0 for sessions too large for it.
    needed : packs wanted full, by family.
    """
    if len(problem.packs) > MOST_LED or not problem.machines or not any(needed.values()):
        return 0.0
    model = model_builder.Model()  # type: ignore[no-untyped-call]  # ortools ships no types for it
    makespan = model.new_num_var(0.0, inf, "makespan")
    loads: dict[tuple[str, object], list[Any]] = {}
    for family, count in needed.items():
        members = problem.families.get(family, ())
        places = _places(problem, members) if count and members else []
        if not places:
            continue
        inside: dict[int, list[Any]] = {index: [] for index in members}
        for leader in members:
            for place in places:
                _lead(problem, model, members, leader, place, inside, loads)
        for parts in inside.values():
            model.add(sum(parts) <= 1)
        model.add(sum(sum(parts) for parts in inside.values()) >= min(count, len(members)))
    return _least_min(model, makespan, loads.values())


def _lead(
    problem: Problem,
    model: Any,
    members: tuple[int, ...],
    leader: int,
    place: tuple[int, int, int],
    inside: dict[int, list[Any]],
    loads: dict[tuple[str, object], list[Any]],
) -> None:
    """The batch that one pack would lead on one channel and board: who joins, how long it takes, what it loads."""
    machine, board, ports = place
    above = members[members.index(leader) + 1 :] if board >= 0 else ()
    joiners = [index for index in above if problem.may_join((leader, index))]
    if board >= 0 and not joiners:
        return
    led = model.new_num_var(0.0, 1.0, f"lead {leader} {machine} {board}")
    parts = {leader: led} | {index: model.new_num_var(0.0, 1.0, f"join {leader} {index}") for index in joiners}
    for index in joiners:
        model.add(parts[index] <= led)
    if joiners:
        model.add(sum(parts[index] for index in joiners) <= (ports - 1) * led)
    for index, part in parts.items():
        inside[index].append(part)
    capacity_ah = {index: problem.packs[index].capacity_ah for index in parts}
    lacking = {index: _missing(problem, index) - SPARED for index in parts}
    least, fastest_c = min(lacking.values()), max(_rates_c(problem, index) for index in parts)
    most_ah = sum(sorted(capacity_ah.values(), reverse=True)[:ports])
    fixed_min = problem.rules.setup_min + _balance_min(problem, members)
    over = sum((lacking[index] - least) * capacity_ah[index] * part for index, part in parts.items())
    charge_ah = sum(lacking[index] * capacity_ah[index] * part for index, part in parts.items())
    minutes = model.new_num_var(0.0, inf, "minutes")
    model.add(minutes >= (fixed_min + 60 / fastest_c * least) * led + 60 / fastest_c / most_ah * over)
    model.add(minutes >= fixed_min * led + 60 / _most_current_a(problem, members[0], machine, board) * charge_ah)
    loads.setdefault(("channel", machine), []).append(minutes)
    for one in problem.board_parts[board] if board >= 0 else ():
        loads.setdefault(("board", one), []).append(minutes)
    loads.setdefault(("person", 0), []).append(problem.rules.setup_min * led)
    for name, factor in problem.machines[machine].uses:
        if problem.limits_w[name] < inf:
            a_wh = 60 * factor / problem.limits_w[name]
            drawn = sum(a_wh * _lacking_wh(problem, index) * part for index, part in parts.items())
            loads.setdefault(("watts", name), []).append(drawn)


def _places(problem: Problem, members: tuple[int, ...]) -> list[tuple[int, int, int]]:
    """(channel, board or -1, packs it takes) on which a family can be charged at all."""
    pack = problem.packs[members[0]]
    found = []
    for machine in range(len(problem.machines)):
        if not setup_faults([pack], problem.setup(machine, -1)):
            found.append((machine, -1, 1))
            found += [
                (machine, index, board.ports)
                for index, board in enumerate(problem.boards)
                if board.takes(pack.cells) and board.fewest <= len(members)
            ]
    return found


def _part_min(
    problem: Problem, members: tuple[int, ...], index: int, machine: int, board: int, size: int
) -> tuple[float, float]:
    """A pack's part of the minutes that a batch takes to charge, at least, and the batch's fixed minutes.

    By the rate of the family or by the amps of the channel and board: whichever is longer for the family as a whole,
    the same for all its packs, so that parts add up to no more than any batch takes.
    """
    fixed_min = problem.rules.setup_min + _balance_min(problem, members)
    most_a = _most_current_a(problem, members[0], machine, board)
    fastest_c = max(_rates_c(problem, item) for item in members)
    largest_ah = max(problem.packs[item].capacity_ah for item in members)
    lacking = {item: max(_missing(problem, item) - SPARED, 0.0) * problem.packs[item].capacity_ah for item in members}
    by_rate = 60 / (fastest_c * largest_ah * size)
    by_amps = 60 / most_a
    return lacking[index] * max(by_rate, by_amps), fixed_min


def _lacking_wh(problem: Problem, index: int) -> float:
    """Wh that must go into a pack, at the lowest volts that it is charged at."""
    pack = problem.packs[index]
    lacking_ah = max(_missing(problem, index) - SPARED, 0.0) * pack.capacity_ah
    return lacking_ah * pack.cells * (pack.cell_v or 0.0)


def _largest_batch(problem: Problem, index: int) -> int:
    """No batch with this pack holds more: those that may join it, within one window on volts."""
    pack = problem.packs[index]
    mates = [
        problem.packs[other]
        for other in problem.families[pack.family]
        if other == index or problem.may_join(tuple(sorted((index, other))))
    ]
    best, low = 1, 0
    for high in range(len(mates)):  # families are in rising volts
        while not _within(problem, mates[low], mates[high]):
            low += 1
        if (mates[low].cell_v or 0.0) <= (pack.cell_v or 0.0) <= (mates[high].cell_v or 0.0):
            best = max(best, high - low + 1)
    return best


def _within(problem: Problem, low: Pack, high: Pack) -> bool:
    if low is high:
        return True
    window = measure_window((low, high), problem.rules)
    return at_most(window.spread_v, window.allowed_v)


def _most_current_a(problem: Problem, index: int, machine: int, board: int) -> float:
    """The most amps that a channel and board give this family, its packs' own limits left aside."""
    limits = limits_of([problem.packs[index]], problem.setup(machine, board), problem.rules)
    aside = {"wanted_rate", "pack_charge_c", "weak_pack", "port_fuse", "adapter_current"}
    if board >= 0 and problem.boards[board].parts:  # what passes the hung board depends on which packs are there
        aside |= {"board_current", "board_fuse"}
    return min((item.current_a for item in limits if item.name not in aside), default=inf)
