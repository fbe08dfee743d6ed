"""How long to wait between plugs and before charging; balance leads that go in first. Common practice, no source:
none within 0.02 V per cell, for more mostly a minute or two, about 2 A through a balance wire."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.electrical.circuit import Feeding, run
from iterum.core.electrical.joining import joining
from iterum.core.electrical.plugging import BALANCE_WIRE_MOHM, balance_first_a, time_above
from iterum.core.electrical.resistance import resistance_of
from iterum.core.electrical.waiting import OVER_SHARE
from iterum.core.things.rules import HouseRules, JoinOrder
from tests.conftest import even, pack

RULES = HouseRules(rate_c=1.0)


def group(*cell_v, **more):
    return [even(f"P{n}", volts, mah=1300, discharge_c=60, **more) for n, volts in enumerate(cell_v)]


class TestWaiting:
    @pytest.mark.parametrize("base_v", [3.60, 3.70, 3.75, 3.85, 4.00])
    def test_none_within_0_02_v_per_cell(self, base_v):
        verdict = joining(group(base_v, base_v + 0.01, base_v + 0.02), RULES)
        assert (verdict.wait_min, [plug.wait_s for plug in verdict.plugs]) == (0.0, [0.0, 0.0])

    def test_a_pair_further_apart_waits_minutes_before_charging_and_none_between_plugs(self):
        verdict = joining(group(3.75, 3.80), RULES)
        assert 1 <= verdict.wait_min <= 8
        assert verdict.plugs[0].wait_s == 0

    def test_labels_that_allow_more_wait_less(self):
        pair = group(3.72, 3.80)
        assert joining(group(3.72, 3.80, max_charge_c=3), RULES).wait_min < joining(pair, RULES).wait_min

    def test_the_school_that_leaves_it_to_the_volts_waits_for_nothing(self):
        assert joining(group(3.72, 3.80), replace(RULES, join_peak_c=None)).wait_min == 0

    @given(st.integers(1, 9), st.integers(360, 400), st.sampled_from([1.0, 2.0]), st.integers(2, 4))
    def test_after_the_wait_no_pack_is_over_its_charge_c_for_longer_than_the_rule_allows(self, gap, base, label, count):
        packs = group(*[base / 100] * (count - 1), (base + gap) / 100, max_charge_c=label)
        verdict = joining(packs, RULES, rate_c=1.0)
        if not verdict.passes or gap <= 2:
            return
        charging = run(verdict.start.branches, Feeding(sum(one.capacity_ah for one in packs)), 600.0)
        by_id = {one.id: one for one in packs}
        for index, tag in enumerate(verdict.order):
            amps = np.maximum(charging.current_a[:, index], 0.0)
            over_s = time_above(charging.t_s, amps / by_id[tag].capacity_ah, label * OVER_SHARE)
            assert over_s <= RULES.join_over_s
            assert amps.max() <= RULES.join_peak_c * by_id[tag].capacity_ah + 1e-9


class TestBalanceLeadsFirst:
    def test_two_single_cells_by_hand(self):
        pair = [even("A", 3.80, cells=1, mah=1300, discharge_c=60), even("B", 3.84, cells=1, mah=1300, discharge_c=60)]
        ohms = 2 * resistance_of(pair[0]).r0_ohm + 4 * BALANCE_WIRE_MOHM / 1000
        assert balance_first_a(pair) == pytest.approx(0.04 / ohms, rel=1e-9)

    def test_on_more_cells_the_outer_wires_carry_most_and_the_inner_ones_help_a_little(self):
        pair = group(3.80, 3.84)
        ohms = 2 * resistance_of(pair[0]).r0_ohm + 4 * BALANCE_WIRE_MOHM / 1000
        assert 0.85 < balance_first_a(pair) / (4 * 0.04 / ohms) < 1

    def test_one_high_cell_pushes_through_its_own_wires(self):
        low, odd = even("A", 3.80, mah=1300), pack("B", 3.80, 3.90, 3.80, 3.80, mah=1300)
        cell_ohm = resistance_of(low).r0_ohm / 4
        alone_a = 0.10 / (2 * cell_ohm + 4 * BALANCE_WIRE_MOHM / 1000)
        assert balance_first_a([low, odd]) == pytest.approx(alone_a, rel=0.05)

    def test_the_school_holds_for_a_near_group_and_is_refused_for_a_wide_one(self):
        first = replace(RULES, join_order=JoinOrder.BALANCE_FIRST)
        near, wide = joining(group(3.80, 3.81), first), joining(group(3.75, 3.75, 3.75, 3.85, max_charge_c=5), first)
        assert near.balance_first
        assert "balance_first_allowed" in [item.code for item in near.reasons]
        assert not wide.balance_first
        assert wide.passes
        assert "balance_first_refused" in [item.code for item in wide.reasons]


def test_a_moment_over_its_charge_c_is_not_worth_a_word():
    verdict = joining(group(3.80, 3.81), RULES)
    assert [item.code for item in verdict.reasons] == ["join_fine"]
