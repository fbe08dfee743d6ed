"""What resistance a pack has, in its branch of a board, and what that number rests on.

A pack is its open-circuit volts behind an ohmic part R0 and two RC pairs (a Thevenin equivalent circuit). What a
meter shows in milliohms per cell is R0; the RC pairs are then scaled by the same factor. Where nobody measured,
defaults in mOhm * Ah per cell stand in: the lowest that cells of the kind were measured at where packs are joined,
whose currents must not be understated, and the usual one for minutes.
"""

from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from math import exp, log

from iterum.core.things.chemistry import Kind
from iterum.core.things.packs import Pack

AT_C = 25.0
"""Degrees Celsius at which the defaults hold, and a meter's reading is taken."""
_COLD_TIMES, _COLD_C = 1.66, 10.0
"""Measured on an LMO/NCA pouch cell, doi:10.5281/zenodo.2580327: so many times the resistance at 10 degrees."""
PER_KELVIN = log(_COLD_TIMES) / (AT_C - _COLD_C)


class Use(StrEnum):
    """What a resistance is asked for: currents between packs as they join, or the minutes of a charge."""

    JOIN = "join"
    CHARGE = "charge"


class Basis(StrEnum):
    """What a resistance rests on."""

    MEASURED = "measured"
    LEARNED = "learned"
    LABEL = "label"
    DEFAULT = "default"


def kind_of(pack: Pack, use: Use = Use.JOIN) -> Kind:
    """The kind whose defaults a pack takes.

    A LiPo without a discharge C on its label counts as one of high rate where packs join: the lowest resistance pushes
    the most current between them, so that is the safe side. For minutes it counts as the middle one.
    """
    kinds = pack.chemistry.kinds
    if pack.discharge_c is None:
        return kinds[0 if use is Use.JOIN else len(kinds) // 2][1]
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


def times_at(temperature_c: float | None, use: Use) -> float:
    """By how much the temperature of the cells moves their resistance, on the safe side of what it is asked for.

    Cold lengthens a charge and does not excuse joining; warmth lowers what holds back currents between packs.
    temperature_c : degrees Celsius, None where nobody knows.
    """
    if temperature_c is None:
        return 1.0
    times = exp(PER_KELVIN * (AT_C - temperature_c))
    return max(times, 1.0) if use is Use.CHARGE else min(times, 1.0)


@lru_cache(maxsize=4096)
def resistance_of(pack: Pack, use: Use = Use.JOIN) -> Resistance:
    """Measured cells where there are any, else the default of the pack's kind by its label's capacity.

    use : what it is asked for.
    """
    kind = kind_of(pack, use)
    default_ohm = pack.cells * kind.r0_mohm_ah / pack.capacity_mah  # mOhm Ah / mAh is Ohm
    factor = kind.joining_mohm_ah / kind.r0_mohm_ah if use is Use.JOIN else 1.0
    learned_mohm = None if pack.learned is None else pack.learned.step_mohm
    told = use is Use.CHARGE and learned_mohm is not None and not pack.resistance_mohm
    if pack.resistance_mohm:
        factor = sum(pack.resistance_mohm) / 1000 / default_ohm
    elif told and learned_mohm is not None:
        factor = pack.cells * learned_mohm / 1000 / default_ohm
    factor *= times_at(pack.temperature_c, use)
    by_label = len(pack.chemistry.kinds) > 1 and pack.discharge_c is not None
    basis = Basis.LABEL if by_label else Basis.DEFAULT
    basis = Basis.MEASURED if pack.resistance_mohm else Basis.LEARNED if told else basis
    return Resistance(
        r0_ohm=default_ohm * factor,
        r1_ohm=pack.cells * kind.r1_mohm_ah / pack.capacity_mah * factor,
        tau1_s=kind.tau1_s,
        r2_ohm=pack.cells * kind.r2_mohm_ah / pack.capacity_mah * factor,
        tau2_s=kind.tau2_s,
        basis=basis,
        kind=kind,
    )
