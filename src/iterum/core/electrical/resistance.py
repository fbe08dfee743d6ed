"""What resistance a pack has, in its branch of a board, and what that number rests on.

A pack is its open-circuit volts behind an ohmic part R0 and two RC pairs (a Thevenin equivalent circuit). What a
meter shows in milliohms per cell is R0; the RC pairs are then scaled by the same factor. Where nobody measured,
defaults in mOhm * Ah per cell stand in: the lowest that cells of the kind were measured at where packs are joined,
whose currents must not be understated, and the usual one for minutes.
"""

from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from math import asinh, exp

from iterum.core.things.chemistry import Kind
from iterum.core.things.packs import Pack

AT_C = 25.0
"""Degrees Celsius at which the defaults hold, and a meter's reading is taken."""
_ZERO_K = 273.15


def inverse_kelvin(temperature_c: float) -> float:
    """How far a temperature is from that of the defaults, 1/K, above 0 when colder.

    temperature_c : degrees Celsius.
    """
    return 1 / (temperature_c + _ZERO_K) - 1 / (AT_C + _ZERO_K)


@dataclass(frozen=True)
class Law:
    """How the resistance of a chemistry moves with temperature and C, and how far cells of one kind differ.

    ohmic_k, kinetic_k, slow_k : Kelvin of an Arrhenius law, for the ohmic part and both RC pairs.
    half_c : the C from which the first pair flattens, as asinh(x) / x does. The spreads are standard deviations of the
    logarithm: of both pairs, and of the Kelvin. Fitted to the full-order models named in docs/belief.md.
    """

    ohmic_k: float
    kinetic_k: float
    slow_k: float
    half_c: float
    kinetic_spread: float
    slow_spread: float
    cold_spread: float

    def flatter(self, rate_c: float) -> float:
        """What is left of the first pair at a rate, as a part of it at none.

        rate_c : multiples of capacity per hour, 0 or more.
        """
        x = rate_c / self.half_c
        return asinh(x) / x if x > 0 else 1.0


_LIPO_LAW = Law(1800.0, 4000.0, 3000.0, 2.2, 0.7, 0.6, 0.4)
LAWS = {
    "lipo": _LIPO_LAW,
    "lihv": _LIPO_LAW,
    "li-ion": Law(1800.0, 4000.0, 3000.0, 2.2, 0.8, 1.0, 0.4),
    "life": Law(1800.0, 4000.0, 3000.0, 2.2, 0.8, 0.8, 0.4),
    "nimh": _LIPO_LAW,  # its minutes do not come from the circuit
}


PAIRS_FOLLOW = 0.6
"""A cell whose ohmic part is so many times the usual has pairs of that to this power, for minutes: in full-order models
the one says little of the others. Where packs are joined they follow it wholly, as they were measured to go down."""


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
    the most current between them, so that is the safe side. For minutes it is a kind of its own, which may be any.
    """
    kinds = pack.chemistry.kinds
    if pack.discharge_c is None:
        return kinds[0][1] if use is Use.JOIN else pack.chemistry.unsaid or kinds[0][1]
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


def times_at(temperature_c: float | None, use: Use, kelvin: float) -> float:
    """By how much the temperature of the cells moves their resistance, on the safe side of what it is asked for.

    Cold lengthens a charge and does not excuse joining; warmth lowers what holds back currents between packs.
    temperature_c : degrees Celsius, None where nobody knows. kelvin : of its Arrhenius law.
    """
    if temperature_c is None:
        return 1.0
    times = exp(kelvin * inverse_kelvin(temperature_c))
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
    # What was measured was measured at the temperature that it has, as far as anybody knows.
    known = bool(pack.resistance_mohm) or told
    law, degrees = LAWS[pack.chemistry_name], pack.temperature_c
    colder = times_at(degrees, use, law.ohmic_k)
    pairs = (factor / colder) ** PAIRS_FOLLOW if known and use is Use.CHARGE else factor
    ohmic = factor * (1.0 if known and use is Use.CHARGE else colder)
    by_label = len(pack.chemistry.kinds) > 1 and pack.discharge_c is not None
    basis = Basis.LABEL if by_label else Basis.DEFAULT
    basis = Basis.MEASURED if pack.resistance_mohm else Basis.LEARNED if told else basis
    return Resistance(
        r0_ohm=default_ohm * ohmic,
        r1_ohm=pack.cells * kind.r1_mohm_ah / pack.capacity_mah * pairs * times_at(degrees, use, law.kinetic_k),
        tau1_s=kind.tau1_s,
        r2_ohm=pack.cells * kind.r2_mohm_ah / pack.capacity_mah * pairs * times_at(degrees, use, law.slow_k),
        tau2_s=kind.tau2_s,
        basis=basis,
        kind=kind,
    )
