"""The compiled search: its figures are those of the plain model, compiled or not, on kit that nobody tuned it for."""

import ast
import json
import os
import random
import subprocess
import sys
from dataclasses import replace
from itertools import islice

import numpy as np
import pytest
from benchmarks.families import FAMILIES, session_of

from iterum.core.compiled import CORE, SOURCES
from iterum.core.planning.fast import FastSearch, is_fast
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.record import record_of
from iterum.core.planning.schedule import Gene
from iterum.core.planning.score import Prefer
from iterum.core.things.rules import HouseRules
from iterum.exchange.plan_result import plan_document
from iterum.exchange.session import to_document
from tests.conftest import SOAK
from tests.core.planning.checker import violations
from tests.core.planning.test_plans import planned, random_session

COMPILED_MODULES = ("electrical/kernel.py", "planning/annealing.py", "planning/costing.py", "planning/tables.py")


def times_of(search):
    """By packs, the figures of each batch of the best plan as the compiled search has them."""
    plan = search._top
    rows = [(tuple(plan.members[row, : plan.rows[row].many].tolist()), plan.rows[row])
            for row in plan.order[: plan.heads[0]]]  # fmt: skip
    return {packs: (row.costs.tolist(), row.times.tolist()) for packs, row in rows if row.times[0] >= 0}


@pytest.mark.parametrize("family", FAMILIES, ids=lambda one: one.name)
def test_what_is_searched_is_what_is_shown(family):
    """Amps, waits, minutes and times of every batch: those of the full model, worked out apart, to a hundredth."""
    planner = Planner(session_of(family, 24, seed=7))
    list(islice(planner.improve(), 6))
    planner.search.soften()
    searched, plan = times_of(planner.search), planner.plan()
    index = planner.problem.index
    shown = {tuple(sorted(index[key] for key in batch.charges)): batch for batch in plan.batches}
    assert searched.keys() == shown.keys()
    for packs, (costs, times) in searched.items():
        batch = shown[packs]
        assert costs[0] == pytest.approx(batch.current_a)
        assert times[1] - times[0] == pytest.approx(batch.lead_min - batch.start_min)
        assert times[2] - times[1] == pytest.approx(batch.full_min - batch.lead_min, abs=0.01)
        assert times[3] == pytest.approx(batch.end_min, abs=0.05)
    assert planner.search.makespan_min == pytest.approx(plan.makespan_min, abs=0.05)


def test_a_plan_of_many_ends_when_the_search_says():
    """A batch that fits a gap to the second in the search is not sent to the end of the day by the full model."""
    planner = Planner(session_of(FAMILIES[-1], 160, seed=101))
    list(islice(planner.improve(), 12))
    searched_min = planner.search.makespan_min
    assert planner.search.best.schedule.makespan_min == pytest.approx(searched_min, abs=3)
    assert planner.plan().makespan_min == pytest.approx(searched_min, abs=0.05)


@pytest.mark.parametrize("family", FAMILIES, ids=lambda one: one.name)
def test_no_plan_on_unlike_kit_breaks_a_rule(family):
    for seed in range(SOAK):
        session = session_of(family, 16, seed=50 + seed)
        plan = planned(session, chunks=6)
        assert violations(to_document(session), json.loads(json.dumps(plan_document(record_of(plan))))) == []


def test_the_same_seed_gives_the_same_plan_and_tags_decide_nothing():
    session = session_of(FAMILIES[1], 16, seed=3)
    first, again = planned(session, chunks=5, seed=4), planned(session, chunks=5, seed=4)
    assert first.batches == again.batches
    renamed = replace(session, packs=tuple(replace(pack, id=f"Z-{pack.id}") for pack in session.packs))
    assert planned(renamed, chunks=5, seed=4).makespan_min == first.makespan_min


PLAIN = """
import sys
from benchmarks.families import FAMILIES, session_of
from iterum.core.planning.fast import CHUNK, FastSearch
from iterum.core.planning.problem import Problem
from iterum.core.planning.score import Prefer
search = FastSearch(Problem(session_of(FAMILIES[1], 8, seed=5)), Prefer.SOONEST)
for _ in zip(range(2), search, strict=False):
    pass
print(search.makespan_min)
"""


def test_without_a_compiler_it_finds_the_same():
    plain = subprocess.run([sys.executable, "-c", PLAIN], env={**os.environ, "NUMBA_DISABLE_JIT": "1"},
                           capture_output=True, text=True, check=True)  # fmt: skip
    search = FastSearch(Problem(session_of(FAMILIES[1], 8, seed=5)), Prefer.SOONEST)
    list(islice(search, 2))
    assert float(plain.stdout) == pytest.approx(search.makespan_min, abs=1e-6)


def test_a_cache_of_compiled_functions_knows_all_that_is_compiled_into_it():
    """Every module of the core that a compiled one takes anything but a type from stands among the sources."""
    types_only = {"core.planning.problem", "core.planning.resources", "core.amps.limits", "core.match.group"}
    for name in COMPILED_MODULES[:3]:
        for node in ast.walk(ast.parse((CORE / name).read_text())):
            if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("iterum.core"):
                module = node.module.removeprefix("iterum.")
                if module not in types_only:
                    assert f"{module.removeprefix('core.').replace('.', '/')}.py" in SOURCES, (name, module)
    assert set(COMPILED_MODULES) <= set(SOURCES)


@pytest.mark.parametrize("seed", range(3 * SOAK))
def test_a_looser_rule_never_gives_a_later_end(seed):
    """On sessions so small that the search sees everything."""
    rng = random.Random(seed)
    session = random_session(rng.randrange(10**6), most=4)
    if not is_fast(Problem(session)):
        return
    strict = planned(replace(session, wanted=(), rules=HouseRules(rate_c=1.0)), chunks=12)
    looser = planned(replace(session, wanted=(), rules=HouseRules(rate_c=2.0)), chunks=12)
    assert (looser.score.missing, looser.makespan_min) <= (strict.score.missing, strict.makespan_min + 0.05)


def test_a_plan_is_gone_on_from_and_never_lost():
    problem = Problem(session_of(FAMILIES[1], 20, seed=2))
    search = FastSearch(problem, Prefer.SOONEST)
    list(islice(search, 8))
    best = search.best
    worse = FastSearch(problem, Prefer.SOONEST, start=tuple(Gene((index,), 0) for index in range(20)))
    worse.best = best
    assert worse.makespan_min == pytest.approx(search.makespan_min, abs=0.05)
    list(islice(worse, 8))
    assert worse.makespan_min <= search.makespan_min + 0.05


def test_several_threads_charge_every_pack_once():
    problem = Problem(session_of(FAMILIES[3], 40, seed=2))
    search = FastSearch(problem, Prefer.SOONEST, threads=3)
    list(search.improve(0.4))
    packs = [index for gene in search.best.genes for index in gene.members]
    assert sorted(packs) == list(range(40))
    assert np.isfinite(search.makespan_min)
