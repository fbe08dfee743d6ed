"""Plans over seeded random sessions: against both ways by hand and the proved bound, after 2 and 10 s of search.

Prints a table; it is a measurement of quality, so it runs once each and takes a few minutes: pytest benchmarks -k plans
With LONGEST_S=60 it says as well how far the plans are over the best known after a minute.
"""

import os
import resource
from dataclasses import replace
from itertools import islice
from statistics import median
from time import perf_counter

import pytest

from benchmarks.sessions import random_session
from iterum.core.planning.bounds import leaders_bound_min, lower_bound_min
from iterum.core.planning.exact import solve
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.replan import Replanner
from iterum.core.planning.schedule import decode
from iterum.core.planning.score import Prefer
from iterum.core.planning.search import Search
from iterum.core.planning.starts import boards_by_hand, one_pack_a_channel
from iterum.core.things.session import Session

SEEDS = (1, 2, 3)
MARKS_S = (1, 2, 10)
LONGEST_S = float(os.environ.get("LONGEST_S", "10.5"))
"""Of search; 60 says how far the marks are over the best that is known then."""
CHANNELS = {8: 2, 20: 3, 40: 4, 80: 6}


def measured(count: int, seed: int) -> dict[str, float]:
    session = random_session(count, seed, CHANNELS[count])
    problem = Problem(session)
    begun = perf_counter()
    search = Search(problem, Prefer.SOONEST)
    figures = {"first_s": perf_counter() - begun}
    begun = perf_counter()
    bound = max(lower_bound_min(problem, search.needed), leaders_bound_min(problem, search.needed))
    exact = solve(problem, search.needed, search.best.schedule.makespan_min)
    bound = max(bound, exact[1]) if exact else bound
    figures["bound_s"] = perf_counter() - begun
    begun = perf_counter()
    ends: dict[int, float] = {}
    for best in search:
        elapsed = perf_counter() - begun
        ends |= {mark: best.schedule.makespan_min for mark in MARKS_S if elapsed > mark and mark not in ends}
        if elapsed > LONGEST_S:
            break
    single = decode(problem, one_pack_a_channel(problem, search.needed))
    by_hand = decode(problem, boards_by_hand(problem, search.needed))
    known = search.best.schedule.makespan_min
    figures |= {f"over_best_known_{mark}s": ends[mark] / known - 1 for mark in MARKS_S if mark < LONGEST_S}
    figures |= {f"over_bound_{mark}s": ends[mark] / bound - 1 for mark in MARKS_S}
    return figures | {
        "sooner_single": single.makespan_min / ends[10],
        "sooner_hand": by_hand.makespan_min / ends[10],
        "replan_s": replanned_s(session),
    }


def replanned_s(session: Session) -> float:
    """Seconds from a change to the repaired plan: twenty minutes on, one channel lost."""
    planner = Planner(session)
    list(islice(planner.improve(), 3))
    plan = planner.plan()
    left = replace(session, kit=replace(session.kit, chargers=session.kit.chargers[1:]))
    begun = perf_counter()
    Replanner(left, plan.batches, 20.0).search.best  # noqa: B018 (made when asked for)
    return perf_counter() - begun


@pytest.mark.benchmark(group="plans")
@pytest.mark.parametrize("count", CHANNELS)
def test_plans(benchmark, count):
    rows = benchmark.pedantic(lambda: [measured(count, seed) for seed in SEEDS], rounds=1)
    medians = {name: round(median(row[name] for row in rows), 3) for name in rows[0]}
    medians["memory_mb"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    benchmark.extra_info.update(medians)
    print(f"\n{count} packs, medians of {len(SEEDS)} seeds: {medians}")
