"""Makes netlist_instant.json: currents of five unlike cells in parallel at one instant, by liionpack's netlist solver.

Run apart from the tests, in an environment of its own: pip install liionpack==0.4.0
"""

import json
from pathlib import Path

import liionpack as lp
import numpy as np

VOLTS = [15.40, 15.32, 15.37, 15.18, 15.29]
OHMS = [0.0260, 0.0310, 0.0245, 0.0620, 0.0280]
LEADS = [0.005, 0.005, 0.007, 0.005, 0.006]
FEED_A = 6.5


def main() -> None:
    # Busbars of next to no resistance put all cells on one node, as a board does.
    netlist = lp.setup_circuit(Np=len(VOLTS), Ns=1, Rb=1e-9, Rc=1e-9, Ri=0.03, V=15.3, I=-FEED_A)
    kinds = netlist["desc"].str
    netlist.loc[kinds.startswith("V"), "value"] = VOLTS
    netlist.loc[kinds.startswith("Ri"), "value"] = np.add(OHMS, LEADS)
    cell_a = lp.solve_circuit(netlist)[1]
    instant = {
        "made_with": f"liionpack {lp.__version__}",
        "volts": VOLTS, "ohms": OHMS, "leads": LEADS, "feed_a": FEED_A,
        "current_a": [round(float(amps), 9) for amps in np.ravel(cell_a)],
    }  # fmt: skip
    Path(__file__).with_name("netlist_instant.json").write_text(json.dumps(instant, indent=1) + "\n")


if __name__ == "__main__":
    main()
