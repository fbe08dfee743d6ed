"""A problem as arrays: what the compiled search reads of packs, classes, kit and house rules.

Limits on amps are tabulated once: what a pack may take is a C by kind of board; what channel and
board carry is so many amps by kind of channel, kind of board and class. The amps of any batch
follow in closed form (`costing.amps_of`).
"""

from collections.abc import Sequence
from math import inf, nan
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from iterum.core.amps.limits import limits_of, setup_faults, smallest_a
from iterum.core.electrical.circuit import branch_of
from iterum.core.electrical.resistance import Use
from iterum.core.groups.group import MOST_APART_C
from iterum.core.planning.problem import Problem
from iterum.core.planning.resources import RATE_PARTS
from iterum.core.things.limit_kinds import Rests
from iterum.core.things.packs import Pack
from iterum.core.things.rules import JoinOrder, MatchBy, SizeAt
from iterum.core.things.setup import Power, Setup, least_power_w, powers_of

Array = NDArray[np.float64]
Rows = np.recarray[Any, Any]
Flags = NDArray[np.bool_]

MOST_CELLS = 14
PACK = np.dtype(
    [("klass", "i8"), ("joins", "?"), ("ah", "f8"), ("soc", "f8"), ("ohm", "f8"), ("lag_s", "f8"), ("volts", "f8"),
     ("measure_v", "f8"), ("pack_v", "f8"), ("cell_v", "f8", MOST_CELLS), ("temp_c", "f8"), ("label_mah", "f8"),
     ("wish_a", "f8"), ("waits_c", "f8"), ("into_c", "f8"), ("out_c", "f8"), ("energy_wh", "f8"),
     ("balance_min", "f8", 2),
     ("branch", "f8", (2, 6)), ("table_v", "f8", 21)]
)  # fmt: skip
"""One pack. klass : its class. joins : whether it may share a board. soc, ohm : for minutes, all of its resistance.
lag_s : see `estimate.Combined`. volts : per cell. measure_v : as the house rule on matching measures. cell_v, temp_c :
not a number where not known.
wish_a : A that are wanted of it. waits_c : C for which its waits are worked out at least. into_c, out_c : what it may
take and give. energy_wh : into it until full. balance_min : the allowance alone, and on a board. branch : for joining
and for minutes, r0, r1, tau1, r2, tau2 without a lead, and its state of charge. table_v : of the whole pack."""
CLASS = np.dtype([("full_v", "f8"), ("divisor_v", "f8"), ("told", "?")])
"""One class. full_v : V of a pack. divisor_v : V that a charger's watts are divided by, 0 for those of the packs now.
told : whether volts tell the charge."""
MACHINE = np.dtype([("kind", "i8"), ("source", "i8"), ("from_source", "f8")])
"""One channel. source : -1 for one without a budget."""
KIND = np.dtype(
    [("step_a", "f8"), ("least_a", "f8"), ("fixed", "?"), ("own_w", "f8"), ("link_w", "f8"), ("least_w", "f8")]
)
"""One kind of channel: the steps of its amps, the smallest, whether they cannot be set; W at the packs that its charger
and what feeds it give to size by, and to charge with."""
BOARD = np.dtype([("kind", "i8"), ("ports", "i8"), ("fewest", "i8"), ("parts", "i8", 2)])
"""One board. parts : the boards that it is made of, -1 for none. The last row stands for no board."""
PORT = np.dtype([("lead_ohm", "f8"), ("fuse_a", "f8")])
"""A port of one kind of board."""
SHARE = np.dtype([("part", "f8"), ("watts", "f8")])
"""One rate: a part of the most, or, where that is 0, so many W of a shared limit."""


class Rules(NamedTuple):
    """House rules as figures; limits that are not in force are infinite. by_part : whether the
    window is a part of the highest volts. settles : whether balance leads follow when packs have
    settled."""

    window_v: float
    by_part: bool
    cell_window_v: float
    apart_c: float
    ratio: float
    most: int
    peak_c: float
    over_s: float
    settles: bool
    tail: float
    setup_min: float


class Tables(NamedTuple):
    """One problem. packs, classes, machines, kinds, boards, board_kinds, shares : rows as above. limit_c (P, kinds of
    board and none) : the most C that a pack may take there. uses (M, R), limit_w (R) : W of each shared limit for each
    W at the packs. share_use (M, shares) : the same, of the limit that a rate shares. amps (kinds of channel, kinds of
    board and none, classes) : the most, negative where it cannot be. takes (B, classes). usable_wh : by source.
    """

    packs: Rows
    limit_c: Array
    classes: Rows
    rules: Rules
    machines: Rows
    uses: Array
    share_use: Array
    kinds: Rows
    amps: Array
    boards: Rows
    takes: Flags
    board_kinds: Rows
    limit_w: Array
    usable_wh: Array
    shares: Rows


def tables_of(problem: Problem) -> Tables:
    """The arrays of a problem of at least one pack and one channel."""
    classes = [problem.packs[members[0]] for members in problem.families.values()]
    of_machine, machine_kind = _kinds(problem.alike[0])
    of_board, board_kind = _kinds(problem.alike[1])
    limits_w = {name: limit_w for name, limit_w in problem.limits_w.items() if limit_w < inf}
    shares = [(part, "", 0.0) for part in RATE_PARTS] + [(0.0, name, share_w) for name, share_w in problem.shares_w]
    uses = [dict(machine.uses) for machine in problem.machines]
    return Tables(
        packs=_packs(problem),
        limit_c=_limits_c(problem),
        classes=_classes(problem, classes),
        rules=_rules(problem),
        machines=_machines(problem, machine_kind),
        uses=_filled([[use.get(name, 0.0) for name in limits_w] for use in uses], (len(uses), len(limits_w)), float),
        share_use=np.array([[use.get(name, 0.0) for _, name, _ in shares] for use in uses], dtype=float),
        kinds=_channel_kinds(problem, of_machine),
        amps=_amps(problem, of_machine, [*of_board, -1], classes),
        boards=_boards(problem, board_kind),
        takes=_filled([[board.takes(one.cells) for one in classes] for board in problem.boards],
                      (len(problem.boards), len(classes))),
        board_kinds=_ports(problem, of_board),
        limit_w=np.array(list(limits_w.values()), dtype=float),
        usable_wh=np.array([one.usable_wh for one in problem.kit.sources if one.usable_wh is not None], dtype=float),
        shares=_rows(SHARE, [(part, watts) for part, _, watts in shares]),
    )  # fmt: skip


def _rows(of: "np.dtype[Any]", rows: list[tuple[Any, ...]]) -> Rows:
    return np.array(rows, dtype=of).view(np.recarray)


def _kinds(first_alike: tuple[int, ...]) -> tuple[list[int], list[int]]:
    """One item of each kind, and by item its kind."""
    firsts = sorted(set(first_alike))
    return firsts, [firsts.index(item) for item in first_alike]


# ------------------------------------------------------------------------------------------- packs


def _packs(problem: Problem) -> Rows:
    families, rules = list(problem.families), problem.rules
    rows = np.zeros(len(problem.packs), PACK).view(np.recarray)
    rows.cell_v[:] = nan
    for number, pack in enumerate(problem.packs):
        row, reading = rows[number], pack.reading
        row.klass = families.index(pack.family)
        row.joins = problem.joins[number] and pack.table is not None
        row.ah, row.label_mah = pack.capacity_ah, pack.capacity_mah
        row.pack_v = reading.pack_v if reading else 0.0
        row.volts = row.pack_v / pack.cells
        row.measure_v = row.volts if rules.match_by is MatchBy.VOLTS_PER_CELL else row.pack_v
        if reading is not None and reading.cell_v:
            row.cell_v[: pack.cells] = reading.cell_v
        row.temp_c = nan if pack.temperature_c is None else pack.temperature_c
        row.wish_a = rules.wanted_rate_c(pack.chemistry) * pack.rated_ah
        row.waits_c, row.into_c, row.out_c = _waits_at_c(problem, pack), pack.charge_c, pack.gives_c
        row.energy_wh, row.balance_min = problem.energy_wh_of(number), problem.balance_min_of(number)
        if pack.table is not None:
            row.table_v[:] = np.array(pack.table.cell_v) * pack.cells
            for use, of in enumerate((Use.JOIN, Use.CHARGE)):
                one = branch_of(pack, 0.0, of)
                row.branch[use] = one.r0_ohm, one.r1_ohm, one.tau1_s, one.r2_ohm, one.tau2_s, one.soc
            row.soc, row.ohm = row.branch[1, 5], row.branch[1, 0] + row.branch[1, 1] + row.branch[1, 3]
            row.lag_s = (row.branch[1, 1] * row.branch[1, 2] + row.branch[1, 3] * row.branch[1, 4]) / row.ohm
    return rows


def _waits_at_c(problem: Problem, pack: Pack) -> float:
    """The least rate for which its waits are worked out: see `joining.waits_at_c`."""
    return min(problem.rules.wanted_rate_c(pack.chemistry), pack.max_charge_a / pack.capacity_ah)


def _limits_c(problem: Problem) -> Array:
    """By pack and kind of board, the last for none, the most C that it may take there."""
    firsts, _ = _kinds(problem.alike[1])
    limits_c = np.full((len(problem.packs), len(firsts) + 1), inf)
    of_ports: dict[tuple[int, float, str | None], float] = {}
    for number, pack in enumerate(problem.packs):
        own_c = _least(pack, problem.setup(0, -1), problem, Rests.PACK) / pack.capacity_ah
        limits_c[number, :] = own_c
        for at, board in enumerate(firsts):
            if problem.boards[board].parts:  # counted with the place: which packs hang behind is not known
                continue
            key = (at, pack.capacity_ah, pack.connector)
            if key not in of_ports:
                of_ports[key] = _least(pack, problem.setup(0, board), problem, Rests.PORT)
            limits_c[number, at] = min(own_c, of_ports[key] / pack.capacity_ah)
    return limits_c


def _least(pack: Pack, setup: Setup, problem: Problem, rests: Rests) -> float:
    """The least amps of the limits of one sort on a pack by itself."""
    kept = (item for item in limits_of([pack], setup, problem.rules) if item.kind.rests is rests)
    return min((item.current_a for item in kept if not item.kind.wished), default=inf)


# ------------------------------------------------------------------------------- classes and rules


def _classes(problem: Problem, classes: list[Pack]) -> Rows:
    rows = np.zeros(len(classes), CLASS).view(np.recarray)
    for number, one in enumerate(classes):
        full_v = one.cells * problem.rules.full_v(one.chemistry)
        divisors = {SizeAt.NOMINAL: one.cells * one.chemistry.nominal_v, SizeAt.PRESENT: 0.0}
        rows[number] = full_v, divisors.get(problem.rules.size_at, full_v), one.table is not None
    return rows


def _rules(problem: Problem) -> Rules:
    rules = problem.rules
    by_part = rules.match_by not in (MatchBy.VOLTS_PER_CELL, MatchBy.VOLTS_PER_PACK)
    return Rules(
        window_v=rules.match_limit / 100 if by_part else float(rules.match_limit),
        by_part=by_part,
        cell_window_v=float(rules.cell_window_v()),
        apart_c=MOST_APART_C,
        ratio=inf if rules.max_capacity_ratio is None else float(rules.max_capacity_ratio),
        most=10**6 if rules.max_packs is None else rules.max_packs,
        peak_c=inf if rules.join_peak_c is None else float(rules.join_peak_c),
        over_s=float(rules.join_over_s),
        settles=rules.join_order is JoinOrder.SETTLE_THEN_BALANCE,
        tail=float(rules.tail_fraction),
        setup_min=float(rules.setup_min),
    )


# --------------------------------------------------------------------------------------------- kit


def _machines(problem: Problem, kind: list[int]) -> Rows:
    sources = [one.id for one in problem.kit.sources if one.usable_wh is not None]
    return _rows(MACHINE, [
        (kind[one.index], sources.index(one.source_id) if one.source_id in sources else -1, one.from_source)
        for one in problem.machines
    ])  # fmt: skip


def _channel_kinds(problem: Problem, firsts: list[int]) -> Rows:
    rows = []
    for machine in firsts:
        setup = problem.setup(machine, -1)
        channel, powers = setup.channel, powers_of(setup, cautious=True)
        rows.append((channel.current_step_a, smallest_a(channel), channel.fixed_current, _least_w(powers, Rests.WATTS),
                     _least_w(powers, Rests.FED_WATTS), least_power_w(setup)))  # fmt: skip
    return _rows(KIND, rows)


def _least_w(powers: Sequence[Power], rests: Rests) -> float:
    return min((one.left_w for one in powers if one.kind.rests is rests), default=inf)


def _boards(problem: Problem, kind: list[int]) -> Rows:
    rows = np.zeros(len(problem.boards) + 1, BOARD).view(np.recarray)
    rows.parts[:] = -1
    for number, board in enumerate(problem.boards):
        row, parts = rows[number], problem.board_parts[number]
        row.kind, row.ports, row.fewest = kind[number], board.ports, board.fewest
        row.parts[: len(parts)] = parts
    rows[-1].kind, rows[-1].ports, rows[-1].fewest = len(set(kind)), 1, 1
    return rows


def _ports(problem: Problem, firsts: list[int]) -> Rows:
    ports = [*(problem.boards[board].port for board in firsts), problem.setup(0, -1).port]
    return _rows(PORT, [(port.lead_mohm / 1000, port.fuse_a or inf) for port in ports])


def _filled(rows: list[list[Any]], shape: tuple[int, int], of: type = bool) -> NDArray[Any]:
    """An array of this shape also where there is nothing to put in."""
    return np.array(rows, dtype=of).reshape(shape)


def _amps(problem: Problem, machines: list[int], boards: list[int], classes: list[Pack]) -> Array:
    """The most amps of channel and board, by class; negative where packs of it cannot be there at all."""
    amps = np.full((len(machines), len(boards), len(classes)), -1.0)
    for row, machine in enumerate(machines):
        for column, board in enumerate(boards):
            setup = problem.setup(machine, board)
            chained = board >= 0 and bool(problem.boards[board].parts)
            # Of the ports of a chain nothing is known per pack: they count with the place.
            own = (Rests.PLACE, Rests.HUNG, Rests.PORT) if chained else (Rests.PLACE, Rests.HUNG)
            for at, pack in enumerate(classes):
                if not setup_faults([pack], setup):
                    limits = limits_of([pack], setup, problem.rules)
                    amps[row, column, at] = min(item.current_a for item in limits if item.kind.rests in own)
    return amps
