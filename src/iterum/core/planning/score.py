"""How good a schedule is: what must be met first, then what is preferred, then less wear."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Schedule
from iterum.core.quantities import at_most
from iterum.core.say import Words
from iterum.core.things.pilots import TableRule
from iterum.core.things.session import Wish


class Prefer(StrEnum):
    """What comes after what must be met."""

    SOONEST = "soonest"
    GENTLEST = "gentlest"
    FEWEST_VISITS = "fewest-visits"
    STEADIEST = "steadiest"

    @property
    def words(self) -> str:
        """What a person who chooses it reads."""
        return PREFERENCES[self]


PREFERENCES = {
    Prefer.SOONEST: Words("All full soonest"),
    Prefer.GENTLEST: Words("Gentlest on the packs"),
    Prefer.FEWEST_VISITS: Words("Fewest visits to the bench"),
    Prefer.STEADIEST: Words("Surest to meet the heats"),
}


@dataclass(frozen=True, order=True)
class Score:
    """Compared from left to right.

    unfair : where pilots share a table fairly, the worth of finals not met, where those come first, then by pilot the
    part of their heats that is not met, the worst off first; empty elsewhere.
    unmet : worth of the heats that are not met, each its value times its packs. missing : worth of packs that are not
    ready for the other heats and wishes. late_min : minutes by which wishes come late, times their worth. lacking_min :
    minutes to spare before heats that are lacking, more where they are what is preferred. unbalanced : packs that come
    off at full though no heat of theirs begins. first : the preference. energy_wh : at the sources. second, third :
    less wear.
    """

    unfair: tuple[float, ...]
    unmet: float
    missing: float
    late_min: float
    lacking_min: float
    unbalanced: int
    first: float
    energy_wh: float
    second: float
    third: float

    @property
    def short(self) -> tuple[tuple[float, ...], float, float, float]:
        """What is wanted and not had: compared before any preference."""
        return self.unfair, self.unmet, self.missing, self.late_min

    @property
    def whole(self) -> bool:
        """Whether everything wanted is had, but perhaps late."""
        return self.unmet == 0 and self.missing == 0

    def weight(self, by_ends: bool = False) -> float:
        """One figure for annealing only, never for what is best or proved.

        by_ends : of a plan that is to end soon, how early its batches end in the mean, which makes room for a better
        one; what is kind to packs and source is looked for when it stands.
        """
        short = 1e5 * (self.unmet + uneven(self.unfair)) + 1e4 * self.missing + 20 * self.late_min
        short += 20 * self.lacking_min + BALANCED_MIN * self.unbalanced
        if by_ends:
            return short + self.first + 0.3 * self.third
        return short + self.first + 0.05 * self.energy_wh + 0.02 * self.second + 0.01 * self.third


def uneven(unfair: tuple[float, ...]) -> float:
    """One figure for annealing: the more, the less even.

    unfair : as in a `Score`.
    """
    return sum(part * part for part in unfair)


BALANCED_MIN = 20.0
"""Minutes that a pack may hold up others, while a plan is sought, to be balanced: as long as it is allowed to take."""
CUSHION_MIN = 20.0
"""Minutes to spare before a heat over which more are worth nothing: set-ups, charges and chargers are late by less."""
LEAST_CUSHION_MIN = 8.0
"""The same where something else is preferred: a heat that is met to the minute is lost on most days."""
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


def ready_for_heats(problem: Problem, schedule: Schedule) -> list[tuple[Wish, list[float]]]:
    """Each heat and wish of a day with the minutes at which its packs are full, those never charged left out."""
    assert problem.day is not None
    full_at = {problem.keys[index]: item.full_min for item in schedule.placed for index in item.gene.members}
    ready: list[list[float]] = [[] for _ in problem.day.heats]
    place = {id(heat): number for number, heat in enumerate(problem.day.heats)}
    for seat in problem.day.seats:
        at_min = full_at.get(seat.charge, seat.ready_min)
        if at_min is not None:
            ready[place[id(seat.heat)]].append(at_min)
    return list(zip(problem.day.heats, map(sorted, ready), strict=True))


def _day_short(problem: Problem, schedule: Schedule) -> tuple[dict[int, float], float, float]:
    """Worth of each heat not met, of packs missing in them and in wishes, and minutes by which wishes come late."""
    unmet, missing, late_min = dict[int, float](), 0.0, 0.0
    for at, (heat, ready) in enumerate(ready_for_heats(problem, schedule)):
        in_time = sum(at_most(at_min, heat.at_min) for at_min in ready)
        if heat.is_heat:
            if in_time < heat.count:
                unmet[at] = heat.value * heat.count
                missing += heat.value * (heat.count - in_time)
            continue
        missing += heat.value * (heat.count - len(ready[: heat.count]))
        late_min += heat.value * max((ready[min(heat.count, len(ready)) - 1] if ready else 0.0) - heat.at_min, 0.0)
    return unmet, missing, late_min


def unfair(problem: Problem, lost: Mapping[int, float]) -> tuple[float, ...]:
    """What a plan that loses these heats does to the pilots: see `Score`.

    lost : by place of a heat of the day, its worth.
    """
    day, rule = problem.day, problem.rules.table
    if day is None or len(problem.asking) < 2 or not rule.is_fair:
        return ()
    asked = dict.fromkeys(problem.asking, 0.0)
    missed = dict.fromkeys(problem.asking, 0.0)
    finals = 0.0
    for at, heat in enumerate(day.heats):
        if heat.is_heat and heat.pilot in asked:
            asked[heat.pilot] += heat.value * heat.count
            missed[heat.pilot] += lost.get(at, 0.0)
            finals += lost.get(at, 0.0) if heat.final else 0.0
    parts = sorted((round(missed[pilot] / asked[pilot], 6) for pilot in problem.asking), reverse=True)
    return (finals, *parts) if rule is TableRule.FINALS_FIRST else tuple(parts)


def _cushion_lacking(problem: Problem, schedule: Schedule, cushion_min: float) -> float:
    """Minutes that heats and wishes lack of a cushion between their packs being full and their beginning, by worth."""
    if problem.day is not None:
        asked = ready_for_heats(problem, schedule)
    else:
        asked = [(wish, full_by(problem, schedule, wish.family)) for wish in problem.wanted]
    lacking = 0.0
    for wish, ready in asked:
        in_time = [at_min for at_min in ready[: wish.count] if at_most(at_min, wish.at_min)]
        if in_time:
            lacking += wish.value * wish.count * max(cushion_min - (wish.at_min - in_time[-1]), 0.0)
    return lacking


def score_of(problem: Problem, schedule: Schedule, prefer: Prefer) -> Score:
    """How good a schedule is."""
    lost, missing, late_min = dict[int, float](), 0.0, 0.0
    charged = sum(len(item.gene.members) for item in schedule.placed)
    if problem.day is not None:
        lost, missing, late_min = _day_short(problem, schedule)
    elif problem.wanted:
        for wish in problem.wanted:
            ready = full_by(problem, schedule, wish.family)
            missing += wish.value * max(wish.count - len(ready), 0)
            have = min(wish.count, len(ready))
            late_min += wish.value * max((ready[have - 1] if have else 0.0) - wish.at_min, 0.0)
    else:
        missing = len(problem.packs) - charged
    on_a_day = LEAST_CUSHION_MIN if problem.day is not None else 0.0
    cushion_min = CUSHION_MIN if prefer is Prefer.STEADIEST else on_a_day
    makespan, visits, rate_c = schedule.makespan_min, float(schedule.visits), 100 * mean_rate_c(schedule)
    ends = sum(item.end_min for item in schedule.placed) / max(len(schedule.placed), 1)
    first, second, third = {
        Prefer.SOONEST: (makespan, rate_c, ends + charged),
        Prefer.GENTLEST: (rate_c, makespan, ends + charged),
        Prefer.FEWEST_VISITS: (60 * visits, makespan, rate_c + charged),
        Prefer.STEADIEST: (makespan, rate_c, ends + charged),
    }[prefer]
    return Score(
        unfair(problem, lost),
        sum(lost.values()),
        missing,
        round(late_min, 6),
        round(_cushion_lacking(problem, schedule, cushion_min), 6) if cushion_min else 0.0,
        sum(len(item.gene.members) for item in schedule.placed if item.cut),
        round(first, 6),
        float(round(sum(schedule.used_wh.values()))),
        round(second, 6),
        round(third, 6),
    )
