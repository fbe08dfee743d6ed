"""Packs in parallel against closed forms, laws, and itself at a hundredth of its tolerance."""

from dataclasses import replace
from math import exp, log, sqrt

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.core.electrical.circuit import TOLERANCE, Branch, Feeding, branch_of, run, settled, soc_from_rest
from tests.conftest import even

STRAIGHT_V = tuple(3.0 + 1.2 * step / 20 for step in range(21))


def plain(soc, ohm=0.02, capacity_ah=1.0, table_v=STRAIGHT_V):
    """A branch with a straight open-circuit curve and no RC pairs, so that closed forms hold."""
    return Branch(capacity_ah * 3600, ohm, 0.0, 1.0, 0.0, 1.0, table_v, soc)


def at(trace, moment_s, values):
    return np.interp(moment_s, trace.t_s, values)


@given(st.floats(-0.3, 0.3), st.floats(-0.3, 0.3), st.floats(0.1, 3000))
def test_a_pack_alone_rests_as_a_node_of_one_branch_does(u1_v, u2_v, seconds):
    branch = replace(branch_of(even("A", 3.8)), u1_v=u1_v, u2_v=u2_v)
    alone, as_node = branch.rested(seconds), run([branch], Feeding(), seconds).last[0]
    assert (alone.u1_v, alone.u2_v) == pytest.approx((as_node.u1_v, as_node.u2_v), abs=1e-6)
    assert (alone.soc, alone.source_v) == pytest.approx((as_node.soc, as_node.source_v), abs=1e-6)


class TestClosedForms:
    """Worked from the equations, with inputs off every neutral point so that each term acts."""

    def test_two_straight_sources_even_out_as_one_exponential(self):
        low, high = plain(0.40, 0.02, 1.0), plain(0.47, 0.03, 2.0)
        trace = run([low, high], Feeding(), 600)
        first_a = 1.2 * 0.07 / 0.05
        tau_s = 0.05 / (1.2 / 3600 + 1.2 / 7200)
        for moment_s in (0, 10, 60, 300):
            assert at(trace, moment_s, trace.current_a[:, 0]) == pytest.approx(
                first_a * exp(-moment_s / tau_s), rel=0.005
            )

    def test_one_pair_answers_a_steady_current_as_one_exponential(self):
        branch = replace(plain(0.2, capacity_ah=1000), r1_ohm=0.03, tau1_s=25.0)
        trace = run([branch], Feeding(2.0), 100)
        over_v = trace.node_v - [3.0 + 1.2 * soc for soc in trace.soc[:, 0]]
        expected = 2.0 * 0.02 + 2.0 * 0.03 * (1 - np.exp(-trace.t_s / 25))
        assert over_v == pytest.approx(expected, abs=1e-9)

    def test_constant_current_then_constant_volts(self):
        trace = run([plain(0.25, 0.05, 1.5)], Feeding(1.2, end_v=4.1), 1e5)
        cc_s = (4.1 - 3.0 - 1.2 * 0.05 - 1.2 * 0.25) / 1.2 * 1.5 * 3600 / 1.2
        tail_s = 0.05 * 1.5 * 3600 / 1.2 * log(10)
        assert trace.end_v_at_s == pytest.approx(cc_s, rel=1e-6)
        assert trace.t_s[-1] == pytest.approx(cc_s + tail_s, rel=4e-4)
        assert trace.done

    def test_constant_power_into_a_source_without_resistance(self):
        trace = run([plain(0.1, 1e-9, 1.0)], Feeding(100.0, power_w=5.0), 1200)
        for moment_s in (100, 600, 1200):
            volts = sqrt(3.12**2 + 2 * 1.2 * 5.0 * moment_s / 3600)
            assert at(trace, moment_s, trace.node_v) == pytest.approx(volts, rel=2e-5)
        assert trace.energy_wh == pytest.approx(5.0 * 1200 / 3600, rel=1e-4)

    def test_one_high_c_pack_joining_n_others(self):
        """Peak C is dV per cell over (R0 Ah + lead Ah / S) (1 + 1/N): over 7C against ten, about 4C against one."""
        for count in (1, 3, 10):
            packs = [even("H", 3.85, discharge_c=75)] + [even(str(n), 3.75, discharge_c=75) for n in range(count)]
            trace = run([branch_of(pack) for pack in packs], Feeding(), 1)
            peak_c = 100 / ((10.5 + 5 * 1.8 / 4) * (1 + 1 / count))
            assert -trace.current_a[0, 0] / 1.8 == pytest.approx(peak_c, rel=1e-9)
        assert peak_c > 7


def random_packs(most=8):
    one = st.tuples(
        st.integers(360, 410),
        st.sampled_from([650, 1300, 1800, 2200]),
        st.sampled_from([None, 20, 40, 75]),
        st.floats(0.6, 1),
    )
    return st.lists(one, min_size=1, max_size=most).map(
        lambda rows: [
            even(str(index), hundredths / 100, mah=mah, discharge_c=label, capacity_now_mah=mah * aged)
            for index, (hundredths, mah, label, aged) in enumerate(rows)
        ]
    )


class TestLaws:
    @given(random_packs(), st.floats(0.5, 20), st.floats(20, 400))
    def test_currents_into_the_node_sum_to_the_chargers_and_charge_is_kept(self, packs, current_a, power_w):
        branches = [branch_of(pack) for pack in packs]
        capacity_as = np.array([branch.capacity_as for branch in branches])
        for feeding in (Feeding(), Feeding(current_a, power_w, 16.8)):
            trace = run(branches, feeding, 900)
            assert trace.current_a.sum(axis=1) == pytest.approx(trace.feed_a, abs=1e-8)
            moved_as = (trace.soc[-1] - trace.soc[0]) @ capacity_as
            fed_as = (np.diff(trace.t_s) * (trace.feed_a[1:] + trace.feed_a[:-1]) / 2).sum()
            assert moved_as == pytest.approx(fed_as, abs=1e-6)
            assert trace.node_v.max() <= max(16.8, trace.node_v[0]) + 1e-6 or feeding.current_a == 0
            assert (trace.node_v * trace.feed_a).max() <= power_w + 1e-6

    @given(random_packs(1), st.integers(2, 6))
    def test_identical_packs_exchange_nothing(self, packs, count):
        trace = run([branch_of(packs[0])] * count, Feeding(), 600)
        assert np.abs(trace.current_a).max() < 1e-9

    def test_in_a_larger_settled_group_each_sees_less_of_the_odd_pack_and_the_odd_pack_more(self):
        odd, member = branch_of(even("H", 3.90)), branch_of(even("L", 3.80))
        peaks = [run([odd, *[member] * count], Feeding(), 5).current_a[0] for count in (1, 2, 4, 8)]
        assert [abs(peak[0]) for peak in peaks] == sorted(abs(peak[0]) for peak in peaks)
        assert [peak[1] for peak in peaks] == sorted((peak[1] for peak in peaks), reverse=True)

    @given(random_packs(5), st.floats(1, 10), st.floats(30, 120), st.floats(1.01, 2))
    def test_more_watts_and_a_higher_rate_never_make_it_slower(self, packs, current_a, power_w, more):
        branches = settled([branch_of(pack) for pack in packs])

        def full_s(amps, watts):
            # until a set current, not a part of the dialled one: else a higher dial would stop earlier
            return run(branches, Feeding(amps, watts, 16.8), 1e6, tail=0.1 * current_a / amps).t_s[-1]

        slow_s = full_s(current_a, power_w)
        assert full_s(current_a, power_w * more) <= slow_s * 1.002
        assert full_s(current_a * more, power_w) <= slow_s * 1.002

    @given(random_packs())
    def test_evened_out_all_rest_at_the_same_volts_and_no_charge_is_lost(self, packs):
        branches = [branch_of(pack) for pack in packs]
        after = settled(branches)
        volts = [branch.source_v for branch in after]
        assert max(volts) - min(volts) < 1e-6
        assert sum(b.soc * b.capacity_as for b in after) == pytest.approx(sum(b.soc * b.capacity_as for b in branches))
        long = run(branches, Feeding(), 6 * 3600)
        assert long.soc[-1] == pytest.approx([branch.soc for branch in after], abs=0.02)

    @settings(max_examples=25)
    @given(random_packs(6), st.sampled_from([0.0, 6.0]))
    def test_a_hundredth_of_the_tolerance_changes_almost_nothing(self, packs, current_a):
        branches = [branch_of(pack) for pack in packs]
        feeding = Feeding(current_a, 150, 16.8)
        coarse, fine = (
            run(branches, feeding, 1e5 if current_a else 1800, tolerance=tol) for tol in (TOLERANCE, TOLERANCE / 100)
        )
        if current_a:
            assert coarse.t_s[-1] == pytest.approx(fine.t_s[-1], rel=5e-4, abs=0.5)
        grid_s = np.linspace(0, min(coarse.t_s[-1], fine.t_s[-1]), 60)
        for index, branch in enumerate(branches):
            near = at(coarse, grid_s, coarse.current_a[:, index])
            assert near == pytest.approx(
                at(fine, grid_s, fine.current_a[:, index]), rel=0.05, abs=0.05 * branch.capacity_as / 3600
            )


def test_the_ends_of_a_table_go_on_straight():
    branch = branch_of(even("over", 4.24))
    assert branch.soc > 1
    assert branch.source_v == pytest.approx(4 * 4.24)
    assert soc_from_rest(STRAIGHT_V, 2.94) == pytest.approx(-0.05)


def test_the_same_input_gives_the_same_trace():
    branches = [branch_of(even("A", 3.7)), branch_of(even("B", 3.8, mah=1300))]
    first, second = (run(branches, Feeding(3, 50, 16.8), 1e5) for _ in range(2))
    assert (first.current_a == second.current_a).all()


def test_a_pack_already_full_takes_no_time():
    assert run([branch_of(even("F", 4.20))], Feeding(1.8, end_v=16.8), 1e5).t_s[-1] == 0
