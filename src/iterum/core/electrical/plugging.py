"""What packs see when they are plugged together: at each plug what flows into each pack and out of it, and how long.

What flows into a pack is limited like a charge; what flows out of it is limited by what it may give, because giving is
not charging.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from iterum.core.electrical.circuit import Array, Branch, Feeding, Trace, branch_of, run, settled
from iterum.core.electrical.resistance import Basis, resistance_of
from iterum.core.quantities import NOISE, at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.kit import DEFAULT_LEAD_MOHM, Port
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules

SHOWN_S = 1800.0
"""What flows after joining is followed for half an hour."""
BALANCE_WIRE_MOHM = 30.0
"""One balance wire with its contacts: 10 to 20 cm of 22 to 26 AWG copper at 53 to 134 mOhm a metre. An estimate."""


@dataclass(frozen=True)
class PackJoined:
    """What one pack sees when the group is joined.

    peak_current_a : its largest current, A, positive is being charged. peak_rate_c : the size of it in C.
    into_c, out_c : the most C into it, and out of it. over_s : seconds that what flows into it is above its charge C.
    basis : what its resistance rests on.
    """

    id: str
    peak_current_a: float
    peak_rate_c: float
    into_c: float
    out_c: float
    over_s: float
    charge_c: float
    gives_c: float
    basis: Basis


@dataclass(frozen=True)
class Plug:
    """One pack being plugged to those before it.

    into : the pack that takes the most C. out : the pack that gives most, measured by what it may give. longest : the
    pack that is longest above its charge C. current_a : the most amps through any pack. wait_s : to wait before it.
    """

    id: str
    into: PackJoined
    out: PackJoined
    longest: PackJoined
    current_a: float
    wait_s: float = 0.0

    @property
    def rate_c(self) -> float:
        """The most C into any pack."""
        return self.into.into_c

    @property
    def worst(self) -> PackJoined:
        """The pack longest above its charge C, or the one that takes the most C."""
        return self.longest if self.longest.over_s > 0 else self.into


def time_above(t_s: Array, size: Array, limit: float) -> float:
    """Seconds that a quantity running straight between moments spends above a limit."""
    if size.max() <= limit:
        return 0.0
    low, high = np.minimum(size[:-1], size[1:]), np.maximum(size[:-1], size[1:])
    rise = np.where(high > low, high - low, 1.0)
    part = np.clip((high - limit) / rise, 0.0, 1.0)
    return float((np.diff(t_s) * np.where(low > limit, 1.0, np.where(high > limit, part, 0.0))).sum())


def time_until(t_s: Array, size: Array, limit: float) -> float | None:
    """When a quantity falls under a limit for good; None if it has not at the end."""
    above = np.flatnonzero(size > limit)
    if not len(above):
        return 0.0
    last = int(above[-1])
    if last == len(size) - 1:
        return None
    part = (size[last] - limit) / (size[last] - size[last + 1])
    return float(t_s[last] + part * (t_s[last + 1] - t_s[last]))


def latest(times_s: Sequence[float | None]) -> float | None:
    """The last of several moments; None if one of them never comes.

    times_s : moments, s; None for never.
    """
    known = [moment_s for moment_s in times_s if moment_s is not None]
    return max(known, default=0.0) if len(known) == len(times_s) else None


def seen_by(packs: Sequence[Pack], trace: Trace) -> tuple[PackJoined, ...]:
    """The largest currents of each pack in a trace, in both directions, and its seconds above its charge C."""
    highest_a, lowest_a = trace.current_a.max(axis=0).tolist(), trace.current_a.min(axis=0).tolist()
    seen = []
    for index, (pack, high_a, low_a) in enumerate(zip(packs, highest_a, lowest_a, strict=True)):
        capacity_ah, most_c = pack.capacity_ah, pack.charge_c + NOISE
        into_c, out_c = max(high_a, 0.0) / capacity_ah, max(-low_a, 0.0) / capacity_ah
        over_s = time_above(trace.t_s, trace.current_a[:, index] / capacity_ah, most_c) if into_c > most_c else 0.0
        peak_a = high_a if into_c >= out_c else low_a
        seen.append(
            PackJoined(
                id=pack.id,
                peak_current_a=peak_a,
                peak_rate_c=abs(peak_a) / capacity_ah,
                into_c=into_c,
                out_c=out_c,
                over_s=over_s,
                charge_c=pack.charge_c,
                gives_c=pack.gives_c,
                basis=resistance_of(pack).basis,
            )
        )
    return tuple(seen)


def joins(first: Sequence[Branch], second: Sequence[Branch]) -> list[Branch]:
    """Two sets, each evened out by itself, as they meet."""
    return [*settled(first), *settled(second)]


def plug_by_plug(packs: Sequence[Pack], lead_mohm: float = DEFAULT_LEAD_MOHM) -> tuple[Plug, ...]:
    """Plug the packs in, in the order given, each to those before it evened out: the worst that any pack sees.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more.
    """
    return _plug_by_plug(tuple(packs), lead_mohm)


@lru_cache(maxsize=16_384)
def _plug_by_plug(packs: tuple[Pack, ...], lead_mohm: float) -> tuple[Plug, ...]:
    """Those before the last are known from when they were asked for: a planner asks for one more each time."""
    if len(packs) < 2:
        return ()
    branches = [branch_of(pack, lead_mohm) for pack in packs]
    trace = run(
        joins(branches[:-1], branches[-1:]), Feeding(), SHOWN_S, settled_a=[pack.max_charge_a for pack in packs]
    )
    return (*_plug_by_plug(packs[:-1], lead_mohm), _plug(packs, trace))


def _plug(packs: Sequence[Pack], trace: Trace) -> Plug:
    """What the last of these packs does to any of them."""
    return plug_of(packs[-1].id, seen_by(packs, trace))


def plug_of(pack_id: str, seen: Sequence[PackJoined]) -> Plug:
    """One plug, by what every pack sees then.

    pack_id : of the pack that is plugged in.
    """
    return Plug(
        id=pack_id,
        into=max(seen, key=lambda item: item.into_c),
        out=max(seen, key=lambda item: item.out_c / item.gives_c),
        longest=max(seen, key=lambda item: (item.over_s, item.into_c)),
        current_a=max(abs(item.peak_current_a) for item in seen),
    )


def join_reasons(plugs: Sequence[Plug], rules: HouseRules, port: Port) -> tuple[Reason, ...]:
    """Why a group must not be joined so, empty when it may: at which plug, how many C or amps, how long.

    port : of the board. What flows out of a pack and through a fuse is limited whatever the house rule on joining.
    """
    reasons = []
    for plug in plugs:
        into, out, longest = plug.into, plug.out, plug.longest
        if rules.join_peak_c is not None and not at_most(into.into_c, rules.join_peak_c):
            numbers = {"rate_c": into.into_c, "limit_c": rules.join_peak_c}
            reasons.append(reason("join_peak", id=plug.id, other=into.id, **numbers))
        elif rules.join_peak_c is not None and not at_most(longest.over_s, rules.join_over_s):
            numbers = {"over_s": longest.over_s, "limit_s": rules.join_over_s, "charge_c": longest.charge_c}
            reasons.append(reason("join_long", id=plug.id, other=longest.id, **numbers))
        if not at_most(out.out_c, out.gives_c):
            reasons.append(reason("join_out", id=plug.id, other=out.id, rate_c=out.out_c, limit_c=out.gives_c))
        if port.fuse_a is not None and not at_most(plug.current_a, port.fuse_a):
            reasons.append(reason("join_fuse", id=plug.id, current_a=plug.current_a, fuse_a=port.fuse_a))
    return tuple(reasons)


# ---------------------------------------------------------------------------------------- balance leads first


def balance_first_a(packs: Sequence[Pack]) -> float:
    """The most amps through any balance wire when only balance leads join these packs, all at once.

    Every pack is its cells in series; each of its wires meets those of the others at a tap of the board. Solved as a
    network of resistances at the first instant, before any pair of the model has filled.
    """
    cells = packs[0].cells
    taps = cells + 1
    size = taps * (len(packs) + 1)  # the board's taps, then those of each pack
    siemens, pushed = np.zeros((size, size)), np.zeros(size)
    wire_s = 1000 / BALANCE_WIRE_MOHM
    for number, pack in enumerate(packs, 1):
        ohms = _cell_ohms(pack)
        volts = _cell_volts(pack)
        for tap in range(taps):
            _connect(siemens, number * taps + tap, tap, wire_s)
        for cell in range(cells):
            low, high = number * taps + cell, number * taps + cell + 1
            _connect(siemens, low, high, 1 / ohms[cell])
            pushed[high] += volts[cell] / ohms[cell]
            pushed[low] -= volts[cell] / ohms[cell]
    node_v = np.zeros(size)
    node_v[1:] = np.linalg.solve(siemens[1:, 1:], pushed[1:])  # the board's lowest tap stands at 0 V
    boards = node_v[:taps]
    drops_v = [np.abs(node_v[n * taps : (n + 1) * taps] - boards).max() for n in range(1, len(packs) + 1)]
    return float(max(drops_v)) * wire_s


def _connect(siemens: Array, one: int, other: int, conductance_s: float) -> None:
    siemens[one, one] += conductance_s
    siemens[other, other] += conductance_s
    siemens[one, other] -= conductance_s
    siemens[other, one] -= conductance_s


def _cell_ohms(pack: Pack) -> list[float]:
    if pack.resistance_mohm:
        return [max(mohm, 0.1) / 1000 for mohm in pack.resistance_mohm]
    return [resistance_of(pack).r0_ohm / pack.cells] * pack.cells


def _cell_volts(pack: Pack) -> Sequence[float]:
    if pack.reading is None:
        raise ValueError(f"{pack.id} has no reading")
    return pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) * pack.cells
