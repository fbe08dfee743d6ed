"""Chemistries: the volts that matter for each, and state of charge from rest volts.

The volts per cell are common practice, no source, unless a field says otherwise. Each open-circuit
table names its publication; `tests/published/test_open_circuit_tables.py` computes them anew from it.
"""

from bisect import bisect_left
from dataclasses import dataclass

from iterum.core.quantities import difference

END_STEP_V = 0.01
"""Steps in which chargers let the end volts be set, per cell. Common practice, no source."""
MAX_CELLS = 14
"""Most cells in series of a pack. Common practice, no source."""
METER_RESOLUTION_V = 0.01
"""What a field cell checker can tell apart, V per cell. Common practice, no source."""


@dataclass(frozen=True)
class OpenCircuitTable:
    """Rest volts of one cell against its state of charge.

    cell_v : V per cell at 0, 5, 10 ... 100 % state of charge, rising.
    source : the publication, or the word "estimate".
    limits : what the table does not claim.
    """

    cell_v: tuple[float, ...]
    source: str
    limits: str

    def rest_v(self, soc: float) -> float:
        """Rest volts of one cell at a state of charge (0..1), linear between entries, flat outside.

        soc : state of charge, 0 to 1.
        """
        if soc <= 0:
            return self.cell_v[0]
        if soc >= 1:
            return self.cell_v[-1]
        position = soc * (len(self.cell_v) - 1)
        index = int(position)
        low, high = self.cell_v[index], self.cell_v[index + 1]
        return low + (high - low) * (position - index)

    def soc(self, cell_v: float) -> float:
        """State of charge (0..1) of a cell at rest volts, the inverse of `rest_v`; 0 or 1 outside the table.

        cell_v : V per cell.
        """
        if cell_v <= self.cell_v[0]:
            return 0.0
        if cell_v >= self.cell_v[-1]:
            return 1.0
        index = bisect_left(self.cell_v, cell_v)
        low, high = self.cell_v[index - 1], self.cell_v[index]
        return (index - 1 + (cell_v - low) / (high - low)) / (len(self.cell_v) - 1)


@dataclass(frozen=True)
class Kind:
    """Default resistance of one kind of cell, mOhm * Ah; divide by the capacity in Ah.

    r0 : ohmic. r1, r2 : of the RC pairs with time constants tau1_s, tau2_s. source : where it comes from.
    """

    label: str
    r0_mohm_ah: float
    r1_mohm_ah: float
    tau1_s: float
    r2_mohm_ah: float
    tau2_s: float
    source: str


HIGH_C, MIDDLE_C = 60.0, 25.0
"""A label's discharge C from which a LiPo counts as one of high, or of middle rate."""

LIPO_HIGH = Kind("lipo labelled 60C and more", 10.5, 8, 8, 8, 120, "one field observation, no source")
LIPO_MIDDLE = Kind("lipo labelled 25 to 59C", 20, 10, 10, 10, 120, "between the two others, no source")
LIPO_LOW = Kind("lipo labelled under 25C", 37, 10, 15, 30, 150, "Ecker2015 full-order model, doi:10.1149/2.0551509jes")
LI_ION = Kind("li-ion round cells", 118, 50, 20, 70, 150, "Chen2020 full-order model, doi:10.1149/1945-7111/ab9050")
LIFE = Kind("life", 70, 10, 20, 20, 150, "Prada2013 full-order model, doi:10.1149/2.053304jes")
_LIPO_KINDS = ((HIGH_C, LIPO_HIGH), (MIDDLE_C, LIPO_MIDDLE), (0.0, LIPO_LOW))


@dataclass(frozen=True)
class Chemistry:
    """One kind of cell. Every `_v` is volts per cell; `rest` means after it has settled without a load.

    nominal_v : what the label multiplies by the number of cells.
    full_v : end volts of a full charge, by default.
    brim_v : where the chemistry is full, whatever a pilot ends at; above it a cell is over full.
    full_rest_v : from here on a resting cell counts as full.
    storage_v : put away at these volts, by default.
    careful_v, hard_v : stop using; below `hard_v` it was run too low.
    usual_low_v : a resting total under this much a cell is unusual, and may be another cell count.
    refuse_v : below this it is not charged again.
    never_v : no cell of this chemistry rests above this: label and volts disagree. None where `brim_v` says it all.
    default_rate_c : the kind rate, multiples of capacity per hour, when the pilot has set none.
    joins : whether its charge ends by volts, so that packs may share a board; else by a small drop in volts (nickel).
    table : open-circuit table, or None where volts do not tell the charge.
    kinds : default resistances, each from a discharge C on the label upwards, the highest first.
    end_from_v : the lowest end volts that a house rule may set; storage_range_v : the same for storage.
    known_as : what else its packs are called.
    end_choices_v : end volts between which pilots choose for each charge (common practice, no source).
    """

    name: str
    label: str
    nominal_v: float
    full_v: float
    brim_v: float
    full_rest_v: float
    storage_v: float
    careful_v: float
    hard_v: float
    usual_low_v: float
    refuse_v: float
    default_rate_c: float
    joins: bool
    table: OpenCircuitTable | None
    kinds: tuple[tuple[float, Kind], ...]
    end_from_v: float
    storage_range_v: tuple[float, float]
    end_choices_v: tuple[float, ...] = ()
    flat_low_v: float | None = None
    flat_high_v: float | None = None
    never_v: float | None = None
    known_as: str = ""


_AI2020 = OpenCircuitTable(
    (
        3.000, 3.542, 3.640, 3.665, 3.695, 3.717, 3.733, 3.748, 3.762, 3.776, 3.793,
        3.812, 3.836, 3.868, 3.909, 3.952, 3.994, 4.041, 4.088, 4.138, 4.200,
    ),
    source="Ai et al., J. Electrochem. Soc., doi:10.1149/2.0122001JES (LCO/graphite pouch cell, set Ai2020)",
    limits="a commercial pouch cell; no hobby pack was measured; weak below 3.6 V",
)  # fmt: skip
_CHEN2020 = OpenCircuitTable(
    (
        2.500, 3.109, 3.296, 3.434, 3.485, 3.529, 3.581, 3.629, 3.667, 3.705, 3.751,
        3.798, 3.841, 3.890, 3.948, 3.994, 4.042, 4.081, 4.097, 4.124, 4.200,
    ),
    source="Chen et al., J. Electrochem. Soc., doi:10.1149/1945-7111/ab9050 (NMC811 21700 cell, set Chen2020)",
    limits="other round cells differ by up to 7 points at mid charge",
)  # fmt: skip
_PRADA2013 = OpenCircuitTable(
    (
        2.000, 2.785, 2.978, 3.108, 3.168, 3.186, 3.206, 3.232, 3.252, 3.262, 3.266,
        3.268, 3.269, 3.270, 3.274, 3.293, 3.310, 3.313, 3.314, 3.316, 3.600,
    ),
    source="Prada et al., J. Electrochem. Soc., doi:10.1149/2.053304jes (LFP cell, set Prada2013)",
    limits="shape only; between 3.25 and 3.32 V the charge cannot be told from volts",
)  # fmt: skip
_LIHV_ESTIMATE = OpenCircuitTable(
    (
        3.000, 3.553, 3.646, 3.675, 3.705, 3.726, 3.743, 3.759, 3.774, 3.793, 3.815,
        3.843, 3.882, 3.928, 3.975, 4.025, 4.078, 4.132, 4.200, 4.275, 4.350,
    ),
    source="estimate, no source (the lipo curve to 90 %, straight above)",
    limits="an estimate: no LiHV cell was measured",
)  # fmt: skip

CHEMISTRIES: dict[str, Chemistry] = {
    chemistry.name: chemistry
    for chemistry in (
        # In the order of the fields above; volts per cell from nominal to refuse.
        Chemistry("lipo", "LiPo", 3.70, 4.20, 4.20, 4.18, 3.83, 3.5, 3.3, 3.3, 3.0, 1.0, True, _AI2020,
                  _LIPO_KINDS, 3.7, (3.6, 3.95)),
        Chemistry("lihv", "LiHV", 3.80, 4.35, 4.35, 4.33, 3.85, 3.5, 3.3, 3.3, 3.0, 1.0, True, _LIHV_ESTIMATE,
                  _LIPO_KINDS, 3.8, (3.6, 3.95)),
        Chemistry("li-ion", "Li-ion", 3.60, 4.20, 4.20, 4.18, 3.75, 3.0, 2.8, 3.0, 2.5, 0.5, True, _CHEN2020,
                  ((0.0, LI_ION),), 3.6, (3.4, 3.9), end_choices_v=(4.10, 4.20), known_as="round cells"),
        # Customs end it at 3.60 or 3.65 V; a full cell falls to about 3.35 V within the hour.
        Chemistry("life", "LiFe", 3.20, 3.60, 3.65, 3.34, 3.30, 2.8, 2.6, 2.8, 2.5, 1.0, True, _PRADA2013,
                  ((0.0, LIFE),), 3.4, (3.2, 3.35), (3.60, 3.65), 3.25, 3.32, known_as="LiFePO4"),
        # Its end is a small drop in volts that a board would hide; volts never tell its charge. It rests at 1.0-1.45 V.
        Chemistry("nimh", "NiMH", 1.20, 1.50, 1.45, 1.45, 1.25, 1.0, 0.9, 1.0, 0.8, 0.5, False, None,
                  ((0.0, LIPO_HIGH),), 1.5, (1.2, 1.3), never_v=1.60),
    )
}  # fmt: skip


@dataclass(frozen=True)
class StateOfCharge:
    """What rest volts tell about the charge, each 0..1.

    value : the best single figure, or None where volts cannot tell one.
    low, high : the range that a meter of `METER_RESOLUTION_V` leaves open.
    estimate : whether the table behind it is an estimate without a source.
    """

    value: float | None
    low: float
    high: float
    source: str
    estimate: bool

    @property
    def middle(self) -> float:
        """A figure to compute with: the value, or the middle of the range where there is none."""
        return self.value if self.value is not None else (self.low + self.high) / 2


def state_of_charge(chemistry: Chemistry, cell_v: float) -> StateOfCharge | None:
    """State of charge of a rested cell, V per cell; None for a chemistry whose volts do not tell it.

    The width is the meter's resolution on the slope of the curve, half a step to either side. On the
    flat part of a life curve the value is None and the range spans the whole flat part.
    cell_v : V per cell.
    """
    table = chemistry.table
    if table is None:
        return None
    low = table.soc(difference(cell_v, METER_RESOLUTION_V / 2))
    high = table.soc(cell_v + METER_RESOLUTION_V / 2)
    value: float | None = table.soc(cell_v)
    if chemistry.flat_low_v is not None and chemistry.flat_high_v is not None:
        if chemistry.flat_low_v <= cell_v <= chemistry.flat_high_v:
            low = min(low, table.soc(chemistry.flat_low_v))
            high = max(high, table.soc(chemistry.flat_high_v))
            value = None
    return StateOfCharge(value, low, high, table.source, table.source.startswith("estimate"))
