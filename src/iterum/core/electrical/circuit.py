"""Packs in parallel on one node: what flows when they are joined, and while they are charged.

Each pack is a Thevenin circuit (open-circuit volts of its state of charge, an ohmic part with its lead, two RC
pairs). All meet at the board; a charger feeds the node under limits of current, power and volts at once.

Method. Within a step every pack's current runs straight from its old to its new value. For such a current the
charge and both RC pairs have exact answers, linear in the new current, so each pack is again a source behind a
resistance and the node has a closed solution: implicit, stable at any step, second order. The charge that leaves
one pack enters the others to rounding. Steps follow the distance between the new currents and those that the last
two steps foretold. Plain floats: for the few packs of a board they are faster than arrays.

What it does not model: cells of one pack that differ (their average counts), balancing currents, temperature.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import pairwise
from math import exp, inf

import numpy as np
from numpy.typing import NDArray

from iterum.core.electrical.resistance import Use, resistance_of
from iterum.core.quantities import NOISE
from iterum.core.things.curve import STEPS, soc_from_rest
from iterum.core.things.kit import DEFAULT_LEAD_MOHM
from iterum.core.things.packs import Pack

Array = NDArray[np.float64]

TOLERANCE = 0.04
"""How far a current may be from what the steps before foretold, as a part of itself. A hundredth of it moves charge
times by less than 0.05 % (`tests/core/test_circuit.py` holds it to that)."""
ROUGH_TOLERANCE = 0.4
"""For the ends of a range and for waits in steps of half a minute: moves a charge by 0.1 %."""
FLOOR_C = 0.02
"""Currents under this rate are followed no more closely than this rate."""
FIRST_STEP_S = 0.02
LONGEST_STEP_S = 120.0
FOLLOWED_S = 8 * 24 * 3600.0
"""So long a charge is followed, so that its watt-hours are those of all of it."""
MOST_CHORDS = 36
"""Between the volts of packs until where they settle is known: to a billionth of what they hold."""
TAIL = 0.1
"""A charge ends when the amps have fallen to this part of those dialled. Common practice, no source."""


@dataclass(frozen=True, slots=True)
class Branch:
    """One pack as a branch of the node.

    capacity_as : A s. r0_ohm : ohmic part with its lead. r1_ohm, tau1_s, r2_ohm, tau2_s : the RC pairs.
    table_v : open-circuit volts of the whole pack at 0, 5 ... 100 %. soc : state of charge; past 0 or 1 the table goes
    on straight. u1_v, u2_v : volts over the RC pairs.
    """

    capacity_as: float
    r0_ohm: float
    r1_ohm: float
    tau1_s: float
    r2_ohm: float
    tau2_s: float
    table_v: tuple[float, ...]
    soc: float
    u1_v: float = 0.0
    u2_v: float = 0.0

    @property
    def source_v(self) -> float:
        """Volts behind the ohmic part now."""
        slopes_v, bases_v = _lines(self.table_v)
        index = min(max(int(self.soc * STEPS), 0), STEPS - 1)
        return bases_v[index] + slopes_v[index] * self.soc + self.u1_v + self.u2_v

    def rested(self, seconds: float) -> "Branch":
        """The same pack after so long alone: nothing flows, its RC pairs fade. seconds : 0 or more."""
        if self.u1_v == self.u2_v == 0.0:
            return self
        u1_v, u2_v = self.u1_v * exp(-seconds / self.tau1_s), self.u2_v * exp(-seconds / self.tau2_s)
        return replace(self, u1_v=u1_v, u2_v=u2_v)


@lru_cache(maxsize=256)
def _lines(table_v: tuple[float, ...]) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """A table as straight lines: V for a whole charge, and V at an empty pack were it all that line."""
    slopes_v = tuple((high - low) * STEPS for low, high in pairwise(table_v))
    bases_v = tuple(table_v[index] - slope * index / STEPS for index, slope in enumerate(slopes_v))
    return slopes_v, bases_v


@lru_cache(maxsize=4096)
def branch_of(pack: Pack, lead_mohm: float = DEFAULT_LEAD_MOHM, use: Use = Use.JOIN) -> Branch:
    """A measured pack at rest as a branch. Raises ValueError without a reading or an open-circuit table.

    lead_mohm : plug and lead of one branch, mOhm, 0 or more. use : what it is asked for, minutes or joining.
    """
    table = pack.table
    if table is None or pack.reading is None:
        raise ValueError(f"{pack.id} has no reading, or its volts do not tell its charge")
    table_v = tuple(cell_v * pack.cells for cell_v in table.cell_v)
    soc = soc_from_rest(table_v, pack.reading.pack_v) if use is Use.JOIN else pack.held
    part = resistance_of(pack, use)
    return Branch(
        capacity_as=pack.capacity_ah * 3600,
        r0_ohm=part.r0_ohm + lead_mohm / 1000,
        r1_ohm=part.r1_ohm,
        tau1_s=part.tau1_s,
        r2_ohm=part.r2_ohm,
        tau2_s=part.tau2_s,
        table_v=table_v,
        soc=soc,
    )


@dataclass(frozen=True, slots=True)
class Feeding:
    """What feeds the node: at most so many amps, watts and volts at once. No amps: nothing is connected."""

    current_a: float = 0.0
    power_w: float = inf
    end_v: float = inf


@dataclass(frozen=True, eq=False)
class Trace:
    """What happened, at T moments for N packs.

    t_s, node_v, feed_a : (T,). current_a, soc : (T, N), positive is being charged. energy_wh : into the node.
    end_v_at_s : when the end volts were reached, None if never. power_limited_s : how long watts set the amps.
    done : whether it came to its own end rather than to the end of the time allowed.
    last : the branches at the end.
    """

    t_s: Array
    node_v: Array
    feed_a: Array
    current_a: Array
    soc: Array
    energy_wh: float
    end_v_at_s: float | None
    power_limited_s: float
    done: bool
    last: tuple[Branch, ...]


_CURRENT, _POWER, _VOLTS = 0, 1, 2
Run = Callable[[Sequence[Branch], Feeding, float, float, Sequence[float] | None, float], "Trace | None"]
_compiled: list[Run] = []
"""The compiled circuit, once somebody has loaded it."""


def hand_over_to(compiled_run: Run) -> None:
    """Let every later run be done by the compiled circuit, which gives the same: for who has loaded it anyway."""
    _compiled[:] = [compiled_run]


def _node(conductance_s: float, pushed_a: float, feeding: Feeding) -> tuple[float, float, int, float]:
    """Node volts, feed amps, the limit that binds, and the volts were there no end volts.

    conductance_s : sum of the conductances, siemens. pushed_a : sum of conductance times source volts.
    The node rises with the feed, so the tightest limit is the one with the lowest volts. A charger takes nothing back.
    """
    wanted_a = feeding.current_a
    if wanted_a == 0.0:
        return pushed_a / conductance_s, 0.0, _CURRENT, pushed_a / conductance_s
    node_v, limit = (wanted_a + pushed_a) / conductance_s, _CURRENT
    if node_v * wanted_a > feeding.power_w:
        node_v, limit = (
            (pushed_a + (pushed_a * pushed_a + 4 * conductance_s * feeding.power_w) ** 0.5) / (2 * conductance_s),
            _POWER,
        )
    free_v = node_v
    if node_v > feeding.end_v:
        node_v, limit = max(feeding.end_v, pushed_a / conductance_s), _VOLTS
    return node_v, node_v * conductance_s - pushed_a, limit, free_v


@dataclass(slots=True)
class _Moment:
    """The state at one moment; lists are by pack."""

    soc: list[float]
    u1_v: list[float]
    u2_v: list[float]
    current_a: list[float]
    node_v: float
    feed_a: float
    limit: int
    free_v: float


class _Stepper:
    """Advances branches under one feeding."""

    def __init__(self, branches: Sequence[Branch], feeding: Feeding) -> None:
        self.branches, self.feeding = branches, feeding
        self.taus = list(dict.fromkeys(tau for branch in branches for tau in (branch.tau1_s, branch.tau2_s)))
        self.parts = [
            (0.5 / item.capacity_as, item.r0_ohm, item.r1_ohm, item.r2_ohm, item.tau1_s, item.tau2_s,
             *_lines(item.table_v))
            for item in branches
        ]  # fmt: skip

    def start(self) -> _Moment:
        """Currents at the instant of joining: only ohmic parts have an effect yet."""
        sources_v = [branch.source_v for branch in self.branches]
        conductance_s = sum(1 / branch.r0_ohm for branch in self.branches)
        pushed_a = sum(volts / branch.r0_ohm for volts, branch in zip(sources_v, self.branches, strict=True))
        node_v, feed_a, limit, free_v = _node(conductance_s, pushed_a, self.feeding)
        return _Moment(
            soc=[branch.soc for branch in self.branches],
            u1_v=[branch.u1_v for branch in self.branches],
            u2_v=[branch.u2_v for branch in self.branches],
            current_a=[(node_v - volts) / item.r0_ohm for volts, item in zip(sources_v, self.branches, strict=True)],
            node_v=node_v, feed_a=feed_a, limit=limit, free_v=free_v,
        )  # fmt: skip

    def _weights(self, step_s: float) -> dict[float, tuple[float, float, float]]:
        """By time constant: what is left of a pair's volts, and the parts that the old and the new current add.

        A straight current from i0 to i1 takes a pair's volts u to decay * u + R * start * i0 + R * end * i1.
        """
        weights = {}
        for tau_s in self.taus:
            decay = exp(-step_s / tau_s)
            end = 1 - tau_s / step_s * (1 - decay)
            weights[tau_s] = decay, 1 - decay - end, end
        return weights

    def step(self, now: _Moment, step_s: float) -> _Moment:
        """The state `step_s` later."""
        weights = self._weights(step_s)
        guess_a = now.current_a
        for _ in range(4):  # until every pack lies on the line of its table that was counted with
            conductance_s = pushed_a = 0.0
            sources = []
            taus = None
            for (half_of, r0, r1, r2, tau1, tau2, slopes_v, bases_v), soc, u1_v, u2_v, amps, guess in zip(
                self.parts, now.soc, now.u1_v, now.u2_v, now.current_a, guess_a, strict=False
            ):
                if (tau1, tau2) != taus:
                    taus = (tau1, tau2)
                    (decay1, start1, end1), (decay2, start2, end2) = weights[tau1], weights[tau2]
                kept1_v = decay1 * u1_v + r1 * start1 * amps
                kept2_v = decay2 * u2_v + r2 * start2 * amps
                ohm1, ohm2 = r1 * end1, r2 * end2
                half = half_of * step_s
                soc_kept = soc + half * amps
                line = int((soc_kept + half * guess) * STEPS)
                line = line if 0 <= line < STEPS else 0 if line < 0 else STEPS - 1
                slope_v = slopes_v[line]
                source_v = bases_v[line] + slope_v * soc_kept + kept1_v + kept2_v
                conductance = 1 / (r0 + ohm1 + ohm2 + slope_v * half)
                conductance_s += conductance
                pushed_a += conductance * source_v
                sources.append((source_v, conductance, soc_kept, half, kept1_v, kept2_v, ohm1, ohm2, line))
            node_v, feed_a, limit, free_v = _node(conductance_s, pushed_a, self.feeding)
            new = _Moment([], [], [], [], node_v, feed_a, limit, free_v)
            stayed = True
            for source_v, conductance, soc_kept, half, kept1_v, kept2_v, ohm1, ohm2, line in sources:
                amps = (node_v - source_v) * conductance
                soc = soc_kept + half * amps
                new.current_a.append(amps)
                new.soc.append(soc)
                new.u1_v.append(kept1_v + ohm1 * amps)
                new.u2_v.append(kept2_v + ohm2 * amps)
                if int(soc * STEPS) != line and 0 <= soc < 1:
                    stayed = False
            if stayed:
                break
            guess_a = new.current_a
        return new


def _energy_ws(before: _Moment, after: _Moment, step_s: float) -> float:
    """Volts times amps over a step in which both run straight."""
    v0, v1, a0, a1 = before.node_v, after.node_v, before.feed_a, after.feed_a
    return step_s / 6 * (2 * v0 * a0 + v0 * a1 + v1 * a0 + 2 * v1 * a1)


def _overshoot(now: _Moment, new: _Moment, end_v: float, cut_a: float) -> float | None:
    """The part of a step at which the end volts, or the last amps, were met; None when neither was passed."""
    if new.limit != _VOLTS:
        return None
    if now.limit != _VOLTS and new.free_v - end_v > 1e-6:
        return (end_v - now.node_v) / (new.free_v - now.node_v)
    if cut_a - new.feed_a > 1e-5 * cut_a and now.feed_a > cut_a:
        return (now.feed_a - cut_a) / (now.feed_a - new.feed_a)
    return None


def _off(
    now: _Moment, new: _Moment, before: tuple[list[float], float], step_s: float, floors_a: Sequence[float]
) -> float:
    """How far the new currents are from those foretold by the last two steps, the worst as a part of itself."""
    ahead, worst = step_s / before[1], 0.0
    for new_a, now_a, old_a, floor_a in zip(new.current_a, now.current_a, before[0], floors_a, strict=True):
        size_a = abs(new_a)
        off = abs(new_a - now_a - (now_a - old_a) * ahead) / (size_a if size_a > floor_a else floor_a)
        worst = max(worst, off)
    return worst


def run(
    branches: Sequence[Branch],
    feeding: Feeding,
    until_s: float,
    tail: float = TAIL,
    settled_a: Sequence[float] | None = None,
    tolerance: float = TOLERANCE,
) -> Trace:
    """Let the branches run under a feeding; the same input gives the same trace.

    until_s : the longest it may take, s. tail : a charge ends when its amps have fallen to this part of those dialled.
    settled_a : by pack; evening out ends early once every current is within these, A.
    tolerance : part of a current by which a step may be off, above 0.
    """
    for compiled_run in _compiled:
        trace = compiled_run(branches, feeding, until_s, tail, settled_a, tolerance)
        if trace is not None:
            return trace
    stepper = _Stepper(branches, feeding)
    now = stepper.start()
    floors_a = [FLOOR_C * branch.capacity_as / 3600 for branch in branches]
    cut_a = tail * feeding.current_a
    t_s, step_s, energy_ws, limited_s = 0.0, FIRST_STEP_S, 0.0, 0.0
    reached_s = 0.0 if now.limit == _VOLTS else None
    before: tuple[list[float], float] | None = None
    times, moments = [0.0], [now]
    done = bool(feeding.current_a and now.limit == _VOLTS and now.feed_a <= cut_a)
    while not done and t_s < until_s - NOISE:
        step_s = min(step_s, until_s - t_s, LONGEST_STEP_S)
        new = stepper.step(now, step_s)
        off = 1.0 if before is None else _off(now, new, before, step_s, floors_a) / tolerance
        if off > 2.0 and step_s > FIRST_STEP_S:
            step_s = max(step_s * max(0.8 * off**-0.5, 0.2), FIRST_STEP_S)
            continue
        part = _overshoot(now, new, feeding.end_v, cut_a)
        if part is not None and step_s > 1e-6:
            step_s *= min(max(part, 1e-3), 0.999)
            continue
        t_s += step_s
        energy_ws += _energy_ws(now, new, step_s)
        limited_s += step_s if new.limit == _POWER else 0.0
        if reached_s is None and new.limit == _VOLTS:
            reached_s = t_s
        before, now = (now.current_a, step_s), new
        times.append(t_s)
        moments.append(now)
        step_s *= min(max(0.9 * max(off, NOISE) ** -0.5, 0.3), 2.5)
        if feeding.current_a:
            done = now.limit == _VOLTS and now.feed_a <= cut_a * (1 + 1e-5)
        elif settled_a is not None:
            done = all(abs(amps) <= most_a for amps, most_a in zip(now.current_a, settled_a, strict=True))
    return Trace(
        t_s=np.array(times),
        node_v=np.array([moment.node_v for moment in moments]),
        feed_a=np.array([moment.feed_a for moment in moments]),
        current_a=np.array([moment.current_a for moment in moments]),
        soc=np.array([moment.soc for moment in moments]),
        energy_wh=energy_ws / 3600,
        end_v_at_s=reached_s,
        power_limited_s=limited_s,
        done=done,
        last=tuple(
            replace(branch, soc=soc, u1_v=u1_v, u2_v=u2_v)
            for branch, soc, u1_v, u2_v in zip(branches, now.soc, now.u1_v, now.u2_v, strict=True)
        ),
    )


def settled(branches: Sequence[Branch]) -> tuple[Branch, ...]:
    """The same packs after they have evened out completely: all at one open-circuit voltage, no charge lost."""
    held_as = sum(branch.capacity_as * branch.soc for branch in branches)
    if all(branch.table_v == branches[0].table_v for branch in branches):  # the same volts are the same charge
        soc = held_as / sum(branch.capacity_as for branch in branches)
        return tuple(replace(branch, soc=soc, u1_v=0.0, u2_v=0.0) for branch in branches)
    at_rest = [replace(branch, u1_v=0.0, u2_v=0.0) for branch in branches]

    def over_as(rest_v: float) -> float:
        """How much more they would hold at these volts."""
        return sum(item.capacity_as * soc_from_rest(item.table_v, rest_v) for item in at_rest) - held_as

    low_v, high_v = min(item.source_v for item in at_rest), max(item.source_v for item in at_rest)
    low_as, high_as, rest_v = over_as(low_v), over_as(high_v), low_v
    capacity_as = sum(item.capacity_as for item in at_rest)
    for _ in range(MOST_CHORDS):
        if high_as - low_as <= capacity_as * NOISE:
            break
        rest_v = low_v - low_as * (high_v - low_v) / (high_as - low_as)  # where the chord crosses
        found_as = over_as(rest_v)
        if abs(found_as) <= capacity_as * NOISE:
            break
        if found_as < 0:  # the end that stays pulls half as hard, so that both come nearer
            low_v, low_as, high_as = rest_v, found_as, high_as / 2
        else:
            high_v, high_as, low_as = rest_v, found_as, low_as / 2
    rested = [replace(item, soc=soc_from_rest(item.table_v, rest_v)) for item in at_rest]
    # The last bit of charge that is left over is spread, so that none is lost.
    rest = held_as - sum(item.capacity_as * item.soc for item in rested)
    return tuple(replace(item, soc=item.soc + rest / capacity_as) for item in rested)
