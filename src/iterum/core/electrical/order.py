"""In which order to plug packs in: with the least C into any of them.

Plugging in from low to high is nearly always best: what a high pack gives is shared by all before it. Packs that
differ in size or in resistance make exceptions, so every order is judged. What flows at a plug depends only on which
packs are joined and equalised already, and on the next one. So the best order is the best way through the sets of
packs, from one pack to all of them.
"""

from collections.abc import Sequence
from itertools import combinations

import numpy as np

from iterum.core.electrical.circuit import Array, Branch
from iterum.core.quantities import NOISE

SEARCHED_PACKS = 10
"""Groups of more packs than this are plugged in from low to high: the sets of packs are too many."""
AS_GOOD = 1.02
"""An order counts as good as the best within this part of its C: then the one nearer to low to high is taken."""


def least_into(branches: Sequence[Branch]) -> tuple[int, ...]:
    """The order with the least C into any pack at any plug, as places in `branches`; near low to high where it can be.

    branches : the packs from low to high.
    """
    count = len(branches)
    everything = tuple(range(count))
    if not 2 < count <= SEARCHED_PACKS:
        return everything
    into_c = _into_by_set(branches)
    worst_c = {(1 << count) - 1: 0.0}  # from a set on to all packs, along the best way
    for size in range(count - 1, 0, -1):
        for members in combinations(everything, size):
            mask = sum(1 << place for place in members)
            worst_c[mask] = min(
                max(into_c[mask, place], worst_c[mask | 1 << place]) for place in everything if not mask >> place & 1
            )
    limit_c = AS_GOOD * min(worst_c[1 << place] for place in everything)
    order: list[int] = []
    mask = 0
    for _ in everything:
        chosen = next(
            place
            for place in everything
            if not mask >> place & 1
            and worst_c[mask | 1 << place] <= limit_c
            and (not mask or into_c[mask, place] <= limit_c)
        )
        order.append(chosen)
        mask |= 1 << chosen
    return tuple(order)


def _into_by_set(branches: Sequence[Branch]) -> Array:
    """The most C into any pack when one more is plugged to a set of them that has evened out: [set, next pack]."""
    count = len(branches)
    siemens = np.array([1 / branch.r0_ohm for branch in branches])
    capacity_ah = np.array([branch.capacity_as / 3600 for branch in branches])
    source_v = np.array([branch.source_v for branch in branches])
    sets = (np.arange(1 << count)[:, None] >> np.arange(count)) & 1
    # Of packs this near to each other the curve is straight between the lowest and the highest of them.
    evened_v = (sets @ (capacity_ah * source_v)) / np.maximum(sets @ capacity_ah, NOISE)
    together_s = sets @ siemens
    into_c = np.zeros((1 << count, count))
    for place in range(count):
        node_v = (evened_v * together_s + source_v[place] * siemens[place]) / (together_s + siemens[place])
        members_c = sets * ((node_v - evened_v)[:, None] * siemens / capacity_ah)
        own_c = (node_v - source_v[place]) * siemens[place] / capacity_ah[place]
        into_c[:, place] = np.maximum(np.maximum(members_c.max(axis=1), own_c), 0.0)
    return into_c
