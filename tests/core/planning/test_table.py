"""A day at a shared table: the worst off first, caps that hold, and nobody's packs where their pilot did not say so."""

from collections import Counter
from dataclasses import replace
from itertools import combinations

import pytest
from benchmarks.club import PILOTS, club_day, first_come

from iterum.core.planning.explain import explain
from iterum.core.planning.heats import DaySearch
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.rounds import Flight
from iterum.core.planning.score import Prefer, uneven, unfair
from iterum.core.planning.shares import shares_of
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.pilots import TableRule
from iterum.core.things.session import Session
from iterum.demo import demo_session
from iterum.wording import sentence
from tests.conftest import even

STEPS = 3


def planned(session, steps=STEPS):
    planner = Planner(session, Prefer.STEADIEST)
    for _ in zip(range(steps), planner.improve(), strict=False):
        pass
    return planner.plan()


def lost(problem, *names):
    return {at: heat.value * heat.count for at, heat in enumerate(problem.day.heats) if heat.name in names}


def test_the_worst_off_comes_first_then_the_next():
    problem = Problem(demo_session("club"))
    even = unfair(problem, lost(problem, "Round 1 Ada", "Round 1 Ben", "Round 1 Cleo", "Round 1 Dov"))
    one_pays = unfair(problem, lost(problem, "Round 1 Ada", "Round 2 Ada"))
    assert even == (0.333333,) * 4
    assert one_pays == (0.666667, 0.0, 0.0, 0.0)
    assert even < one_pays  # though it loses twice as many heats
    assert uneven(even) == pytest.approx(4 / 9, abs=1e-5)


def test_finals_come_first_only_where_the_rule_says_so():
    session = demo_session("club")
    names = "Final Ben", "Round 1 Ben"
    for rule, better in ((TableRule.FINALS_FIRST, "Round 1 Ben"), (TableRule.EQUAL_HEATS, None)):
        problem = Problem(replace(session, rules=replace(session.rules, table=rule)).at_table())
        final, other = (unfair(problem, lost(problem, name)) for name in names)
        assert (other < final) is (better is not None)
    for rule in (TableRule.BY_NEED, TableRule.OWN_KIT):
        problem = Problem(replace(session, rules=replace(session.rules, table=rule)).at_table())
        assert unfair(problem, lost(problem, *names)) == ()


def test_pilots_who_went_home_ask_for_nothing():
    session = demo_session("club")
    gone = replace(session, pilots=tuple(replace(one, gone=one.id == "Dov") for one in session.pilots)).at_table()
    assert Problem(gone).asking == ("Ada", "Ben", "Cleo")
    plan = planned(gone)
    tags = {tag for batch in plan.batches for tag in batch.packs}
    assert not any(tag.startswith("D-") for tag in tags)
    assert {left.reason.code for left in plan.left_out if left.pack.pilot == "Dov"} == {"went_home"}


@pytest.mark.parametrize("seed", range(3))
def test_no_plan_puts_packs_where_their_pilot_did_not_say_so(seed):
    session = club_day(seed)
    plan = planned(session)
    owner = {pack.id: pack.pilot for pack in session.packs}
    of_channel = {channel.id: charger.pilot for charger, channel in session.kit.channels()}
    for batch in plan.batches:
        assert len({owner[tag] for tag in batch.packs}) == 1  # nobody consented
        assert of_channel[batch.channel] in (None, owner[batch.packs[0]])
    for item in plan.wanted:
        assert {owner[tag] for tag in item.packs} <= {item.wish.pilot}


@pytest.mark.parametrize("seed", range(4))
def test_the_worst_off_pilot_never_fares_worse_than_by_first_come_first_served(seed):
    session = club_day(seed)
    met = first_come(session, seed)
    plan = planned(session)
    shares = {share.pilot: share for share in shares_of(session, plan.wanted, plan.batches)}
    assert set(met) == set(shares)
    assert min(share.met for share in shares.values()) >= min(met.values())


def test_nobody_takes_more_than_an_even_share_of_the_energy():
    session = club_day(1, TableRule.EQUAL_ENERGY)
    bank = Source("generator", voltage_v=24, max_current_a=40, energy_wh=260, usable_fraction=1.0)
    session = replace(session, kit=replace(session.kit, sources=(bank,)), had_wh={("generator", "Ada"): 30.0}).at_table()
    plan = planned(session)
    shares = {share.pilot: share.got_wh for share in shares_of(session, plan.wanted, plan.batches)}
    most_wh = (260 + 30) / len(PILOTS)
    assert shares["Ada"] + 30 <= most_wh + 0.5
    assert all(wh <= most_wh + 0.5 for wh in shares.values())
    assert sum(shares.values()) > 0


def test_who_gives_and_who_gets_adds_up():
    session = demo_session("club")
    plan = planned(session)
    shares = shares_of(session, plan.wanted, plan.batches)
    assert sum(share.got_wh for share in shares) == pytest.approx(sum(one.energy_in_wh for one in plan.batches), abs=2)
    from_bank = sum(wh for share in shares for source, wh in share.by_source if source == "bank" and share.pilot != "Cleo")
    assert {share.pilot: share.gave_wh for share in shares}["Cleo"] == pytest.approx(from_bank, abs=1)
    heats = Counter(item.wish.pilot for item in plan.wanted if item.wish.is_heat)
    assert {share.pilot: share.asked for share in shares} == heats


def test_one_heat_more_is_taken_only_where_it_is_better():
    session = demo_session("club")
    search = DaySearch(Problem(session), Prefer.STEADIEST)
    before = search.best.score
    for _ in search._heat_by_heat(by_turns=True):
        pass
    assert search.best.score <= before
    nothing = search.tried(tuple(Flight(count=0) for _ in search.heats))
    assert search.best.score < nothing.score


def test_other_orders_of_pilots_are_no_fairer():
    """By an exhaustive look at which pairs of heats may be lost: the vector is that of the definition."""
    problem = Problem(demo_session("club"))
    heats = problem.day.heats
    for one, two in combinations(range(len(heats)), 2):
        told = unfair(problem, {at: heats[at].value * heats[at].count for at in (one, two)})
        shares = Counter({pilot: 0.0 for pilot in problem.asking})
        for at in (one, two):
            shares[heats[at].pilot] += 1 / 3
        assert told == tuple(sorted((round(part, 6) for part in shares.values()), reverse=True))


@pytest.mark.parametrize("what", ["pilots", "degrees"])
def test_whatever_keeps_a_pack_alone_is_told(what):
    packs = tuple(replace(even(tag, 3.8), pilot=pilot) for tag, pilot in (("A", "Ada"), ("B", "Ben")))
    if what == "degrees":
        packs = tuple(replace(pack, pilot=None, reading=replace(pack.reading, temperature_c=degrees))
                      for pack, degrees in zip(packs, (12.0, 30.0), strict=True))  # fmt: skip
    kit = Kit((Board("six", 6),), (Charger("duo", (Channel("one", 10, 200), Channel("two", 10, 200))),))
    session = Session(packs, kit, pilots=PILOTS).at_table()
    plan = planned(session)
    told = [sentence(item) for why in explain(Problem(session), plan) for item in why.reasons]
    assert len(plan.batches) == 2
    assert sum(text.startswith("Alone. ") for text in told) == 2, told
