"""Small sessions solved and proved by CP-SAT: every set of packs that may be joined, on every channel and board.

Standard model: one optional interval a candidate batch; each pack in exactly one; channels, boards and the person
without overlap; watts as cumulative resources; watt-hours as a sum. Times are whole twentieths of a minute, durations
rounded down, so that its bound holds; its plan is decoded anew with the exact times.
"""

from collections.abc import Mapping, Sequence
from itertools import combinations
from math import floor, inf

from ortools.sat.python import cp_model

from iterum.core.planning.batches import Costs
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene
from iterum.core.quantities import at_most

TICKS = 20
MOST_CANDIDATES = 1_500
MOST_PACKS = 9


def _candidates(problem: Problem) -> list[tuple[Gene, int, Costs]] | None:
    """(gene, board, costs) of every batch, a board of each kind once; None where there are too many."""
    candidates: list[tuple[Gene, int, Costs]] = []
    for members in problem.families.values():
        for size in range(1, len(members) + 1):
            for chosen in combinations(members, size):
                if not problem.may_join(chosen):
                    continue
                for machine in range(len(problem.machines)):
                    for board in problem.boards_for(chosen):
                        seen: set[float] = set()
                        on = problem.boards[board].id if board >= 0 else None
                        for part in range(3):
                            costs = problem.costs(chosen, machine, board, part)
                            if costs is not None and costs.current_a not in seen:
                                seen.add(costs.current_a)
                                candidates.append((Gene(chosen, machine, part, board=on), board, costs))
                if len(candidates) > MOST_CANDIDATES:
                    return None
    return candidates


class _Model:
    """The CP-SAT model of a problem over its candidate batches."""

    def __init__(self, problem: Problem, candidates: Sequence[tuple[Gene, int, Costs]], hint_min: float) -> None:
        self.problem, self.candidates = problem, candidates
        self.model = cp_model.CpModel()
        self.horizon = floor(hint_min * TICKS) + 1
        self.makespan = self.model.new_int_var(0, self.horizon, "makespan")
        self.taken: list[cp_model.IntVar] = []
        self.starts: list[cp_model.IntVar] = []
        self.alone: dict[tuple[str, int], list[cp_model.IntervalVar]] = {}
        self.drawn: dict[str, list[tuple[cp_model.IntervalVar, int]]] = {}
        self.energy: dict[str | None, list[tuple[cp_model.IntVar, int]]] = {}
        for number, (gene, board, costs) in enumerate(candidates):
            self._add(number, gene, board, costs)
        self._bind()
        self.model.minimize(self.makespan)

    def _add(self, number: int, gene: Gene, board: int, costs: Costs) -> None:
        """One candidate with its intervals, none of which counts unless it is taken."""
        model, machine = self.model, self.problem.machines[gene.machine]
        hands_ticks = floor((self.problem.rules.setup_min + costs.wait_min) * TICKS)
        length = hands_ticks + floor(costs.minutes * TICKS)
        start, taken = model.new_int_var(0, self.horizon, f"start{number}"), model.new_bool_var(f"taken{number}")
        whole = model.new_optional_fixed_size_interval_var(start, length, taken, f"whole{number}")
        self.alone.setdefault(("channel", gene.machine), []).append(whole)
        for part in self.problem.board_parts[board] if board >= 0 else ():
            self.alone.setdefault(("board", part), []).append(whole)
        if hands_ticks:
            hands = model.new_optional_fixed_size_interval_var(start, hands_ticks, taken, f"hands{number}")
            self.alone.setdefault(("person", 0), []).append(hands)
        for name, factor in machine.uses:
            self.drawn.setdefault(name, []).append((whole, floor(costs.power_w * factor * 100)))
        taken_wh = costs.energy_wh / machine.from_source
        self.energy.setdefault(machine.source_id, []).append((taken, floor(100 * taken_wh)))
        model.add(self.makespan >= start + length).only_enforce_if(taken)
        self.taken.append(taken)
        self.starts.append(start)

    def _bind(self) -> None:
        """Each pack once; nothing used twice at a time; watts and watt-hours within their limits."""
        for index in range(len(self.problem.packs)):
            self.model.add_exactly_one(
                taken for taken, (gene, _, _) in zip(self.taken, self.candidates, strict=True) if index in gene.members
            )
        for intervals in self.alone.values():
            self.model.add_no_overlap(intervals)
        for name, items in self.drawn.items():
            if self.problem.limits_w[name] < inf:
                limit = floor(self.problem.limits_w[name] * 100)
                self.model.add_cumulative([item for item, _ in items], [watts for _, watts in items], limit)
        for source in self.problem.kit.sources:
            if source.usable_wh is not None and source.id in self.energy:
                drawn = sum(taken * taken_wh for taken, taken_wh in self.energy[source.id])
                self.model.add(drawn <= floor(100 * source.usable_wh))


def _holds_over_all_rates(problem: Problem, candidates: Sequence[tuple[Gene, int, Costs]]) -> bool:
    """Whether all channels may draw the most of any batch at once: then no slower rate ever ends sooner, and what is
    proved over the rates that were tried holds over all of them."""
    most_w: dict[int, float] = {}
    for gene, _, costs in candidates:
        most_w[gene.machine] = max(most_w.get(gene.machine, 0.0), costs.power_w)
    for name, limit_w in problem.limits_w.items():
        drawn_w = sum(dict(problem.machines[at].uses).get(name, 0.0) * watts for at, watts in most_w.items())
        if not at_most(drawn_w, limit_w):
            return False
    return True


def _is_small(problem: Problem, needed: Mapping[str, int]) -> bool:
    """Whether every pack is to be charged, and there are few."""
    whole = all(needed[family] == len(members) for family, members in problem.families.items())
    free = not problem.wanted and not problem.taken and not any(item.quiet_hours for item in problem.kit.sources)
    return whole and free and len(problem.packs) <= MOST_PACKS


def solve(
    problem: Problem, needed: Mapping[str, int], hint_min: float, effort: float = 1.0
) -> tuple[list[Gene] | None, float, bool] | None:
    """The soonest plan for all packs, its lower bound (min) and whether it is proved; None unless it is small.

    Bound and proof are over all rates, or 0 and False where channels share watts that slower rates would leave free.

    hint_min : a makespan in minutes known already. effort : deterministic seconds, so that results repeat.
    needed : packs wanted full, by family.
    """
    candidates = _candidates(problem) if _is_small(problem, needed) else None
    if not candidates:
        return None
    built = _Model(problem, candidates, hint_min)
    solver = cp_model.CpSolver()
    solver.parameters.num_workers = 1
    solver.parameters.random_seed = 1
    solver.parameters.max_deterministic_time = effort
    status = solver.solve(built.model)
    if status not in (cp_model.OPTIMAL, cp_model.FEASIBLE):
        told = status != cp_model.INFEASIBLE and _holds_over_all_rates(problem, candidates)
        return None, solver.best_objective_bound / TICKS if told else 0.0, False
    picked = [number for number, taken in enumerate(built.taken) if solver.value(taken)]
    picked.sort(key=lambda number: solver.value(built.starts[number]))
    genes = [candidates[number][0] for number in picked]
    if not _holds_over_all_rates(problem, candidates):
        return genes, 0.0, False
    return genes, solver.best_objective_bound / TICKS, status == cp_model.OPTIMAL
