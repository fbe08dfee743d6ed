"""Packs, their readings, and the verdict on one pack.

The limits on the spread between cells are common practice, no source.
"""

from dataclasses import dataclass
from functools import lru_cache

from iterum.core.bench.chemistry import MAX_CELLS, Chemistry
from iterum.core.bench.curve import StateOfCharge
from iterum.core.bench.faults import FAULTS, RANK, WEAK_RATE_C, Level
from iterum.core.bench.packs import Condition, Pack, Reading
from iterum.core.bench.rules import HouseRules
from iterum.core.quantities import at_most, difference, spread
from iterum.core.reasons import Reason, reason

SPREAD_LOOK_V = 0.03
"""Cells of one pack further apart than this at rest deserve a look."""
SPREAD_WEAK_V = 0.10
"""Cells of one pack further apart than this: alone, gently, in balance mode."""
NEARLY_FLAT_V = 0.10
"""A lithium cell this little over its refuse volts is weak; many chargers refuse it."""
METER_OVER_V = 0.02
"""Meters read to 0.01 V and chargers end within 0.02: this much over full still counts as full."""
OVER_FULL_V = 0.05
"""From this far over full on a cell has been overcharged."""
WORN_PART, SPENT_PART = 0.80, 0.60
"""A pack that holds less than these parts of its label is worn, and to be retired."""
LIKELY_CHARGE_C = 5.0
"""A charge C above this is nearly always the discharge C, read off the wrong line of a label."""
COLDEST_CHARGE_C, HOTTEST_CHARGE_C = 0.0, 45.0
"""Cell temperature, degrees Celsius, outside which charging is not advised. Usual data-sheet limits."""


@dataclass(frozen=True)
class PackVerdict:
    """What one look at one pack says. It holds on every road: check, card, plan, run, put away.

    joins : whether it may share a board at all. charges : whether it may be charged at all. max_rate_c : the most C
    that a weak pack may take, None for others. comes_down : whether a charger may discharge it to storage volts.
    full : whether it needs no charge.
    spread_v : V between its highest and lowest cell, None unless every cell was read.
    odd_cell : number of the cell furthest from the others (from 1), None unless the spread is over the look limit.
    """

    pack: Pack
    level: Level
    reasons: tuple[Reason, ...]
    joins: bool
    charges: bool
    comes_down: bool
    max_rate_c: float | None
    full: bool
    soc: StateOfCharge | None
    lowest_v: float | None
    spread_v: float | None
    odd_cell: int | None

    @property
    def alone(self) -> bool:
        """Whether it may only be charged alone."""
        return self.charges and not self.joins

    @property
    def held_energy_wh(self) -> float | None:
        """Wh it holds now, about: capacity times state of charge times nominal volts; None where unknown."""
        if self.soc is None or self.soc.value is None:
            return None
        return self.pack.cells * self.pack.chemistry.nominal_v * self.pack.capacity_ah * self.soc.value

    def keeping_from_charge(self) -> tuple[Reason, ...]:
        """Reasons for which it is not charged at all."""
        return tuple(item for item in self.reasons if not FAULTS[item.code].charges)

    def keeping_from_board(self) -> tuple[Reason, ...]:
        """Reasons for which it shares no board."""
        return tuple(item for item in self.reasons if not FAULTS[item.code].joins)


def _usual(chemistry: Chemistry, cell_v: float) -> bool:
    """Whether volts per cell are what a resting cell of this chemistry usually shows."""
    return at_most(chemistry.usual_low_v, cell_v) and at_most(cell_v, chemistry.brim_v + METER_OVER_V)


def _usual_counts(chemistry: Chemistry, cells: int, pack_v: float) -> tuple[int, ...]:
    """Numbers of cells one or two away for which a total would be usual."""
    near = (cells - 2, cells - 1, cells + 1, cells + 2)
    return tuple(count for count in near if 1 <= count <= MAX_CELLS and _usual(chemistry, pack_v / count))


def _possible_counts(chemistry: Chemistry, cells: int, pack_v: float) -> tuple[int, ...]:
    """Numbers of cells one away that a total would allow at all: nearly flat, or full."""
    return tuple(
        count
        for count in (cells - 1, cells + 1)
        if 1 <= count <= MAX_CELLS
        and at_most(chemistry.refuse_v, pack_v / count)
        and at_most(pack_v / count, chemistry.brim_v)
    )


def _count_reasons(pack: Pack, reading: Reading) -> list[Reason]:
    """Whether a total leaves the number of cells open, or fits no pack of this chemistry.

    Volts of each cell count the cells; so does whoever counted the pins of the plug.
    """
    chemistry = pack.chemistry
    average_v = reading.pack_v / pack.cells
    highest_v = max(reading.cell_v, default=average_v)
    if chemistry.never_v is not None and not at_most(highest_v, chemistry.never_v):
        return [reason("volts_disagree", chemistry=chemistry.label, cell_v=highest_v, limit_v=chemistry.never_v)]
    if reading.cell_v or pack.cells_confirmed:
        return []
    others = _usual_counts(chemistry, pack.cells, reading.pack_v)
    code = "count_doubt"
    if _usual(chemistry, average_v) or not others:
        code, others = "count_possible", _possible_counts(chemistry, pack.cells, reading.pack_v)
    if not others:
        return []
    balance_plug = chemistry.joins
    return [reason(code, cells=pack.cells, pack_v=reading.pack_v, cell_v=average_v, others=others, plug=balance_plug)]


def _temperature_reasons(reading: Reading) -> list[Reason]:
    """Whether the pack was outside the temperatures at which charging is advised."""
    if reading.temperature_c is None:
        return []
    if not at_most(COLDEST_CHARGE_C, reading.temperature_c):
        return [reason("too_cold", temperature_c=reading.temperature_c, limit_c=COLDEST_CHARGE_C)]
    if not at_most(reading.temperature_c, HOTTEST_CHARGE_C):
        return [reason("too_hot", temperature_c=reading.temperature_c, limit_c=HOTTEST_CHARGE_C)]
    return []


def _volts_reasons(pack: Pack, reading: Reading, rules: HouseRules) -> list[Reason]:
    """Reasons that come from the volts of a chemistry whose volts tell: too low, too high, full."""
    chemistry = pack.chemistry
    average_v = reading.pack_v / pack.cells
    lowest_v = min(reading.cell_v, default=average_v)
    highest_v = max(reading.cell_v, default=average_v)
    reasons: list[Reason] = []
    if not at_most(chemistry.refuse_v, lowest_v):
        reasons.append(reason("below_refuse", lowest_v=lowest_v, limit_v=chemistry.refuse_v))
    elif at_most(lowest_v, chemistry.refuse_v + NEARLY_FLAT_V):
        reasons.append(reason("nearly_flat", lowest_v=lowest_v, refuse_v=chemistry.refuse_v, rate_c=WEAK_RATE_C))
    elif not at_most(chemistry.hard_v, lowest_v):
        reasons.append(reason("run_low", lowest_v=lowest_v, limit_v=chemistry.hard_v))
    over_v = difference(highest_v, chemistry.brim_v)
    if at_most(OVER_FULL_V, over_v):
        reasons.append(reason("over_full", highest_v=highest_v, limit_v=chemistry.brim_v))
    elif not at_most(over_v, METER_OVER_V):
        reasons.append(reason("above_full", highest_v=highest_v, limit_v=chemistry.brim_v))
    elif at_most(rules.rests_full_v(chemistry), average_v):
        reasons.append(reason("full", cell_v=average_v, limit_v=rules.rests_full_v(chemistry)))
    return reasons


def _spread_reasons(pack: Pack, reading: Reading) -> tuple[list[Reason], float | None, int | None]:
    """Reasons from cells that disagree, with the spread in V and the odd cell's number."""
    if not reading.cell_v:
        return ([reason("cells_not_read", cells=pack.cells)] if pack.cells > 1 else []), None, None
    apart_v = spread(reading.cell_v)
    if at_most(apart_v, SPREAD_LOOK_V):
        return [], apart_v, None
    ordered = sorted(reading.cell_v)
    median_v = ordered[len(ordered) // 2] if len(ordered) > 2 else ordered[-1]
    odd = max(range(pack.cells), key=lambda index: abs(reading.cell_v[index] - median_v))
    low = reading.cell_v[odd] < median_v
    weak = not at_most(apart_v, SPREAD_WEAK_V)
    wide = reason(
        "cells_apart_weak" if weak else "cells_apart_look",
        spread_v=apart_v,
        limit_v=SPREAD_WEAK_V if weak else SPREAD_LOOK_V,
        cell=odd + 1,
        side="low" if low else "high",
        rate_c=WEAK_RATE_C,
    )
    return [wide], apart_v, odd + 1


def _label_reasons(pack: Pack) -> list[Reason]:
    """What its label and its age say, whatever its volts."""
    reasons = []
    if pack.condition is Condition.DAMAGED:
        reasons.append(reason("damaged"))
    part = pack.capacity_ah * 1000 / pack.capacity_mah
    if not at_most(WORN_PART, part):
        code = "worn" if at_most(SPENT_PART, part) else "spent"
        reasons.append(reason(code, now_mah=pack.capacity_ah * 1000, label_mah=pack.capacity_mah))
    if pack.max_charge_c is not None and not at_most(pack.max_charge_c, LIKELY_CHARGE_C):
        reasons.append(reason("charge_c_unlikely", charge_c=pack.max_charge_c, limit_c=LIKELY_CHARGE_C))
    return reasons


@lru_cache(maxsize=8192)
def judge_pack(pack: Pack, rules: HouseRules) -> PackVerdict:
    """The verdict on one pack under these house rules, with every reason, worst first."""
    reasons = _label_reasons(pack)
    apart_v: float | None = None
    odd_cell: int | None = None
    soc: StateOfCharge | None = None
    lowest_v: float | None = None
    if not pack.chemistry.joins:
        reasons.append(reason("ends_by_drop", chemistry=pack.chemistry.label))
    if pack.reading is None:
        reasons.append(reason("charged_since") if pack.charged_at else reason("not_measured"))
    else:
        reasons += _temperature_reasons(pack.reading) + _count_reasons(pack, pack.reading)
        average_v = pack.reading.pack_v / pack.cells
        lowest_v = min(pack.reading.cell_v, default=difference(average_v, 0))
        soc = pack.soc
        if pack.chemistry.joins:
            spread_reasons, apart_v, odd_cell = _spread_reasons(pack, pack.reading)
            reasons += _volts_reasons(pack, pack.reading, rules) + spread_reasons
            tells_nothing = pack.chemistry.flat and soc is not None and soc.value is None
            if pack.charged_full and tells_nothing:
                reasons.append(reason("full_by_charge"))
        elif pack.charged_full:
            reasons.append(reason("full_by_charge"))
    if not reasons:
        agree = reason("cells_agree", spread_v=apart_v, limit_v=SPREAD_LOOK_V)
        reasons.append(reason("nothing_wrong") if apart_v is None else agree)
    reasons.sort(key=lambda item: RANK[item.code])
    faults = [FAULTS[item.code] for item in reasons]
    levels = list(Level)
    return PackVerdict(
        pack=pack,
        level=max((fault.level for fault in faults), key=levels.index),
        reasons=tuple(reasons),
        joins=all(fault.joins for fault in faults),
        charges=all(fault.charges for fault in faults),
        comes_down=all(fault.comes_down for fault in faults),
        max_rate_c=min((fault.max_rate_c for fault in faults if fault.max_rate_c is not None), default=None),
        full=any(item.code in ("full", "full_by_charge") for item in reasons),
        soc=soc,
        lowest_v=lowest_v,
        spread_v=apart_v,
        odd_cell=odd_cell,
    )
