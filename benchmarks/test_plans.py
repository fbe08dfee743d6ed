"""Plans over seeded random sessions: against both ways by hand and the proved bound, after 2 and 10 s of search.

Prints a table; it is a measurement of quality, so it runs once each and takes a few minutes: pytest benchmarks -k plans
"""

import resource
from statistics import median
from time import perf_counter

import pytest

from benchmarks.sessions import random_session
from iterum.core.planning.bounds import lower_bound_min
from iterum.core.planning.exact import solve
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import decode
from iterum.core.planning.search import Prefer, Search, boards_by_hand, one_pack_a_channel

SEEDS = (1, 2, 3)
CHANNELS = {8: 2, 20: 3, 40: 4, 80: 6}


def measured(count: int, seed: int) -> dict[str, float]:
    problem = Problem(random_session(count, seed, CHANNELS[count]))
    begun = perf_counter()
    search = Search(problem, Prefer.SOONEST)
    found = {"first_s": perf_counter() - begun}
    begun = perf_counter()
    bound = lower_bound_min(problem, search.needed)
    exact = solve(problem, search.needed, search.best.schedule.makespan_min)
    bound = max(bound, exact[1]) if exact else bound
    found["bound_s"] = perf_counter() - begun
    begun = perf_counter()
    for best in search:
        elapsed = perf_counter() - begun
        if elapsed > 2 and "at_2" not in found:
            found["at_2"] = best.schedule.makespan_min
        if elapsed > 10:
            break
    makespan = search.best.schedule.makespan_min
    single = decode(problem, one_pack_a_channel(problem, search.needed))
    by_hand = decode(problem, boards_by_hand(problem, search.needed))
    return found | {
        "gap_2": found["at_2"] / makespan - 1,
        "gap_bound": makespan / bound - 1,
        "sooner_single": single.makespan_min / makespan,
        "sooner_hand": by_hand.makespan_min / makespan,
    }


@pytest.mark.benchmark(group="plans")
@pytest.mark.parametrize("count", CHANNELS)
def test_plans(benchmark, count):
    rows = benchmark.pedantic(lambda: [measured(count, seed) for seed in SEEDS], rounds=1)
    medians = {name: round(median(row[name] for row in rows), 3) for name in rows[0]}
    medians["memory_mb"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    benchmark.extra_info.update(medians)
    print(f"\n{count} packs, medians of {len(SEEDS)} seeds: {medians}")
