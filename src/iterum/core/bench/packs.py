"""Packs and their readings: what the label says, what is known of its age, what was read last."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from iterum.core.bench.chemistry import CHEMISTRIES, Chemistry

MAX_CELLS = 14
MIN_CHARGE_C = 1.0
"""Charge C where the label gives none."""


class Condition(StrEnum):
    """What a look at the pack found."""

    OK = "ok"
    DAMAGED = "damaged"


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
    charged_full : its last charge ended as a full one does; what is known of a chemistry whose volts do not tell.
    cells_confirmed : whether the pins of its plug, or its cells, were counted.
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
    charged_full: bool = False
    cells_confirmed: bool = False
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
        """Ah it really holds, as far as is known: by this the current splits."""
        return (self.capacity_mah if self.capacity_now_mah is None else self.capacity_now_mah) / 1000

    @property
    def rated_ah(self) -> float:
        """Ah that its C counts on: what it holds, but never more than its label."""
        return min(self.capacity_ah, self.capacity_mah / 1000)

    @property
    def max_charge_a(self) -> float:
        """The most amps it may take by its label."""
        return self.charge_c * self.rated_ah

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
