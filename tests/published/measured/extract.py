"""Makes the small tables beside this file from the data sets that NOTICE.md names; run it again to check them.

    python extract.py FOLDER_OF_CELLJAR_SDIST FOLDER_OF_AMPWORKS_WHEEL

Each table is thinned, nothing in it is smoothed. State of charge is counted from the charge that went in or out.
"""

import csv
import sys
from pathlib import Path

HERE = Path(__file__).parent


def write(name, head, rows):
    with (HERE / name).open("w", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(head)
        writer.writerows(rows)


def pouch_rows(path):
    """Rows of the 30 Ah pouch cell: seconds, amps, volts, step."""
    with path.open() as file:
        for row in csv.reader(file):
            if row[0] != "Exclude":
                yield float(row[1]), float(row[8]), float(row[9]), row[13]


def counted(rows):
    """Ah that went in since the first row, beside each row. A gap of more than 5 s is a logger's pause, not amps."""
    held, before = 0.0, None
    for t_s, amps, volts, step in rows:
        if before is not None and t_s - before[0] <= 5:
            held += (t_s - before[0]) * (before[1] if step == before[2] else amps) / 3600
        before = (t_s, amps, step)
        yield t_s, amps, volts, step, held


def pouch_rests(path):
    """Rest volts an hour after each discharge of a tenth, from full down, with the state of charge."""
    rows = list(counted(pouch_rows(path)))
    full = next(index for index, row in enumerate(rows) if row[3] == "CHRG" and rows[index + 1][3] == "REST")
    full_ah, empty_ah = rows[full][4], rows[-1][4]
    rests = []
    for now, after in zip(rows[full:], rows[full + 1 :], strict=False):
        began = now[3] == "REST" and after[3] == "DCHG"
        if began and now[0] - last_moved(rows, now) > 1000:
            rests.append((round((now[4] - empty_ah) / (full_ah - empty_ah), 4), now[2]))
    return round(full_ah - empty_ah, 3), rests


def last_moved(rows, until):
    return max(row[0] for row in rows if row[0] < until[0] and row[3] != "REST")


def pouch_charge(path, cycle_from_s, cycle_to_s, every_s):
    """One charge from its last second at rest: minutes, amps, volts, Ah in."""
    rows = [row for row in pouch_rows(path) if cycle_from_s <= row[0] <= cycle_to_s]
    start = next(index for index, row in enumerate(rows) if row[3] == "CHRG") - 1
    samples, put_in, due = [], 0.0, 0.0
    for before, row in zip(rows[start:], rows[start + 1 :], strict=False):
        if row[3] != "CHRG":
            break
        put_in += (row[0] - before[0]) * row[1] / 3600
        if not samples:
            samples.append((0, 0, before[2], 0))
        if row[0] - rows[start][0] >= due or row[1] < 1.02:
            samples.append((round((row[0] - rows[start][0]) / 60, 3), row[1], row[2], round(put_in, 3)))
            due += every_s
    return samples


def slow_discharge(path, points):
    """A cell run down slowly from full, as its own part of what came out; volts stand a few mV below rest."""
    with path.open() as file:
        rows = [(float(row["Ah"]), float(row["Volts"])) for row in csv.DictReader(file)]
    whole_ah = rows[-1][0]
    every = [min(rows, key=lambda row: abs(row[0] - whole_ah * step / points)) for step in range(points + 1)]
    return [(round(1 - ah / whole_ah, 4), round(volts, 4)) for ah, volts in every]


def main(celljar, ampworks):
    leaf = Path(celljar) / "data/raw/ornl_leaf"
    for name, celsius in (("25c", 25), ("10c", 10)):
        held_ah, rests = pouch_rests(leaf / f"cell-low-current-hppc-{name}.csv")
        write(f"pouch_rests_{celsius}c.csv", ("soc", "rest_v", f"of_{held_ah}_ah"), [(*row, "") for row in rests])
    head = ("t_min", "current_a", "cell_v", "charge_ah")
    write("pouch_half_c.csv", head, pouch_charge(leaf / "cell-discharge-bitrode-1c.csv", 15400, 23300, 60))
    write("pouch_half_c_part.csv", head, pouch_charge(leaf / "cell-discharge-bitrode-3c.csv", 16100, 23600, 60))
    write("pouch_third_c_10c.csv", head, pouch_charge(leaf / "cell-low-current-hppc-10c.csv", 3900, 16900, 60))
    slow = Path(ampworks) / "ampworks/datasets/resources/dqdv"
    for name in ("cell1", "cell2"):
        write(f"nmc_slow_{name}.csv", ("soc_of_4v10", "cell_v"), slow_discharge(slow / f"{name}_rough.csv", 40))


if __name__ == "__main__":
    main(*sys.argv[1:])
