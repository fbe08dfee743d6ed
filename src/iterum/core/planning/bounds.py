"""Not before this minute whatever you do: lower bounds that hold for every plan that this problem allows.

Each is a relaxation of its own; the largest counts. None rests on how the plan was found.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from math import inf
from typing import Any

import numpy as np
from ortools.linear_solver.python import model_builder

from iterum.core.amps.limits import limits_of, setup_faults
from iterum.core.electrical.estimate import as_one_pack, estimate
from iterum.core.electrical.resistance import Use, resistance_of
from iterum.core.groups.group import measure_window
from iterum.core.planning.problem import Problem
from iterum.core.quantities import at_most, floor_to_step
from iterum.core.things.curve import soc_from_rest
from iterum.core.things.limit_kinds import Rests
from iterum.core.things.packs import Pack

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
    most_a = max((_most_current_a(problem, index, place[0], -1) for place in _places(problem, (index,))), default=0.0)
    if not most_a:
        return inf  # nothing charges it, so no plan does
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
    longest_min = 0.0
    for family, count in needed.items():
        for index in _easiest(problem, family, count):
            minutes = _floor_minutes(problem, index) + _balance_min(problem, (index,))
            longest_min = max(longest_min, problem.release_min((index,)) + problem.rules.setup_min + minutes)
    return longest_min


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


MOST_LED = 130
"""Packs up to which the program over leaders is solved: it grows with the square of the packs of a family."""
SURE = 0.99
"""The part of the estimate's minutes of the easiest pack that a batch takes at least: the estimate is off by up to 5 %
for packs of one kind, and packs that share a board unevenly are no faster than the best of them alone."""
MISSING_STEP = 0.005
"""What a pack lacks is rounded down to this part of its capacity where minutes are asked for, so that few are asked."""


def leaders_bound_min(problem: Problem, needed: Mapping[str, int]) -> float:
    """A sharper linear program: each batch is led by its pack of lowest volts, and others join it or do not.

    A pack joins only a leader with which it may share a board, and no more than there are ports; so set-ups and
    balancing are shared as far as volts allow, not as far as ports would. A batch takes its fixed minutes, and its
    charge with the falling amps of its end: minutes rise with what is missing the slower the more that is, so those
    of its fullest pack, and from there on the amps at their most, are never too many. Channels and boards that are
    alike are one with more room. 0 for sessions too large for it.
    needed : packs wanted full, by family.
    """
    if len(problem.packs) > MOST_LED or not problem.machines or not any(needed.values()):
        return 0.0
    program = Leaders(problem)
    for family, count in needed.items():
        members = problem.families.get(family, ())
        if count and members:
            program.add(members, count)
    return program.least_min(_neediest_pack(problem, needed))


class Leaders:
    """The program, as it grows family by family."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self.model = model_builder.Model()  # type: ignore[no-untyped-call]  # ortools ships no types for it
        self.loads: dict[tuple[str, object], list[Any]] = {}
        self.room: dict[tuple[str, object], int] = {}
        self._minutes: dict[tuple[object, ...], float] = {}
        machines, boards = problem.alike
        self.machine_kind, self.board_kind = machines, boards

    def add(self, members: tuple[int, ...], count: int) -> None:
        """A family of which so many packs are charged.

        members : indices into the packs of the problem. count : of them, 0 or more.
        """
        kinds: dict[tuple[int, int], tuple[int, int, int]] = {}
        for machine, board, ports in _places(self.problem, members):
            kind = (self.machine_kind[machine], -1 if board < 0 else self.board_kind[board])
            kinds.setdefault(kind, (machine, board, ports))
        if not kinds:
            return
        inside: dict[int, list[Any]] = {index: [] for index in members}
        for leader in members:
            for place in kinds.values():
                self._lead(members, leader, place, inside)
        for parts in inside.values():
            self.model.add(sum(parts) <= 1)
        self.model.add(sum(sum(parts) for parts in inside.values()) >= min(count, len(members)))

    def least_min(self, at_least_min: float) -> float:
        """The least makespan that no load exceeds. at_least_min : min, what is known of it already."""
        makespan = self.model.new_num_var(0.0, inf, "makespan")
        loads = [[one / self.room.get(key, 1) for one in items] for key, items in self.loads.items()]
        channels = [key for key in self.loads if key[0] == "channel"]
        count, setup_min = sum(self.room[key] for key in channels), self.problem.rules.setup_min
        if count and at_least_min >= (count - 1) * setup_min:
            # One person sets up: the second channel waits for the first, the third for both.
            whole = [one / count for key in channels for one in self.loads[key]]
            loads.append([*whole, setup_min * (count - 1) / 2])
        return _least_min(self.model, makespan, loads)

    def _load(self, key: tuple[str, object], minutes: Any, room: int = 1) -> None:
        self.loads.setdefault(key, []).append(minutes)
        self.room[key] = room

    def _lead(
        self, members: tuple[int, ...], leader: int, place: tuple[int, int, int], inside: dict[int, list[Any]]
    ) -> None:
        """The batch that one pack would lead on one channel and board: who joins, how long it takes, what it loads."""
        problem, model, (machine, board, ports) = self.problem, self.model, place
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
        minutes = self._charged(members, machine, board, ports, parts)
        kind = self.machine_kind[machine]
        self._load(("channel", kind), minutes, self.machine_kind.count(kind))
        for one in problem.board_parts[board] if board >= 0 else ():
            self._load(("board", self.board_kind[one]), minutes, self.board_kind.count(self.board_kind[one]))
        self._load(("person", 0), problem.rules.setup_min * led)
        alike = [at for at, other in enumerate(self.machine_kind) if other == kind]
        for place_in, (name, factor) in enumerate(problem.machines[machine].uses):
            if problem.limits_w[name] < inf:
                names = {problem.machines[at].uses[place_in][0] for at in alike}
                a_wh = 60 * factor / problem.limits_w[name]
                drawn = sum(a_wh * _lacking_wh(problem, index) * part for index, part in parts.items())
                self._load(("watts", tuple(sorted(names))), drawn, len(names))

    def _charged(self, members: tuple[int, ...], machine: int, board: int, ports: int, parts: Mapping[int, Any]) -> Any:
        """Minutes that such a batch takes at least, by its rate and by the amps of its channel and board."""
        rows = self._rows(members, machine, board, ports, tuple(parts))
        minutes = self.model.new_num_var(0.0, inf, "minutes")
        for whole_min, by_pack_min in rows:
            led = next(iter(parts.values()))
            self.model.add(minutes >= whole_min * led + sum(by_pack_min[index] * part for index, part in parts.items()))
        return minutes

    def _rows(
        self, members: tuple[int, ...], machine: int, board: int, ports: int, chosen: Sequence[int]
    ) -> tuple[tuple[float, dict[int, float]], ...]:
        """(minutes of the batch, and of each pack in it) by the rate, and by the amps; their sum is never too much."""
        problem = self.problem
        capacity_ah = {index: problem.packs[index].capacity_ah for index in chosen}
        lacking = {index: _missing(problem, index) - SPARED for index in chosen}
        least, fastest_c = min(lacking.values()), max(_rates_c(problem, index) for index in chosen)
        most_ah = sum(sorted(capacity_ah.values(), reverse=True)[:ports])
        fixed_min = problem.rules.setup_min + _balance_min(problem, members)
        most_a = _most_current_a(problem, members[0], machine, board)
        fullest_min = max(60 / fastest_c * least, self._at_least_min(chosen, least, fastest_c))
        # At fewer amps the end takes less: at the fewest that this channel gives the largest batch, the least.
        slowest_c = min(most_a / most_ah, fastest_c)
        tail_min = max(self._at_least_min(chosen, least, slowest_c) - 60 / slowest_c * max(least, 0.0), 0.0)
        a_rate, an_amp = 60 / fastest_c / most_ah, 60 / most_a
        over = {index: a_rate * (lacking[index] - least) * capacity_ah[index] for index in chosen}
        all_of_it = {index: an_amp * lacking[index] * capacity_ah[index] for index in chosen}
        return (fixed_min + fullest_min, over), (fixed_min + tail_min, all_of_it)

    def least_charge_min(
        self, members: tuple[int, ...], machine: int, board: int, ports: int, chosen: Sequence[int]
    ) -> float:
        """Minutes that the batch of these packs occupies its channel for at least, set-up and balancing included.

        members, chosen : indices into the packs of the problem, the whole family and the batch. machine, board :
        indices, board -1 for none. ports : of the board, 1 or more.
        """
        rows = self._rows(members, machine, board, ports, chosen)
        return max(whole_min + sum(by_pack_min.values()) for whole_min, by_pack_min in rows)

    def _at_least_min(self, parts: Iterable[int], least: float, rate_c: float) -> float:
        """Minutes of the easiest of these packs, if it lacked no more than the fullest does."""
        missing = floor_to_step(max(least + SPARED, 0.0), MISSING_STEP)
        kinds = {self._kind(index): index for index in parts}
        return SURE * min(self._alone_min(kind, index, missing, rate_c) for kind, index in kinds.items())

    def _kind(self, index: int) -> tuple[object, ...]:
        """What the minutes of a pack depend on, for the same part missing."""
        pack = self.problem.packs[index]
        part = resistance_of(pack, Use.CHARGE)
        ohm_ah = (part.r0_ohm + part.r1_ohm + part.r2_ohm) * pack.capacity_ah
        return pack.table, round(ohm_ah, 6), self.problem.rules.full_v(pack.chemistry)

    def _alone_min(self, kind: tuple[object, ...], index: int, missing: float, rate_c: float) -> float:
        """Minutes of a pack alone, without leads, on endless watts."""
        pack, rules = self.problem.packs[index], self.problem.rules
        if pack.table is None:
            return 0.0
        key = (*kind, missing, round(rate_c, 6))
        if key not in self._minutes:
            end_v = rules.full_v(pack.chemistry)
            held = soc_from_rest(pack.table.cell_v, end_v) - missing
            one = replace(as_one_pack([[pack]], 0.0), soc=np.array([held]), lag_s=np.zeros(1))
            endless, amps = np.array([inf]), np.array([rate_c * pack.capacity_ah])
            self._minutes[key] = float(estimate(one, amps, endless, end_v, rules.tail_fraction).minutes[0])
        return self._minutes[key]


def _places(problem: Problem, members: tuple[int, ...]) -> list[tuple[int, int, int]]:
    """(channel, board or -1, packs it takes) on which a family can be charged at all."""
    pack = problem.packs[members[0]]
    places = []
    for machine in range(len(problem.machines)):
        if not setup_faults([pack], problem.setup(machine, -1)):
            places.append((machine, -1, 1))
            places += [
                (machine, index, board.ports)
                for index, board in enumerate(problem.boards)
                if board.takes(pack.cells) and board.fewest <= len(members)
            ]
    return places


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
    # What passes a hung board depends on which packs are there.
    hung = board >= 0 and bool(problem.boards[board].parts)
    places = (item for item in limits if not (item.kind.is_of_packs or (hung and item.kind.rests is Rests.HUNG)))
    return min((item.current_a for item in places), default=inf)
