"""Plans for kit of every kind: how far over the best known, how long it takes, how soon the first plan is there.

Prints the tables of docs/speed.md, by family and size: pytest benchmarks -k families. SIZES=20,80 chooses; JUDGED=0
takes the sessions that were looked at while the planner was built instead of those that only judge it.
"""

import os
import resource
from statistics import median
from time import perf_counter

import pytest

from benchmarks.families import FAMILIES, HELD_OUT, TUNED, session_of
from benchmarks.known import keep, known
from iterum.core.planning.fast import FastSearch
from iterum.core.planning.problem import Problem
from iterum.core.planning.score import Prefer
from iterum.services.planning import make_plan

SIZES = [int(size) for size in os.environ.get("SIZES", "20,80,320").split(",")]
SEEDS = HELD_OUT if os.environ.get("JUDGED", "1") == "1" else TUNED
MARKS_S = [float(mark) for mark in os.environ.get("MARKS_S", "2,10").split(",")]


def over(found: list[float], best: list[float]) -> float:
    """How much later than the best known, as a part of it; a pack that is not charged counts as its part of them."""
    return found[1] / best[1] - 1 if found[0] == best[0] else (found[0] - best[0]) / 10


def measured(family, count: int, seed: int, best: dict[str, list[float]]) -> dict[str, float]:
    session, name = session_of(family, count, seed), f"{family.name} {count} {seed}"
    begun_s = perf_counter()
    problem = Problem(session)
    FastSearch(problem, Prefer.SOONEST)
    figures = {"first_s": perf_counter() - begun_s}
    for mark in MARKS_S:
        begun_s = perf_counter()
        plan = make_plan(session, Prefer.SOONEST, mark).plan
        took_s = perf_counter() - begun_s
        found = [len(problem.packs) - sum(len(batch.packs) for batch in plan.batches), round(plan.makespan_min, 2)]
        figures[f"over_{mark:g}s"] = over(found, best.get(name, found))
        figures[f"off_time_{mark:g}s"] = max(took_s - mark - max(0.1 * mark, 0.3), 0.0)
        if plan.gap is not None:
            figures[f"gap_{mark:g}s"] = plan.gap
        keep(name, found)
    return figures


@pytest.mark.benchmark(group="families")
@pytest.mark.parametrize("count", SIZES)
def test_families(benchmark, count):
    best = known()
    rows = benchmark.pedantic(
        lambda: {family.name: [measured(family, count, seed, best) for seed in SEEDS] for family in FAMILIES}, rounds=1
    )
    print(f"\n{count} packs, medians of seeds {SEEDS}")
    for name, of in rows.items():
        figures = {key: round(median(row[key] for row in of if key in row), 3) for key in of[0]}
        print(f"  {name:13}", figures)
    for mark in MARKS_S:
        parts = [median(row[f"over_{mark:g}s"] for row in of) for of in rows.values()]
        print(f"  over the best known after {mark:g} s: median {median(parts):.3f}, worst family {max(parts):.3f}")
    print(f"  memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB")
