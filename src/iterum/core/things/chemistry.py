"""Chemistries: the volts that matter for each, its curves and its resistances.

The volts per cell are common practice, no source, unless a field says otherwise.
"""

from dataclasses import dataclass

from iterum.core.say import Words
from iterum.core.things import tables
from iterum.core.things.curve import Curve, OpenCircuitTable

END_STEP_V = 0.01
"""Steps in which chargers let the end volts be set, per cell. Common practice, no source."""
MAX_CELLS = 14
"""Most cells in series of a pack. Common practice, no source."""


@dataclass(frozen=True)
class Kind:
    """Default resistance of one kind of cell, mOhm * Ah; divide by the capacity in Ah.

    r0 : ohmic, the usual one, for minutes. r1, r2 : of the RC pairs with time constants tau1_s, tau2_s. joining : the
    lowest ohmic one that cells of the kind were measured at, for currents between joined packs, which must not be
    understated; the RC pairs go down with it. source : where it comes from. spread : how far the ohmic part of cells
    of the kind differs, one standard deviation of its logarithm.
    """

    label: str
    r0_mohm_ah: float
    r1_mohm_ah: float
    tau1_s: float
    r2_mohm_ah: float
    tau2_s: float
    joining_mohm_ah: float
    source: str
    spread: float = 0.45


HIGH_C, MIDDLE_C = 60.0, 25.0
"""A label's discharge C from which a LiPo counts as one of high, or of middle rate."""

LIPO_HIGH = Kind(
    Words("lipo labelled 60C and more"), 10.5, 8, 8, 8, 120, 10.5, Words("one field observation, no source")
)
LIPO_MIDDLE = Kind(
    Words("lipo labelled 25 to 59C"), 20, 10, 10, 10, 120, 17, Words("between the two others, no source")
)
LIPO_LOW = Kind(
    Words("lipo labelled under 25C"),
    37,
    10,
    15,
    30,
    150,
    17,
    Words("Ecker2015 full-order model, doi:10.1149/2.0551509jes; joining: NMC pouch cells were measured at 17 to 24"),
)
LIPO_UNSAID = Kind(
    Words("lipo without a discharge C on its label"),
    35,
    6,
    10,
    40,
    150,
    17,
    Words("fitted to full-order models of pouch cells (docs/belief.md)"),
    0.7,
)
LI_ION = Kind(
    Words("li-ion round cells"),
    45,
    15,
    20,
    20,
    150,
    20,
    Words(
        "fitted to full-order models (docs/belief.md); an LMO/NCA pouch cell was measured at 47, "
        "doi:10.5281/zenodo.2580327; joining: measured cells at 20 to 45"
    ),
    1.0,
)
LIFE = Kind(Words("life"), 20, 10, 20, 10, 150, 18, Words("LFP cells measured at 18.8, source not at hand"))
_LIPO_KINDS = ((HIGH_C, LIPO_HIGH), (MIDDLE_C, LIPO_MIDDLE), (0.0, LIPO_LOW))


@dataclass(frozen=True)
class Chemistry:
    """One kind of cell. Every `_v` is volts per cell; `rest` means after it has settled without a load.

    nominal_v : what the label multiplies by the number of cells.
    full_v : end volts of a full charge, by default.
    brim_v : where the chemistry is full, whatever a pilot ends at; above it a cell is over full.
    full_rest_v : from here on a resting cell counts as full; for LiFe only where it has hardly rested.
    storage_v : put away at these volts, by default.
    careful_v, hard_v : stop using; below `hard_v` it was run too low.
    usual_low_v : a resting total under this much a cell is unusual, and may be another cell count.
    refuse_v : below this it is not charged again.
    never_v : no cell of this chemistry rests above this: label and volts disagree. None where `brim_v` says it all.
    default_rate_c : the kind rate, multiples of capacity per hour, when the pilot has set none.
    gives_c : what a pack without a discharge C on its label may give, multiples of capacity per hour.
    joins : whether its charge ends by volts, so that packs may share a board; else by a small drop in volts (nickel).
    curve : rest volts against charge, or None where volts do not tell the charge.
    kinds : default resistances, each from a discharge C on the label upwards, the highest first. unsaid : for the
    minutes of a pack whose label gives none, where that matters.
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
    gives_c: float
    joins: bool
    curve: Curve | None
    kinds: tuple[tuple[float, Kind], ...]
    end_from_v: float
    storage_range_v: tuple[float, float]
    end_choices_v: tuple[float, ...] = ()
    never_v: float | None = None
    known_as: str = ""
    unsaid: Kind | None = None

    @property
    def flat(self) -> bool:
        """Whether its rest volts stand still over most of its charge, so that only its last charge tells that it is
        full."""
        return self.curve is not None and self.curve.flat_v is not None

    @property
    def table(self) -> OpenCircuitTable | None:
        """Its likeliest open-circuit table, or None where volts do not tell the charge."""
        return None if self.curve is None else self.curve.table


_LIPO_CURVE = Curve(tables.AI2020, (tables.RAMADASS2004, tables.ECKER2015, tables.MOHTAT2020, tables.POUCH2019))
_LIHV_CURVE = Curve(tables.LIHV, tuple(tables.as_lihv(table) for table in _LIPO_CURVE.others))
_LI_ION_CURVE = Curve(tables.CHEN2020, (tables.KIM2011, tables.MOHTAT2020, tables.POUCH2019))
_LIFE_CURVE = Curve(tables.PRADA2013, (tables.LIFE_SEEN,), flat_v=(3.25, 3.40))

CHEMISTRIES: dict[str, Chemistry] = {
    chemistry.name: chemistry
    for chemistry in (
        # In the order of the fields above; volts per cell from nominal to refuse.
        Chemistry("lipo", "LiPo", 3.70, 4.20, 4.20, 4.18, 3.83, 3.5, 3.3, 3.3, 3.0, 1.0, 10.0, True, _LIPO_CURVE,
                  _LIPO_KINDS, 3.7, (3.6, 3.95), unsaid=LIPO_UNSAID),
        Chemistry("lihv", "LiHV", 3.80, 4.35, 4.35, 4.33, 3.85, 3.5, 3.3, 3.3, 3.0, 1.0, 10.0, True, _LIHV_CURVE,
                  _LIPO_KINDS, 3.8, (3.6, 3.95), unsaid=LIPO_UNSAID),
        Chemistry("li-ion", "Li-ion", 3.60, 4.20, 4.20, 4.18, 3.75, 3.0, 2.8, 3.0, 2.5, 0.5, 2.0, True, _LI_ION_CURVE,
                  ((0.0, LI_ION),), 3.6, (3.4, 3.9), end_choices_v=(4.10, 4.20), known_as="round cells"),
        # Customs end it at 3.60 or 3.65 V; a full cell falls to about 3.35 V within the hour, where 82 % rests as well.
        Chemistry("life", "LiFe", 3.20, 3.60, 3.65, 3.45, 3.30, 2.8, 2.6, 2.8, 2.5, 1.0, 5.0, True, _LIFE_CURVE,
                  ((0.0, LIFE),), 3.4, (3.2, 3.35), (3.60, 3.65), known_as="LiFePO4"),
        # Its end is a small drop in volts that a board would hide; volts never tell its charge. It rests at 1.0-1.45 V.
        Chemistry("nimh", "NiMH", 1.20, 1.50, 1.45, 1.45, 1.25, 1.0, 0.9, 1.0, 0.9, 0.5, 5.0, False, None,
                  ((0.0, LIPO_HIGH),), 1.5, (1.2, 1.3), never_v=1.60),
    )
}  # fmt: skip
