"""Days of heats: what is met within two seconds against ten of the same search, and what odds cost; prints a table."""

from time import perf_counter

from benchmarks.days import KINDS, day
from iterum.core.planning.plan import with_odds
from iterum.core.planning.planner import Planner
from iterum.core.things.rules import HouseRules

DAYS = 30


def worth_after(seconds, seed):
    """(worth of heats met, heats met, heats asked) of a day after so many seconds."""
    _, session = day(seed)
    begun = perf_counter()
    planner = Planner(session)
    for _ in planner.improve():
        if perf_counter() > begun + seconds:
            break
    wanted = planner.plan().wanted
    met = [item.wish for item in wanted if item.met]
    return sum(wish.value * wish.count for wish in met), len(met), len(wanted)


def test_heats_met_in_two_seconds_against_ten(benchmark):
    rows = []

    def both():
        rows[:] = [(day(seed)[0], worth_after(2, seed), worth_after(10, seed)) for seed in range(DAYS)]

    benchmark.pedantic(both, rounds=1)
    for kind in KINDS:
        mine = [(short, long) for name, short, long in rows if name == kind]
        short, long = (sum(item[at][0] for item in mine) for at in (0, 1))
        met, asked = sum(item[0][1] for item in mine), sum(item[0][2] for item in mine)
        part = short / max(long, 1)
        print(f"\n{kind:6} {met} of {asked} heats in 2 s, worth {short:.0f}, {long:.0f} in 10 s: {part:.2f}", end="")
    short, long = (sum(row[at][0] for row in rows) for at in (1, 2))
    print(f"\nall    worth {short:.0f} of {long:.0f}: {short / long:.3f}")


def test_the_odds_cost_a_part_of_a_search(benchmark):
    planner = Planner(day(4)[1])
    plan = planner.plan()
    told = benchmark(with_odds, plan, HouseRules())
    assert any(item.odds for item in told.wanted)
