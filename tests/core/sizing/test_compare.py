"""Together or one after another, and how often a source fills them: worked by hand."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.sizing.arrange import match, place_groups
from iterum.core.sizing.compare import one_after_another, refills, together
from iterum.core.sizing.size import size
from iterum.core.things.bench import Bench, Running
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.rules import HouseRules
from tests.benches import random_bench
from tests.conftest import even

KIT = Kit((Board("Six", 6),), (Charger("c", (Channel("ch", 10, 200),), None, 0.85),))


def roads(count, cell_v=3.7, kit=KIT):
    packs = tuple(even(f"P{n}", cell_v) for n in range(count))
    bench = Bench(packs, kit, HouseRules(rate_c=1.0))
    choice = Choice(tuple(pack.id for pack in packs), "Six", "ch")
    return together(size(bench, choice)), one_after_another(bench, choice)


@given(st.integers(2, 6))
def test_alone_they_take_their_own_minutes_each_and_the_same_watt_hours(count):
    """At 1C with amps and watts to spare a board of n takes about what one takes: n times less than one by one."""
    joined, apart = roads(count)
    assert (joined.visits, apart.visits) == (1, count)
    assert apart.minutes / joined.minutes == pytest.approx(count, rel=0.35)
    assert apart.minutes > joined.minutes
    assert apart.energy_in_wh == pytest.approx(joined.energy_in_wh, rel=0.03)


def test_watts_that_are_short_take_the_gain_away():
    """30 W over 16.8 V are 1.8 A, what one 1800 takes at 1C: together they only wait for each other."""
    short = Kit(KIT.boards, (Charger("c", (Channel("ch", 10, 30),), None, 0.85),))
    joined, apart = roads(4, kit=short)
    assert joined.rate_c == pytest.approx(apart.rate_c / 4, rel=0.1)
    assert joined.minutes > 0.7 * apart.minutes


def test_refills_are_counted_in_watt_hours():
    """A 3S 5200 holds 57.7 Wh: at 85 % that is 49 Wh, and a 4S 1300 wants about 16 of them from a flight (3 times, not 4)."""
    assert refills(49.1, 16.0) == 3
    assert refills(48.0, 16.0) == 3
    assert refills(0.0, 16.0) == 0


def test_of_two_groups_that_want_the_same_place_one_comes_after_the_other():
    """What is offered at once can be begun at once; what comes after says so, and what is left beside it is a place."""
    kit = Kit((Board("Six", 6), Board("Two", 4)),
              (Charger("c", (Channel("big", 20, 400), Channel("small", 2, 30)), None, 0.85),))  # fmt: skip
    packs = tuple(even(f"A{n}", 3.70) for n in range(4)) + tuple(even(f"B{n}", 3.95) for n in range(3))
    bench = Bench(packs, kit, HouseRules(rate_c=1.0))
    first, second = place_groups(match(bench).groups, bench)
    assert (first.after, first.sizing.setup.channel.id) == ((), "big")
    assert second.after == tuple(pack.id for pack in first.packs)
    assert (second.beside.channel, second.beside.current_a) == ("small", pytest.approx(1.7))
    assert second.beside.board != first.sizing.settled.board


@given(st.integers(0, 400))
def test_whatever_is_offered_at_once_can_be_begun_beside_the_others(seed):
    session = random_bench(seed)
    bench = session.bench
    for placed in place_groups(match(bench).groups, bench):
        if not placed.offered or placed.after:
            continue
        settled = placed.sizing.settled
        sized = size(bench, settled)  # beside every one that went on before
        full_v = sized.full_v or sized.dial.pack_v
        on = Running(settled.packs, settled.board, settled.channel, sized.current_a, sized.current_a * full_v,
                     sized.charge.energy_out_wh, sized.minutes)  # fmt: skip
        bench = replace(bench, running=(*bench.running, on))
