"""The electrical model against PyBaMM's Thevenin simulation of the same charge, and how its cost grows with packs."""

import numpy as np
import pytest
from tests.published.test_against_simulators import thevenin_charge

from iterum.core.electrical.circuit import Feeding, branch_of, run
from iterum.core.electrical.estimate import as_one_pack, estimate
from iterum.core.things.packs import Pack, Reading


def packs(count, spread_v=0.1):
    return [
        Pack(f"P{n}", "lipo", 4, 1800, discharge_c=75, reading=Reading(4 * (3.75 + spread_v * (n % 7) / 6)))
        for n in range(count)
    ]


ONE = Pack("A", "lipo", 3, 2200, discharge_c=75, reading=Reading(3 * 3.73))


@pytest.mark.benchmark(group="one charge, CC-CV, one pack, minutes agree to 0.1 %")
def test_iterum(benchmark):
    trace = benchmark(lambda: run([branch_of(ONE)], Feeding(2.2, end_v=12.6), 1e5))
    benchmark.extra_info["minutes"] = trace.t_s[-1] / 60


@pytest.mark.filterwarnings("ignore")
@pytest.mark.benchmark(group="one charge, CC-CV, one pack, minutes agree to 0.1 %")
def test_pybamm_thevenin(benchmark):
    """From the pack's numbers to the minutes, as for any new pack: the simulation is set up and solved."""
    _, minutes = benchmark.pedantic(thevenin_charge, (branch_of(ONE), 2.2, 12.6), rounds=5, warmup_rounds=1)
    benchmark.extra_info["minutes"] = minutes


@pytest.mark.parametrize("count", [1, 2, 5, 10, 20, 40])
@pytest.mark.benchmark(group="evening out for 30 min")
def test_evening_out(benchmark, count):
    branches = [branch_of(pack) for pack in packs(count)]
    benchmark(run, branches, Feeding(), 1800)


@pytest.mark.benchmark(group="10,000 groups")
def test_ten_thousand_fast_estimates(benchmark):
    combined = as_one_pack([packs(1 + n % 6) for n in range(10_000)])
    amps, watts = np.full(10_000, 5.0), np.full(10_000, 150.0)
    benchmark(estimate, combined, amps, watts, 4.2)
