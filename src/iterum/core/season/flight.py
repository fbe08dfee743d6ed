"""Using a pack: does it stand the load, what is the weakest part of the chain, how long until the reserve."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.quantities import at_most, floor_to_step
from iterum.core.reasons import Reason, reason
from iterum.core.say import Words
from iterum.core.things.packs import Pack

USABLE_PART = 0.8
"""The part of its capacity that a flight may use. Common practice, no source: the 80 % rule."""
TIMER_STEP_S = 5
"""Timers are set in steps of five seconds, rounded down."""


@dataclass(frozen=True)
class Part:
    """One part between pack and propeller, by its label. None where the label is silent.

    count : of them side by side, each with its share of the amps.
    """

    name: str
    max_current_a: float | None = None
    max_v: float | None = None
    count: int = 1


@dataclass(frozen=True)
class PartLimit:
    """Amps that one part stands, and the reason as a formula."""

    name: str
    current_a: float
    reason: Reason


@dataclass(frozen=True)
class Flight:
    """What a load does to a pack.

    minutes : until the reserve, at the average amps; whole_min : until it is empty. timer_s : the timer to set.
    landing_v : rest volts of a cell then, None where volts do not tell. limits : rising; the first is the weakest part.
    fits : whether every part stands the peak.
    """

    usable_ah: float
    minutes: float
    whole_min: float
    timer_s: int
    landing_v: float | None
    load_c: float
    limits: tuple[PartLimit, ...]
    fits: bool
    reasons: tuple[Reason, ...]


def flight(
    pack: Pack, full_v: float, average_a: float, peak_a: float, parts: Sequence[Part] = (), usable: float = USABLE_PART
) -> Flight:
    """Minutes and limits for a load. full_v : V of the whole pack when full. usable : part of the capacity, 0..1.

    average_a : A in flight, above 0. peak_a : A for seconds, above 0.
    """
    usable_ah = pack.capacity_ah * usable
    minutes = 60 * usable_ah / average_a
    limits = []
    if pack.discharge_c is not None:
        amps = pack.discharge_c * pack.capacity_ah
        limits.append(PartLimit(Words("pack"), amps, reason("flight_pack", c=pack.discharge_c, ah=pack.capacity_ah)))
    limits += [
        PartLimit(part.name, part.max_current_a * part.count, reason("flight_part", name=part.name, count=part.count))
        for part in parts
        if part.max_current_a is not None
    ]
    limits.sort(key=lambda item: item.current_a)
    reasons = [] if pack.discharge_c is not None else [reason("flight_no_c", id=pack.id)]
    weakest = limits[0] if limits else None
    if weakest is not None and not at_most(peak_a, weakest.current_a):
        reasons.append(reason("flight_over", name=weakest.name, peak_a=peak_a, limit_a=weakest.current_a))
    reasons += [
        reason("flight_volts", name=part.name, full_v=full_v, limit_v=part.max_v)
        for part in parts
        if part.max_v is not None and not at_most(full_v, part.max_v)
    ]
    fits = not any(item.code in ("flight_over", "flight_volts") for item in reasons)
    timer_s = int(floor_to_step(minutes * 60, TIMER_STEP_S))
    landing_v = pack.table.rest_v(1 - usable) if pack.table is not None else None
    whole_min = 60 * pack.capacity_ah / average_a
    load_c = peak_a / pack.capacity_ah
    return Flight(usable_ah, minutes, whole_min, timer_s, landing_v, load_c, tuple(limits), fits, tuple(reasons))


def timer_from_recharge(pack: Pack, timer_s: int, charge_mah: float, usable: float = USABLE_PART) -> int:
    """The timer that would have used just the usable part, from what went back in after a flight by `timer_s`.

    Rounded down; it may be longer than the old one where less went back in.
    charge_mah : mAh, 0 or more.
    """
    wanted_mah = usable * pack.capacity_ah * 1000
    return int(floor_to_step(timer_s * wanted_mah / charge_mah, TIMER_STEP_S))
