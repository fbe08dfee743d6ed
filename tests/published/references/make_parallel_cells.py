"""Makes parallel_cells.json: three unequal single-particle cells on one node, each its own PyBaMM simulation.

At each step the currents are solved at the node from each cell's volts and contact resistance, as a netlist solver
does it, and every cell is stepped with its current. A pulse on one cell gives what an equivalent circuit is fitted to.
Set Chen2020, doi:10.1149/1945-7111/ab9050. Takes about half a minute.
"""

import json
from pathlib import Path

import numpy as np
import pybamm

SCALES, CONTACTS_OHM = [1.0, 0.7, 1.3], [0.020, 0.045, 0.018]
START_SOC, FEED_A, STEP_S, STEPS = 0.30, 6.0, 5.0, 720


def cell(scale: float, contact_ohm: float) -> pybamm.Simulation:
    values = pybamm.ParameterValues("Chen2020")
    values["Number of electrodes connected in parallel to make a cell"] *= scale
    values["Contact resistance [Ohm]"] = contact_ohm
    values["Current function [A]"] = "[input]"
    values["Upper voltage cut-off [V]"] = 4.6
    _at_soc(values, START_SOC)
    return pybamm.Simulation(pybamm.lithium_ion.SPM({"contact resistance": "true"}), parameter_values=values)


def _at_soc(values: pybamm.ParameterValues, soc: float) -> None:
    """Electrode fillings at a state of charge between the set's own cut-offs, 2.5 and 4.2 V."""
    published = pybamm.ParameterValues("Chen2020")
    solver = pybamm.lithium_ion.ElectrodeSOHSolver(published, pybamm.LithiumIonParameters())
    x_0, x_100, y_100, y_0 = solver.get_min_max_stoichiometries()
    for electrode, filling in (("negative", x_0 + soc * (x_100 - x_0)), ("positive", y_0 + soc * (y_100 - y_0))):
        most = published[f"Maximum concentration in {electrode} electrode [mol.m-3]"]
        values[f"Initial concentration in {electrode} electrode [mol.m-3]"] = filling * most


def stepped(simulation: pybamm.Simulation, charge_a: float, step_s: float) -> float:
    solution = simulation.step(dt=step_s, inputs={"Current function [A]": -charge_a}, save=False)
    return float(solution["Voltage [V]"].entries[-1])


def main() -> None:
    pulsed = cell(1.0, 0.0)
    pulse_v = [stepped(pulsed, 2.0, STEP_S) for _ in range(240)]
    cells = [cell(scale, ohm) for scale, ohm in zip(SCALES, CONTACTS_OHM, strict=True)]
    amps = np.array(SCALES) / sum(SCALES) * FEED_A
    rows = []
    for step in range(STEPS):
        volts = np.array([stepped(item, float(a), STEP_S) for item, a in zip(cells, amps, strict=True)])
        behind_v = volts - np.array(CONTACTS_OHM) * amps
        siemens = 1 / np.array(CONTACTS_OHM)
        node_v = (FEED_A + (siemens * behind_v).sum()) / siemens.sum()
        amps = (node_v - behind_v) * siemens
        if step % 12 == 11:
            rows.append([(step + 1) * STEP_S, round(float(node_v), 6), *(round(float(a), 6) for a in amps)])
    published = pybamm.ParameterValues("Chen2020")
    solver = pybamm.lithium_ion.ElectrodeSOHSolver(published, pybamm.LithiumIonParameters())
    capacity_ah = float(solver.solve({"Q_n": published.evaluate(pybamm.LithiumIonParameters().n.Q_init),
                                      "Q_p": published.evaluate(pybamm.LithiumIonParameters().p.Q_init),
                                      "Q_Li": published.evaluate(pybamm.LithiumIonParameters().Q_Li_particles_init)})["Q"])  # fmt: skip
    solved = {
        "made_with": f"PyBaMM {pybamm.__version__}, SPM, Chen2020",
        "scales": SCALES, "contacts_ohm": CONTACTS_OHM, "start_soc": START_SOC, "feed_a": FEED_A,
        "capacity_ah": capacity_ah,
        "pulse": {"current_a": 2.0, "step_s": STEP_S, "volts": [round(v, 6) for v in pulse_v]},
        "columns": ["t_s", "node_v", "current_a of each cell"], "rows": rows,
    }  # fmt: skip
    Path(__file__).with_name("parallel_cells.json").write_text(json.dumps(solved) + "\n")


if __name__ == "__main__":
    main()
