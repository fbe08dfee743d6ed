"""Charges of full-order models, by which the bands of a prediction are judged: run once, kept in charges.json.

Doyle-Fuller-Newman models of PyBaMM with its published parameter sets, isothermal. Each starts at rest; what a checker
would show (rest volts to 0.01 V), what the label would say (capacity to 2 %) and a meter's milliohms (a pulse of
0.1 s, at the same temperature) stand beside the minutes and the mAh. `FITTED` were looked at while the law of resistance
was chosen; all others only judge it.

    python -m tests.published.references.make_charges
"""

import json
import sys
from itertools import product
from pathlib import Path

import pybamm

SETS = {
    "Ai2020": "lipo", "Ramadass2004": "lipo", "Ecker2015": "lipo", "Marquis2019": "lipo",
    "Chen2020": "li-ion", "OKane2022": "li-ion", "Mohtat2020": "li-ion", "NCA_Kim2011": "li-ion", "Prada2013": "life",
}  # fmt: skip
FITTED = ("Ecker2015", "Chen2020")
FULL_V = {"lipo": 4.2, "li-ion": 4.2, "life": 3.6}
CASES = (
    *product((25.0,), (0.5, 1.0, 2.0), (0.2, 0.5, 0.8)), *product((10.0,), (0.5, 1.0), (0.2, 0.6)),
    *product((0.0,), (0.5, 1.0), (0.2, 0.6)), *product((25.0,), (5.0,), (0.2, 0.5)),
)  # fmt: skip
OUT = Path(__file__).parent / "charges.json"


def values_of(name: str, temperature_c: float) -> pybamm.ParameterValues:
    values = pybamm.ParameterValues(name)
    kelvin = temperature_c + 273.15
    values.update({"Ambient temperature [K]": kelvin, "Initial temperature [K]": kelvin}, check_already_exists=False)
    return values


def _q(values: pybamm.ParameterValues) -> float:
    solver = pybamm.lithium_ion.ElectrodeSOHSolver(values)
    param = pybamm.LithiumIonParameters()
    inputs = {
        "Q_n": values.evaluate(param.n.Q_init),
        "Q_p": values.evaluate(param.p.Q_init),
        "Q_Li": values.evaluate(param.Q_Li_particles_init),
    }
    return float(solver.solve(inputs)["Q"])


def pulse_mohm(name: str, temperature_c: float) -> float:
    values = values_of(name, temperature_c)
    ah = _q(values)
    model = pybamm.lithium_ion.DFN()
    sim = pybamm.Simulation(
        model,
        parameter_values=values,
        experiment=pybamm.Experiment(
            [("Rest for 1 second", f"Charge at {ah} A for 0.1 seconds")], period="0.05 seconds"
        ),
    )
    volts = sim.solve(initial_soc=0.5)["Voltage [V]"].entries
    return float(1000 * (volts[-1] - volts[1]) / ah)


def charge(name: str, temperature_c: float, rate_c: float, soc: float) -> dict:
    chemistry = SETS[name]
    values = values_of(name, temperature_c)
    ah, full_v = _q(values), min(FULL_V[chemistry], float(values["Upper voltage cut-off [V]"]))
    amps = rate_c * ah
    steps = (f"Charge at {amps} A until {full_v} V", f"Hold at {full_v} V until {amps / 10} A")
    model = pybamm.lithium_ion.DFN()
    sim = pybamm.Simulation(model, parameter_values=values, experiment=pybamm.Experiment([steps], period="1 minute"))
    solution = sim.solve(initial_soc=soc)
    t_s, volts = solution["Time [s]"].entries, solution["Battery open-circuit voltage [V]"].entries
    put_in = float(solution["Discharge capacity [A.h]"].entries[0] - solution["Discharge capacity [A.h]"].entries[-1])
    return {
        "set": name,
        "chemistry": chemistry,
        "temperature_c": temperature_c,
        "rate_c": rate_c,
        "soc": soc,
        "ah": ah,
        "rest_v": float(volts[0]),
        "minutes": float(t_s[-1]) / 60,
        "mah": 1000 * put_in,
        "full_v": full_v,
    }


def main(names: list[str]) -> None:
    told = []
    for name in names or list(SETS):
        mohm = {temperature_c: pulse_mohm(name, temperature_c) for temperature_c in (0.0, 10.0, 25.0)}
        for temperature_c, rate_c, soc in CASES:
            try:
                told.append({**charge(name, temperature_c, rate_c, soc), "mohm": mohm[temperature_c]})
            except Exception as error:  # a set that does not reach so far is left out
                print(name, temperature_c, rate_c, soc, type(error).__name__, str(error)[:80], file=sys.stderr)
        print(name, len(told), flush=True)
    OUT.write_text(json.dumps(told, indent=0))


if __name__ == "__main__":
    main(sys.argv[1:])
