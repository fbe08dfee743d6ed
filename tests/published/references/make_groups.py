"""Parallel charges of full-order models, by which the bands of a group are judged: run once, kept in groups.json.

Every cell is its own Doyle-Fuller-Newman model of PyBaMM; at each step the amps are solved at the node from every
cell's volts, as a netlist solver does it: nothing of the circuit that is judged. Cells of a group are of one published
set, as packs with one label are, or of several; they differ in capacity, in contact resistance (age) and in charge.

    python -m tests.published.references.make_groups SEED...
"""

import json
import sys
from pathlib import Path

import numpy as np
import pybamm
from tests.published.references.make_charges import FULL_V, SETS, _q, values_of

OUT = Path(__file__).parent / "groups.json"
LEFT_OUT = "Ecker2015"
"""Its volts jump by tenths where the surface of its particles fills, so amps solved step by step never settle."""
LEAD_MOHM = 5.0
TAIL = 0.1
FIRST_STEPS, STEPS_S = 60, (1.0, 3.0, 7.0, 15.0, 30.0)
OFF_V = 0.003
"""Steps are shorter where cells and node are so far apart after one, longer where they are a fifth of it apart."""


class Cell:
    """One cell that is stepped with an amperage."""

    def __init__(self, name, ah, soc, contact_ohm):
        values = values_of(name, 25.0)
        whole_ah = _q(values)
        values["Number of electrodes connected in parallel to make a cell"] *= ah / whole_ah
        values["Contact resistance [Ohm]"] = contact_ohm
        values["Current function [A]"] = "[input]"
        values["Upper voltage cut-off [V]"], values["Lower voltage cut-off [V]"] = 4.7, 1.5
        published = pybamm.ParameterValues(name)
        solver = pybamm.lithium_ion.ElectrodeSOHSolver(published, pybamm.LithiumIonParameters())
        x_0, x_100, y_100, y_0 = solver.get_min_max_stoichiometries()
        for electrode, filling in (("negative", x_0 + soc * (x_100 - x_0)), ("positive", y_0 + soc * (y_100 - y_0))):
            most = published[f"Maximum concentration in {electrode} electrode [mol.m-3]"]
            values[f"Initial concentration in {electrode} electrode [mol.m-3]"] = filling * most
        model = pybamm.lithium_ion.DFN({"contact resistance": "true"})
        self.simulation = pybamm.Simulation(model, parameter_values=values)
        self.ah, self.soc, self.contact_ohm, self.put_in_ah = ah, soc, contact_ohm, 0.0
        self.name = name
        self.amps, self.volts = 0.0, None

    def ohm(self, step_s):
        """By how much its volts will have moved for each ampere more, at the end of a step."""
        return pulse_of(self.name, step_s) / self.ah / 1000 + self.contact_ohm

    def step(self, amps, step_s):
        solution = self.simulation.step(dt=step_s, inputs={"Current function [A]": -float(amps)}, save=False)
        self.volts, self.amps = float(solution["Voltage [V]"].entries[-1]), amps
        self.put_in_ah += amps * step_s / 3600


_PULSES = {}


def pulse_of(name, seconds=0.1):
    """mOhm Ah of a set at 25 degrees and half full, so many seconds after 1C begins."""
    if (name, seconds) not in _PULSES:
        values = values_of(name, 25.0)
        ah = _q(values)
        steps = ("Rest for 1 second", f"Charge at {ah} A for {seconds} seconds")
        experiment = pybamm.Experiment([steps], period=f"{seconds / 2} seconds")
        simulation = pybamm.Simulation(pybamm.lithium_ion.DFN(), parameter_values=values, experiment=experiment)
        rest, pulse = simulation.solve(initial_soc=0.5).cycles[0].steps
        _PULSES[name, seconds] = 1000 * float(pulse["Voltage [V]"].entries[-1] - rest["Voltage [V]"].entries[-1])
    return _PULSES[name, seconds]


_REST = {}


def soc_at(name, cell_v):
    """State of charge at which a set rests at these volts."""
    if name not in _REST:
        published = pybamm.ParameterValues(name)
        param = pybamm.LithiumIonParameters()
        solver = pybamm.lithium_ion.ElectrodeSOHSolver(published, param)
        x_0, x_100, y_100, y_0 = solver.get_min_max_stoichiometries()
        socs = np.linspace(0, 1, 201)
        rest_v = [
            np.squeeze(published.evaluate(param.p.prim.U(y_0 + s * (y_100 - y_0), 298.15))).item()
            - np.squeeze(published.evaluate(param.n.prim.U(x_0 + s * (x_100 - x_0), 298.15))).item()
            for s in socs
        ]  # fmt: skip
        _REST[name] = socs, np.array(rest_v)
    socs, rest_v = _REST[name]
    return float(np.interp(cell_v, rest_v, socs))


def group(seed):
    """One group: what is known before, and what then happened."""
    rng = np.random.default_rng(seed)
    chemistry = ("lipo", "li-ion")[seed % 2]
    names = [name for name, one in SETS.items() if one == chemistry and name != LEFT_OUT]
    count = int(rng.integers(2, 5))
    alike = seed % 4 < 2
    sets = [str(rng.choice(names))] * count if alike else [str(name) for name in rng.choice(names, count)]
    label_ah = [float(rng.choice([1.3, 2.2, 3.0, 5.0]))] * count
    if not alike:
        label_ah = [float(rng.choice([1.3, 2.2, 3.0, 5.0])) for _ in range(count)]
    middle_v = float(rng.uniform(3.60, 4.0))
    rate_c = float(rng.choice([0.5, 1.0, 2.0]))
    cells, known = [], []
    for name, label in zip(sets, label_ah, strict=True):
        rest_v = middle_v + float(rng.uniform(-0.02, 0.02))
        soc, ah = soc_at(name, rest_v), label * float(rng.uniform(0.93, 1.01))
        contact_ohm = float(rng.exponential(0.25)) * pulse_of(name) / ah / 1000
        cells.append(Cell(name, ah, soc, contact_ohm))
        known.append({"set": name, "label_mah": 1000 * label, "rest_v": rest_v, "ah": ah,
                      "mohm": pulse_of(name) / ah + 1000 * contact_ohm})  # fmt: skip
    feed_a, end_v, lead_ohm = rate_c * sum(label_ah), FULL_V[chemistry], LEAD_MOHM / 1000
    for cell in cells:
        cell.step(0.0, 1.0)
    peak_c, shares, minutes, step, pace, worst_v = np.zeros(count), None, 0.0, 0, 0, 0.0
    while True:
        step_s = 1.0 if step < FIRST_STEPS else STEPS_S[pace]
        ohm = np.array([cell.ohm(step_s) for cell in cells])
        siemens = 1 / (ohm + lead_ohm)
        pushed = np.array([cell.volts for cell in cells]) - ohm * np.array([cell.amps for cell in cells])
        node_v = min((feed_a + (siemens * pushed).sum()) / siemens.sum(), end_v)
        amps = (node_v - pushed) * siemens
        if amps.sum() <= TAIL * feed_a or minutes > 20 * 60:
            break
        for cell, one_a in zip(cells, amps, strict=True):
            cell.step(one_a, step_s)
        peak_c = np.maximum(peak_c, amps / np.array([cell.ah for cell in cells]))
        minutes, step = minutes + step_s / 60, step + 1
        off_v = max(abs(node_v - cell.volts - lead_ohm * one_a) for cell, one_a in zip(cells, amps, strict=True))
        pace = max(pace - 2, 0) if off_v > OFF_V else min(pace + (off_v < OFF_V / 5), len(STEPS_S) - 1)
        worst_v = max(worst_v, off_v) if step > FIRST_STEPS else 0.0
        if step == FIRST_STEPS:
            shares, pace = amps.copy(), 1
    if shares is None or worst_v > 5 * OFF_V:  # cells and node never came together
        print(seed, "left out", round(worst_v, 4), file=sys.stderr, flush=True)
        return None
    return {"seed": seed, "chemistry": chemistry, "alike": alike, "rate_c": rate_c, "feed_a": feed_a, "end_v": end_v,
            "packs": known, "minutes": minutes, "peak_c": peak_c.tolist(), "share_a": shares.tolist(),
            "charge_mah": [1000 * cell.put_in_ah for cell in cells]}  # fmt: skip


def main(seeds):
    told = []
    for seed in seeds:
        try:
            one = group(seed)
        except Exception as error:  # a set that does not reach so far is left out
            print(seed, type(error).__name__, str(error)[:80], file=sys.stderr)
            continue
        if one:
            told.append(one)
            print(seed, one["rate_c"], round(one["minutes"], 1), [round(c, 2) for c in one["peak_c"]], flush=True)
    return told


if __name__ == "__main__":
    first, last, out = int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3]) if len(sys.argv) > 3 else OUT
    out.write_text(json.dumps(main(range(first, last)), indent=0))
