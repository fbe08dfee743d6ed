"""The search over lists of batches, compiled: moves, a serial decoder, annealing.

A plan is batches in an order; each is put as early as its channel, board, hands and watts allow, as
`schedule.decode` does. A move changes one or two batches or their order. Most moves are judged by
the fast integral; one that would be taken is worked out by the full circuit first, waits and the
joining rule included, so every plan that is gone on from has the minutes that are shown.

Common method (simulated annealing). Which moves, how often and how hot was found by trial on the
sessions that `benchmarks/families.py` names for it.
"""

from math import log
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from iterum.core.compiled import compiled, entry
from iterum.core.electrical.kernel import State
from iterum.core.planning.costing import INF, charged_min, estimated, joined, may_share
from iterum.core.planning.schedule import EPS, VISIT_GAP_MIN
from iterum.core.planning.score import CUSHION_MIN, KIND_C
from iterum.core.planning.tables import Tables

Array = NDArray[np.float64]
Whole = NDArray[np.int64]
Rows = np.recarray[Any, Any]

AMPS, WAIT, FULL, MINUTES, WATTS, WH = range(6)
START, LEAD, FULL_AT, END = range(4)
SOONEST, GENTLEST, FEWEST_VISITS, STEADIEST = range(4)
MISSING, LATE = 1e4, 20.0
LATER, BROKEN = 1e9, 1e17
"""Minutes that never come; the weight of a plan that holds a batch which may not be."""
ROW = np.dtype(
    [("many", "i8"), ("machine", "i8"), ("board", "i8"), ("part", "i8"), ("mark", "i8"), ("exact", "?"),
     ("costs", "f8", 6), ("times", "f8", 4)]
)  # fmt: skip
"""One batch. many : packs. board : -1 for none. part : which of the rates. mark : a number that is the set's own.
exact : whether the costs are those of the full circuit. times : no start below 0 where it is not placed."""
KEPT = 1 << 15
"""Sets of packs, and costs, that are remembered at once."""
SPREADS, SPREAD_V = 16, 0.01
"""Steps of spread by which waits are learned, and their size, V per cell."""
LEARNS_WAIT, LEARNS_LONGER = 0.2, 0.05
"""How much the newest figure counts in what is learned; found by trial."""
OFTEN_REFUSED = 0.04
"""Part of sets that the joining rule refuses from which on every batch is worked out before it is taken."""
TRIES = 6
"""Partners that a move looks at before it gives up."""
LAST, BESIDE_LAST = 0.12, 0.5
"""A move begins so often with the batch that ends last, and, up to the second figure, with one beside it on its channel
or board."""
TO_FREE = 0.6
"""How often a batch that moves goes to the channel of two that is free first."""
BESIDE_OTHERS = 0.5
"""How often a pack from the pool goes to other packs and not into the place of the one that is left out for it: two
packs that may share a board are found in one step, where each step by itself would be worse."""
NEAR = 0.7
"""How often a batch changes its turn with one on the same channel or board: others hardly matter to it."""


COUNT, FREES, POOLS = range(3)


class Plan(NamedTuple):
    """Batches in an order. order : their rows in turn. heads : how many batches, free rows, packs in the pool. rows :
    `ROW` by batch. members : their packs, rising. free : rows that are free. pool : packs that are not charged."""

    order: Whole
    heads: Whole
    rows: Rows
    members: Whole
    free: Whole
    pool: Whole


class Lines(NamedTuple):
    """What is taken. low, high, counts : from, until and how many, rising, of channels, then boards, then hands.
    level_min, level_w, levels : of each shared limit, the W that are drawn from a moment on, in steps. used_wh : of
    sources. load_min : minutes that are to be put on each channel and board."""

    low: Array
    high: Array
    counts: Whole
    level_min: Array
    level_w: Array
    levels: Whole
    used_wh: Array
    load_min: Array


class Asked(NamedTuple):
    """What is wanted. prefer : SOONEST ... wish_class, wish_count, wish_at, wish_value : by wish, the earliest first;
    none: every pack. ready : by class, packs that are full already. by_ends : weight of the mean end."""

    prefer: int
    wish_class: Whole
    wish_count: Whole
    wish_at: Array
    wish_value: Array
    ready: Whole
    by_ends: float


class Memory(NamedTuple):
    """What was worked out of sets of packs, by key at open addresses. filled : how much there is of each.

    waits_min, longer : what was learned of it for sets that are not worked out yet: the wait by class and spread of
    volts, negative where nothing is known; by class, alone and together, how many times the integral the charge took.
    joins : how many sets were joined, and how many of them were refused.
    """

    join_key: Whole
    join: Array
    cost_key: Whole
    cost_min: Array
    filled: Whole
    waits_min: Array
    longer: Array
    joins: Whole


class Hand(NamedTuple):
    """What a move writes in. plan : the one that is tried. ends : by row, when the batch ends now, negative for none.
    luck : state of the random numbers. touched : how many rows the move changed, then which."""

    plan: Plan
    ends: Array
    luck: Whole
    touched: Whole


class Work(NamedTuple):
    """Everything one search writes in. fixed : what is taken before anything is placed. marks : by pack, a random
    number, of which the mark of a set is made. times : room for as many minutes as there are packs."""

    now: Plan
    best: Plan
    hand: Hand
    lines: Lines
    fixed: Lines
    memory: Memory
    marks: Whole
    times: Array


# ------------------------------------------------------------------------------------------- chance


@compiled
def draw(luck: Whole) -> float:
    """A number from 0 until before 1. Lehmer's generator: within whole numbers of 64 bits, compiled or not."""
    luck[0] = luck[0] * 48271 % 2147483647
    return (luck[0] - 1) / 2147483646


@compiled
def below(luck: Whole, count: int) -> int:
    """A whole number from 0 until before `count`."""
    return int(draw(luck) * count)


# ------------------------------------------------------------------------------------------- memory


@compiled
def mixed(key: int, other: int, salt: int) -> int:
    """A key with another number in it, below 1e9. salt : tells apart what the number is."""
    return key ^ (other * 2654435761 + salt * 97580911)


@compiled
def place_of(keys: Whole, key: int) -> int:
    """Where a key is, or is to be put."""
    at = (key ^ (key >> 17)) & (KEPT - 1)
    while keys[at] != 0 and keys[at] != key:
        at = (at + 1) & (KEPT - 1)
    return at


@compiled
def forget_some(memory: Memory) -> None:
    """Begin to remember again before it is full."""
    for which in range(2):
        if memory.filled[which] > KEPT * 3 // 4:
            if which == 0:
                memory.join_key[:] = 0
            else:
                memory.cost_key[:] = 0
            memory.filled[which] = 0


@compiled
def make_exact(tables: Tables, plan: Plan, row: int, memory: Memory) -> bool:
    """Give a batch the minutes of the full circuit; False where it cannot be charged so after all."""
    forget_some(memory)
    count = plan.rows[row].many
    members, board = plan.members[row, :count], plan.rows[row].board
    kind, amps = tables.boards[board].kind, plan.rows[row].costs[AMPS]
    start = State(np.zeros(count), np.zeros(count), np.zeros(count), np.zeros(count))
    wait_min = 0.0
    key = mixed(plan.rows[row].mark, kind, 1)
    if count > 1:
        whole_ah, rate_c = 0.0, 1e9
        for pack in members:
            whole_ah += tables.packs[pack].ah
            rate_c = min(rate_c, tables.packs[pack].waits_c)
        rate_c = max(rate_c, round(amps / whole_ah, 6))
        join_key = mixed(key, int(rate_c * 1e6 + 0.5), 2)
        at = place_of(memory.join_key, join_key)
        if memory.join_key[at] == 0:
            memory.join_key[at] = join_key
            memory.filled[0] += 1
            memory.join[at, 0] = joined(tables, members, kind, rate_c, start)
            learn_wait(tables, memory, members, memory.join[at, 0])
            memory.join[at, 1 : 1 + count] = start.soc
            memory.join[at, 1 + count : 1 + 2 * count] = start.u1
            memory.join[at, 1 + 2 * count : 1 + 3 * count] = start.u2
        wait_min = memory.join[at, 0]
        if wait_min < 0:
            return False
        start.soc[:] = memory.join[at, 1 : 1 + count]
        start.u1[:] = memory.join[at, 1 + count : 1 + 2 * count]
        start.u2[:] = memory.join[at, 1 + 2 * count : 1 + 3 * count]
    machine_kind = tables.machines[plan.rows[row].machine].kind
    cost_key = mixed(mixed(key, int(amps * 1e5 + 0.5), 3), machine_kind, 4)
    at = place_of(memory.cost_key, cost_key)
    if memory.cost_key[at] == 0:
        memory.cost_key[at] = cost_key
        memory.filled[1] += 1
        memory.cost_min[at] = charged_min(tables, members, plan.rows[row].machine, board, amps, start)
        if memory.cost_min[at] > 0 and plan.rows[row].costs[FULL] > 0:
            klass = tables.packs[members[0]].klass
            times = memory.cost_min[at] / plan.rows[row].costs[FULL]
            memory.longer[klass, min(count, 2) - 1] *= 1 + LEARNS_LONGER * (min(max(times, 0.5), 2.0) - 1)
    full_min = memory.cost_min[at]
    if full_min < 0:
        return False
    plan.rows[row].costs[MINUTES] += full_min - plan.rows[row].costs[FULL]
    plan.rows[row].costs[FULL], plan.rows[row].costs[WAIT] = full_min, wait_min
    plan.rows[row].exact = True
    return True


@compiled
def spread_of(tables: Tables, members: Whole) -> int:
    """In which step the spread of volts of packs lies."""
    low_v, high_v = INF, -INF
    for pack in members:
        low_v, high_v = min(low_v, tables.packs[pack].volts), max(high_v, tables.packs[pack].volts)
    return min(int((high_v - low_v) / SPREAD_V + 0.5), SPREADS - 1)


@compiled
def learn_wait(tables: Tables, memory: Memory, members: Whole, wait_min: float) -> None:
    """Note what joining took, negative where it was refused, for sets alike."""
    memory.joins[0] += 1
    if wait_min < 0:
        memory.joins[1] += 1
        return
    klass, spread = tables.packs[members[0]].klass, spread_of(tables, members)
    known_min = memory.waits_min[klass, spread]
    part = 1.0 if known_min < 0 else LEARNS_WAIT
    memory.waits_min[klass, spread] = (1 - part) * max(known_min, 0.0) + part * wait_min


@compiled
def reckon(tables: Tables, plan: Plan, row: int, memory: Memory, marks: Whole) -> bool:
    """The costs of a batch that has changed, by the integral and by what was learned of sets alike; False where it
    cannot be charged so."""
    members = plan.members[row, : plan.rows[row].many]
    cost = estimated(tables, members, plan.rows[row].machine, plan.rows[row].board, plan.rows[row].part)
    if cost.amps <= 0:
        return False
    klass, count = tables.packs[members[0]].klass, len(members)
    full_min = cost.full_min * memory.longer[klass, min(count, 2) - 1]
    plan.rows[row].costs[AMPS], plan.rows[row].costs[FULL] = cost.amps, full_min
    plan.rows[row].costs[MINUTES] = cost.minutes + full_min - cost.full_min
    plan.rows[row].costs[WATTS], plan.rows[row].costs[WH] = cost.watts, cost.energy_wh
    wait_min = 0.0
    if count > 1:
        wait_min = max(memory.waits_min[klass, spread_of(tables, members)], 0.0)
    plan.rows[row].costs[WAIT] = wait_min
    mark = 0
    for pack in members:
        mark ^= marks[pack]
    plan.rows[row].mark = mark
    plan.rows[row].exact = False
    return True


# ------------------------------------------------------------------------------------------ decoder


@compiled
def free_from(low: Array, high: Array, count: int, start: float, length: float) -> float:
    """See `schedule.free_from`."""
    if count == 0 or high[count - 1] <= start + EPS:
        return start
    at = count - 1
    while at > 0 and low[at] >= start:
        at -= 1
    while at < count:
        if low[at] >= start + length - EPS:
            break
        if high[at] > start + EPS:
            start = high[at]
        at += 1
    return start


@compiled
def insert(low: Array, high: Array, counts: Whole, line: int, begin: float, end: float) -> None:
    """Put an interval where it belongs."""
    at = counts[line]
    while at > 0 and low[line, at - 1] > begin:
        low[line, at], high[line, at] = low[line, at - 1], high[line, at - 1]
        at -= 1
    low[line, at], high[line, at] = begin, end
    counts[line] += 1


@compiled
def watts_free_from(lines: Lines, resource: int, left_w: float, start: float, length: float) -> float:
    """The first moment from `start` on from which no more than `left_w` is drawn for so long."""
    at_min, level_w = lines.level_min[resource], lines.level_w[resource]
    last = lines.levels[resource] - 1
    at = last
    while at > 0 and at_min[at] > start + EPS:
        at -= 1
    until = start + length - EPS
    while at <= last and at_min[at] < until:
        if level_w[at] > left_w + EPS:
            if at == last:
                return LATER
            start = at_min[at + 1]
            until = start + length - EPS
        at += 1
    return start


@compiled
def step_at(lines: Lines, resource: int, moment: float) -> int:
    """The step of drawn watts that begins at a moment, made where there is none."""
    at_min, level_w = lines.level_min[resource], lines.level_w[resource]
    at = lines.levels[resource]
    while at_min[at - 1] > moment:
        at -= 1
    if at_min[at - 1] == moment:
        return at - 1
    for later_at in range(lines.levels[resource], at, -1):
        at_min[later_at], level_w[later_at] = at_min[later_at - 1], level_w[later_at - 1]
    at_min[at], level_w[at] = moment, level_w[at - 1]
    lines.levels[resource] += 1
    return at


@compiled
def draw_watts(lines: Lines, resource: int, begin: float, end: float, watts: float) -> None:
    """Count watts as drawn from one moment to another."""
    first, last = step_at(lines, resource, begin), 0
    last = step_at(lines, resource, end)
    for at in range(first, last):
        lines.level_w[resource, at] += watts


@compiled
def earliest(tables: Tables, plan: Plan, row: int, lines: Lines, start: float) -> float:
    """The first moment from `start` on at which everything that a batch needs is free; LATER where there is none."""
    machine, board = plan.rows[row].machine, plan.rows[row].board
    source = tables.machines[machine].source
    if source >= 0:
        taken_wh = plan.rows[row].costs[WH] / tables.machines[machine].from_source
        if lines.used_wh[source] + taken_wh > tables.usable_wh[source] + EPS:
            return LATER
    hands_min = tables.rules.setup_min + plan.rows[row].costs[WAIT]
    whole_min, watts = hands_min + plan.rows[row].costs[MINUTES], plan.rows[row].costs[WATTS]
    machines, hands = len(tables.machines), len(lines.counts) - 1
    for _ in range(400):
        before = start
        start = free_from(lines.low[machine], lines.high[machine], lines.counts[machine], start, whole_min)
        if board >= 0:
            for part in tables.boards[board].parts:
                if part >= 0:
                    line = machines + part
                    start = free_from(lines.low[line], lines.high[line], lines.counts[line], start, whole_min)
        start = free_from(lines.low[hands], lines.high[hands], lines.counts[hands], start, hands_min)
        for resource in range(len(tables.limit_w)):
            use = tables.uses[machine, resource]
            if use > 0:
                start = watts_free_from(lines, resource, tables.limit_w[resource] - watts * use, start, whole_min)
        if start <= before + EPS:
            return start
        if start >= LATER:
            return LATER
    return LATER


@compiled
def place(tables: Tables, plan: Plan, row: int, lines: Lines) -> bool:
    """Put a batch as early as everything that it needs is free; False where there is no energy or no room for it."""
    machine, board = plan.rows[row].machine, plan.rows[row].board
    start = earliest(tables, plan, row, lines, 0.0)
    if start >= LATER:
        plan.rows[row].times[START] = -1.0
        return False
    hands_min = tables.rules.setup_min + plan.rows[row].costs[WAIT]
    machines, hands = len(tables.machines), len(lines.counts) - 1
    end, watts = start + hands_min + plan.rows[row].costs[MINUTES], plan.rows[row].costs[WATTS]
    insert(lines.low, lines.high, lines.counts, machine, start, end)
    if board >= 0:
        for part in tables.boards[board].parts:
            if part >= 0:
                insert(lines.low, lines.high, lines.counts, machines + part, start, end)
    if hands_min > 0:
        insert(lines.low, lines.high, lines.counts, hands, start, start + hands_min)
    for resource in range(len(tables.limit_w)):
        use = tables.uses[machine, resource]
        if use > 0:
            draw_watts(lines, resource, start, end, watts * use)
    source = tables.machines[machine].source
    if source >= 0:
        lines.used_wh[source] += plan.rows[row].costs[WH] / tables.machines[machine].from_source
    lead = start + hands_min
    plan.rows[row].times[START], plan.rows[row].times[LEAD] = start, lead
    plan.rows[row].times[FULL_AT], plan.rows[row].times[END] = lead + plan.rows[row].costs[FULL], end
    return True


@compiled
def clear(lines: Lines, fixed: Lines) -> None:
    """Only what is not to be moved is taken."""
    for line in range(len(lines.counts)):
        lines.counts[line] = fixed.counts[line]
        for at in range(fixed.counts[line]):
            lines.low[line, at], lines.high[line, at] = fixed.low[line, at], fixed.high[line, at]
    for limit in range(len(lines.levels)):
        lines.levels[limit] = fixed.levels[limit]
        for at in range(fixed.levels[limit]):
            lines.level_min[limit, at], lines.level_w[limit, at] = fixed.level_min[limit, at], fixed.level_w[limit, at]
    lines.used_wh[:] = fixed.used_wh


@compiled
def decode(tables: Tables, plan: Plan, lines: Lines, fixed: Lines, asked: Asked, enough: float, times: Array) -> float:
    """Place all batches in turn and weigh what comes of it; something above `enough` as soon as it is more."""
    clear(lines, fixed)
    last, ends, charged, rates = 0.0, 0.0, 0, 0.0
    by_end = asked.prefer in (SOONEST, STEADIEST)
    for turn in range(plan.heads[COUNT]):
        row = plan.order[turn]
        if not place(tables, plan, row, lines):
            continue
        end, size = plan.rows[row].times[END], plan.rows[row].many
        last, ends, charged = max(last, end), ends + end, charged + size
        whole_ah = 0.0
        if asked.prefer == GENTLEST:
            for pack in plan.members[row, :size]:
                whole_ah += tables.packs[pack].ah
            rates += max(plan.rows[row].costs[AMPS] / whole_ah, KIND_C) * size
        if by_end and last + asked.by_ends * ends / plan.heads[COUNT] > enough:
            return last + asked.by_ends * ends / plan.heads[COUNT]
    weight = asked.by_ends * ends / max(plan.heads[COUNT], 1)
    if asked.prefer == GENTLEST:
        weight += 100 * rates / max(charged, 1) + 0.02 * last
    elif asked.prefer == FEWEST_VISITS:
        weight += 60 * visits(lines) + 0.02 * last
    else:
        weight += last
    if len(asked.wish_class):
        return weight + short_of_wishes(tables, plan, asked, times)
    return weight + MISSING * (len(tables.packs) - charged)


@compiled
def least_weight(tables: Tables, plan: Plan, lines: Lines, asked: Asked) -> float:
    """What a plan weighs at least where every pack is wanted: no channel and no board is done before the minutes that
    it has, hands neither, and no batch before its own. Two parts of a large board count as one."""
    machines, load_min = len(tables.machines), lines.load_min
    load_min[:] = 0.0
    whole_min = last = hands_min = 0.0
    shortest_min = LATER
    for turn in range(plan.heads[COUNT]):
        row = plan.order[turn]
        by_hand_min = tables.rules.setup_min + plan.rows[row].costs[WAIT]
        minutes = by_hand_min + plan.rows[row].costs[MINUTES]
        whole_min, hands_min = whole_min + minutes, hands_min + by_hand_min
        shortest_min = min(shortest_min, plan.rows[row].costs[MINUTES])
        machine, board = plan.rows[row].machine, plan.rows[row].board
        load_min[machine] += minutes
        last = max(last, load_min[machine])
        if board >= 0:
            line = machines + tables.boards[board].parts[0]
            load_min[line] += minutes
            last = max(last, load_min[line])
    last = max(last, hands_min + shortest_min)
    return last + asked.by_ends * whole_min / max(plan.heads[COUNT], 1)


@compiled
def visits(lines: Lines) -> int:
    """How often hands come to the bench: see `schedule.visits_of`."""
    hands, until, count = len(lines.counts) - 1, -LATER, 0
    for at in range(lines.counts[hands]):
        if lines.low[hands, at] - until > VISIT_GAP_MIN + EPS:
            count += 1
        until = max(until, lines.high[hands, at])
    return count


@compiled
def short_of_wishes(tables: Tables, plan: Plan, asked: Asked, times: Array) -> float:
    """What wishes lack, packs first, then minutes, then minutes to spare: see `score.score_of`."""
    short = 0.0
    for wish in range(len(asked.wish_class)):
        klass, wanted = asked.wish_class[wish], asked.wish_count[wish]
        value, at_min = asked.wish_value[wish], asked.wish_at[wish]
        ready = 0
        for _ in range(asked.ready[klass]):
            times[ready] = 0.0
            ready += 1
        for turn in range(plan.heads[COUNT]):
            row = plan.order[turn]
            if tables.packs[plan.members[row, 0]].klass == klass and plan.rows[row].times[START] >= 0:
                for _ in range(plan.rows[row].many):
                    times[ready] = plan.rows[row].times[FULL_AT]
                    ready += 1
        some = np.sort(times[:ready])
        have = min(wanted, ready)
        short += MISSING * value * (wanted - have)
        if have:
            short += LATE * value * max(some[have - 1] - at_min, 0.0)
        if asked.prefer == STEADIEST:
            latest = -1.0
            for number in range(have):
                if some[number] <= at_min + EPS:
                    latest = some[number]
            if latest >= 0:
                short += LATE * value * wanted * max(CUSHION_MIN - (at_min - latest), 0.0)
    return short


# ------------------------------------------------------------------------------------------ starts


@compiled
def filled(tables: Tables, plan: Plan, packs: Whole, sizes: Whole) -> None:
    """Batches of these packs, filled in turn: each goes into the first one that it may join. They are put into rows one
    after another, without a place. sizes : the most packs of the first, the second, and so on, then from the front.
    """
    plan.heads[COUNT] = 0
    for pack in packs:
        put_somewhere = False
        for row in range(plan.heads[COUNT]):
            size = plan.rows[row].many
            if size < sizes[row % len(sizes)] and tables.packs[plan.members[row, 0]].klass == tables.packs[pack].klass:
                more = put_in(plan.members[row, :size], pack)
                if may_share(tables, more) and board_for(tables, size + 1, tables.packs[pack].klass) > -2:
                    plan.members[row, : size + 1] = more
                    plan.rows[row].many = size + 1
                    put_somewhere = True
                    break
        if not put_somewhere:
            row = plan.heads[COUNT]
            plan.order[row], plan.rows[row].many, plan.members[row, 0] = row, 1, pack
            plan.heads[COUNT] += 1


@compiled
def board_for(tables: Tables, size: int, klass: int) -> int:
    """The smallest board for so many packs of a class, -1 for one pack; -2 where there is none."""
    if size == 1:
        return -1
    for board in range(len(tables.boards) - 1):  # they are in the order of their ports
        if tables.takes[board, klass] and tables.boards[board].fewest <= size <= tables.boards[board].ports:
            return board
    return -2


@compiled
def free_at(lines: Lines, line: int) -> float:
    """When the last that is on a channel or board ends."""
    return lines.high[line, lines.counts[line] - 1] if lines.counts[line] else 0.0


@compiled
def dispatch(tables: Tables, work: Work, parts: int) -> None:
    """Give each batch of `work.now`, in turn, the channel, board and rate at which it ends first; rows that nothing
    charges are dropped into the pool.

    parts : how many of the rates are tried.
    """
    plan, lines = work.now, work.lines
    clear(lines, work.fixed)
    kept = 0
    for turn in range(plan.heads[COUNT]):
        row = plan.order[turn]
        size, klass = plan.rows[row].many, tables.packs[plan.members[row, 0]].klass
        best, best_machine, best_board, best_part = 2 * LATER, -1, -1, 0
        for machine in range(len(tables.machines)):
            plan.rows[row].machine = machine
            machine_min = free_at(lines, machine)
            for board in range(-1, (len(tables.boards) - 1)):
                if machine_min >= best or not board_fits(tables, board, size, klass):
                    continue
                if board >= 0 and free_at(lines, len(tables.machines) + tables.boards[board].parts[0]) >= best:
                    continue
                plan.rows[row].board = board
                for part in range(parts):
                    plan.rows[row].part = part
                    if not reckon(tables, plan, row, work.memory, work.marks):
                        continue
                    start = earliest(tables, plan, row, lines, 0.0)
                    end = start + plan.rows[row].costs[MINUTES]
                    if end < best - EPS:
                        best, best_machine, best_board, best_part = end, machine, board, part
        if best_machine < 0:
            for pack in plan.members[row, :size]:
                plan.pool[plan.heads[POOLS]] = pack
                plan.heads[POOLS] += 1
            plan.free[plan.heads[FREES]] = row
            plan.heads[FREES] += 1
            continue
        plan.rows[row].machine, plan.rows[row].board, plan.rows[row].part = best_machine, best_board, best_part
        reckon(tables, plan, row, work.memory, work.marks)
        place(tables, plan, row, lines)
        plan.order[kept] = row
        kept += 1
    plan.heads[COUNT] = kept


@compiled
def exact_now(tables: Tables, work: Work) -> None:
    """Give every batch of `work.now` the minutes of the full circuit; one that cannot be charged so after all falls
    apart into single packs where they were."""
    plan = work.now
    turn = 0
    while turn < plan.heads[COUNT]:
        row = plan.order[turn]
        good = plan.rows[row].exact or (
            reckon(tables, plan, row, work.memory, work.marks) and make_exact(tables, plan, row, work.memory)
        )
        if not good and plan.rows[row].many > 1:
            members = plan.members[row, : plan.rows[row].many].copy()
            plan.rows[row].many, plan.rows[row].board, plan.rows[row].part = 1, -1, 0
            for pack in members[1:]:
                new = new_row(plan, turn + 1)
                plan.rows[new].many, plan.members[new, 0], plan.rows[new].machine = 1, pack, plan.rows[row].machine
                plan.rows[new].board, plan.rows[new].part, plan.rows[new].exact = -1, 0, False
            continue
        if not good:
            good = anywhere(tables, work, row)
        if good:
            turn += 1
        else:
            plan.pool[plan.heads[POOLS]] = plan.members[row, 0]
            plan.heads[POOLS] += 1
            drop_turn(plan, turn)


@compiled
def anywhere(tables: Tables, work: Work, row: int) -> bool:
    """One pack on the first channel that can charge it at all."""
    plan = work.now
    plan.rows[row].board, plan.rows[row].part = -1, 0
    for machine in range(len(tables.machines)):
        plan.rows[row].machine = machine
        if reckon(tables, plan, row, work.memory, work.marks) and make_exact(tables, plan, row, work.memory):
            return True
    return False


# ------------------------------------------------------------------------------------------- moves


@compiled
def copy_row(source: Plan, target: Plan, row: int) -> None:
    """One batch of a plan into another."""
    of, to = source.rows[row], target.rows[row]
    to.many, to.machine, to.board, to.part = of.many, of.machine, of.board, of.part
    to.mark, to.exact = of.mark, of.exact
    target.members[row, : of.many] = source.members[row, : of.many]
    for at in range(6):
        to.costs[at] = of.costs[at]


@compiled
def copy_times(source: Plan, target: Plan, row: int) -> None:
    """When a batch of a plan is, into another."""
    for at in range(4):
        target.rows[row].times[at] = source.rows[row].times[at]


@compiled
def copy_order(source: Plan, target: Plan) -> None:
    """The order of a plan, its free rows and its pool into another."""
    target.heads[COUNT], target.heads[FREES], target.heads[POOLS] = (
        source.heads[COUNT],
        source.heads[FREES],
        source.heads[POOLS],
    )
    target.order[: source.heads[COUNT]] = source.order[: source.heads[COUNT]]
    target.free[: source.heads[FREES]] = source.free[: source.heads[FREES]]
    target.pool[: source.heads[POOLS]] = source.pool[: source.heads[POOLS]]


@compiled
def copy_plan(source: Plan, target: Plan) -> None:
    """A whole plan into another."""
    copy_order(source, target)
    for turn in range(source.heads[COUNT]):
        copy_row(source, target, source.order[turn])
        copy_times(source, target, source.order[turn])


@compiled
def some_turn(hand: Hand) -> int:
    """A batch by its place in the order: any, or one that the end of the plan hangs on."""
    plan, pick = hand.plan, draw(hand.luck)
    if pick > BESIDE_LAST:
        return below(hand.luck, plan.heads[COUNT])
    latest, found = -1.0, 0
    for turn in range(plan.heads[COUNT]):
        if hand.ends[plan.order[turn]] > latest:
            latest, found = hand.ends[plan.order[turn]], turn
    return found if pick < LAST else beside(hand, found)


@compiled
def beside(hand: Hand, turn: int) -> int:
    """The turn of a batch on the same channel or board as another one, or of that one itself."""
    plan = hand.plan
    row, many = plan.order[turn], 0
    for other in range(plan.heads[COUNT]):
        many += shares_place(plan, plan.order[other], row)
    left = below(hand.luck, many)
    for other in range(plan.heads[COUNT]):
        if shares_place(plan, plan.order[other], row):
            if left == 0:
                return other
            left -= 1
    return turn


@compiled
def shares_place(plan: Plan, row: int, other: int) -> bool:
    """Whether two batches want the same channel or the same board."""
    same = plan.rows[row].board >= 0 and plan.rows[row].board == plan.rows[other].board
    return same or plan.rows[row].machine == plan.rows[other].machine


@compiled
def some_machine(tables: Tables, hand: Hand) -> int:
    """A channel: any, or of two the one that is free first."""
    one = below(hand.luck, len(tables.machines))
    if draw(hand.luck) > TO_FREE:
        return one
    two = below(hand.luck, len(tables.machines))
    ends_one = ends_two = 0.0
    for turn in range(hand.plan.heads[COUNT]):
        row = hand.plan.order[turn]
        if hand.plan.rows[row].machine == one:
            ends_one = max(ends_one, hand.ends[row])
        elif hand.plan.rows[row].machine == two:
            ends_two = max(ends_two, hand.ends[row])
    return one if ends_one <= ends_two else two


@compiled
def touch(hand: Hand, row: int) -> None:
    """Note that a batch is changed by the move."""
    hand.touched[hand.touched[0] + 1] = row
    hand.touched[0] += 1


@compiled
def some_board(tables: Tables, size: int, klass: int, luck: Whole) -> int:
    """A board for so many packs of a class, -1 for one pack; -2 where there is none."""
    if size == 1:
        return -1
    boards = len(tables.boards) - 1
    if boards == 0:
        return -2
    first = below(luck, boards)
    for offset in range(boards):
        board = (first + offset) % boards
        if tables.takes[board, klass] and tables.boards[board].fewest <= size <= tables.boards[board].ports:
            return board
    return -2


@compiled
def board_fits(tables: Tables, board: int, size: int, klass: int) -> bool:
    """Whether a board, -1 for none, takes so many packs of a class."""
    if size == 1 or board < 0:
        return size == 1 and board < 0
    return tables.takes[board, klass] and tables.boards[board].fewest <= size <= tables.boards[board].ports


@compiled
def set_members(tables: Tables, hand: Hand, row: int, members: Whole) -> bool:
    """Give a batch other packs, on its board where that takes them; False where they may not be together."""
    plan, size = hand.plan, len(members)
    klass = tables.packs[members[0]].klass
    touch(hand, row)
    if size > plan.members.shape[1] or not may_share(tables, members):
        return False
    plan.rows[row].many = size
    plan.members[row, :size] = members
    if not board_fits(tables, plan.rows[row].board, size, klass):
        board = some_board(tables, size, klass, hand.luck)
        if board == -2:
            return False
        plan.rows[row].board = board
    return True


@compiled
def taken_out(members: Whole, at: int) -> Whole:
    """The packs without one of them."""
    left = np.empty(len(members) - 1, np.int64)
    left[:at], left[at:] = members[:at], members[at + 1 :]
    return left


@compiled
def put_in(members: Whole, pack: int) -> Whole:
    """The packs with one more, rising."""
    more = np.empty(len(members) + 1, np.int64)
    at = 0
    while at < len(members) and members[at] < pack:
        more[at] = members[at]
        at += 1
    more[at] = pack
    more[at + 1 :] = members[at:]
    return more


@compiled
def drop_turn(plan: Plan, turn: int) -> None:
    """Take a batch out of the order; its row is free."""
    plan.free[plan.heads[FREES]] = plan.order[turn]
    plan.heads[FREES] += 1
    for at in range(turn, plan.heads[COUNT] - 1):
        plan.order[at] = plan.order[at + 1]
    plan.heads[COUNT] -= 1


@compiled
def new_row(plan: Plan, turn: int) -> int:
    """A free row, put into the order before a turn."""
    plan.heads[FREES] -= 1
    row = plan.free[plan.heads[FREES]]
    for at in range(plan.heads[COUNT], turn, -1):
        plan.order[at] = plan.order[at - 1]
    plan.order[turn] = row
    plan.heads[COUNT] += 1
    return row


@compiled
def reorder(hand: Hand) -> bool:
    """A batch at another place in the order, or two changed over."""
    plan = hand.plan
    if plan.heads[COUNT] < 2:
        return False
    old = some_turn(hand)
    new = beside(hand, old) if draw(hand.luck) < NEAR else below(hand.luck, plan.heads[COUNT])
    row = plan.order[old]
    if draw(hand.luck) < 0.2:
        plan.order[old], plan.order[new] = plan.order[new], row
        return old != new
    for at in range(old, plan.heads[COUNT] - 1):
        plan.order[at] = plan.order[at + 1]
    for at in range(plan.heads[COUNT] - 1, new, -1):
        plan.order[at] = plan.order[at - 1]
    plan.order[new] = row
    return old != new


@compiled
def move_place(tables: Tables, hand: Hand) -> bool:
    """A batch on another channel, another board, or on the channel and board of another batch, which takes its own."""
    plan = hand.plan
    row, pick = plan.order[some_turn(hand)], draw(hand.luck)
    klass = tables.packs[plan.members[row, 0]].klass
    if pick < 0.55:
        plan.rows[row].machine = some_machine(tables, hand)
        if pick < 0.2:
            plan.rows[row].board = some_board(tables, plan.rows[row].many, klass, hand.luck)
        touch(hand, row)
        return plan.rows[row].board != -2
    if pick < 0.7:
        before = plan.rows[row].board
        plan.rows[row].board = some_board(tables, plan.rows[row].many, klass, hand.luck)
        touch(hand, row)
        return plan.rows[row].board != -2 and plan.rows[row].board != before
    other = plan.order[below(hand.luck, plan.heads[COUNT])]
    theirs = tables.packs[plan.members[other, 0]].klass
    if other == row:
        return False
    plan.rows[row].machine, plan.rows[other].machine = plan.rows[other].machine, plan.rows[row].machine
    touch(hand, row)
    touch(hand, other)
    mine, yours = plan.rows[row].board, plan.rows[other].board
    if (
        pick < 0.9
        and board_fits(tables, yours, plan.rows[row].many, klass)
        and board_fits(tables, mine, plan.rows[other].many, theirs)
    ):
        plan.rows[row].board, plan.rows[other].board = yours, mine
    return True


@compiled
def split(tables: Tables, hand: Hand) -> bool:
    """A batch in two: by volts, by charge C, or a pack by itself."""
    plan = hand.plan
    turn = some_turn(hand)
    row = plan.order[turn]
    size = plan.rows[row].many
    if size < 2 or plan.heads[FREES] == 0:
        return False
    members, pick = plan.members[row, :size].copy(), draw(hand.luck)
    first, rest = np.empty(size, np.int64), np.empty(size, np.int64)
    firsts = rests = 0
    cut = 1 + below(hand.luck, size - 1)
    some = below(hand.luck, size)
    place = tables.boards[plan.rows[row].board].kind
    middle_c = tables.limit_c[members[some], place]
    for at in range(size):
        if pick < 0.4:
            goes = at < cut
        elif pick < 0.7:
            goes = tables.limit_c[members[at], place] < middle_c
        elif pick < 0.85:
            goes = at == some
        else:
            goes = draw(hand.luck) < 0.5
        if goes:
            first[firsts] = members[at]
            firsts += 1
        else:
            rest[rests] = members[at]
            rests += 1
    if not firsts or not rests:
        return False
    new = new_row(plan, below(hand.luck, plan.heads[COUNT] + 1))
    plan.rows[new].machine, plan.rows[new].part, plan.rows[new].board = some_machine(tables, hand), 0, -1
    return set_members(tables, hand, row, first[:firsts].copy()) and set_members(tables, hand, new, rest[:rests].copy())


@compiled
def weakest(tables: Tables, hand: Hand, row: int) -> int:
    """The place of a pack in a batch: any, or the one that takes the least C, or the emptiest."""
    plan, packs, pick = hand.plan, tables.packs, draw(hand.luck)
    found = below(hand.luck, plan.rows[row].many)
    if pick < 0.6:
        return found
    kind = tables.boards[plan.rows[row].board].kind
    for at in range(plan.rows[row].many):
        pack, best = plan.members[row, at], plan.members[row, found]
        if pick < 0.85:
            if tables.limit_c[pack, kind] < tables.limit_c[best, kind]:
                found = at
        elif packs[pack].soc < packs[best].soc:
            found = at
    return found


@compiled
def partner(tables: Tables, hand: Hand, row: int) -> int:
    """The turn of another batch of the same class; -1 for none."""
    plan, packs = hand.plan, tables.packs
    klass, count = packs[plan.members[row, 0]].klass, plan.heads[COUNT]
    others = 0
    for turn in range(count):
        other = plan.order[turn]
        if other != row and packs[plan.members[other, 0]].klass == klass:
            others += 1
    if not others:
        return -1
    left = below(hand.luck, others)
    for turn in range(count):
        other = plan.order[turn]
        if other != row and packs[plan.members[other, 0]].klass == klass:
            if left == 0:
                return turn
            left -= 1
    return -1


@compiled
def regroup(tables: Tables, hand: Hand) -> bool:
    """Two batches of a class in one, a pack from one to the other, or two packs changed over."""
    plan = hand.plan
    row, pick = plan.order[some_turn(hand)], draw(hand.luck)
    mine = plan.members[row, : plan.rows[row].many].copy()
    for _ in range(TRIES):
        turn = partner(tables, hand, row)
        if turn < 0:
            return False
        other = plan.order[turn]
        theirs = plan.members[other, : plan.rows[other].many].copy()
        if pick < 0.3 or (len(mine) == 1 and pick < 0.7):
            both = theirs
            for pack in mine:
                both = put_in(both, pack)
            if len(both) > plan.members.shape[1] or not may_share(tables, both):
                continue
            if draw(hand.luck) < 0.5:  # at the place of either
                plan.rows[other].machine, plan.rows[other].board = plan.rows[row].machine, plan.rows[row].board
            for at in range(plan.heads[COUNT]):
                if plan.order[at] == row:
                    drop_turn(plan, at)
                    break
            return set_members(tables, hand, other, both)
        mover = weakest(tables, hand, row)
        left, more = taken_out(mine, mover), put_in(theirs, mine[mover])
        if pick > 0.65:
            back = below(hand.luck, len(theirs))
            left, more = put_in(left, theirs[back]), put_in(taken_out(theirs, back), mine[mover])
        if not may_share(tables, more) or len(more) > plan.members.shape[1] or not may_share(tables, left):
            continue
        return set_members(tables, hand, row, left) and set_members(tables, hand, other, more)
    return False


@compiled
def from_pool(tables: Tables, hand: Hand) -> bool:
    """A pack that is not charged in the place of one that is, or beside others while that one is left out."""
    plan, packs = hand.plan, tables.packs
    turn = some_turn(hand)
    row = plan.order[turn]
    size, klass = plan.rows[row].many, packs[plan.members[row, 0]].klass
    members = plan.members[row, :size].copy()
    at = below(hand.luck, plan.heads[POOLS])
    for _ in range(plan.heads[POOLS]):
        at = (at + 1) % plan.heads[POOLS]
        if packs[plan.pool[at]].klass == klass:
            out = below(hand.luck, size)
            pack, plan.pool[at] = plan.pool[at], members[out]
            other_turn = partner(tables, hand, row) if draw(hand.luck) < BESIDE_OTHERS else -1
            if other_turn < 0:
                return set_members(tables, hand, row, put_in(taken_out(members, out), pack))
            other = plan.order[other_turn]
            more = put_in(plan.members[other, : plan.rows[other].many], pack)
            if size > 1 and not set_members(tables, hand, row, taken_out(members, out)):
                return False
            if size == 1:
                drop_turn(plan, turn)
            return set_members(tables, hand, other, more)
    return False


@compiled
def moved(tables: Tables, hand: Hand) -> bool:
    """One move in `hand.plan`; False where that which was drawn cannot be made."""
    plan, pick = hand.plan, draw(hand.luck)
    if plan.heads[POOLS] and pick < 0.1:
        return from_pool(tables, hand)
    if pick < 0.28:
        return reorder(hand)
    if pick < 0.48:
        return move_place(tables, hand)
    if pick < 0.56:
        row = plan.order[some_turn(hand)]
        plan.rows[row].part = below(hand.luck, len(tables.shares))
        touch(hand, row)
        return True
    if pick < 0.64:
        return split(tables, hand)
    return regroup(tables, hand)


# ---------------------------------------------------------------------------------------- annealing


@compiled
def undo(work: Work) -> None:
    """`work.hand.plan` as `work.now` is."""
    copy_order(work.now, work.hand.plan)
    for at in range(work.hand.touched[0]):
        copy_row(work.now, work.hand.plan, work.hand.touched[at + 1])


@compiled
def taken(tables: Tables, work: Work, asked: Asked, enough: float, best: float) -> float:
    """The weight of what was tried where it is at most `enough`; else more.

    best : a plan that weighs less is worked out by the full circuit first, every batch of it; 1e18 for any.
    """
    plan = work.hand.plan
    for at in range(work.hand.touched[0]):
        if not reckon(tables, plan, work.hand.touched[at + 1], work.memory, work.marks):
            return enough + LATER
    by_end = asked.prefer in (SOONEST, STEADIEST)
    if by_end and not len(asked.wish_class) and not plan.heads[POOLS]:
        least = least_weight(tables, plan, work.lines, asked)
        if least > enough + EPS:
            return least
    weight = decode(tables, plan, work.lines, work.fixed, asked, enough, work.times)
    if weight > enough or weight >= best:
        return weight
    changed = False
    for turn in range(plan.heads[COUNT]):
        row = plan.order[turn]
        if plan.rows[row].exact:
            continue
        full_min, wait_min = plan.rows[row].costs[FULL], plan.rows[row].costs[WAIT]
        if not make_exact(tables, plan, row, work.memory):
            is_new = False
            for at in range(work.hand.touched[0]):
                is_new = is_new or work.hand.touched[at + 1] == row
            return enough + LATER if is_new else BROKEN
        changed = changed or plan.rows[row].costs[FULL] != full_min or plan.rows[row].costs[WAIT] != wait_min
    return decode(tables, plan, work.lines, work.fixed, asked, enough, work.times) if changed else weight


@compiled
def learned(work: Work) -> bool:
    """Take over into `work.now` what was worked out of batches that the move did not touch; whether there was any."""
    some = False
    for turn in range(work.now.heads[COUNT]):
        row = work.now.order[turn]
        if work.now.rows[row].exact or not work.hand.plan.rows[row].exact:
            continue
        is_new = False
        for at in range(work.hand.touched[0]):
            is_new = is_new or work.hand.touched[at + 1] == row
        if not is_new:
            copy_row(work.hand.plan, work.now, row)
            some = True
    return some


@compiled
def back_to_best(work: Work, weights: Array) -> None:
    """Go on from the best plan."""
    copy_plan(work.best, work.now)
    copy_plan(work.best, work.hand.plan)
    note_ends(work)
    weights[0] = weights[1]


@compiled
def note_ends(work: Work) -> None:
    """When the batches of `work.now` end."""
    for at in range(work.now.heads[COUNT]):
        row = work.now.order[at]
        placed = work.now.rows[row].times[START] >= 0
        work.hand.ends[row] = work.now.rows[row].times[END] if placed else -1.0


@entry
def gentler(tables: Tables, work: Work, asked: Asked, parts: int) -> None:
    """Fewer amps in `work.now` wherever nothing ends later for it and nothing wanted is lost: less wear at no cost.

    parts : of the rates, those that are parts of the most, the fastest first.
    """
    plan, lines = work.now, work.lines
    weight = decode(tables, plan, lines, work.fixed, asked, 1e18, work.times)
    for turn in range(plan.heads[COUNT]):
        row = plan.order[turn]
        if plan.rows[row].part >= parts:
            continue
        before = plan.rows[row].part
        for part in range(parts - 1, before, -1):
            plan.rows[row].part = part
            good = reckon(tables, plan, row, work.memory, work.marks) and make_exact(tables, plan, row, work.memory)
            if good and decode(tables, plan, lines, work.fixed, asked, 1e18, work.times) <= weight + EPS:
                break
            plan.rows[row].part = before
        if plan.rows[row].part == before:
            reckon(tables, plan, row, work.memory, work.marks)
            make_exact(tables, plan, row, work.memory)


@entry
def weigh(tables: Tables, work: Work, asked: Asked, of_best: bool) -> float:
    """The weight of `work.now`, every batch by the full circuit.

    of_best : whether it is the weight of the best plan instead, as that stands.
    """
    if of_best:
        return decode(tables, work.best, work.lines, work.fixed, asked, 1e18, work.times)
    exact_now(tables, work)
    return decode(tables, work.now, work.lines, work.fixed, asked, 1e18, work.times)


@compiled
def least_min(tables: Tables, plan: Plan, row: int, memory: Memory, marks: Whole) -> float:
    """Minutes of a batch, balancing included, where it is charged fastest; LATER where nothing charges it."""
    klass, least = tables.packs[plan.members[row, 0]].klass, LATER
    for machine in range(len(tables.machines)):
        seen_before = False
        for other in range(machine):
            seen_before = seen_before or tables.machines[other].kind == tables.machines[machine].kind
        if seen_before:
            continue
        plan.rows[row].machine, plan.rows[row].part = machine, 0
        for board in range(-1, len(tables.boards) - 1):
            if board_fits(tables, board, plan.rows[row].many, klass):
                plan.rows[row].board = board
                if reckon(tables, plan, row, memory, marks):
                    least = min(least, plan.rows[row].costs[MINUTES])
    return least


@compiled
def keep_best(tables: Tables, work: Work, keep: int, lean: bool) -> None:
    """Keep so many batches of `work.now`, those that save most of charging one by one; the packs of the others are by
    themselves. The longest come first in the order then; with `lean` those that need the least energy for each pack."""
    plan, count = work.now, work.now.heads[COUNT]
    lone_min = np.zeros(len(tables.packs))
    spare = plan.order[count - 1] + 1  # filled rows are the first ones; a free one to ask with
    for turn in range(count):
        for pack in plan.members[plan.order[turn], : plan.rows[plan.order[turn]].many]:
            if spare < len(plan.rows):
                plan.rows[spare].many, plan.members[spare, 0] = 1, pack
                lone_min[pack] = least_min(tables, plan, spare, work.memory, work.marks)
    saved, rank = np.zeros(count), np.zeros(count, np.int64)
    for row in range(count):
        if plan.rows[row].many > 1:
            for pack in plan.members[row, : plan.rows[row].many]:
                saved[row] += lone_min[pack]
            saved[row] -= least_min(tables, plan, row, work.memory, work.marks)
    rank[np.argsort(-saved)] = np.arange(count)
    for row in range(count):
        while plan.rows[row].many > 1 and rank[row] >= keep:
            plan.rows[row].many -= 1
            new = plan.heads[COUNT]
            plan.order[new], plan.rows[new].many = new, 1
            plan.members[new, 0] = plan.members[row, plan.rows[row].many]
            plan.heads[COUNT] += 1
    minutes, wh = np.zeros(plan.heads[COUNT]), np.zeros(plan.heads[COUNT])
    for row in range(plan.heads[COUNT]):
        alone = plan.rows[row].many == 1
        minutes[row] = (
            lone_min[plan.members[row, 0]] if alone else least_min(tables, plan, row, work.memory, work.marks)
        )
        if lean:
            for pack in plan.members[row, : plan.rows[row].many]:
                wh[row] += tables.packs[pack].energy_wh / plan.rows[row].many
    plan.order[: len(minutes)] = np.argsort(wh if lean else -minutes)


@entry
def start_with(
    tables: Tables, work: Work, asked: Asked, packs: Whole, sizes: Whole, keep: int, lean: bool
) -> float:  # fmt: skip
    """Fill batches of up to so many packs in turn, the best of them kept, each where it ends first, as `work.now`; what
    that weighs.

    packs : those to charge, in the order to take them. sizes : see `filled`. keep : batches of several packs that are
    kept at most. lean : whether those that need little energy come first, not those that take long.
    """
    plan = work.now
    filled(tables, plan, packs, sizes)
    keep_best(tables, work, keep, lean)
    plan.heads[POOLS], plan.heads[FREES] = 0, 0
    for row in range(len(plan.order) - 1, plan.heads[COUNT] - 1, -1):
        plan.free[plan.heads[FREES]] = row
        plan.heads[FREES] += 1
    for row in range(plan.heads[COUNT]):
        plan.rows[row].exact = False
    charged = np.zeros(len(tables.packs), np.bool_)
    for pack in packs:
        charged[pack] = True
    for pack in range(len(charged)):
        if not charged[pack]:
            plan.pool[plan.heads[POOLS]] = pack
            plan.heads[POOLS] += 1
    dispatch(tables, work, 1)
    return weigh(tables, work, asked, False)


@entry
def anneal(
    tables: Tables, work: Work, asked: Asked, heat: float, moves: int, weights: Array, lightly: bool
) -> int:  # fmt: skip
    """So many moves at one temperature; how many were taken.

    heat : what a worse plan may weigh more, above 0. weights (2) : of `work.now` and of `work.best`, changed in place.
    lightly : go on from plans that are judged by the integral and by what was learned; only a plan that would be the
    best is worked out by the full circuit. Not done where the joining rule often refuses.
    """
    count = 0
    if not work.now.heads[COUNT]:
        return count
    for _ in range(moves):
        work.hand.touched[0] = 0
        if not moved(tables, work.hand):
            undo(work)
            continue
        enough = weights[0] - heat * log(1.0 - draw(work.hand.luck))
        lazy = lightly and work.memory.joins[1] <= OFTEN_REFUSED * work.memory.joins[0]
        weight = taken(tables, work, asked, enough, weights[1] if lazy else 1e18)
        if weight >= BROKEN:
            back_to_best(work, weights)
            continue
        if weight > enough:
            some = lightly and learned(work)
            undo(work)
            if some:
                weights[0] = decode(tables, work.now, work.lines, work.fixed, asked, 1e18, work.times)
            continue
        count += 1
        if lightly:
            learned(work)
        copy_order(work.hand.plan, work.now)
        for at in range(work.hand.touched[0]):
            copy_row(work.hand.plan, work.now, work.hand.touched[at + 1])
        for at in range(work.now.heads[COUNT]):
            copy_times(work.hand.plan, work.now, work.now.order[at])
        note_ends(work)
        weights[0] = weight
        if weight < weights[1]:
            weights[1] = weight
            copy_plan(work.now, work.best)
    return count
