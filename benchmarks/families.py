"""Seeded made-up sessions in families: kits and packs that differ in one way each, of any size.

`TUNED` seeds were looked at while the planner was built; `HELD_OUT` seeds only judge it.
"""

import random
from dataclasses import dataclass, replace

from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.session import Session

SIZES = (20, 40, 80, 160, 320)
TUNED, HELD_OUT = (1, 2, 3), (101, 102, 103)
CLASSES = (
    ("lipo", 4, 1500, 0.085),
    ("lipo", 6, 1300, 0.06),
    ("lipo", 6, 5000, 0.05),
    ("lipo", 3, 2200, 0.1),
    ("lipo", 2, 450, 0.06),
    ("li-ion", 4, 6000, 0.06),
    ("life", 2, 2100, 0.03),
    ("lihv", 1, 300, 0.05),
)
"""(chemistry, cells, mAh, V by which rest volts scatter)."""


@dataclass(frozen=True)
class Family:
    """One way in which a bench may be. classes : how many. unlike : whether chargers, boards and packs differ.

    boards_for : packs for each board, 0 for no boards. wh_part, watts_part : of what the packs lack, and of what the
    channels could draw, that the source has; 0 for mains.
    """

    name: str
    classes: int = 3
    unlike: bool = False
    boards_for: int = 12
    one_board: bool = False
    wh_part: float = 0.0
    watts_part: float = 0.0


FAMILIES = (
    Family("alike"),
    Family("unlike", unlike=True),
    Family("many-classes", classes=8, unlike=True),
    Family("one-class", classes=1, unlike=True),
    Family("tight-wh", unlike=True, wh_part=0.7),
    Family("tight-watts", unlike=True, watts_part=0.4),
    Family("one-board", unlike=True, one_board=True),
    Family("no-board", unlike=True, boards_for=0),
)


def session_of(family: Family, count: int, seed: int) -> Session:
    """A session of `count` packs; the same for the same seed."""
    rng = random.Random(f"{family.name} {count} {seed}")
    classes = rng.sample(CLASSES[:6] if family.classes < 8 else CLASSES, min(family.classes, 8))
    packs = tuple(_pack(rng, classes[index % len(classes)] if index < 2 * len(classes) else rng.choice(classes), index,
                        family.unlike) for index in range(count))  # fmt: skip
    chargers = _chargers(rng, max(2, round(count / 8)), family)
    watts = sum(channel.max_power_w for charger in chargers for channel in charger.channels)
    source, supplies = (), ()
    if family.wh_part:
        need_wh = sum(pack.capacity_ah * pack.cells * 3.7 * 0.55 / 0.8 for pack in packs)
        source = (Source("bank", voltage_v=12.8, max_current_a=400, energy_wh=round(need_wh * family.wh_part)),)
    if family.watts_part:
        share_w = round(watts * family.watts_part)
        supplies = (Supply("supply", max_power_w=share_w, output_v=24),)
    fed_by = "bank" if source else "supply" if supplies else None
    chargers = tuple(replace(charger, fed_by=fed_by) for charger in chargers)
    return Session(packs=packs, kit=Kit(_boards(rng, count, family), chargers, supplies, source))


def _pack(rng: random.Random, kind: tuple[str, int, int, float], index: int, unlike: bool) -> Pack:
    chemistry, cells, mah, scatter_v = kind
    base_v = {"lipo": 3.77, "lihv": 3.8, "li-ion": 3.5, "life": 3.24}[chemistry] + rng.gauss(0, scatter_v)
    volts = tuple(round(base_v + rng.choice((-0.01, 0, 0, 0.01)), 2) for _ in range(cells))
    charge_c = rng.choice((1, 2, 3, 5) if unlike else (2,))
    capacity_mah = mah * (rng.choice((0.85, 1, 1, 1.2)) if unlike else 1)
    return Pack(f"P-{index:03d}", chemistry, cells, round(capacity_mah), charge_c if chemistry != "li-ion" else 1,
                reading=Reading.of_cells(volts))  # fmt: skip


def _chargers(rng: random.Random, channels: int, family: Family) -> tuple[Charger, ...]:
    made: list[Charger] = []
    left = channels
    while left > 0:
        number = len(made)
        if not family.unlike:
            made.append(Charger(f"charger-{number}", (Channel(f"c{number}", 15, 300),), total_power_w=300))
            left -= 1
            continue
        on_it = min(rng.choice((1, 1, 2, 4)), left)
        amps, watts = rng.choice(((6, 80), (8, 150), (12, 250), (20, 400), (25, 500)))
        total_w = round(watts * on_it * rng.choice((0.5, 0.75, 1.0)))
        made.append(Charger(f"charger-{number}", tuple(Channel(f"c{number}{letter}", amps, watts)
                    for letter in "abcd"[:on_it]), total_power_w=max(total_w, watts)))  # fmt: skip
        left -= on_it
    return tuple(made)


def _boards(rng: random.Random, count: int, family: Family) -> tuple[Board, ...]:
    if not family.boards_for:
        return ()
    many = 1 if family.one_board else max(1, round(count / family.boards_for))
    if not family.unlike:
        return tuple(Board(f"board-{number}", 6, max_current_a=40) for number in range(many))
    return tuple(
        Board(f"board-{number}", rng.choice((2, 4, 6, 6, 8)), max_current_a=rng.choice((20, 30, 40, 60)),
              port_fuse_a=rng.choice((None, None, 15, 30)))
        for number in range(many)
    )  # fmt: skip
