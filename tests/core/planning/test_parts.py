"""Which part to buy, over the days of a log: by hand where a part halves a day, and nothing where nothing binds."""

from datetime import timedelta

import pytest

from iterum.core.planning.parts import Charged, days_of, part_gains
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.wording import sentence
from tests.conftest import NOON, even

RULES = HouseRules(rate_c=1.0)


def logged(packs, days=2, before_v=3.7):
    return [Charged(pack, NOON - timedelta(days=day, minutes=number), (before_v,) * pack.cells)
            for day in range(1, days + 1) for number, pack in enumerate(packs)]  # fmt: skip


def gains(packs, kit, charged):
    told = part_gains(Session(tuple(packs), kit, RULES), charged)
    return {item.part.code: item for item in told}


def test_two_classes_on_one_channel_take_half_the_day_with_a_second():
    """A 4S and a 3S class cannot share a board: one after another on one channel, side by side on two."""
    packs = [even(f"A{n}", 3.7) for n in range(3)] + [even(f"B{n}", 3.7, cells=3) for n in range(3)]
    kit = Kit((Board("One", 6), Board("Two", 6)), (Charger("c", (Channel("ch", 10, 200),)),))
    told = gains(packs, kit, logged(packs))
    channel = told["part_channel"]
    assert len(channel.saved_min) == 2
    alone_min = 2 * min(channel.saved_min.values())
    assert channel.total_min == pytest.approx(alone_min, rel=0.2)
    assert channel.total_min / 2 > 30  # a charge of 1C from there takes more than that
    assert "part_board" not in told  # boards do not bind
    assert all(sentence(item.part) for item in told.values())


def test_a_class_that_nothing_charges_is_counted_in_packs_and_quiet_days_tell_nothing():
    packs = [even(f"A{n}", 3.7) for n in range(4)]
    kit = Kit((), (Charger("c", (Channel("ch", 10, 200),)),))
    assert part_gains(Session(tuple(packs), kit, RULES), logged(packs[:3])) == ()
    assert set(days_of(logged(packs, days=9))) == {(NOON - timedelta(days=day)).date() for day in range(1, 5)}
    again = [*logged(packs, days=1), Charged(packs[0], NOON - timedelta(days=1, minutes=-90), (4.1,) * 4)]
    (day,) = days_of(again).values()
    assert {pack.cell_v for pack in day} == {3.7}  # as each came first
