"""Seeded made-up sessions of any size, for the benchmarks."""

import random

from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.session import Session

KINDS = (("lipo", 4, 1800, "P"), ("lipo", 6, 3300, "T"), ("lipo", 2, 450, "G"), ("li-ion", 3, 3500, "L"))


def random_session(count: int, seed: int = 1, channels: int = 4) -> Session:
    """`count` packs in four classes whose cells scatter as after a day's flying, and the kit of one bench."""
    rng = random.Random(seed)
    packs = []
    for index in range(count):
        chemistry, cells, mah, letter = KINDS[min(rng.randrange(6), 3) if index > 3 else index]
        base = rng.choice((3.72, 3.80, 3.85)) + rng.gauss(0, 0.04)
        volts = tuple(round(base + rng.choice((-0.01, 0, 0, 0.01)), 2) for _ in range(cells))
        capacity_mah = mah * rng.choice((1, 1, 1, 1.2))
        packs.append(Pack(f"{letter}-{index:03d}", chemistry, cells, capacity_mah, rng.choice((1, 2, 3)),
                          reading=Reading.of_cells(volts)))  # fmt: skip
    kit = Kit(
        boards=(Board("six", 6, max_current_a=40), Board("four", 4, max_current_a=30), Board("ten", 10, 2, 4, 40)),
        chargers=tuple(
            Charger(f"charger-{n}", (Channel(f"c{n}", 12, 250),), "bank" if n % 2 else None, total_power_w=250)
            for n in range(channels)
        ),
        sources=(Source("bank", voltage_v=12.8, max_current_a=60, energy_wh=1280, usable_fraction=0.8),),
    )
    return Session(packs=tuple(packs), kit=kit)
