"""Every limit on the current of one group, from the wish to the source, each with its number and its reason.

Common practice, no source, except where a number comes from a label.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from iterum.core.permit.permit import permit_of
from iterum.core.quantities import NOISE, at_most, ceil_to_step, floor_to_step
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.things.feed import Feed
from iterum.core.things.kit import Board, Channel, connector_a, same_plug
from iterum.core.things.limit_kinds import (
    ADAPTER_CURRENT,
    BOARD_CURRENT,
    BOARD_FUSE,
    CHANNEL_CURRENT,
    CHARGER_INPUT,
    PACK_CHARGE_C,
    PORT_FUSE,
    SOURCE_POWER,
    SUPPLY_POWER,
    WANTED_RATE,
    WEAK_PACK,
    LimitKind,
    Rests,
)
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules, SizeAt
from iterum.core.things.setup import Power, Setup, powers_of, total_ah


@dataclass(frozen=True)
class Limit:
    """One limit, turned into amps at the board.

    kind : its row in the table of limits. reason : the formula with its numbers.
    """

    kind: LimitKind
    current_a: float
    reason: Reason

    @property
    def name(self) -> str:
        """As in the session file."""
        return self.kind.name


def _divisor_v(packs: Sequence[Pack], rules: HouseRules) -> float:
    """Volts of the whole pack that a charger's own watts are divided by, as the house rule says."""
    first = packs[0]
    if rules.size_at is SizeAt.NOMINAL:
        return first.cells * first.chemistry.nominal_v
    if rules.size_at is SizeAt.PRESENT:
        return max(pack.reading.pack_v for pack in packs if pack.reading is not None)
    return first.cells * rules.full_v(first.chemistry)


def _pack_limits(packs: Sequence[Pack], rules: HouseRules, wanted_a: float | None) -> list[Limit]:
    """What is wanted, and what the packs' own labels and states allow. wanted_a : the pilot's own amps, typed in."""
    whole_ah = total_ah(packs)
    wanted_c = rules.wanted_rate_c(packs[0].chemistry)
    rated_ah = round(sum(pack.rated_ah for pack in packs), 9)
    # The current splits by what packs hold; no pack may see more than its label's C on its label's Ah.
    slowest = min(packs, key=lambda pack: pack.max_charge_a / pack.capacity_ah)
    label_a = slowest.max_charge_a * whole_ah / slowest.capacity_ah
    limits = [
        Limit(WANTED_RATE, wanted_a, reason("limit_wanted_amps", current_a=wanted_a))
        if wanted_a is not None
        else Limit(
            WANTED_RATE,
            wanted_c * rated_ah,
            reason("limit_wanted_rate", rate_c=wanted_c, total_ah=rated_ah, count=len(packs)),
        ),
        Limit(
            PACK_CHARGE_C,
            label_a,
            reason(
                "limit_pack_charge_c",
                rate_c=slowest.charge_c,
                total_ah=label_a / slowest.charge_c,
                id=slowest.id,
                labelled=slowest.max_charge_c is not None,
            ),
        ),
    ]
    return limits + _weak_limits(packs, rules)


def _weak_limits(packs: Sequence[Pack], rules: HouseRules) -> list[Limit]:
    """What weak and cold packs may take at most, so that the share of none of them is more."""
    limits = []
    for pack in packs:
        rate_c = permit_of(pack, rules).max_rate_c
        if rate_c is not None:
            share = pack.capacity_ah / total_ah(packs)
            numbers = {"rate_c": rate_c, "total_ah": pack.rated_ah / share, "id": pack.id}
            limits.append(Limit(WEAK_PACK, rate_c * pack.rated_ah / share, reason("limit_weak_pack", **numbers)))
    return _tightest(limits)


Seats = tuple[tuple[Board, tuple[Pack, ...]], ...]
"""Which packs go on which board: one entry, or one for each board of a chain."""


def seats_on(packs: Sequence[Pack], board: Board) -> Seats:
    """Which packs go on which board of a chain: on the hung one no more than must, those that fit its plug, the small
    ones first, because all that they take passes one port of the first."""
    if not board.parts:
        return ((board, tuple(packs)),)
    first, second = board.parts
    count = max(len(packs) - (first.ports - 1), 1)
    to_second = sorted(packs, key=lambda pack: (same_plug(pack.connector, first.connector), pack.capacity_ah))[:count]
    on_first = tuple(pack for pack in packs if pack not in to_second)
    return (first, on_first), (second, tuple(pack for pack in packs if pack in to_second))


def _tightest(limits: Sequence[Limit]) -> list[Limit]:
    """Of several limits of one kind, the smallest."""
    best: dict[LimitKind, Limit] = {}
    for limit in limits:
        if limit.kind not in best or limit.current_a < best[limit.kind].current_a:
            best[limit.kind] = limit
    return list(best.values())


def _board_limits(packs: Sequence[Pack], board: Board | None) -> list[Limit]:
    """What leads, fuses and adapters of the board carry. A fuse sees only what passes it: a pack's share, a hung
    board's, or all of it."""
    if board is None:
        return []
    whole_ah = total_ah(packs)
    seats = seats_on(packs, board)
    limits: list[Limit] = []
    for number, (part, members) in enumerate(seats):
        # Through a first board all amps pass; through the one hung behind it only its own packs'.
        share = 1.0 if number == 0 else total_ah(members) / whole_ah
        if part.max_current_a is not None:
            why = reason("limit_board_current", board=part.id, max_a=part.max_current_a, part=share)
            limits.append(Limit(BOARD_CURRENT, part.max_current_a / share, why))
        if part.fuse_a is not None:
            why = reason("limit_board_fuse", board=part.id, fuse_a=part.fuse_a, part=share)
            limits.append(Limit(BOARD_FUSE, part.fuse_a / share, why))
        if part.port_fuse_a is not None and members:
            largest = max(members, key=lambda pack: pack.capacity_ah)
            through = largest.capacity_ah / whole_ah
            why = reason("limit_port_fuse", fuse_a=part.port_fuse_a, id=largest.id, part=through)
            limits.append(Limit(PORT_FUSE, part.port_fuse_a / through, why))
        limits += _adapter_limits(members, part, whole_ah)
    if len(seats) > 1:
        limits += _hung_limits(seats, whole_ah)
    return _tightest(limits)


def _hung_limits(seats: Seats, whole_ah: float) -> list[Limit]:
    """What the port of the first board carries for the board that hangs on it."""
    (first, _), (second, members) = seats
    share = total_ah(members) / whole_ah
    limits = []
    if first.port_fuse_a is not None:
        why = reason("limit_port_fuse", fuse_a=first.port_fuse_a, id=second.id, part=share)
        limits.append(Limit(PORT_FUSE, first.port_fuse_a / share, why))
    adapter_a = _adapter_a(first.connector, second.connector)
    if adapter_a is not None:
        why = reason("limit_adapter", of=second.id, plug=second.connector, board=first.id, socket=first.connector,
                     adapter_a=adapter_a, part=share)  # fmt: skip
        limits.append(Limit(ADAPTER_CURRENT, adapter_a / share, why))
    return limits


def _adapter_a(plug: str | None, socket: str | None) -> float | None:
    """Amps of the adapter between two plugs: its weaker side; None where none is needed or neither is known."""
    if same_plug(plug, socket):
        return None
    known = [amps for amps in (connector_a(plug), connector_a(socket)) if amps is not None]
    return min(known, default=None)


def _adapter_limits(members: Sequence[Pack], board: Board, whole_ah: float) -> list[Limit]:
    """What the adapter of each pack with another plug carries: it sees that pack's share."""
    limits = []
    for pack in members:
        adapter_a = _adapter_a(pack.connector, board.connector)
        if adapter_a is not None:
            part = pack.capacity_ah / whole_ah
            why = reason("limit_adapter", of=pack.id, plug=pack.connector, board=board.id, socket=board.connector,
                         adapter_a=adapter_a, part=part)  # fmt: skip
            limits.append(Limit(ADAPTER_CURRENT, adapter_a / part, why))
    return limits


def adapters(packs: Sequence[Pack], board: Board | None) -> tuple[Reason, ...]:
    """Each adapter that is needed, with its amps where they are known."""
    notes = []
    for part, members in seats_on(packs, board) if board else ():
        for pack in members:
            if not same_plug(pack.connector, part.connector):
                amps = _adapter_a(pack.connector, part.connector)
                numbers = {"id": pack.id, "plug": pack.connector, "board": part.id, "socket": part.connector}
                notes.append(reason("adapter_needed" if amps else "adapter_unknown", current_a=amps, **numbers))
    return tuple(notes)


@lru_cache(maxsize=1024)
def _power_limits(setup: Setup, divisor_v: float, full_v: float, own: bool) -> tuple[Limit, ...]:
    """Watts turned into amps. The charger's own watts are divided as the house rule says, since it backs off
    by itself; a supply's or source's always by full volts, since nothing backs off for them.

    own : whether the pilot typed the amps: a small wall adapter counts with all its watts then.
    """
    limits = []
    for power in powers_of(setup, cautious=not own):
        volts = full_v if power.kind.rests is Rests.FED_WATTS else divisor_v
        numbers = {"power_w": power.whole_w, "volts": volts, "others_w": power.whole_w - power.left_w}
        why = reason(f"limit_{power.kind.name}", **numbers, **_power_parts(power, setup.feed))
        limits.append(Limit(power.kind, power.left_w / volts, why))
    return tuple(limits)


def _power_parts(power: Power, feed: Feed) -> dict[str, object]:
    """The labelled numbers behind a power limit, so that its formula can be checked by hand."""
    if power.kind is CHARGER_INPUT:
        return {"input_v": feed.input_v, "on_mains": feed.on_ac, "half": feed.watts_are_half}
    if power.kind is SUPPLY_POWER and power.link:
        supply = next(item for item in feed.supplies if item.id == power.link)
        efficiency = feed.efficiencies[power.link]
        half = power.whole_w < 0.75 * supply.max_power_w * efficiency
        return {"output_w": supply.max_power_w, "efficiency": efficiency, "supply": power.link, "half": half}
    if power.kind is SOURCE_POWER and feed.source:
        return {"source_w": feed.source.power_limit_w, "efficiency": feed.efficiencies[feed.source.id]}
    return {}


def limits_of(
    packs: Sequence[Pack], setup: Setup, rules: HouseRules, wanted_a: float | None = None
) -> tuple[Limit, ...]:
    """Every limit on the current of a group, in amps at the board, from the wish to the source.

    wanted_a : the pilot's own amps, A above 0; None for the wanted rate.
    """
    full_v = packs[0].cells * rules.full_v(packs[0].chemistry)
    return (
        *_pack_limits(packs, rules, wanted_a),
        *_board_limits(packs, setup.board),
        Limit(CHANNEL_CURRENT, setup.channel.max_current_a, reason("limit_channel_current", channel=setup.channel.id)),
        *_power_limits(setup, _divisor_v(packs, rules), full_v, wanted_a is not None),
    )


def board_faults(packs: Sequence[Pack], board: Board | None) -> list[Reason]:
    """Why these packs cannot be plugged into this board at all; none where no board is known."""
    faults: list[Reason] = []
    if board is None:
        return faults
    cells = packs[0].cells
    if not board.takes(cells):
        numbers = {"cells": cells, "min_cells": board.min_cells, "max_cells": board.max_cells}
        faults.append(reason("board_cells", board=board.id, **numbers))
    if len(packs) > board.ports:
        faults.append(reason("ports_full", count=len(packs), ports=board.ports))
    return faults


def setup_faults(packs: Sequence[Pack], setup: Setup) -> list[Reason]:
    """Why this board, channel or feed cannot charge these packs at all."""
    cells = packs[0].cells
    charger = setup.feed.charger
    faults = [reason("charger_failed", charger=charger.name or charger.id)] if charger.failed else []
    if not setup.channel.takes(cells):
        faults.append(
            reason(
                "channel_cells",
                channel=setup.channel.id,
                cells=cells,
                min_cells=setup.channel.min_cells,
                max_cells=setup.channel.max_cells,
            )
        )
    if setup.board is None and len(packs) > 1:
        faults.append(reason("board_missing", count=len(packs)))
    faults += board_faults(packs, setup.board)
    faults += pilot_faults(packs, setup.board, setup.feed)
    input_fault = setup.feed.input_fault()
    return faults + ([input_fault] if input_fault else [])


def pilot_faults(packs: Sequence[Pack], board: Board | None, feed: Feed | None = None) -> list[Reason]:
    """Packs that may not be charged with the kit of another pilot, or with what is not their pilot's own.

    board : None for none. feed : None where nothing charges them.
    """
    boards = () if board is None else board.parts or (board,)
    own = (*boards, *((feed.charger,) if feed else ()))
    sources = (feed.source,) if feed and feed.source else ()
    faults: list[Reason] = []
    for pack in packs:
        for thing in (*own, *sources):
            is_common = thing in sources  # sources are everybody's, also where each charges with own kit alone
            numbers = {"id": pack.id, "thing": thing.name or thing.id}
            if thing.pilot not in (None, pack.pilot) and (not thing.lent or (pack.terms.own_kit and not is_common)):
                faults.append(reason("kit_of_other", pilot=thing.pilot, **numbers))
            elif pack.terms.own_kit and thing.pilot is None and not is_common:
                faults.append(reason("not_own_kit", pilot=pack.pilot, **numbers))
    return faults


def smallest_a(channel: Channel) -> float:
    """The smallest current a channel can do."""
    if channel.fixed_current:
        return channel.max_current_a
    return max(ceil_to_step(channel.min_current_a, channel.current_step_a), channel.current_step_a)


def _dialled(limits: Sequence[Limit], channel: Channel) -> tuple[float, Limit, list[Reason]]:
    """The current to dial, the binding limit and notes. Raises Unsafe when the channel cannot go that low."""
    binding = min(limits, key=lambda limit: limit.current_a)
    if channel.fixed_current:
        return _fixed(limits, channel)
    current_a = floor_to_step(binding.current_a, channel.current_step_a)
    least_a = smallest_a(channel)
    if at_most(least_a, current_a):
        return current_a, binding, []
    # The wish may be exceeded up to the labels; nothing else may.
    hard = min((limit for limit in limits if not limit.kind.wished), key=lambda limit: limit.current_a)
    if not at_most(least_a, hard.current_a):
        raise Unsafe((minimum_too_high(channel, hard),))
    return least_a, binding, [reason("minimum_dialled", smallest_a=least_a, wanted_a=binding.current_a)]


def _fixed(limits: Sequence[Limit], channel: Channel) -> tuple[float, Limit, list[Reason]]:
    """The amps of a channel that cannot be set. Raises Unsafe with every limit that they pass."""
    current_a = channel.max_current_a
    over = tuple(
        reason("fixed_over_limit", current_a=current_a, limit_a=limit.current_a, limit=limit.name, why=limit.reason,
               channel=channel.id)
        for limit in limits if not limit.kind.wished and not at_most(current_a, limit.current_a)
    )  # fmt: skip
    if over:
        raise Unsafe(over)
    binding = next(limit for limit in limits if limit.kind is CHANNEL_CURRENT)
    return current_a, binding, [reason("fixed_current", current_a=current_a, channel=channel.id)]


def minimum_too_high(channel: Channel, limit: Limit) -> Reason:
    """That a channel cannot go as low as a limit asks."""
    numbers = {"smallest_a": smallest_a(channel), "limit_a": limit.current_a, "limit": limit.name}
    return reason("minimum_too_high", channel=channel.id, **numbers, why=limit.reason)


def amps_faults(current_a: float, limits: Sequence[Limit], channel: Channel) -> tuple[Reason, ...]:
    """Why so many amps may not be dialled: each limit that is broken, the channel's step and its smallest current.

    current_a : A at the charger, above 0.
    """
    faults = [
        reason("over_limit", current_a=current_a, limit_a=limit.current_a, limit=limit.name, why=limit.reason)
        for limit in limits
        if not limit.kind.wished and not at_most(current_a, limit.current_a)
    ]
    if channel.fixed_current and current_a != channel.max_current_a:
        fixed_a = channel.max_current_a
        faults.append(reason("amps_are_fixed", current_a=current_a, channel=channel.id, fixed_a=fixed_a))
    elif not at_most(smallest_a(channel), current_a):
        faults.append(reason("under_minimum", current_a=current_a, channel=channel.id, smallest_a=smallest_a(channel)))
    elif not channel.fixed_current and not at_most(current_a, floor_to_step(current_a, channel.current_step_a)):
        below_a = floor_to_step(current_a, channel.current_step_a)
        step_a = channel.current_step_a
        faults.append(reason("off_step", current_a=current_a, channel=channel.id, step_a=step_a, below_a=below_a))
    return tuple(faults)


def limits_and_current(
    packs: Sequence[Pack], setup: Setup, rules: HouseRules, wanted_a: float | None = None
) -> tuple[tuple[Limit, ...], float, Limit, tuple[Reason, ...]]:
    """Every limit, the amps to dial, the limit that binds, and notes.

    wanted_a : the pilot's own, in A; they are dialled where every limit allows. Raises Unsafe with each limit that does
    not, or when the channel's smallest current is more than a limit allows.
    """
    return _limits_and_current(tuple(packs), setup, rules, wanted_a)


@lru_cache(maxsize=8192)
def _limits_and_current(
    packs: tuple[Pack, ...], setup: Setup, rules: HouseRules, wanted_a: float | None
) -> tuple[tuple[Limit, ...], float, Limit, tuple[Reason, ...]]:
    """The same, worked out once for the same packs at the same place."""
    limits = limits_of(packs, setup, rules, wanted_a)
    if wanted_a is None:
        current_a, binding, notes = _dialled(limits, setup.channel)
        return limits, current_a, binding, tuple(notes)
    broken = amps_faults(wanted_a, limits, setup.channel)
    if broken:
        raise Unsafe(broken)
    return limits, wanted_a, min(limits, key=lambda limit: limit.current_a), ()


def current_to_dial(packs: Sequence[Pack], setup: Setup, rules: HouseRules) -> float:
    """Only the amps, for whoever asks about thousands of batches. Raises Unsafe as `limits_and_current` does."""
    return limits_and_current(packs, setup, rules)[1]


def slower_current(current_a: float, part: float, channel: Channel) -> float:
    """A part of the amps, on the channel's step and not under its smallest current.

    current_a : A at the charger, above 0.
    """
    return max(floor_to_step(current_a * part, channel.current_step_a), smallest_a(channel))


def tied(limits: Sequence[Limit]) -> tuple[str, ...]:
    """Names of the limits that bind equally, from the wish to the source."""
    smallest_a = min(limit.current_a for limit in limits)
    return tuple(limit.name for limit in limits if limit.current_a <= smallest_a + NOISE)
