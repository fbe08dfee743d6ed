"""The same packs on the same channel, joined on a board or one after another; and how often a source fills them."""

from dataclasses import dataclass, replace
from math import floor

from iterum.core.fields import ANY
from iterum.core.reasons import Unsafe
from iterum.core.sizing.size import Sizing, size
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice
from iterum.core.things.packs import Pack


@dataclass(frozen=True)
class Road:
    """One way to fill all of them. minutes : until the last is full and balanced, set-up by a person included.

    visits : how often somebody goes to the bench to plug in. energy_in_wh : at the source, for all of them. rate_c :
    the highest at which one is charged.
    """

    minutes: float
    visits: int
    rate_c: float
    energy_in_wh: float


def together(sizing: Sizing) -> Road:
    """All of them at once, as they were sized."""
    minutes = sizing.rules.setup_min + sizing.charge.minutes + sizing.charge.balance_min
    return Road(minutes, 1, sizing.rate_c, sizing.charge.energy_in_wh)


def one_after_another(bench: Bench, choice: Choice) -> Road | None:
    """Each alone on the same channel, at what it may take; None where one of them may not be charged."""
    minutes = energy_wh = rate_c = 0.0
    known: dict[Pack, Road] = {}
    for pack in bench.members(choice.packs):
        like = replace(pack, id=ANY)  # what differs in nothing but its tag takes the same
        if like not in known:
            try:
                known[like] = together(size(bench, replace(choice, packs=(pack.id,), board=None, current_a=None)))
            except Unsafe:
                return None
        road = known[like]
        minutes, energy_wh = minutes + road.minutes, energy_wh + road.energy_in_wh
        rate_c = max(rate_c, road.rate_c)
    return Road(minutes, len(choice.packs), rate_c, energy_wh)


def refills(usable_wh: float, energy_in_wh: float) -> int:
    """How many times a source fills them.

    usable_wh : Wh that may be taken from it, 0 or more. energy_in_wh : Wh at the source for one time, above 0.
    """
    return floor(usable_wh / energy_in_wh * (1 + 1e-9))
