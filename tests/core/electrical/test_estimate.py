"""The fast estimate against the full model: its error is what docs/speed.md states."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.core.electrical.circuit import Feeding, branch_of, run, settled
from iterum.core.electrical.estimate import as_one_pack, estimate, minutes_to_volts
from iterum.core.electrical.resistance import Use
from tests.conftest import even

TIME_ERROR, MIXED_ERROR, ENERGY_ERROR = 0.03, 0.13, 0.01


def quick(packs, current_a, power_w):
    estimated = estimate(as_one_pack([packs]), np.array([current_a]), np.array([power_w]), packs[0].chemistry.full_v)
    return float(estimated.minutes[0]), float(estimated.energy_wh[0]), float(estimated.charge_ah[0])


@settings(max_examples=80)
@given(
    st.lists(
        st.tuples(st.integers(0, 8), st.sampled_from([1300, 1800, 2200]), st.sampled_from([None, 20, 40])),
        min_size=1,
        max_size=6,
    ),
    st.integers(355, 395),
    st.sampled_from([0.5, 1.0, 2.0]),
    st.sampled_from([0.4, 0.7, 10]),
    st.sampled_from(["lipo", "li-ion", "lihv"]),
)
def test_time_and_energy_are_near_the_full_model(rows, base, rate_c, watts_part, chemistry):
    packs = [
        even(str(n), (base + more) / 100, mah=mah, discharge_c=label, chemistry=chemistry)
        for n, (more, mah, label) in enumerate(rows)
    ]
    current_a = rate_c * sum(pack.capacity_ah for pack in packs)
    end_v = 4 * packs[0].chemistry.full_v
    power_w = watts_part * current_a * end_v
    full = run(settled([branch_of(pack, use=Use.CHARGE) for pack in packs]), Feeding(current_a, power_w, end_v), 1e6)
    minutes, energy_wh, charge_ah = quick(packs, current_a, power_w)
    mixed = len({label for _, _, label in rows}) > 1
    assert minutes == pytest.approx(full.t_s[-1] / 60, rel=MIXED_ERROR if mixed else TIME_ERROR, abs=1.0)
    whole_wh = sum(pack.rated_energy_wh for pack in packs)
    assert energy_wh == pytest.approx(full.energy_wh, abs=ENERGY_ERROR * whole_wh)
    assert charge_ah > 0


def test_many_groups_at_once_are_each_as_one_alone():
    groups = [[even("A", 3.7), even("B", 3.75)], [even("C", 3.8, mah=2200)], [even("D", 4.2)]]
    together = estimate(as_one_pack(groups), np.array([3.6, 2.2, 1.8]), np.array([40.0, 1e9, 1e9]), 4.2)
    for index, (amps, watts) in enumerate(((3.6, 40.0), (2.2, 1e9), (1.8, 1e9))):
        assert together.minutes[index] == pytest.approx(quick(groups[index], amps, watts)[0])
    assert together.minutes[2] == 0  # full already


def test_from_8_to_52_percent_at_1c_takes_26_minutes():
    """Worked from the table: 3.600 V is 5 % + 5 % × 58/98 = 7.96 %, 3.800 V is 50 % + 5 % × 7/19 = 51.84 %."""
    assert minutes_to_volts(even("A", 3.60), 3.80, 1.0) == pytest.approx(60 * (0.51842 - 0.07959), abs=0.01)
