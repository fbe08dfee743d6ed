"""Packs, their readings, and the verdict on one pack.

The limits on the spread between cells are common practice, no source.
"""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from iterum.core.chemistry import CHEMISTRIES, Chemistry, StateOfCharge, state_of_charge
from iterum.core.quantities import NOISE, at_most, difference, spread
from iterum.core.reasons import Reason, reason
from iterum.core.rules import HouseRules

SPREAD_LOOK_V = 0.03
"""Cells of one pack further apart than this at rest deserve a look."""
SPREAD_STOP_V = 0.10
"""Cells of one pack further apart than this keep it off every board."""
OVER_FULL_V = 0.05
"""This far above full volts a cell has been overcharged. Stricter than any label known to us."""
COLDEST_CHARGE_C, HOTTEST_CHARGE_C = 0.0, 45.0
"""Cell temperature, degrees Celsius, outside which charging is not advised. Usual data-sheet limits."""
MAX_CELLS = 14
MIN_CHARGE_C = 1.0
"""Charge C where the label gives none."""


class Condition(StrEnum):
    """What a look at the pack found."""

    OK = "ok"
    DAMAGED = "damaged"


class Level(StrEnum):
    """Verdict on one pack: fit for a board, look at it first, or stop."""

    FIT = "fit"
    LOOK = "look"
    STOP = "stop"


@dataclass(frozen=True)
class Reading:
    """Rest volts of one pack: every cell, or only the whole pack.

    cell_v : V of each cell from the negative end; empty when only the total was read.
    pack_v : V over the whole pack.
    taken_at : when it was read, if known.
    """

    pack_v: float
    cell_v: tuple[float, ...] = ()
    taken_at: datetime | None = None
    temperature_c: float | None = None

    @classmethod
    def of_cells(
        cls, cell_v: tuple[float, ...], taken_at: datetime | None = None, temperature_c: float | None = None
    ) -> "Reading":
        """A reading of every cell; the total is their sum."""
        return cls(round(sum(cell_v), 9), cell_v, taken_at, temperature_c)


@dataclass(frozen=True)
class Pack:
    """One pack: its label, what is known of its age, and its last reading.

    capacity_mah : the label's capacity. capacity_now_mah : what an aged pack really holds.
    max_charge_c : the label's charge C, None when it gives none (1C then).
    cycles : charges before they were logged here. bought_on : ISO date. timer_s : its flight timer.
    charged_at : when it was last on a charger, if that was after its last reading, which says nothing any more then.
    discharge_c : the label's discharge C. resistance_mohm : a meter's reading per cell (the ohmic part).
    """

    id: str
    chemistry_name: str
    cells: int
    capacity_mah: float
    max_charge_c: float | None = None
    discharge_c: float | None = None
    capacity_now_mah: float | None = None
    resistance_mohm: tuple[float, ...] = ()
    connector: str | None = None
    condition: Condition = Condition.OK
    reading: Reading | None = None
    charged_at: datetime | None = None
    cycles: int | None = None
    bought_on: str | None = None
    timer_s: int | None = None
    name: str | None = None
    note: str | None = None

    @property
    def chemistry(self) -> Chemistry:
        """The pack's chemistry with its volts and table."""
        return CHEMISTRIES[self.chemistry_name]

    @property
    def family(self) -> str:
        """Chemistry and cells in series, which are never mixed: "lipo-4S"."""
        return f"{self.chemistry_name}-{self.cells}S"

    @property
    def capacity_ah(self) -> float:
        """Ah it really holds: the label's, or less where it has aged."""
        held_mah = self.capacity_mah if self.capacity_now_mah is None else self.capacity_now_mah
        return min(held_mah, self.capacity_mah) / 1000

    @property
    def charge_c(self) -> float:
        """The highest rate it may take, multiples of its capacity per hour."""
        return MIN_CHARGE_C if self.max_charge_c is None else self.max_charge_c

    @property
    def cell_v(self) -> float | None:
        """Rest volts per cell, the average of its cells; None before it is measured."""
        return None if self.reading is None else self.reading.pack_v / self.cells

    @property
    def rated_energy_wh(self) -> float:
        """Wh by the label (nominal volts times capacity), the figure carriers ask for."""
        return self.cells * self.chemistry.nominal_v * self.capacity_mah / 1000


@dataclass(frozen=True)
class PackVerdict:
    """What one look at one pack says.

    joins : whether it may share a board at all. charges : whether it may be charged at all.
    full : whether it needs no charge.
    spread_v : V between its highest and lowest cell, None unless every cell was read.
    odd_cell : number of the cell furthest from the others (from 1), None unless the spread is over the look limit.
    """

    pack: Pack
    level: Level
    reasons: tuple[Reason, ...]
    joins: bool
    charges: bool
    full: bool
    soc: StateOfCharge | None
    lowest_v: float | None
    spread_v: float | None
    odd_cell: int | None

    @property
    def held_energy_wh(self) -> float | None:
        """Wh it holds now, about: capacity times state of charge times nominal volts; None where unknown."""
        if self.soc is None or self.soc.value is None:
            return None
        return self.pack.cells * self.pack.chemistry.nominal_v * self.pack.capacity_ah * self.soc.value


_STOPS = frozenset({"damaged", "below_refuse", "over_full", "cells_apart_stop", "count_doubt", "too_cold", "too_hot"})
_LOOKS = frozenset({"not_measured", "charged_since", "cells_apart_look", "run_low", "cells_not_read", "count_possible"})
KEEPS_FROM_CHARGE = frozenset(
    {"damaged", "below_refuse", "over_full", "count_doubt", "not_measured", "charged_since", "too_cold", "too_hot"}
)
"""Reasons for which a pack is not charged at all."""
KEEPS_FROM_BOARD = KEEPS_FROM_CHARGE | {"cells_apart_stop", "ends_by_drop"}
"""Reasons for which a pack shares no board."""


def other_cell_counts(chemistry: Chemistry, cells: int, pack_v: float) -> tuple[int, ...]:
    """Other numbers of cells that would make `pack_v` a plausible rest reading of this chemistry."""
    return tuple(
        count
        for count in (cells - 1, cells + 1)
        if 1 <= count <= MAX_CELLS and chemistry.refuse_v <= pack_v / count + NOISE <= chemistry.full_v + 2 * NOISE
    )


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
    """Reasons that come from the volts: too low, too high, or a count in doubt."""
    chemistry = pack.chemistry
    if chemistry.table is None:
        return [reason("ends_by_drop", chemistry=chemistry.label)]
    found: list[Reason] = []
    lowest_v = min(reading.cell_v, default=reading.pack_v / pack.cells)
    highest_v = max(reading.cell_v, default=reading.pack_v / pack.cells)
    others = () if reading.cell_v else other_cell_counts(chemistry, pack.cells, reading.pack_v)
    average_v = reading.pack_v / pack.cells
    if others and not (at_most(chemistry.hard_v, average_v) and at_most(average_v, chemistry.full_v)):
        found.append(reason("count_doubt", cells=pack.cells, pack_v=reading.pack_v, cell_v=average_v, others=others))
    elif others:
        found.append(reason("count_possible", cells=pack.cells, pack_v=reading.pack_v, others=others))
    if not at_most(chemistry.refuse_v, lowest_v):
        found.append(reason("below_refuse", lowest_v=lowest_v, limit_v=chemistry.refuse_v))
    elif not at_most(chemistry.hard_v, lowest_v):
        found.append(reason("run_low", lowest_v=lowest_v, limit_v=chemistry.hard_v))
    if not at_most(highest_v, chemistry.full_v + OVER_FULL_V):
        found.append(reason("over_full", highest_v=highest_v, limit_v=chemistry.full_v + OVER_FULL_V))
    elif at_most(rules.rests_full_v(chemistry), average_v):
        found.append(reason("full", cell_v=average_v, limit_v=rules.rests_full_v(chemistry)))
    return found


def _spread_reasons(pack: Pack, reading: Reading) -> tuple[list[Reason], float | None, int | None]:
    """Reasons from cells that disagree, with the spread in V and the odd cell's number."""
    if not reading.cell_v:
        return [reason("cells_not_read", cells=pack.cells)], None, None
    apart_v = spread(reading.cell_v)
    if at_most(apart_v, SPREAD_LOOK_V):
        return [], apart_v, None
    ordered = sorted(reading.cell_v)
    median_v = ordered[len(ordered) // 2] if len(ordered) > 2 else ordered[-1]
    odd = max(range(pack.cells), key=lambda index: abs(reading.cell_v[index] - median_v))
    low = reading.cell_v[odd] < median_v
    stop = not at_most(apart_v, SPREAD_STOP_V)
    found = reason(
        "cells_apart_stop" if stop else "cells_apart_look",
        spread_v=apart_v,
        limit_v=SPREAD_STOP_V if stop else SPREAD_LOOK_V,
        cell=odd + 1,
        side="low" if low else "high",
    )
    return [found], apart_v, odd + 1


def judge_pack(pack: Pack, rules: HouseRules) -> PackVerdict:
    """The verdict on one pack under these house rules, with every reason, worst first."""
    found: list[Reason] = []
    apart_v: float | None = None
    odd_cell: int | None = None
    if pack.condition is Condition.DAMAGED:
        found.append(reason("damaged"))
    if pack.reading is None:
        found.append(reason("charged_since") if pack.charged_at else reason("not_measured"))
        soc, lowest_v = None, None
    else:
        found += _temperature_reasons(pack.reading) + _volts_reasons(pack, pack.reading, rules)
        average_v = pack.reading.pack_v / pack.cells
        lowest_v = min(pack.reading.cell_v, default=difference(average_v, 0))
        soc = state_of_charge(pack.chemistry, average_v)
        if pack.chemistry.joins:
            spread_reasons, apart_v, odd_cell = _spread_reasons(pack, pack.reading)
            found += spread_reasons
    codes = {item.code for item in found}
    level = Level.STOP if codes & _STOPS else Level.LOOK if codes & _LOOKS else Level.FIT
    found.sort(key=lambda item: (item.code not in _STOPS, item.code not in _LOOKS))
    if not found:
        found.append(reason("cells_agree", spread_v=apart_v, limit_v=SPREAD_LOOK_V))
    return PackVerdict(
        pack=pack,
        level=level,
        reasons=tuple(found),
        joins=not codes & KEEPS_FROM_BOARD,
        charges=not codes & KEEPS_FROM_CHARGE,
        full="full" in codes,
        soc=soc,
        lowest_v=lowest_v,
        spread_v=apart_v,
        odd_cell=odd_cell,
    )


def _swapped(volts: float) -> float:
    """The same three digits with the last two exchanged: 3.48 for 3.84."""
    digits = round(volts * 100)
    return (digits - digits % 100 + digits % 10 * 10 + digits % 100 // 10) / 100


def _off_the_others(cell_v: tuple[float, ...], index: int) -> tuple[float, float]:
    """Median of the other cells, and how far this one is from it, V."""
    others = sorted(cell_v[:index] + cell_v[index + 1 :])
    middle = (others[(len(others) - 1) // 2] + others[len(others) // 2]) / 2
    return middle, abs(difference(cell_v[index], middle))


def question_volts(pack: Pack, cell_v: tuple[float, ...]) -> tuple[Reason, ...]:
    """What is odd about typed volts, to be asked before they are taken. Empty when nothing is.

    A cell over the chemistry's full volts by more than `OVER_FULL_V` is "volts_impossible": it is not taken
    however often it is typed, until the reading is entered as a pack that looks wrong.
    """
    chemistry = pack.chemistry
    limit_v = chemistry.full_v + OVER_FULL_V
    found: list[Reason] = []
    for index, volts in enumerate(cell_v):
        cell = index + 1
        if not at_most(volts, limit_v):
            found.append(reason("volts_impossible", cell=cell, typed_v=volts, limit_v=limit_v))
        elif volts < NOISE and cell == pack.cells and pack.cells > 1:
            found.append(reason("fewer_cells", cell=cell, cells=pack.cells, count=pack.cells - 1))
        elif not at_most(chemistry.refuse_v, volts):
            found.append(reason("cell_dead", cell=cell, typed_v=volts, limit_v=chemistry.refuse_v))
        elif pack.cells > 1:
            middle_v, gap_v = _off_the_others(cell_v, index)
            swapped_v = _swapped(volts)
            if at_most(gap_v, SPREAD_STOP_V):
                continue
            if at_most(abs(swapped_v - middle_v), SPREAD_LOOK_V) and swapped_v != volts:
                found.append(reason("digits_swapped", cell=cell, typed_v=volts, gap_v=gap_v, meant_v=swapped_v))
            elif pack.cells > 2:
                found.append(reason("cell_far_off", cell=cell, typed_v=volts, gap_v=gap_v))
    return tuple(found)
