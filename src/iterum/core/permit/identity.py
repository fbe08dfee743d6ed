"""Which pack is this? Whether label, balance plug and voltage agree before anything is charged.

A charger that guesses the number of cells has set packs on fire, and so has a LiFe pack charged as a LiPo. So a
reading is held against every plausible identity, chemistry by number of cells. Where it leaves the identity open, the
pack is stopped until somebody has counted the pins of its balance plug, or read each of its cells.

The volts are common practice, no source.
"""

from dataclasses import dataclass

from iterum.core.quantities import at_most, spread
from iterum.core.reasons import Reason, reason
from iterum.core.things.chemistry import CHEMISTRIES, MAX_CELLS, Chemistry
from iterum.core.things.packs import Pack, Reading

METER_OVER_V = 0.02
"""Meters read to 0.01 V and chargers end within 0.02: this much over full still counts as full."""
NEARLY_FULL_V = 0.10
"""From this far under full on, a cell may just have come off a charger."""
LIFE_LOOKS_V = (3.20, 3.45)
"""Between these volts, and even, the cells of a "LiPo" may be LiFe."""
LIFE_EVEN_V = 0.03
LIKE_LIPO = ("lipo", "lihv")
"""Chemistries that LiFe is taken for: their own cells pass through its volts only when they are nearly empty."""


@dataclass(frozen=True)
class Identity:
    """What a pack may be by its volts."""

    chemistry: str
    cells: int


def usual(chemistry: Chemistry, cell_v: float) -> bool:
    """Whether this is what a resting cell of this chemistry usually shows.

    cell_v : V per cell.
    """
    return at_most(chemistry.usual_low_v, cell_v) and at_most(cell_v, chemistry.brim_v + METER_OVER_V)


def _full(chemistry: Chemistry, cell_v: float) -> bool:
    low_v, high_v = chemistry.brim_v - NEARLY_FULL_V, chemistry.brim_v + METER_OVER_V
    return at_most(low_v, cell_v) and at_most(cell_v, high_v)


def identities(pack: Pack) -> tuple[Identity, ...]:
    """Every plausible chemistry and number of cells for what was read, the label's own first where it is one.

    Read cell by cell, the number is known. Empty without a reading.
    """
    reading = pack.reading
    if reading is None:
        return ()
    counts = [pack.cells] if reading.cell_v or counted(pack) else range(1, MAX_CELLS + 1)
    found = []
    for chemistry in CHEMISTRIES.values():
        for cells in counts:
            volts = reading.cell_v or (reading.pack_v / cells,)
            if all(usual(chemistry, one) for one in volts):
                found.append(Identity(chemistry.name, cells))
    mine = Identity(pack.chemistry_name, pack.cells)
    return tuple(sorted(found, key=lambda item: (item != mine, abs(item.cells - pack.cells))))


def counted(pack: Pack) -> bool:
    """Whether somebody counted the cells: the pins of the balance plug say so, or a person did."""
    return pack.cells_confirmed or pack.pins == pack.cells + 1


def identity_facts(pack: Pack, reading: Reading) -> list[Reason]:
    """Whether label, plug and voltage disagree, or leave open what this pack is."""
    chemistry = pack.chemistry
    if pack.pins is not None and pack.pins != pack.cells + 1:
        return [reason("pins_disagree", pins=pack.pins, cells=pack.cells, counted=pack.pins - 1)]
    highest_v = max(reading.cell_v, default=reading.pack_v / pack.cells)
    if chemistry.never_v is not None and not at_most(highest_v, chemistry.never_v):
        return [reason("volts_disagree", chemistry=chemistry.label, cell_v=highest_v, limit_v=chemistry.never_v)]
    count = [] if reading.cell_v or counted(pack) else _count_facts(pack, reading)
    return count or _life_facts(pack, reading)


def _count_facts(pack: Pack, reading: Reading) -> list[Reason]:
    """What a total leaves open of the number of cells."""
    chemistry, cells, pack_v = pack.chemistry, pack.cells, reading.pack_v
    near = [count for count in (cells - 2, cells - 1, cells + 1, cells + 2) if 1 <= count <= MAX_CELLS]
    numbers = {"cells": cells, "pack_v": pack_v, "cell_v": pack_v / cells, "plug": chemistry.joins}
    fits = tuple(count for count in near if usual(chemistry, pack_v / count))
    if not usual(chemistry, pack_v / cells) and fits:
        return [reason("count_doubt", others=fits, **numbers)]
    # A pack with fewer cells would be charged far over full: its count is asked even where this label's is usual.
    brim_v = chemistry.brim_v + METER_OVER_V
    fewer = tuple(count for count in near if count < cells and at_most(pack_v / count, brim_v))
    if chemistry.joins and fewer:
        return [reason("count_doubt", others=fewer, **numbers)]
    for other in CHEMISTRIES.values():
        full = [count for count in near if other.joins and count < cells and _full(other, pack_v / count)]
        if other is not chemistry and chemistry.joins and full:
            return [reason("other_chemistry", other=other.label, count=full[-1], **numbers)]
    more = cells + 1
    possible = more <= MAX_CELLS and at_most(chemistry.refuse_v, pack_v / more) and at_most(pack_v / more, brim_v)
    return [reason("count_possible", others=(more,), **numbers)] if possible else []


def _life_facts(pack: Pack, reading: Reading) -> list[Reason]:
    """Whether the cells of a "LiPo" read as those of a LiFe pack do, and nobody has said which it is.

    A total does not say that the cells are even: it only asks for a look at the label.
    """
    if pack.chemistry_name not in LIKE_LIPO or pack.chemistry_confirmed:
        return []
    volts = reading.cell_v or (reading.pack_v / pack.cells,)
    low_v, high_v = LIFE_LOOKS_V
    between = at_most(low_v, min(volts)) and at_most(max(volts), high_v)
    if not between or not at_most(spread(volts), LIFE_EVEN_V):
        return []
    code = "life_doubt" if reading.cell_v else "life_possible"
    return [reason(code, lowest_v=min(volts), highest_v=max(volts), chemistry=pack.chemistry.label)]
