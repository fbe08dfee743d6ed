"""How good a schedule is: what must be met first, then what is preferred, then less wear."""

from dataclasses import dataclass
from enum import StrEnum

from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Schedule


class Prefer(StrEnum):
    """What comes after what must be met."""

    SOONEST = "soonest"
    GENTLEST = "gentlest"
    FEWEST_VISITS = "fewest-visits"


@dataclass(frozen=True, order=True)
class Score:
    """Compared from left to right: worth of packs not charged, minutes late, then the preference, then less wear."""

    missing: float
    late_min: float
    first: float
    second: float
    third: float

    def weight(self) -> float:
        """One figure for annealing only, never for what is best or proved."""
        return 1e4 * self.missing + 20 * self.late_min + self.first + 0.02 * self.second + 0.01 * self.third


KIND_C = 0.5
"""Slower than this is no gentler. Common practice, no source: below 1C when there is time."""


def mean_rate_c(schedule: Schedule) -> float:
    """Mean C over packs, rates under `KIND_C` counted as that."""
    count = sum(len(item.gene.members) for item in schedule.placed)
    total_c = sum(max(item.costs.rate_c, KIND_C) * len(item.gene.members) for item in schedule.placed)
    return total_c / count if count else 0.0


def full_by(problem: Problem, schedule: Schedule, family: str) -> list[float]:
    """Minutes at which packs of a family are full, rising; 0 for those that are full already."""
    ready = [0.0 for verdict in problem.verdicts if verdict.full and verdict.pack.family == family and verdict.charges]
    for item in schedule.placed:
        if problem.packs[item.gene.members[0]].family == family:
            ready += [item.full_min] * len(item.gene.members)
    return sorted(ready)


def _heats_unmet(problem: Problem, schedule: Schedule) -> tuple[float, float]:
    """Worth of packs that are missing in heats, and minutes by which packs come late, each times its worth."""
    assert problem.day is not None
    placed, late_min, missing = 0.0, 0.0, 0.0
    for item in schedule.placed:
        for index in item.gene.members:
            heat = problem.rounds[index].heat
            placed += heat.value
            late_min += heat.value * max(item.full_min - heat.at_min, 0.0)
    for seat in problem.day.seats:
        if seat.pack_id is None:
            missing += seat.heat.value
        elif seat.ready_min is not None:
            late_min += seat.heat.value * max(seat.ready_min - seat.heat.at_min, 0.0)
    return missing + sum(item.heat.value for item in problem.rounds) - placed, late_min


def score_of(problem: Problem, schedule: Schedule, prefer: Prefer) -> Score:
    """How good a schedule is."""
    missing, late_min = 0.0, 0.0
    charged = sum(len(item.gene.members) for item in schedule.placed)
    if problem.day is not None:
        missing, late_min = _heats_unmet(problem, schedule)
    elif problem.wanted:
        for wish in problem.wanted:
            ready = full_by(problem, schedule, wish.family)
            missing += wish.value * max(wish.count - len(ready), 0)
            have = min(wish.count, len(ready))
            late_min += wish.value * max((ready[have - 1] if have else 0.0) - wish.at_min, 0.0)
    else:
        missing = len(problem.packs) - charged
    makespan, visits, rate_c = schedule.makespan_min, float(schedule.visits), 100 * mean_rate_c(schedule)
    ends = sum(item.end_min for item in schedule.placed) / max(len(schedule.placed), 1)
    order = {
        Prefer.SOONEST: (makespan, rate_c, ends + charged),
        Prefer.GENTLEST: (rate_c, makespan, ends + charged),
        Prefer.FEWEST_VISITS: (60 * visits, makespan, rate_c + charged),
    }[prefer]
    return Score(missing, round(late_min, 6), *(round(value, 6) for value in order))
