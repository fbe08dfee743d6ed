"""Seeded made-up days of heats: classes, kits, sources and starts that leave something to decide.

Each day is one of six kinds. tight: as many heats as packs can turn round for. late: the same begun an hour late.
short: little left in the source. small: few packs, for exhaustive search. mixed: several classes want one charger.
worth: finals count for more.
"""

import random

from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session, Wish

KINDS = ("tight", "late", "short", "small", "mixed", "worth")
CLASSES = (("lipo", 4, 1800, "P"), ("lipo", 6, 3300, "T"), ("lipo", 2, 450, "G"), ("li-ion", 3, 3500, "L"))


def _packs(rng: random.Random, letter: str, count: int) -> list[Pack]:
    chemistry, cells, mah, letter = next(item for item in CLASSES if item[3] == letter)
    packs = []
    for index in range(count):
        base = rng.choice((3.62, 3.72, 3.80, 3.88, 4.0)) + rng.gauss(0, 0.03)
        volts = tuple(round(base + rng.choice((-0.01, 0, 0, 0.01)), 2) for _ in range(cells))
        charge_c = rng.choice((1, 2, 2, 3))
        packs.append(Pack(f"{letter}-{index + 1:02d}", chemistry, cells, mah, charge_c, 60 if letter == "P" else 35,
                          reading=Reading.of_cells(volts)))  # fmt: skip
    return packs


def _kit(rng: random.Random, budget_wh: float | None) -> Kit:
    most_a = rng.choice((30, 60))
    source = Source("bank", voltage_v=12.8, max_current_a=most_a, energy_wh=budget_wh, usable_fraction=0.8)
    channels = (Channel("duo-1", 12, 250), Channel("duo-2", 12, 250))
    duo = Charger("duo", channels, "bank", total_power_w=rng.choice((250, 400)), input_min_v=10, input_max_v=30)
    small = Charger("small", (Channel("small-1", 6, 80),), "brick", total_power_w=80)
    boards = (Board("six", 6, 2, 6, 40), Board("four", 4, 2, 6, 30))[: rng.randint(1, 2)]
    return Kit(boards, (duo, small)[: rng.randint(1, 2)], (Supply("brick", 200, output_v=24),), (source,))


def day(seed: int) -> tuple[str, Session]:
    """One day by its seed: its kind, and the session."""
    rng = random.Random(seed)
    kind = KINDS[seed % len(KINDS)]
    letters = {"small": ["P"], "mixed": ["P", "T", "G"]}.get(kind, rng.sample(["P", "T", "L", "G"], 2))
    packs = [pack for letter in letters for pack in _packs(rng, letter, 4 if kind == "small" else rng.randint(5, 8))]
    heats = []
    used_fraction = rng.choice((0.6, 0.8))
    first = 45 if kind != "late" else 15
    rounds = 3 if kind == "small" else rng.randint(2, 3)
    for number in range(rounds):
        for letter in letters:
            family = next(pack.family for pack in packs if pack.id.startswith(letter))
            count = rng.randint(2, 3) if kind == "small" else rng.randint(3, 6)
            at_min = first + number * rng.choice((45, 55, 65)) + 12 * letters.index(letter) + rng.randint(0, 8)
            value = 3.0 if kind == "worth" and number == rounds - 1 else 1.0
            heats.append(Wish(count, family, float(at_min), f"{letter} {number + 1}", float(rng.choice((8, 12))), 15.0,
                              used_fraction, value))  # fmt: skip
    budget_wh = {"short": rng.choice((120, 180, 250))}.get(kind, 1280)
    return kind, Session(tuple(packs), _kit(rng, budget_wh), HouseRules(rate_c=rng.choice((1.0, 2.0))), tuple(heats))
