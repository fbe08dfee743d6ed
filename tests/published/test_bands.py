"""The bands of a prediction against charges of full-order models, one cell at a time and several on one board.

charges.json and groups.json hold what Doyle-Fuller-Newman models of PyBaMM did (the scripts beside them made them): what
a checker would have shown before, and the minutes after. `FITTED` sets were looked at while the widths were chosen; all
others only judge them. docs/belief.md holds the whole table.
"""

import json
import random
from pathlib import Path

import numpy as np
import pytest

from iterum.core.electrical import swift
from iterum.core.electrical.circuit import Feeding
from iterum.core.electrical.fan import fan_of
from iterum.core.things.packs import Pack, Reading

assert swift  # the compiled circuit, which gives the same as the plain one
HERE = Path(__file__).parent / "references"
CHARGES, GROUPS = (json.loads((HERE / name).read_text()) for name in ("charges.json", "groups.json"))
FITTED = {"Ai2020", "Ecker2015", "Chen2020", "NCA_Kim2011"}
ROWS = {
    "25 degrees, up to 2C": lambda case: case["temperature_c"] == 25 and case["rate_c"] <= 2,
    "cold": lambda case: case["temperature_c"] < 25,
    "5C": lambda case: case["rate_c"] == 5,
}


def as_read(chemistry, label_mah, rest_v, mohm=None, temperature_c=None):
    """A pack of one cell as a pilot would have entered it."""
    volts = round(rest_v, 2)
    return Pack("X", chemistry, 1, label_mah, 20, reading=Reading(volts, (volts,), None, temperature_c),
                resistance_mohm=(mohm,) if mohm else ())  # fmt: skip


LABELS = 8
"""Every cell is seen under as many made-up labels: what is drawn for one label alone moves the widths by a tenth."""


def minutes_of(case, measured, number):
    rng = random.Random(repr((case["set"], case["rate_c"], case["soc"], case["temperature_c"], number)))
    label_mah = round(1000 * case["ah"] * rng.uniform(0.98, 1.02), -1)
    temperature_c = case["temperature_c"] if case["temperature_c"] != 25 else None
    pack = as_read(case["chemistry"], label_mah, case["rest_v"], case["mohm"] if measured else None, temperature_c)
    feeding = Feeding(case["rate_c"] * case["ah"], end_v=case["full_v"])
    return fan_of([pack], (0.0,), 0.0, feeding, 0.1).minutes


def table(judged=True):
    """By row and whether milliohms were measured: cases, and over all labels the part inside, the part over the high
    end, and the width to true minutes."""
    for measured in (False, True):
        for row, belongs in ROWS.items():
            cases = [case for case in CHARGES if belongs(case) and (case["set"] not in FITTED) == judged]
            bands = [(minutes_of(case, measured, one), case["minutes"]) for case in cases for one in range(LABELS)]
            yield (row, measured, len(cases),
                   float(np.mean([band.low <= true <= band.high for band, true in bands])),
                   float(np.mean([true > band.high for band, true in bands])),
                   float(np.median([(band.high - band.low) / true for band, true in bands])))  # fmt: skip


def test_the_true_minutes_of_cells_that_only_judge_lie_inside():
    for row, measured, count, inside, over, width in table():
        assert count >= 10, row
        assert inside >= (0.80 if row == "5C" else 0.85), (row, measured, inside)
        assert over <= (0.20 if row == "5C" else 0.05), (row, measured, over)
        assert width <= 1.35, (row, measured, width)


def of_group(case, measured):
    packs = [as_read(case["chemistry"], one["label_mah"], one["rest_v"], one["mohm"] if measured else None)
             for one in case["packs"]]  # fmt: skip
    return fan_of(packs, (0.0,) * len(packs), 5.0, Feeding(case["feed_a"], end_v=case["end_v"]), 0.1)


@pytest.mark.parametrize("measured", [False, True])
def test_what_packs_of_a_board_see_lies_inside_as_well(measured):
    minutes, over, peaks, shares, passed = [], [], [], [], []
    for case in GROUPS:
        told = of_group(case, measured)
        minutes.append(told.minutes.low <= case["minutes"] <= told.minutes.high)
        over.append(case["minutes"] > told.minutes.high)
        step_a = 0.02 * case["feed_a"] / len(told.packs)
        for pack, known, peak_c, share_a in zip(
            told.packs, case["packs"], case["peak_c"], case["share_a"], strict=True
        ):
            true_c = peak_c * known["ah"] * 1000 / known["label_mah"]
            peaks.append(0.98 * pack.peak_c.low <= true_c <= 1.02 * pack.peak_c.high)
            passed.append(true_c > 1.05 * pack.peak_c.high)
            shares.append(pack.share_a[0].low - step_a <= share_a <= pack.share_a[0].high + step_a)
    assert len(GROUPS) >= 90
    assert np.mean(peaks) >= 0.88
    assert np.mean(shares) >= 0.84
    assert np.mean(minutes) >= 0.70  # those outside were full sooner, nearly all of one set
    assert np.mean(over) <= 0.05
    assert np.mean(passed) <= 0.07


if __name__ == "__main__":  # the table of docs/belief.md
    for judged in (False, True):
        for row, measured, count, inside, over, width in table(judged):
            print("judges" if judged else "fitted", row, "with milliohms" if measured else "without", count,
                  f"inside {inside:.0%}, over {over:.0%}, width {width:.2f}")  # fmt: skip
