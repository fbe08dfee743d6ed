"""The electrical model against programs that nobody here wrote: PyBaMM's Thevenin model and single-particle cells,
liionpack's netlist solver. References that take long are stored beside the script that makes them."""

import json
from pathlib import Path

import numpy as np
import pytest

from iterum.core.electrical.circuit import Branch, Feeding, branch_of, run
from iterum.core.things.chemistry import CHEMISTRIES
from tests.conftest import even

REFERENCES = Path(__file__).parent / "references"


def thevenin_charge(branch: Branch, current_a: float, end_v: float) -> tuple[float, float]:
    """Minutes of constant current, and in all, of PyBaMM's Thevenin model with two RC pairs for the same pack."""
    import pybamm  # takes seconds, in every process that only looks for tests

    table_v, grid = np.array(branch.table_v), np.linspace(0, 1, 21)
    values = pybamm.ParameterValues("ECM_Example")
    capacity_ah = branch.capacity_as / 3600
    values.update(
        {
            "Initial SoC": branch.soc, "Initial temperature [K]": 298.15, "Ambient temperature [K]": 298.15,
            "Cell capacity [A.h]": capacity_ah, "Nominal cell capacity [A.h]": capacity_ah,
            "Current function [A]": -current_a, "Upper voltage cut-off [V]": end_v + 1, "Lower voltage cut-off [V]": 1,
            "Open-circuit voltage [V]": lambda soc: pybamm.Interpolant(grid, table_v, soc, interpolator="linear"),
            "R0 [Ohm]": lambda T, amps, soc: pybamm.Scalar(branch.r0_ohm) + 0 * soc,
            "R1 [Ohm]": lambda T, amps, soc: pybamm.Scalar(branch.r1_ohm) + 0 * soc,
            "C1 [F]": lambda T, amps, soc: pybamm.Scalar(branch.tau1_s / branch.r1_ohm) + 0 * soc,
            "R2 [Ohm]": lambda T, amps, soc: pybamm.Scalar(branch.r2_ohm) + 0 * soc,
            "C2 [F]": lambda T, amps, soc: pybamm.Scalar(branch.tau2_s / branch.r2_ohm) + 0 * soc,
            "Element-1 initial overpotential [V]": 0, "Element-2 initial overpotential [V]": 0,
            "Entropic change [V/K]": lambda volts, T: 0 * volts,
        },
        check_already_exists=False,
    )  # fmt: skip
    steps = (f"Charge at {current_a} A until {end_v} V", f"Hold at {end_v} V until {current_a / 10} A")
    model = pybamm.equivalent_circuit.Thevenin(options={"number of rc elements": 2})
    solution = pybamm.Simulation(
        model, parameter_values=values, experiment=pybamm.Experiment([steps], period="10 seconds")
    ).solve()
    return float(solution.cycles[0].steps[0].t[-1]) / 60, float(solution.t[-1]) / 60


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize(
    ("pack", "rate_c"),
    [
        (even("A", 3.73, cells=3, mah=2200, discharge_c=75), 1.0),
        (even("B", 3.80, cells=6, mah=5000, discharge_c=30), 2.0),
        (even("C", 3.70, cells=3, mah=3500, chemistry="li-ion"), 0.5),
    ],
)
def test_one_pack_charges_as_pybamms_thevenin_model_says_to_a_thousandth(pack, rate_c):
    branch, current_a = branch_of(pack), rate_c * pack.capacity_ah
    end_v = pack.cells * pack.chemistry.full_v
    cc_minutes, minutes = thevenin_charge(branch, current_a, end_v)
    trace = run([branch], Feeding(current_a, end_v=end_v), 1e5)
    assert trace.end_v_at_s / 60 == pytest.approx(cc_minutes, rel=1e-3)
    assert trace.t_s[-1] / 60 == pytest.approx(minutes, rel=1e-3)


def test_an_instant_of_five_unlike_packs_is_what_a_netlist_solver_says():
    """liionpack 0.4.0, `make_netlist_instant.py`; its busbars and terminals have 1e-9 and 1e-5 ohm."""
    instant = json.loads((REFERENCES / "netlist_instant.json").read_text())
    branches = [
        Branch(3600.0, ohm + lead, 0, 1, 0, 1, tuple(np.linspace(0, 2 * volts, 21)), 0.5)
        for volts, ohm, lead in zip(instant["volts"], instant["ohms"], instant["leads"], strict=True)
    ]
    trace = run(branches, Feeding(instant["feed_a"]), 0.1)
    assert trace.current_a[0] == pytest.approx(instant["current_a"], abs=2e-5)


@pytest.mark.filterwarnings("ignore")
def test_round_cells_take_as_long_to_4_10_v_as_to_4_20_v_as_a_single_particle_model_says():
    """PyBaMM SPMe, Chen2020: the curve of such cells is flat about 4.1 V, so that the amps fall off early and slowly."""
    import pybamm

    def minutes(end_v: float) -> float:
        steps = (f"Charge at 2.5 A until {end_v} V", f"Hold at {end_v} V until 0.25 A")
        experiment = pybamm.Experiment([steps], period="1 minute")
        cell = pybamm.Simulation(
            pybamm.lithium_ion.SPMe(), parameter_values=pybamm.ParameterValues("Chen2020"), experiment=experiment
        )
        return float(cell.solve(initial_soc="3.5 V").t[-1]) / 60

    branch = branch_of(even("L", 3.5, cells=1, mah=5000, chemistry="li-ion"))
    ours = [run([branch], Feeding(2.5, end_v=end_v), 1e5).t_s[-1] / 60 for end_v in (4.1, 4.2)]
    theirs = [minutes(end_v) for end_v in (4.1, 4.2)]  # 121.7, 119.5
    assert ours[0] / ours[1] == pytest.approx(theirs[0] / theirs[1], rel=0.05)
    assert min(ours[0] / ours[1], theirs[0] / theirs[1]) > 1


def fitted(reference: dict) -> tuple[float, float, float]:
    """R0, R1, R2 (pairs of 20 and 150 s) of an equivalent circuit for one cell, by least squares on its pulse."""
    table, pulse = CHEMISTRIES["li-ion"].table, reference["pulse"]
    t_s = pulse["step_s"] * np.arange(1, len(pulse["volts"]) + 1)
    soc = reference["start_soc"] + pulse["current_a"] * t_s / 3600 / reference["capacity_ah"]
    over_v = np.array(pulse["volts"]) - [table.rest_v(held) for held in soc]
    shape = np.column_stack([np.ones_like(t_s), 1 - np.exp(-t_s / 20), 1 - np.exp(-t_s / 150)]) * pulse["current_a"]
    return tuple(np.linalg.lstsq(shape, over_v, rcond=None)[0])


def test_unequal_cells_share_a_charge_as_single_particle_models_do():
    """PyBaMM SPM, Chen2020 (doi:10.1149/1945-7111/ab9050), three cells on one node, `make_parallel_cells.py`."""
    reference = json.loads((REFERENCES / "parallel_cells.json").read_text())
    r0, r1, r2 = fitted(reference)
    table_v = CHEMISTRIES["li-ion"].table.cell_v
    branches = [
        Branch(reference["capacity_ah"] * 3600 * scale, contact + r0 / scale, r1 / scale, 20, r2 / scale, 150, table_v,
               reference["start_soc"])
        for scale, contact in zip(reference["scales"], reference["contacts_ohm"], strict=True)
    ]  # fmt: skip
    trace = run(branches, Feeding(reference["feed_a"]), 3600)
    rows = np.array(reference["rows"])[1:]  # from the second minute on
    assert np.interp(rows[:, 0], trace.t_s, trace.node_v) == pytest.approx(rows[:, 1], rel=0.01)
    for index in range(3):
        shares = np.interp(rows[:, 0], trace.t_s, trace.current_a[:, index])
        assert shares == pytest.approx(rows[:, 2 + index], rel=0.05), index
        assert shares.mean() == pytest.approx(rows[:, 2 + index].mean(), rel=0.02)
