"""The kit as trees: watts that reach the packs, what flows and is left, and where it is narrow."""

import pytest

from iterum.core.things.bench import Bench, Running
from iterum.core.things.chain import Narrow, trees
from iterum.core.things.kit import Channel, Charger, Kit, Source, Supply
from iterum.core.things.rules import HouseRules


def channels(tag, watts):
    return tuple(Channel(f"{tag}-{number}", 10, each) for number, each in enumerate(watts, 1))


KIT = Kit(
    chargers=(
        Charger("twin", channels("twin", (250, 250)), "brick", efficiency=0.9, total_power_w=400),
        Charger("lone", channels("lone", (80,)), "bank", efficiency=0.8),
        Charger("wall", channels("wall", (50,))),
    ),
    supplies=(Supply("brick", 600, fed_by="gen", efficiency=0.85),),
    sources=(Source("bank", 12, 5), Source("gen", max_power_w=300), Source("spare")),
)


def test_widths_are_watts_at_the_packs_after_every_loss():
    by_source = {
        tree.source.part.id if tree.source.part else None: tree for tree in trees(Bench((), KIT, HouseRules()))
    }
    gen, bank = by_source["gen"], by_source["bank"]
    assert gen.source.packs_w == pytest.approx(300 * 0.85 * 0.9)
    assert gen.branches[0].supply.packs_w == pytest.approx(600 * 0.9)
    assert gen.narrowest == Narrow("gen", pytest.approx(400 - 300 * 0.85 * 0.9))  # the charger holds back 100 W only
    assert bank.narrowest == Narrow("bank", pytest.approx(80 - 12 * 5 * 0.8))
    assert by_source[None].narrowest is None
    assert by_source["spare"].branches == ()


def test_one_part_is_narrowest_also_where_a_supply_feeds_several_chargers():
    chargers = (
        Charger("a", channels("a", (100,)), "brick", efficiency=1.0, total_power_w=90),
        Charger("x", channels("x", (60,)), efficiency=1.0),
        Charger("b", channels("b", (100, 100)), "brick", efficiency=1.0),
    )
    kit = Kit(chargers=chargers, supplies=(Supply("brick", 200, efficiency=1.0),))
    (mains,) = trees(Bench((), kit, HouseRules()))
    assert [branch.supply_id for branch in mains.branches] == ["brick", "brick", None]
    assert mains.narrowest == Narrow("brick", pytest.approx(90 + 200 - 200))


def test_what_flows_is_counted_where_it_leaves():
    running = (Running(("A",), None, "twin-1", 5, 100, 20, 12),)
    tree = trees(Bench((), KIT, HouseRules(), running))[0]  # what gives most comes first
    supply, charger = tree.branches[0].supply, tree.branches[0].charger
    assert tree.source.now_w == pytest.approx(100 / 0.9 / 0.85)
    assert tree.source.left_w == pytest.approx(300 - 100 / 0.9 / 0.85)
    assert (supply.now_w, supply.flows_w) == pytest.approx((100 / 0.9, 100))
    assert (charger.now_w, charger.left_w) == (100, 300)
    assert [len(on_it) for _, on_it in tree.branches[0].channels] == [1, 0]
