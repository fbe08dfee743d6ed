"""Every way that a group may be, compiled, against the likeliest charge alone through the plain circuit."""

import pytest
from tests.conftest import even

from iterum.core.electrical import circuit, fan, swift
from iterum.core.electrical.belief import beliefs_of
from iterum.core.electrical.circuit import Feeding, branch_of, run
from iterum.core.electrical.fan import fan_of
from iterum.core.electrical.resistance import Use


def packs_of(count):
    return [even(f"P{n}", 3.72 + 0.005 * n, cells=6, mah=1500, discharge_c=75) for n in range(count)]


@pytest.mark.parametrize("count", [1, 6])
@pytest.mark.parametrize("way", ["peer: the likeliest, plain", "50 ways, compiled", "50 ways, plain"])
def test_fan(benchmark, count, way, monkeypatch):
    packs, feeding = packs_of(count), Feeding(1.5 * count, end_v=25.2)
    monkeypatch.setattr(circuit, "_compiled", [])
    monkeypatch.setattr(fan, "_compiled", [swift.run_ways_compiled] if way == "50 ways, compiled" else [])
    beliefs_of(packs, 1.0)
    if way.startswith("peer"):
        branches = [branch_of(pack, use=Use.CHARGE) for pack in packs]
        benchmark(run, branches, feeding, 1e6)
    else:
        benchmark(fan_of, packs, (0.0,) * count, 5.0, feeding, 0.1)
