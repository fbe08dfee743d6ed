"""Plans to start from, of packs side by side in volts: whole, allowed, and worth more than as long a search."""

import json
from itertools import islice

import pytest
from benchmarks.sessions import random_session as session_of

from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.record import record_of
from iterum.core.planning.schedule import decode
from iterum.core.planning.score import Prefer, score_of
from iterum.core.planning.search import FIRST, FROM_WINDOWS, Search
from iterum.core.planning.windows import by_windows
from iterum.exchange.plan_result import plan_document
from iterum.exchange.session import to_document
from tests.conftest import SOAK
from tests.core.planning.checker import violations
from tests.core.planning.test_plans import random_session


@pytest.mark.parametrize("block", range(2))
def test_each_pack_that_can_be_charged_is_in_one_batch_that_may_be(block):
    seen = 0
    for seed in range(block, 20 * SOAK, 2):
        problem = Problem(random_session(seed))
        needed = Search(problem, Prefer.SOONEST).needed
        for start in by_windows(problem, needed):
            if start is None:
                continue
            seen += 1
            members = [index for gene in start for index in gene.members]
            assert len(members) == len(set(members)), seed
            for family, packs in problem.families.items():
                can = [index for index in packs if any(
                    problem.costs((index,), machine.index, -1, 0) for machine in problem.machines)]  # fmt: skip
                wanted = set(packs[len(packs) - needed.get(family, 0) :])
                assert {index for index in members if index in packs} == wanted & set(can), seed
            for gene in start:
                assert problem.may_join(gene.members), seed
                assert problem.boards_for(gene.members), seed
            assert decode(problem, start) is not None
    assert seen > 15


def test_a_large_session_ends_sooner_by_them_and_breaks_no_rule():
    session = session_of(40, 3)
    problem = Problem(session)
    by_them = Search(problem, Prefer.SOONEST)
    list(islice(by_them, (FIRST + 3 * FROM_WINDOWS) // 100 + 8))
    without = Search(problem, Prefer.SOONEST)
    without.best = min(without.best, *islice(without._anneal(3.0, by_them.iterations), 99), key=lambda item: item.score)
    assert by_them.best.schedule.makespan_min < 0.97 * without.best.schedule.makespan_min
    planner = Planner(session, problem=problem)
    planner.search.best = by_them.candidate(by_them.best.genes)
    assert score_of(problem, by_them.best.schedule, Prefer.SOONEST) == by_them.best.score
    document = json.loads(json.dumps(plan_document(record_of(planner.plan()))))
    assert violations(json.loads(json.dumps(to_document(session))), document) == []
