"""Sizing and energy computed again with units that are checked: pint refuses a sum whose dimensions do not agree."""

import pint
import pytest

from iterum.core.things.feed import feed_of
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup
from tests.conftest import even, sized

unit = pint.UnitRegistry()


def test_every_limit_is_an_electric_current_of_the_size_that_units_give():
    kit = Kit(
        sources=(Source("bank", voltage_v=12.8, max_current_a=30),),
        supplies=(Supply("brick", 300, 18, "bank", 0.9),),
    )
    channel = Channel("ch", 12, 150)
    charger = Charger("c", (channel,), "brick", 0.85, total_power_w=220, power_by_input_v=((12, 100), (24, 300)))
    board = Board("B", 6, max_current_a=40, port_fuse_a=7)
    packs = [even("A", 3.8, mah=2200, max_charge_c=2), even("B", 3.8, mah=1300, max_charge_c=3)]
    result = sized(packs, Setup(board, channel, feed_of(charger, kit)), HouseRules(rate_c=1.5))

    capacity = (2200 + 1300) * unit.mA * unit.hour
    full = 4 * 4.20 * unit.volt
    per_hour = 1 / unit.hour
    at_packs = 0.9 * 0.85
    expected = {
        "wanted_rate": 1.5 * per_hour * capacity,
        "pack_charge_c": 2 * per_hour * capacity,
        "board_current": 40 * unit.ampere,
        "port_fuse": 7 * unit.ampere / (2200 / 3500),
        "channel_current": 12 * unit.ampere,
        "channel_power": 150 * unit.watt / full,
        "charger_power": 220 * unit.watt / full,
        "charger_input": (100 + (300 - 100) * (18 - 12) / (24 - 12)) * unit.watt / full,
        "supply_power": 300 * unit.watt * 0.85 / full,
        "source_power": 12.8 * unit.volt * 30 * unit.ampere * at_packs / full,
    }
    assert {limit.name for limit in result.limits} == set(expected)
    for limit in result.limits:
        assert limit.current_a == pytest.approx(expected[limit.name].to(unit.ampere).magnitude), limit.name
    smallest = min(expected.values())
    assert result.exact_a == pytest.approx(smallest.to(unit.ampere).magnitude)
    assert result.rate_c == pytest.approx((result.current_a * unit.ampere / capacity).to(per_hour.units).magnitude)


def test_energy_by_the_label_is_volts_times_charge():
    pack = even("A", 3.8, cells=6, mah=5000)
    energy = 6 * 3.7 * unit.volt * 5000 * unit.mA * unit.hour
    assert pack.rated_energy_wh == pytest.approx(energy.to(unit.watt * unit.hour).magnitude)
