"""Packs and their readings: what the label says, what is known of its age, what was read last."""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum
from functools import cached_property
from typing import Annotated

from annotated_types import Ge, Gt, Le, Len

from iterum.core.fields import Checked, Fault, Kept, Name, Named, Note, Says, Tag
from iterum.core.say import say
from iterum.core.things.chemistry import CHEMISTRIES, MAX_CELLS, Chemistry
from iterum.core.things.curve import (
    Curve,
    KnownPoint,
    Learned,
    OpenCircuitTable,
    StateOfCharge,
    leaning,
    soc_from_rest,
    taught,
)
from iterum.core.things.pilots import NO_TERMS, Terms

TOLD_DOUBT = 0.10
"""A capacity learned within this part of itself counts as what the pack holds."""
MIN_CHARGE_C = 1.0
"""Charge C where the label gives none."""
READING_LASTS = timedelta(hours=12)
"""So long a reading counts for joining a pack with others. Common practice, no source."""
TEMPERATURE_LASTS = timedelta(minutes=30)
"""So long the temperature of a pack counts. Common practice, no source."""


class Condition(StrEnum):
    """What a look at the pack found."""

    OK = "ok"
    DAMAGED = "damaged"


@dataclass(frozen=True)
class Reading(Checked):
    """Rest volts of one pack: every cell, or only the whole pack.

    cell_v : V of each cell from the negative end; empty when only the total was read.
    pack_v : V over the whole pack.
    taken_at : when it was read, if known.
    """

    pack_v: Annotated[float, Ge(0), Le(84), Says("Rest volts over the whole pack", "V")]
    cell_v: Annotated[
        tuple[Annotated[float, Ge(0), Le(6), Says("V", "V")], ...], Len(1, MAX_CELLS), Says("Rest volts, cell by cell")
    ] = ()
    taken_at: Annotated[datetime | None, Says("Measured at")] = None
    temperature_c: Annotated[float | None, Ge(-40), Le(120), Says("Temperature", "°C")] = None

    @classmethod
    def of_cells(
        cls, cell_v: tuple[float, ...], taken_at: datetime | None = None, temperature_c: float | None = None
    ) -> "Reading":
        """A reading of every cell; the total is their sum.

        cell_v : V of each cell from the negative end. temperature_c : degrees Celsius, None where it was not read.
        """
        return cls(round(sum(cell_v), 9), cell_v, taken_at, temperature_c)


@dataclass(frozen=True)
class Pack(Checked):
    """One pack: its label, what is known of its age, and its last reading.

    capacity_mah : the label's capacity. capacity_now_mah : what an aged pack really holds.
    max_charge_c : the label's charge C, None when it gives none (1C then).
    pins : of its balance plug, as counted. chemistry_confirmed : whether a person said that it is what its label says.
    cycles : charges before they were logged here. bought_on : ISO date. timer_s : its flight timer.
    charged_at : when it was last on a charger, if that was after its last reading, which says nothing any more then.
    flown_at : when it flew last, if that was after its last reading.
    charged_full : its last charge ended as a full one does; what is known of a chemistry whose volts do not tell.
    cells_confirmed : whether the pins of its plug, or its cells, were counted.
    since_balance : charges logged since the last one that balanced it.
    stale, stale_temperature : whether its reading is too old to join it by, and its temperature too old to count.
    like : points of the curves of packs with the same label, for one that was taught nothing itself.
    own_rate_c : the pilot's own decision on its charge C, for one charge, where its label gives none.
    air_c : degrees of the air where it lies today, None where nobody said. pilot : whose it is, None for the table's.
    terms : what its pilot allows for it.
    learned : what the charges that it had alone taught of its curve and its capacity.
    discharge_c : the label's discharge C. resistance_mohm : a meter's reading per cell (the ohmic part).
    """

    id: Tag
    chemistry_name: Annotated[str, Says("Chemistry")]
    cells: Annotated[int, Ge(1), Le(MAX_CELLS), Says("Cells in series", help="The balance plug has one pin more.")]
    capacity_mah: Annotated[float, Ge(10), Le(200000), Says("Capacity on the label", "mAh")]
    max_charge_c: Annotated[
        float | None, Gt(0), Le(20), Says("Charge C on the label", "C", help="Empty: 1C. Never the discharge C.")
    ] = None
    discharge_c: Annotated[float | None, Gt(0), Le(500), Says("Discharge C on the label", "C")] = None
    capacity_now_mah: Annotated[
        float | None, Ge(1), Le(200000), Says("Capacity it really holds", "mAh", help="For an aged pack, from a log.")
    ] = None
    resistance_mohm: Annotated[
        tuple[Annotated[float, Gt(0), Le(10000), Says("mΩ", "mΩ")], ...],
        Len(1, MAX_CELLS),
        Says("Resistance of each cell", "mΩ"),
    ] = ()
    connector: Annotated[Named, Says("Connector")] = None
    condition: Annotated[Condition, Says("Condition")] = Condition.OK
    reading: Annotated[Reading | None, Kept.ELSEWHERE] = None
    charged_at: Annotated[datetime | None, Kept.BY_LOG] = None
    flown_at: Annotated[datetime | None, Kept.ELSEWHERE] = None
    charged_full: Annotated[
        bool,
        Says(
            "Full by its last charge",
            help="For nickel, whose volts do not tell: the charge ended by its drop, and it was warm.",
        ),
        Kept.BY_LOG,
    ] = False
    cells_confirmed: Annotated[
        bool,
        Says(
            "Cells counted",
            help="The pins of its plug, or its cells, were counted: a total in volts can fit two counts.",
        ),
    ] = False
    pins: Annotated[
        int | None,
        Ge(2),
        Le(MAX_CELLS + 1),
        Says("Pins of the balance plug", help="As counted, one by one: a pack has one pin more than it has cells."),
    ] = None
    chemistry_confirmed: Annotated[
        bool,
        Says(
            "Chemistry is certain",
            help="Its label was read again, because its volts could be those of LiFe.",
        ),
    ] = False
    cycles: Annotated[int | None, Ge(0), Le(5000), Says("Charges so far", help="Before they were logged here.")] = None
    bought_on: Annotated[
        str | None,
        Says(
            "Bought on",
            help="A date such as 2025-04-30.",
            pattern=r"^20[0-9]{2}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])$",
        ),
    ] = None
    timer_s: Annotated[
        int | None, Ge(10), Le(36000), Says("Flight timer", "s", help="The timer its flights are set to.")
    ] = None
    memory: Annotated[
        int | None, Ge(1), Le(99), Says("Memory number", help="Under which the charger keeps its settings for it.")
    ] = None
    pilot: Annotated[Named, Says("Pilot", help="Whose it is.")] = None
    since_balance: Annotated[int, Kept.BY_LOG] = 0
    own_rate_c: Annotated[float | None, Kept.ELSEWHERE] = None
    stale: Annotated[bool, Kept.ELSEWHERE] = False
    stale_temperature: Annotated[bool, Kept.ELSEWHERE] = False
    learned: Annotated[Learned | None, Says("Learned from its charges"), Kept.BY_LOG] = None
    like: Annotated[tuple[KnownPoint, ...], Kept.ELSEWHERE] = ()
    air_c: Annotated[float | None, Kept.ELSEWHERE] = None
    terms: Annotated[Terms, Kept.ELSEWHERE] = NO_TERMS
    name: Name = None
    note: Note = None

    def may_meet(self, other: "Pack") -> bool:
        """Whether the pilots of both allow them on one board."""
        return self.pilot == other.pilot or (other.pilot or "") in self.terms.with_packs_of

    def own_faults(self) -> tuple[Fault, ...]:
        """A chemistry that nobody knows."""
        if self.chemistry_name in CHEMISTRIES:
            return ()
        return (
            Fault(
                "chemistry",
                say(
                    "{chemistry_name} is not known: one of {chemistries:list}",
                    chemistry_name=self.chemistry_name,
                    chemistries=CHEMISTRIES,
                ),
            ),
        )

    @property
    def chemistry(self) -> Chemistry:
        """The pack's chemistry with its volts and table."""
        return CHEMISTRIES[self.chemistry_name]

    @property
    def family(self) -> str:
        """Chemistry and cells in series, which are never mixed: "lipo-4S"."""
        return f"{self.chemistry_name}-{self.cells}S"

    @cached_property
    def capacity_ah(self) -> float:
        """Ah it really holds, as far as is known: by this the current splits."""
        if self.capacity_now_mah is not None:
            return self.capacity_now_mah / 1000
        told = self.learned is not None and self.learned.doubt <= TOLD_DOUBT
        return (self.learned.capacity_mah if self.learned and told else self.capacity_mah) / 1000

    @cached_property
    def curve(self) -> Curve | None:
        """What is believed of its rest volts: its kind's curve, bent by what its own charges taught; None where volts
        do not tell the charge."""
        curve = self.chemistry.curve
        if curve is None or self.learned is not None:
            return curve if curve is None or self.learned is None else taught(curve, self.learned)
        return leaning(curve, self.like) if self.like else curve

    @cached_property
    def table(self) -> OpenCircuitTable | None:
        """The likeliest table of its cells, or None where volts do not tell the charge."""
        curve = self.curve
        return None if curve is None else curve.table

    @cached_property
    def soc(self) -> StateOfCharge | None:
        """What its rest volts tell of its charge; None before it is measured, and where volts do not tell it."""
        curve, cell_v = self.curve, self.cell_v
        return None if curve is None or cell_v is None else curve.state_of_charge(cell_v)

    @cached_property
    def held(self) -> float:
        """State of charge to count with: the likeliest, going on straight past empty and full; the middle of the range
        where volts tell no single figure. Raises ValueError without a reading, and where volts do not tell at all."""
        table, soc, cell_v = self.table, self.soc, self.cell_v
        if table is None or soc is None or cell_v is None:
            raise ValueError(say("{value} has no reading, or its volts do not tell its charge", value=self.id))
        return soc.middle if soc.value is None else soc_from_rest(table.cell_v, cell_v)

    @property
    def temperature_c(self) -> float | None:
        """Degrees Celsius of its cells, as read with its volts, else of the air around it; None where nobody knows."""
        read_c = None if self.reading is None else self.reading.temperature_c
        old = self.stale_temperature and self.air_c is not None
        return self.air_c if read_c is None or old else read_c

    def at(self, now: datetime) -> "Pack":
        """The same pack with its reading judged by its age.

        now : the present.
        """
        taken_at = None if self.reading is None else self.reading.taken_at
        age = timedelta(0) if taken_at is None else now - taken_at
        stale, stale_temperature = age > READING_LASTS, age > TEMPERATURE_LASTS
        if (stale, stale_temperature) == (self.stale, self.stale_temperature):
            return self
        return replace(self, stale=stale, stale_temperature=stale_temperature)

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
        return self.max_charge_c or self.own_rate_c or MIN_CHARGE_C

    @property
    def gives_c(self) -> float:
        """The highest rate it may give to others, multiples of its capacity per hour."""
        return self.chemistry.gives_c if self.discharge_c is None else self.discharge_c

    @property
    def cell_v(self) -> float | None:
        """Rest volts per cell, the average of its cells; None before it is measured."""
        return None if self.reading is None else self.reading.pack_v / self.cells

    @property
    def rated_energy_wh(self) -> float:
        """Wh by the label (nominal volts times capacity), the figure carriers ask for."""
        return self.cells * self.chemistry.nominal_v * self.capacity_mah / 1000


def charged_since(charged_at: datetime | None, read_at: datetime | None, read_after: bool = False) -> bool:
    """Whether a pack was on a charger since it was read: what was read then says nothing any more.

    charged_at, read_at : None for never. read_after : whether it was read when it came off; a reading of the very
    moment of the charge counts as from before it otherwise.
    """
    if charged_at is None or read_at is None:
        return charged_at is not None
    return read_at < charged_at or (read_at == charged_at and not read_after)
