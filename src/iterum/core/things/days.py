"""How days differ from their plan: what the odds of a plan are tried against."""

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Ge, Le

from iterum.core.fields import Says


@dataclass(frozen=True)
class Days:
    """How days differ from their plan. Parts and chances are 0..1; common practice, no source.

    hands : by how much a set-up takes longer or shorter, as a part of it. minutes_low, minutes_high : a charge's
    minutes against those planned, where its own range is not known. slips, slip_min : a heat that starts later, and by
    how much at most. backs_off, back_off_part : a charger that gives fewer amps, and how much longer the charge takes.
    link_lost, unnoticed_min : a charge that stands still until somebody looks.
    """

    hands: Annotated[
        float, Ge(0), Le(1), Says("Setting up takes longer or shorter by", help="A part: 0.3 is 30 %.")
    ] = 0.3
    minutes_low: Annotated[float, Ge(0.5), Le(1), Says("A charge takes at least this part of its minutes")] = 0.95
    minutes_high: Annotated[
        float,
        Ge(1),
        Le(3),
        Says(
            "A charge takes at most this part of its minutes",
            help="Where the volts of its packs leave more open, that counts.",
        ),
    ] = 1.12
    slips: Annotated[float, Ge(0), Le(1), Says("Heats that slip", help="A part: 0.15 is 15 in 100.")] = 0.15
    slip_min: Annotated[float, Ge(0), Le(240), Says("A heat that slips is late by at most", "min")] = 15.0
    backs_off: Annotated[float, Ge(0), Le(1), Says("Charges whose charger backs off", help="A part of all.")] = 0.03
    back_off_part: Annotated[
        float, Ge(0), Le(3), Says("Such a charge takes longer by", help="A part: 0.3 is 30 %.")
    ] = 0.3
    link_lost: Annotated[float, Ge(0), Le(1), Says("Charges that stand still unseen", help="A part of all.")] = 0.03
    unnoticed_min: Annotated[float, Ge(0), Le(240), Says("It is seen after", "min")] = 10.0
