"""What resistance a pack has, in its branch of a board, and what that number rests on.

A pack is its open-circuit volts behind an ohmic part R0 and two RC pairs (a Thevenin equivalent circuit). What a
meter shows in milliohms per cell is R0; the RC pairs are then scaled by the same factor. Where nobody measured,
defaults in mOhm * Ah per cell stand in. Resistance rises several times in the cold, which nothing here models.
"""

from dataclasses import dataclass
from enum import StrEnum

from iterum.core.bench.packs import Pack


class Basis(StrEnum):
    """What a resistance rests on."""

    MEASURED = "measured"
    LABEL = "label"
    DEFAULT = "default"


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
KINDS = (LIPO_HIGH, LIPO_MIDDLE, LIPO_LOW, LI_ION, LIFE)


def kind_of(pack: Pack) -> Kind:
    """The kind whose defaults a pack takes.

    A LiPo without a discharge C on its label counts as one of high rate: the lowest resistance pushes the most
    current between joined packs, so that is the safe side.
    """
    if pack.chemistry_name == "li-ion":
        return LI_ION
    if pack.chemistry_name == "life":
        return LIFE
    label_c = pack.discharge_c
    if label_c is None or label_c >= HIGH_C:
        return LIPO_HIGH
    return LIPO_MIDDLE if label_c >= MIDDLE_C else LIPO_LOW


@dataclass(frozen=True)
class Resistance:
    """A whole pack's resistances, ohms, without its lead. `basis` says what they rest on."""

    r0_ohm: float
    r1_ohm: float
    tau1_s: float
    r2_ohm: float
    tau2_s: float
    basis: Basis
    kind: Kind


def resistance_of(pack: Pack) -> Resistance:
    """Measured cells where there are any, else the default of the pack's kind by its label's capacity."""
    kind = kind_of(pack)
    default_ohm = pack.cells * kind.r0_mohm_ah / pack.capacity_mah  # mOhm Ah / mAh is Ohm
    factor = sum(pack.resistance_mohm) / 1000 / default_ohm if pack.resistance_mohm else 1.0
    by_label = pack.chemistry_name in ("lipo", "lihv") and pack.discharge_c is not None
    return Resistance(
        r0_ohm=default_ohm * factor,
        r1_ohm=pack.cells * kind.r1_mohm_ah / pack.capacity_mah * factor,
        tau1_s=kind.tau1_s,
        r2_ohm=pack.cells * kind.r2_mohm_ah / pack.capacity_mah * factor,
        tau2_s=kind.tau2_s,
        basis=Basis.MEASURED if pack.resistance_mohm else Basis.LABEL if by_label else Basis.DEFAULT,
        kind=kind,
    )
