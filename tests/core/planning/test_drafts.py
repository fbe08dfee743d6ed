"""Drafts to begin a search from: whole, allowed, no sooner than their fullest load, and worth more than as long a search."""

import json
import random
from dataclasses import replace
from itertools import islice

import pytest
from benchmarks.sessions import random_session as session_of

from iterum.core.planning.diving import Diver
from iterum.core.planning.drafts import MANY, MANY_HEAT, SHARING_HEAT, Drafting, by_windows
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.record import record_of
from iterum.core.planning.replan import Replanner
from iterum.core.planning.schedule import Gene, decode
from iterum.core.planning.score import Prefer, score_of
from iterum.core.planning.search import Search
from iterum.core.planning.windows import Windows
from iterum.exchange.plan_result import plan_document
from iterum.exchange.session import to_document
from tests.conftest import SOAK
from tests.core.planning.checker import violations
from tests.core.planning.test_plans import random_session

DRAFTS = 4


def done(run):
    """What comes of a run."""
    while True:
        try:
            next(run)
        except StopIteration as end:
            return end.value


def problem_of(session):
    """With what is to be charged of each family."""
    problem = Problem(session)
    return problem, Search(problem, Prefer.SOONEST).needed


@pytest.mark.parametrize("block", range(2))
def test_each_pack_that_can_be_charged_is_in_one_batch_that_may_be(block):
    seen = 0
    for seed in range(block, 20 * SOAK, 2):
        problem, needed = problem_of(random_session(seed))
        for start, _ in islice(filter(None, islice(by_windows(problem, needed), 8 * DRAFTS)), DRAFTS):
            seen += 1
            members = [index for gene in start for index in gene.members]
            assert len(members) == len(set(members)), seed
            for family, packs in problem.families.items():
                alone = {index for index in packs if any(
                    problem.costs((index,), machine.index, -1, 0) for machine in problem.machines)}  # fmt: skip
                wanted = set(packs[len(packs) - needed.get(family, 0) :])
                # Others only side by side, where together they take the least amps of a channel.
                assert wanted & alone <= {index for index in members if index in packs} <= wanted, seed
            for gene in start:
                assert problem.may_join(gene.members), seed
                assert problem.boards_for(gene.members), seed
    assert seen > 10


@pytest.mark.parametrize("block", range(2))
def test_it_ends_between_its_fullest_load_and_its_clock(block):
    """Both by reasoning: what takes one batch at a time cannot be done before the sum of them, and to place a batch where it
    fits first never makes it later than after all before it. With energy and watts to spare."""
    seen = 0
    for seed in range(block, 30 * SOAK, 2):
        session = random_session(seed)
        kit = replace(session.kit, sources=(), chargers=tuple(replace(one, fed_by=None, total_power_w=None) for one in session.kit.chargers))
        problem, needed = problem_of(replace(session, kit=kit, wanted=()))
        windows = Windows(problem, needed)
        if not windows.smallest():
            continue
        seen += 1
        drafting = Drafting(windows, random.Random(seed))
        for draft in (windows.smallest(), done(drafting.shared_out(windows.smallest(), 200, SHARING_HEAT))):
            for end_min, other in map(done, (drafting.in_order(draft, 1), drafting.in_order(draft, 50), drafting.together(draft, 50))):
                schedule = decode(problem, windows.genes(other))
                assert windows.fullest_min(other) - 1e-6 <= schedule.makespan_min <= end_min + 1e-6, seed
                assert sum(len(item.gene.members) for item in schedule.placed) == sum(len(one.packs) for one, _ in draft), seed
    assert seen > 10


def test_sharing_out_lowers_the_fullest_load_and_order_brings_the_end_near_it():
    for seed in range(4):
        problem, needed = problem_of(session_of(24, seed, 3))
        windows = Windows(problem, needed)
        drafting = Drafting(windows, random.Random(seed))
        draft = done(drafting.shared_out(windows.smallest(), 3_000, SHARING_HEAT))
        least_min = windows.fullest_min(draft)
        assert least_min < 0.6 * windows.fullest_min(windows.smallest())
        end_min, ordered = done(drafting.in_order(draft, 1_500, least_min))
        assert sorted(ordered) == sorted(draft)
        assert least_min <= end_min < 1.25 * least_min
        assert done(drafting.together(ordered, 1_500))[0] <= end_min


@pytest.mark.parametrize("seed", [2, 6])
def test_many_packs_are_shared_out_better_by_the_program_and_all_of_them_although_energy_is_short(seed):
    problem, needed = problem_of(session_of(80, seed, 6))
    windows = Windows(problem, needed)
    assert windows.short_of_energy
    dive = Diver(windows).draft()
    assert len(list(islice(dive, 8))) == 8  # in small steps
    plain = done(dive)
    places = [place for window, _ in plain for place in window.packs]
    assert len(places) == len(set(places)) == sum(map(len, windows.families))
    assert windows.over_wh(windows.loads(plain)[windows.energy_at :]) == 0
    from_it = done(Drafting(windows, random.Random(1)).shared_out(plain, 4_000, MANY_HEAT))
    assert windows.fullest_min(from_it) < windows.fullest_min(plain) < 0.3 * windows.fullest_min(windows.smallest())
    assert len(problem.packs) > MANY
    starts = [item[0] for item in islice(by_windows(problem, needed), 50) if item]
    assert len(starts) > 1
    assert all(not decode(problem, start).unplaced for start in starts)


def test_a_large_session_ends_sooner_by_them_and_breaks_no_rule():
    ends = []
    for seed in (1, 8):
        session = session_of(40, seed)
        problem = Problem(session)
        by_them, without = Search(problem, Prefer.SOONEST), Search(problem, Prefer.SOONEST)
        list(islice(by_them, 40))
        list(without._anneal(3.0, 4_000))  # about as long
        ends.append((by_them.best.schedule.makespan_min, without.best.schedule.makespan_min))
    assert sum(first for first, _ in ends) < 0.97 * sum(second for _, second in ends)
    planner = Planner(session, problem=problem)
    planner.search.best = by_them.candidate(by_them.best.genes)
    assert score_of(problem, by_them.best.schedule, Prefer.SOONEST) == by_them.best.score
    document = json.loads(json.dumps(plan_document(record_of(planner.plan()))))
    assert violations(json.loads(json.dumps(to_document(session))), document) == []


@pytest.mark.parametrize(("prefer", "max_current_a", "drafted"), [
    (Prefer.SOONEST, 60, True), (Prefer.GENTLEST, 60, False), (Prefer.SOONEST, 20, False)])  # fmt: skip
def test_what_the_clock_does_not_know_is_sought_by_annealing_after_one_draft(prefer, max_current_a, drafted):
    session = session_of(40, 1)
    kit = replace(session.kit, sources=(replace(session.kit.sources[0], max_current_a=max_current_a, energy_wh=3000),))
    kit = replace(kit, chargers=tuple(replace(one, fed_by="bank") for one in kit.chargers)) if max_current_a < 60 else kit
    search = Search(Problem(replace(session, kit=kit)), prefer)
    list(islice(search, 50))  # for so long it drafts
    assert search._drafting == drafted
    assert search.best.score.whole


def test_a_batch_stays_on_the_board_that_it_is_named_for_also_when_planned_anew():
    session = session_of(12, 4, 2)
    problem = Problem(session)
    pair = next(members[:2] for members in problem.families.values() if problem.may_join(members[:2]))
    rest = [Gene((index,), 0) for index in range(len(problem.packs)) if index not in pair]
    for board in problem.boards_for(pair):
        name = problem.boards[board].id
        placed = decode(problem, [Gene(pair, 0, board=name)]).placed[0]
        assert placed.board == board
        planner = Planner(session, problem=problem)
        planner.search.best = planner.search.candidate((*rest, Gene(pair, 0, board=name)))
        plan = planner.plan()
        again = Replanner(session, plan.batches, 0.0)
        assert [gene.board for gene in again.search.best.genes if len(gene.members) > 1] == [name]
    assert len(problem.boards_for(pair)) > 1
    assert decode(problem, [Gene(pair, 0, board="lost")]) == replace(
        decode(problem, [Gene(pair, 0)]), listed=(Gene(pair, 0, board="lost"),),
        placed=tuple(item._replace(gene=Gene(pair, 0, board="lost")) for item in decode(problem, [Gene(pair, 0)]).placed))  # fmt: skip
