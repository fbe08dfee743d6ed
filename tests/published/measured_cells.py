"""What others measured of single cells, as this program would have met it: rests, charges, and a slow discharge.

Sources and licences stand in `measured/NOTICE.md`.
"""

import csv
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from iterum.core.electrical.charging import charge_packs
from iterum.core.electrical.circuit import Branch, Feeding, run
from iterum.core.electrical.joining import joining
from iterum.core.season.outlook import Observation, expect
from iterum.core.sizing.dial import dial_card
from iterum.core.things.feed import Feed
from iterum.core.things.kit import Board, Channel, Charger
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup

HERE = Path(__file__).parent / "measured"
POUCH_MAH = 30_000
"""The pouch cell's label, rounded."""
SETUP = Setup(Board("B", 1, lead_mohm=1e-9), Channel("c", 40, 1000), Feed(Charger("C", ())))
RULES = HouseRules(rate_c=0.5)


def table(name):
    """A measured table as an array, its heading left out."""
    with (HERE / name).open() as file:
        return np.array([[float(value) for value in row if value] for row in list(csv.reader(file))[1:]])


def believed(chemistry, rest_v, mah=POUCH_MAH, **known):
    """The cell as a pilot would have entered it."""
    return Pack("X", chemistry, 1, mah, 1.0, reading=Reading.of_cells((float(rest_v),)), **known)


@dataclass(frozen=True)
class Measured:
    """One measured charge. rest_v : before it. t_min, current_a, cell_v, charge_mah : along it."""

    rest_v: float
    t_min: np.ndarray
    current_a: np.ndarray
    cell_v: np.ndarray
    charge_mah: np.ndarray

    @property
    def dialled_a(self):
        return float(self.current_a[0])

    @property
    def full_min(self):
        """When the amps had fallen to a tenth."""
        return float(self.t_min[np.flatnonzero(self.current_a >= 0.1 * self.dialled_a)[-1]])

    @property
    def cc_min(self):
        return float(self.t_min[self.current_a >= 0.98 * self.dialled_a].max())

    def seen(self, until_min):
        """What a charger would have shown up to a minute."""
        rows = zip(self.t_min, self.current_a, self.cell_v, self.charge_mah, strict=True)
        return [
            Observation(float(t), float(v), float(a), float(q), live=True, by_hand=True)
            for t, a, v, q in rows
            if t <= until_min
        ]


def charge(name, from_rest_v=None):
    """A measured charge; from_rest_v : only from where it came to the state of charge of this rest of the same cell."""
    rows = table(name)
    rest_v, rows = rows[0, 2], rows[1:]
    if from_rest_v is not None:
        rests = table("pouch_rests_25c.csv")
        missing_ah = 30.559 * (1 - float(rests[np.argmin(abs(rests[:, 1] - from_rest_v)), 0]))
        rows = rows[rows[:, 3] >= rows[-1, 3] - missing_ah]
        rows = rows - np.array([rows[0, 0], 0, 0, rows[0, 3]])
        rest_v = from_rest_v
    return Measured(float(rest_v), rows[:, 0], rows[:, 1], rows[:, 2], 1000 * rows[:, 3])


def expected(pack, current_a):
    """What is expected of a charge of this pack alone, with the card to it."""
    result = charge_packs([pack], SETUP, RULES, current_a)
    card = dial_card([pack], result, joining([pack], RULES), SETUP, RULES)
    return result, expect(result, 1, 4.20, card.timer_min, whole_mah=card.capacity_mah)


def own_curve(rests, start):
    """The pouch cell's own open-circuit volts at 0, 5 ... 100 %: its rests, the rest it was charged from, its ends."""
    points = [
        (0.0, 3.0),
        *([start] if start else []),
        *sorted((float(soc), float(v)) for soc, v in rests[1:]),
        (1.0, 4.2),
    ]
    socs, volts = zip(*sorted(points), strict=True)
    return tuple(float(v) for v in np.interp(np.linspace(0, 1, 21), socs, volts))


POUCH_OHMIC, POUCH_PAIRS = 47.0, ((25.0, 10.0), (25.0, 300.0))
"""mOhm Ah of the pouch cell at 25 degrees: from its pulses, and from how it came to rest after 10 A (tau in s)."""


def by_its_own_curve(measured, rests, held_ah, times=1.0):
    """The charge as the circuit computes it from the cell's own volts; times : of the resistance at 25 degrees."""
    (r1, tau1), (r2, tau2) = POUCH_PAIRS
    soc = 1 - measured.charge_mah[-1] / 1000 / held_ah
    branch = Branch(held_ah * 3600, *(times * POUCH_OHMIC / 1000 / held_ah, times * r1 / 1000 / held_ah, tau1,
                    times * r2 / 1000 / held_ah, tau2), own_curve(rests, (soc, measured.rest_v)), soc)  # fmt: skip
    return run([branch], Feeding(measured.dialled_a, 1e9, 4.2), 86400.0, measured.current_a[-1] / measured.dialled_a)
