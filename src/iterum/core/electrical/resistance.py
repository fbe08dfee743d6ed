"""What resistance a pack has, in its branch of a board, and what that number rests on.

A pack is its open-circuit volts behind an ohmic part R0 and two RC pairs (a Thevenin equivalent circuit). What a
meter shows in milliohms per cell is R0; the RC pairs are then scaled by the same factor. Where nobody measured,
defaults in mOhm * Ah per cell stand in. Resistance rises several times in the cold, which nothing here models.
"""

from dataclasses import dataclass
from enum import StrEnum

from iterum.core.bench.chemistry import Kind
from iterum.core.bench.packs import Pack


class Basis(StrEnum):
    """What a resistance rests on."""

    MEASURED = "measured"
    LABEL = "label"
    DEFAULT = "default"


def kind_of(pack: Pack) -> Kind:
    """The kind whose defaults a pack takes.

    A LiPo without a discharge C on its label counts as one of high rate: the lowest resistance pushes the most
    current between joined packs, so that is the safe side.
    """
    kinds = pack.chemistry.kinds
    if pack.discharge_c is None:
        return kinds[0][1]
    return next(kind for from_c, kind in kinds if pack.discharge_c >= from_c)


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
    by_label = len(pack.chemistry.kinds) > 1 and pack.discharge_c is not None
    return Resistance(
        r0_ohm=default_ohm * factor,
        r1_ohm=pack.cells * kind.r1_mohm_ah / pack.capacity_mah * factor,
        tau1_s=kind.tau1_s,
        r2_ohm=pack.cells * kind.r2_mohm_ah / pack.capacity_mah * factor,
        tau2_s=kind.tau2_s,
        basis=Basis.MEASURED if pack.resistance_mohm else Basis.LABEL if by_label else Basis.DEFAULT,
        kind=kind,
    )
