from hypothesis import given
from hypothesis import strategies as st

from iterum.core.quantities import at_most, ceil_to_step, difference, floor_to_step


def test_equal_to_the_limit_is_allowed_whatever_binary_fractions_say():
    assert 3.80 - 3.70 != 0.10  # the trap
    assert difference(3.80, 3.70) == 0.10
    assert at_most(4.2 - 3.9, 0.3)
    assert not at_most(0.101, 0.10)


def test_three_packs_of_0_7_ah_at_1c_dial_2_1_a():
    assert 3 * 0.7 < 2.1  # the trap
    assert floor_to_step(3 * 0.7, 0.1) == 2.1


def test_amps_round_down_and_capacities_up():
    assert floor_to_step(8.67, 0.1) == 8.6
    assert ceil_to_step(5250, 100) == 5300
    assert ceil_to_step(5300, 100) == 5300


@given(st.integers(0, 10_000), st.sampled_from([0.01, 0.05, 0.1, 0.25, 0.5, 1.0]))
def test_a_multiple_of_the_step_stays_itself(count, step):
    assert floor_to_step(count * step, step) == ceil_to_step(count * step, step) == round(count * step, 9)
