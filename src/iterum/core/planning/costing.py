"""What a batch costs, compiled: amps in closed form, minutes by the fast integral, and both again by the full circuit.

`estimated` is what most moves of a search are judged by. `joined` and `charged` follow the circuit
as `waiting` and `charging` do, step by step, so that the minutes of a plan that is taken are those
that are shown.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from iterum.core.compiled import compiled
from iterum.core.electrical.charging import DAY_MIN, NICKEL_FAST, NICKEL_SLOW, NICKEL_SLOW_C
from iterum.core.electrical.circuit import FOLLOWED_S, ROUGH_TOLERANCE, TOLERANCE
from iterum.core.electrical.estimate import _PLACES, _SHARES, LAG_PART, POINTS
from iterum.core.electrical.kernel import LINES, Branches, Fed, State, run
from iterum.core.electrical.plugging import BALANCE_WIRE_MOHM, SHOWN_S
from iterum.core.electrical.waiting import (
    BALANCE_LEAD_A,
    BETWEEN_S,
    HAND_S,
    NO_WAIT_V,
    OVER_SHARE,
    SHARE_FOLLOWED_S,
    WAIT_STEP_S,
)
from iterum.core.planning.batches import ESTIMATED_PART
from iterum.core.planning.tables import MOST_CELLS, Tables
from iterum.core.quantities import NOISE

Array = NDArray[np.float64]
Whole = NDArray[np.int64]

LONGEST_MIN = DAY_MIN * ESTIMATED_PART
JOIN, CHARGE = 0, 1
INF = float("inf")
STEPS_BETWEEN = np.array(BETWEEN_S)
ENOUGH = int(np.ceil(SHOWN_S / WAIT_STEP_S))
NICKEL_LESS, NICKEL_MORE = NICKEL_FAST[1], NICKEL_SLOW


class Cost(NamedTuple):
    """One batch at one place and rate; amps negative where it cannot be. See `batches.Costs`."""

    amps: float
    wait_min: float
    full_min: float
    minutes: float
    watts: float
    energy_wh: float


NONE = Cost(-1.0, 0.0, 0.0, 0.0, 0.0, 0.0)


@compiled
def no_limit() -> Array:
    """For a run that ends by itself and counts nothing."""
    return np.empty(0)


@compiled
def no_rows() -> Array:
    """For a run of which nothing is written down."""
    return np.empty((0, 0))


# -------------------------------------------------------------------------------------------- amps


@compiled
def to_step(amps: float, step_a: float) -> float:
    """See `quantities.floor_to_step`."""
    return np.floor(amps / step_a + NOISE) * step_a


@compiled
def amps_of(tables: Tables, members: Whole, machine: int, board: int, part: int) -> float:
    """The amps to dial for packs at a place and rate; negative where they cannot be charged there."""
    packs = tables.packs
    kind, place = tables.machines[machine].kind, tables.boards[board].kind
    klass = packs[members[0]].klass
    most_a = tables.amps[kind, place, klass]
    if most_a < 0:
        return -1.0
    whole_ah = wish_a = 0.0
    limit_c, divisor_v = INF, tables.classes[klass].divisor_v
    for pack in members:
        whole_ah += packs[pack].ah
        wish_a += packs[pack].wish_a
        limit_c = min(limit_c, tables.limit_c[pack, place])
    if divisor_v == 0.0:
        for pack in members:
            divisor_v = max(divisor_v, packs[pack].pack_v)
    full_v = tables.classes[klass].full_v
    most_a = min(most_a, limit_c * whole_ah, tables.kinds[kind].own_w / divisor_v, tables.kinds[kind].link_w / full_v)
    least_a = tables.kinds[kind].least_a
    if tables.kinds[kind].fixed:
        return least_a if least_a <= most_a + NOISE else -1.0
    amps = to_step(min(wish_a, most_a), tables.kinds[kind].step_a)
    if amps < least_a - NOISE:
        if least_a > most_a + NOISE:
            return -1.0
        amps = least_a
    share = tables.shares[part].part
    if share == 0.0:
        use = tables.share_use[machine, part]
        share = 1.0 if use == 0.0 else min(tables.shares[part].watts / use / full_v / amps, 1.0)
    return max(to_step(amps * share, tables.kinds[kind].step_a), least_a)


# --------------------------------------------------------------------------------- the fast integral


@compiled
def minutes_of(tables: Tables, members: Whole, machine: int, board: int, amps: float) -> float:
    """Minutes until full by one integral over the charge, the packs taken as one: see `estimate`."""
    packs, rules = tables.packs, tables.rules
    klass = packs[members[0]].klass
    whole_ah = held_ah = siemens = lagging = 0.0
    lead_ohm = tables.board_kinds[tables.boards[board].kind].lead_ohm
    for pack in members:
        whole_ah += packs[pack].ah
        held_ah += packs[pack].ah * packs[pack].soc
        one = 1 / (packs[pack].ohm + lead_ohm)
        siemens += one
        lagging += packs[pack].lag_s * packs[pack].ohm * one * one
    if not tables.classes[klass].told:
        slow = amps / whole_ah <= NICKEL_SLOW_C + NOISE
        return 60 * whole_ah / amps * (NICKEL_MORE if slow else NICKEL_LESS)
    table_v = np.zeros(LINES + 1)
    for pack in members:
        part = packs[pack].ah / whole_ah
        for at in range(LINES + 1):
            table_v[at] += part * packs[pack].table_v[at]
    ohm, end_v, watts = 1 / siemens, tables.classes[klass].full_v, tables.kinds[tables.machines[machine].kind].least_w
    cut_a = rules.tail * amps
    soc = held_ah / whole_ah
    span = soc_at(table_v, end_v - cut_a * ohm) - soc
    if span <= 0:
        return 0.0
    total, lag = 0.0, LAG_PART * lagging / siemens * LINES / (ohm * whole_ah * 3600)
    for point in range(POINTS):
        at = (soc + span * _PLACES[point]) * LINES
        line = min(max(int(at), 0), LINES - 1)
        rise_v = table_v[line + 1] - table_v[line]
        rest_v = table_v[line] + rise_v * (at - line)
        now_a = min(amps, (end_v - rest_v) / ohm / (1 + lag * rise_v))
        if now_a * end_v > watts:  # only then can watts be less than what volts and amps allow
            now_a = min(now_a, ((rest_v**2 + 4 * ohm * watts) ** 0.5 - rest_v) / (2 * ohm))
        total += _SHARES[point] / max(now_a, cut_a)
    return 60 * whole_ah * span * total


@compiled
def soc_at(table_v: Array, rest_v: float) -> float:
    """State of charge at rest volts, the ends of the table going on straight."""
    line = 0
    while line < LINES - 1 and table_v[line + 1] <= rest_v:
        line += 1
    return (line + (rest_v - table_v[line]) / (table_v[line + 1] - table_v[line])) / LINES


@compiled
def estimated(tables: Tables, members: Whole, machine: int, board: int, part: int) -> Cost:
    """What a batch costs by the integral, waits left out."""
    amps = amps_of(tables, members, machine, board, part)
    if amps <= 0:
        return NONE
    full_min = minutes_of(tables, members, machine, board, amps)
    if full_min > LONGEST_MIN:
        return NONE
    packs = tables.packs
    balance_min = packs[members[0]].balance_min[0 if len(members) == 1 else 1]
    energy_wh = 0.0
    for pack in members:
        energy_wh += packs[pack].energy_wh
    watts = amps * tables.classes[packs[members[0]].klass].full_v
    return Cost(amps, 0.0, full_min, full_min + balance_min, watts, energy_wh)


# ------------------------------------------------------------------------------- who may share a board


@compiled
def may_share(tables: Tables, members: Whole) -> bool:
    """Whether these packs, rising by index, may share a board by every rule that needs no circuit."""
    packs, rules = tables.packs, tables.rules
    count = len(members)
    if count == 1:
        return True
    if count > rules.most:
        return False
    first = members[0]
    low_v = high_v = packs[first].measure_v
    low_c, high_c = INF, -INF
    small = large = packs[first].label_mah
    for pack in members:
        if not packs[pack].joins or packs[pack].klass != packs[first].klass:
            return False
        low_v, high_v = min(low_v, packs[pack].measure_v), max(high_v, packs[pack].measure_v)
        small, large = min(small, packs[pack].label_mah), max(large, packs[pack].label_mah)
        if not np.isnan(packs[pack].temp_c):
            low_c, high_c = min(low_c, packs[pack].temp_c), max(high_c, packs[pack].temp_c)
    allowed_v = high_v * rules.window_v if rules.by_part else rules.window_v
    if high_v - low_v > allowed_v + NOISE or high_c - low_c > rules.apart_c + NOISE:
        return False
    if large > small * rules.ratio + NOISE:
        return False
    for cell in range(MOST_CELLS):
        low, high = INF, -INF
        for pack in members:
            volts = packs[pack].cell_v[cell]
            if not np.isnan(volts):
                low, high = min(low, volts), max(high, volts)
        if high - low > rules.cell_window_v + NOISE:
            return False
    return True


# ------------------------------------------------------------------------------------ the full circuit


@compiled
def branches_of(tables: Tables, members: Whole, kind: int, use: int) -> tuple[Branches, State]:
    """Packs as branches at rest. kind : of the board, whose leads count. use : JOIN or CHARGE."""
    packs, count = tables.packs, len(members)
    branches = Branches(
        np.empty(count), np.empty(count), np.empty(count), np.empty(count), np.empty(count), np.empty(count),
        np.empty((count, LINES + 1)),
    )  # fmt: skip
    state = State(np.empty(count), np.zeros(count), np.zeros(count), np.zeros(count))
    for at in range(count):
        pack = members[at]
        branches.capacity_as[at] = packs[pack].ah * 3600
        branches.r0[at] = packs[pack].branch[use, 0] + tables.board_kinds[kind].lead_ohm
        branches.r1[at], branches.tau1[at] = packs[pack].branch[use, 1], packs[pack].branch[use, 2]
        branches.r2[at], branches.tau2[at] = packs[pack].branch[use, 3], packs[pack].branch[use, 4]
        branches.table_v[at] = packs[pack].table_v
        state.soc[at] = packs[pack].branch[use, 5]
    return branches, state


@compiled
def first_of(branches: Branches, count: int) -> Branches:
    """The first so many branches."""
    return Branches(
        branches.capacity_as[:count], branches.r0[:count], branches.r1[:count], branches.tau1[:count],
        branches.r2[:count], branches.tau2[:count], branches.table_v[:count],
    )  # fmt: skip


@compiled
def part_of(state: State, count: int) -> State:
    """The state of the first so many branches, which changes with the whole."""
    return State(state.soc[:count], state.u1[:count], state.u2[:count], state.amps[:count])


@compiled
def copied(state: State) -> State:
    """The same state, to go on from twice."""
    return State(state.soc.copy(), state.u1.copy(), state.u2.copy(), state.amps.copy())


@compiled
def settle(branches: Branches, state: State) -> None:
    """All at one open-circuit voltage, no charge lost: see `circuit.settled`."""
    count = len(state.soc)
    held = whole = 0.0
    alike = True
    for at in range(count):
        held += branches.capacity_as[at] * state.soc[at]
        whole += branches.capacity_as[at]
        state.u1[at] = state.u2[at] = 0.0
        for line in range(LINES + 1):
            alike = alike and branches.table_v[at, line] == branches.table_v[0, line]
    if alike:
        state.soc[:] = held / whole
        return
    low_v, high_v = INF, -INF
    for at in range(count):
        line = min(max(int(state.soc[at] * LINES), 0), LINES - 1)
        low = branches.table_v[at, line]
        volts = low + (branches.table_v[at, line + 1] - low) * (state.soc[at] * LINES - line)
        low_v, high_v = min(low_v, volts), max(high_v, volts)
    for _ in range(60):
        middle_v, has = (low_v + high_v) / 2, 0.0
        for at in range(count):
            has += branches.capacity_as[at] * soc_at(branches.table_v[at], middle_v)
        if has < held:
            low_v = middle_v
        else:
            high_v = middle_v
    for at in range(count):
        state.soc[at] = soc_at(branches.table_v[at], (low_v + high_v) / 2)


@compiled
def passes(tables: Tables, members: Whole, kind: int) -> bool:
    """Whether the joining rule allows these packs, plugged in from low to high: see `plugging.join_reasons`."""
    packs, rules, fuse_a = tables.packs, tables.rules, tables.board_kinds[kind].fuse_a
    branches, state = branches_of(tables, members, kind, JOIN)
    for count in range(2, len(members) + 1):
        some, now = first_of(branches, count), part_of(copied(state), count)
        settle(first_of(branches, count - 1), part_of(now, count - 1))
        most_a, limit_a, over_s = np.empty(count), np.empty(count), np.zeros(count)
        for at in range(count):
            limit_a[at] = (packs[members[at]].into_c + NOISE) * packs[members[at]].ah
            most_a[at] = packs[members[at]].into_c * min(packs[members[at]].ah, packs[members[at]].label_mah / 1000)
        peaks_a = np.zeros((2, count))
        run(some, now, Fed(0.0, INF, INF, SHOWN_S, 0.1, TOLERANCE), most_a, limit_a, over_s, peaks_a, no_rows())
        for at in range(count):
            pack = members[at]
            if rules.peak_c < INF:
                if peaks_a[0, at] / packs[pack].ah > rules.peak_c + NOISE or over_s[at] > rules.over_s + NOISE:
                    return False
            if -peaks_a[1, at] / packs[pack].ah > packs[pack].out_c + NOISE:
                return False
            if max(peaks_a[0, at], -peaks_a[1, at]) > fuse_a + NOISE:
                return False
    return True


@compiled
def bears(
    tables: Tables, members: Whole, kind: int, branches: Branches, now: State, over_s: Array, fed: Fed,
    limits: tuple[float, float],
) -> bool:  # fmt: skip
    """Whether these packs, going on from here, keep the joining rule: see `waiting._bearable`.

    limits : the most C into a pack, and how many times its charge C counts as over.
    """
    packs, rules, count = tables.packs, tables.rules, len(members)
    limit_a, most_a, sums_s = np.empty(count), np.empty(count), over_s.copy()
    for at in range(count):
        limit_a[at] = limits[1] * packs[members[at]].into_c * packs[members[at]].ah
        most_a[at] = packs[members[at]].into_c * min(packs[members[at]].ah, packs[members[at]].label_mah / 1000)
    peaks_a = np.zeros((2, count))
    peaks_a[0, :], peaks_a[1, :] = -INF, INF
    run(branches, now, fed, most_a if fed.amps == 0.0 else no_limit(), limit_a, sums_s, peaks_a, no_rows())
    for at in range(count):
        pack = members[at]
        if sums_s[at] > rules.over_s + NOISE or peaks_a[0, at] / packs[pack].ah > limits[0] + NOISE:
            return False
        if peaks_a[1, at] + packs[pack].out_c * packs[pack].ah < -NOISE:
            return False
        if max(peaks_a[0, at], -peaks_a[1, at]) > tables.board_kinds[kind].fuse_a + NOISE:
            return False
    return True


@compiled
def later(tables: Tables, members: Whole, branches: Branches, state: State, over_s: Array, seconds: float) -> None:
    """Bring packs that hang together to so much later: see `waiting._later`."""
    if seconds <= 0 or len(members) < 2:
        return
    limit_a = np.empty(len(members))
    for at in range(len(members)):
        limit_a[at] = tables.packs[members[at]].into_c * tables.packs[members[at]].ah
    run(
        branches,
        state,
        Fed(0.0, INF, INF, seconds, 0.1, ROUGH_TOLERANCE),
        no_limit(),
        limit_a,
        over_s,
        no_rows(),
        no_rows(),
    )


@compiled
def evens_out_s(tables: Tables, kind: int, branches: Branches, state: State) -> float:
    """When no balance wire would carry too much: see `waiting.balance_s`; 0 where that never comes."""
    lead_mohm = 1000 * tables.board_kinds[kind].lead_ohm
    limit_a = BALANCE_LEAD_A * (lead_mohm + 2 * BALANCE_WIRE_MOHM) / lead_mohm
    count = len(state.soc)
    trace = np.empty((400, 3 + 2 * count))
    ran = run(
        branches,
        state,
        Fed(0.0, INF, INF, SHOWN_S, 0.1, TOLERANCE),
        no_limit(),
        no_limit(),
        no_limit(),
        no_rows(),
        trace,
    )
    moments, latest_s = min(ran.moments, len(trace)), 0.0
    for at in range(count):
        last = -1
        for moment in range(moments):
            if abs(trace[moment, 3 + at]) > limit_a:
                last = moment
        if last == moments - 1:
            return 0.0
        if last >= 0:
            high, low = abs(trace[last, 3 + at]), abs(trace[last + 1, 3 + at])
            span_s = trace[last + 1, 0] - trace[last, 0]
            latest_s = max(latest_s, trace[last, 0] + (high - limit_a) / max(high - low, NOISE) * span_s)
    return latest_s


@compiled
def joined(tables: Tables, members: Whole, kind: int, rate_c: float, start: State) -> float:
    """Minutes of all waits from the second plug to the charger, negative where the packs may not be joined; how they
    stand then, into `start`. See `waiting.waits`."""
    packs, rules, count = tables.packs, tables.rules, len(members)
    branches, state = branches_of(tables, members, kind, JOIN)
    low_v, high_v = INF, -INF
    for pack in members:
        low_v, high_v = min(low_v, packs[pack].volts), max(high_v, packs[pack].volts)
    if count > 1 and not passes(tables, members, kind):
        return -1.0
    if count < 2 or high_v - low_v <= NO_WAIT_V + NOISE:
        put(state, start)
        return 0.0
    over_s, between_s = np.zeros(count), 0.0
    if rules.peak_c == INF:
        for plugged in range(1, count + 1):
            later(
                tables,
                members[:plugged],
                first_of(branches, plugged),
                part_of(state, plugged),
                over_s[:plugged],
                HAND_S,
            )
        put(state, start)
        return 0.0
    for plugged in range(3, count + 1):
        before, some = plugged - 1, first_of(branches, plugged)
        for wait in range(len(STEPS_BETWEEN)):
            tried, tried_s = copied(state), over_s.copy()
            later(tables, members[:before], first_of(branches, before), part_of(tried, before), tried_s[:before],
                  HAND_S + STEPS_BETWEEN[wait])  # fmt: skip
            fed = Fed(0.0, INF, INF, SHOWN_S, 0.1, TOLERANCE)
            last = wait == len(STEPS_BETWEEN) - 1
            if last or bears(tables, members[:plugged], kind, some, part_of(copied(tried), plugged), tried_s[:plugged],
                             fed, (rules.peak_c, 1.0)):  # fmt: skip
                put(tried, state)
                over_s[:] = tried_s
                between_s += STEPS_BETWEEN[wait]
                break
    plugged_now = copied(state)
    wait_s = until_charge_s(tables, members, kind, rate_c, branches, state, over_s)
    if rules.settles:
        wait_s = max(wait_s, evens_out_s(tables, kind, branches, copied(plugged_now)))
    charge_s = np.ceil(wait_s / WAIT_STEP_S - NOISE) * WAIT_STEP_S
    run(branches, plugged_now, Fed(0.0, INF, INF, HAND_S + charge_s, 0.1, ROUGH_TOLERANCE), no_limit(), no_limit(),
        no_limit(), no_rows(), no_rows())  # fmt: skip
    put(plugged_now, start)
    return (between_s + charge_s) / 60


@compiled
def until_charge_s(
    tables: Tables, members: Whole, kind: int, rate_c: float, branches: Branches, state: State, over_s: Array
) -> float:
    """Seconds from the last plug until the charger may start: see `waiting._wait_before_charge_s`. Changes `state`."""
    amps = 0.0
    for pack in members:
        amps += rate_c * tables.packs[pack].ah
    limits = max(tables.rules.peak_c, rate_c * OVER_SHARE), OVER_SHARE
    fed = Fed(amps, INF, INF, SHARE_FOLLOWED_S, 0.1, ROUGH_TOLERANCE)
    later(tables, members, branches, state, over_s, HAND_S)
    if bears(tables, members, kind, branches, copied(state), over_s, fed, limits):
        return 0.0
    too_short, enough = 0, ENOUGH
    while enough - too_short > 1:
        middle = (too_short + enough) // 2
        tried, tried_s = copied(state), over_s.copy()
        later(tables, members, branches, tried, tried_s, (middle - too_short) * WAIT_STEP_S)
        if bears(tables, members, kind, branches, copied(tried), tried_s, fed, limits):
            enough = middle
        else:
            put(tried, state)
            over_s[:] = tried_s
            too_short = middle
    return min(enough * WAIT_STEP_S, SHOWN_S)


@compiled
def put(source: State, target: State) -> None:
    """Write a state into another."""
    target.soc[:] = source.soc
    target.u1[:] = source.u1
    target.u2[:] = source.u2
    target.amps[:] = source.amps


@compiled
def charged_min(tables: Tables, members: Whole, machine: int, board: int, amps: float, start: State) -> float:
    """Minutes of a charge that begins from where `joined` left the packs; negative where it does not end in time."""
    packs = tables.packs
    klass = packs[members[0]].klass
    if not tables.classes[klass].told:
        return minutes_of(tables, members, machine, board, amps)
    branches, state = branches_of(tables, members, tables.boards[board].kind, CHARGE)
    if len(members) > 1:
        for at in range(len(members)):
            state.soc[at] += start.soc[at] - packs[members[at]].branch[JOIN, 5]
            state.u1[at], state.u2[at] = start.u1[at], start.u2[at]
    watts = tables.kinds[tables.machines[machine].kind].least_w
    fed = Fed(amps, watts, tables.classes[klass].full_v, FOLLOWED_S, tables.rules.tail, TOLERANCE)
    ran = run(branches, state, fed, no_limit(), no_limit(), no_limit(), no_rows(), no_rows())
    return ran.seconds / 60 if ran.done and ran.seconds / 60 <= LONGEST_MIN else -1.0
