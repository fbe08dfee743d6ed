"""Runs that fill nothing: evening out on a board without a charger, balancing alone, bringing packs down.

The same bench, the same rules on who may share a board, the same channels. Common practice, no source, except where a
number comes from a label.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from iterum.core.amps.limits import Limit, limits_of, pilot_faults, setup_faults
from iterum.core.electrical.joining import joining
from iterum.core.groups.group import obstacles
from iterum.core.permit.facts import Act
from iterum.core.permit.permit import permit_of
from iterum.core.quantities import at_most, ceil_to_step, difference, floor_to_step
from iterum.core.reasons import Reason, Unsafe, each_once, reason
from iterum.core.say import Words, kept
from iterum.core.season.outlook import Expected
from iterum.core.sizing.dial import (
    DISCHARGE_CUTOFF_V,
    READ_BACK_TOLERANCE_V,
    TEMPERATURE_CUTOFF_C,
    TIMER_FACTOR,
    TIMER_STEP_MIN,
    DialCard,
)
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.kit import Board, Channel
from iterum.core.things.limit_kinds import DOWN_CURRENT, DOWN_POWER, DOWN_RATE, Way
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup, total_ah
from iterum.core.things.volts import DOWN_LEAST_V

DOWN_A = 1.0
"""Most amps out of packs, unless the charger's label says more."""
EVEN_OUT_MIN = 25.0
"""Minutes on the board, connected to nothing: 20 to 30."""
BALANCE_A = 0.3
"""What the balance leads of a charger pass: a few tenths of an amp."""
BALANCED_V = 0.01
"""Cells no further apart than this are even: a checker shows no less."""
_ACTS = {Kind.EVEN_OUT: Act.JOIN, Kind.BALANCE: Act.BALANCE, Kind.DOWN: Act.DISCHARGE}
MODES = {
    Kind.EVEN_OUT: Words("on the board, connected to nothing"),
    Kind.BALANCE: "balance only",
    Kind.DOWN: "discharge",
}


@dataclass(frozen=True)
class Upkeep:
    """What such a run comes to. setup : None for evening out, which has no channel. limits : on the amps of bringing
    down, the smallest of which is dialled. move_mah : mAh that come out, at the balance leads or at the channel.
    """

    kind: Kind
    choice: Choice
    packs: tuple[Pack, ...]
    board: Board | None
    setup: Setup | None
    limits: tuple[Limit, ...]
    minutes: float
    move_mah: float
    card: DialCard
    expected: Expected | None

    @property
    def current_a(self) -> float:
        """Amps to set; 0 where nothing is."""
        return self.card.current_a

    @property
    def rate_c(self) -> float:
        """The same, in multiples of capacity per hour."""
        return self.card.current_a / total_ah(self.packs)

    @property
    def settled(self) -> Choice:
        """The choice with every open question answered."""
        channel = self.setup.channel.id if self.setup else None
        return replace(self.choice, board=self.board.id if self.board else None, channel=channel,
                       current_a=self.current_a or None, end_v=self.card.end_v)  # fmt: skip


def least_down_v(pack: Pack) -> float:
    """V per cell at rest under which no pack is brought down on purpose."""
    return DISCHARGE_CUTOFF_V if pack.chemistry.nominal_v > 3.4 else pack.chemistry.careful_v


def down_limits(packs: Sequence[Pack], setup: Setup, rules: HouseRules) -> tuple[Limit, ...]:
    """Every limit on the amps out of these packs together: the channel's label, or 1 A and 1C, its watts, the board."""
    channel = setup.channel
    most_a = DOWN_A if channel.discharge_current_a is None else channel.discharge_current_a
    highest_v = max(pack.reading.pack_v for pack in packs if pack.reading)
    power_w = channel.discharge_power_w or 0.0
    return (
        Limit(DOWN_CURRENT, most_a, reason("limit_down_current", channel=channel.id,
                                             label=channel.discharge_current_a is not None)),
        _down_rate(packs, rules),
        Limit(DOWN_POWER, power_w / highest_v, reason("limit_down_power", power_w=power_w, pack_v=highest_v)),
        *(limit for limit in limits_of(packs, setup, rules) if limit.kind.way is Way.BOTH),
    )  # fmt: skip


def _down_rate(packs: Sequence[Pack], rules: HouseRules) -> Limit:
    """The most C out of any of them, the least for a weak or a cold pack."""
    limits = []
    for pack in packs:
        rate_c = permit_of(pack, rules).acts[Act.DISCHARGE].max_rate_c or 0.0
        current_a = rate_c * pack.rated_ah * total_ah(packs) / pack.capacity_ah
        limits.append(Limit(DOWN_RATE, current_a, reason("limit_down_rate", rate_c=rate_c, id=pack.id)))
    return min(limits, key=lambda limit: limit.current_a)


def down_amps(limits: Sequence[Limit], channel: Channel) -> float:
    """The amps to set, A; 0 where the channel cannot go so low."""
    current_a = floor_to_step(min(limit.current_a for limit in limits), channel.current_step_a)
    return current_a if at_most(channel.current_step_a, current_a) else 0.0


def upkeep(bench: Bench, kind: Kind, choice: Choice) -> Upkeep:
    """What a run of this kind with these packs comes to.

    Raises NotThere for what is not there, Unsafe with every reason where it must not be done, or nothing needs it.
    """
    faults = choice.faults()
    if faults:
        raise Unsafe(faults)
    packs = bench.members(choice.packs)
    against = list(_packs_against(packs, kind, bench.rules))
    against += bench.conflicts(choice.packs, choice.board, choice.channel or "")
    if against:
        raise Unsafe(each_once(tuple(against)))
    if kind is Kind.EVEN_OUT:
        return _even_out(bench, choice, packs)
    return _at_a_channel(bench, kind, choice, packs)


def _packs_against(packs: Sequence[Pack], kind: Kind, rules: HouseRules) -> Iterator[Reason]:
    """What speaks against these packs, each and together, wherever it is done."""
    for pack in packs:
        verdict = permit_of(pack, rules)
        against = verdict.acts[_ACTS[kind]].reasons if not verdict.may(_ACTS[kind]) else ()
        against += verdict.against(Act.JOIN) if len(packs) > 1 else ()
        yield from (Reason(item.code, {"id": pack.id, **item.numbers}) for item in against)
    if all(pack.reading is not None for pack in packs) and len(packs) > 1:
        yield from obstacles(packs, rules)
    if kind is Kind.EVEN_OUT and len(packs) < 2:
        yield reason("upkeep_one_pack", id=packs[0].id)


def _even_out(bench: Bench, choice: Choice, packs: tuple[Pack, ...]) -> Upkeep:
    boards = [bench.kit.board(choice.board)] if choice.board else list(bench.kit.all_boards())
    taken = bench.taken_boards
    fits = [board for board in boards if board and board.takes(packs[0].cells) and len(packs) <= board.ports
            and not taken & set(board.part_ids)]  # fmt: skip
    against = [pilot_faults(packs, board) for board in fits]
    fits = [board for board, faults in zip(fits, against, strict=True) if not faults]
    if any(against) and not fits:
        raise Unsafe(each_once(tuple(item for faults in against for item in faults)))
    if not fits:
        raise Unsafe((reason("board_missing", count=len(packs)),))
    joined = joining(packs, bench.rules, fits[0].port, 0.0)
    if not joined.passes:
        raise Unsafe(joined.reasons)
    charge_ah = sum((pack.reading.pack_v if pack.reading else 0.0) * pack.capacity_ah for pack in packs)
    rest_v = charge_ah / total_ah(packs) / packs[0].cells
    card = replace(_card(Kind.EVEN_OUT, packs, bench.rules, 0.0, rest_v, EVEN_OUT_MIN, 0.0), last_wait_min=EVEN_OUT_MIN,
                   wait_min=joined.wait_min - joined.last_wait_min + EVEN_OUT_MIN)  # fmt: skip
    return Upkeep(Kind.EVEN_OUT, choice, packs, fits[0], None, (), EVEN_OUT_MIN, 0.0, card, None)


def _at_a_channel(bench: Bench, kind: Kind, choice: Choice, packs: tuple[Pack, ...]) -> Upkeep:
    """On the channel and board that were chosen, or those that have it done soonest."""
    named = [bench.setup(choice.board, choice.channel)] if choice.channel else list(bench.setups_for(packs))
    setups = [setup for setup in named if choice.board is None or (setup.board and setup.board.id == choice.board)]
    if kind is Kind.DOWN and not choice.channel:  # what cannot do it at all is no reason against the others
        setups = [setup for setup in setups if setup.channel.discharge_power_w] or setups
    upkeeps: list[Upkeep] = []
    broken: list[Reason] = []
    for setup in setups:
        try:
            upkeeps.append(_on(setup, bench.rules, kind, choice, packs))
        except Unsafe as refusal:
            broken += refusal.reasons
    if not upkeeps:
        raise Unsafe(each_once(tuple(broken)) or (reason("no_channel", id=packs[0].id),))
    return min(upkeeps, key=lambda item: item.minutes)


def _on(setup: Setup, rules: HouseRules, kind: Kind, choice: Choice, packs: tuple[Pack, ...]) -> Upkeep:
    broken = list(setup_faults(packs, setup))
    if kind is Kind.DOWN and not setup.channel.discharge_power_w:
        broken.append(reason("channel_no_discharge", channel=setup.channel.id))
    if broken:
        raise Unsafe(tuple(broken))
    if kind is Kind.BALANCE:
        return _balance(setup, rules, choice, packs)
    return _down(setup, rules, choice, packs)


def _balance(setup: Setup, rules: HouseRules, choice: Choice, packs: tuple[Pack, ...]) -> Upkeep:
    volts = [pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) for pack in packs if pack.reading]
    if all(at_most(difference(max(cells), min(cells)), BALANCED_V) for cells in volts):
        raise Unsafe((reason("upkeep_even_already", ids=tuple(pack.id for pack in packs), within_v=BALANCED_V),))
    over_ah = [_between_soc(pack, min(cells), max(cells)) * pack.capacity_ah
               for pack, cells in zip(packs, volts, strict=True)]  # fmt: skip
    # Balance leads of a board join cell 1 with cell 1: what is over in each pack leaves through the same leads.
    minutes = 60 * sum(over_ah) / BALANCE_A
    card = _card(Kind.BALANCE, packs, rules, BALANCE_A, min(min(cells) for cells in volts), minutes, 0.0)
    return _upkeep(Kind.BALANCE, setup, choice, packs, (), minutes, 1000 * sum(over_ah), card)


def _down(setup: Setup, rules: HouseRules, choice: Choice, packs: tuple[Pack, ...]) -> Upkeep:
    least_v = least_down_v(packs[0])
    target_v = rules.storage_of(packs[0].chemistry) if choice.end_v is None else choice.end_v
    if not at_most(least_v, target_v):
        raise Unsafe((reason("down_too_low", typed=target_v, low_v=least_v),))
    there = [pack for pack in packs if not at_most(target_v + DOWN_LEAST_V, _lowest_v(pack))]
    if there:
        raise Unsafe(
            tuple(reason("down_is_there", id=pack.id, cell_v=_lowest_v(pack), end_v=target_v) for pack in there)
        )
    limits = down_limits(packs, setup, rules)
    most_a = down_amps(limits, setup.channel)
    current_a = most_a if choice.current_a is None else floor_to_step(choice.current_a, setup.channel.current_step_a)
    if not 0 < current_a <= most_a:
        raise Unsafe((reason("down_amps", typed_a=current_a, most_a=most_a, channel=setup.channel.id),))
    joined = joining(packs, rules, setup.port, 0.0) if len(packs) > 1 else None
    if joined is not None and not joined.passes:
        raise Unsafe(joined.reasons)
    move_ah = sum(_between_soc(pack, target_v, _lowest_v(pack)) * pack.capacity_ah for pack in packs)
    minutes = 60 * move_ah / current_a
    card = _card(Kind.DOWN, packs, rules, current_a, target_v, minutes, 1000 * move_ah)
    if joined is not None:
        card = replace(card, wait_min=joined.wait_min, last_wait_min=joined.last_wait_min)
    return _upkeep(Kind.DOWN, setup, choice, packs, limits, minutes, 1000 * move_ah, card)


def _lowest_v(pack: Pack) -> float:
    """V of its lowest cell, at which bringing it down ends; the average where only the total was read."""
    return min(pack.reading.cell_v, default=pack.cell_v or 0.0) if pack.reading else 0.0


def _between_soc(pack: Pack, low_v: float, high_v: float) -> float:
    """Part of the charge between two rest volts of a cell."""
    table = pack.table
    return table.soc(high_v) - table.soc(low_v) if table is not None else 0.0


def _upkeep(
    kind: Kind, setup: Setup, choice: Choice, packs: tuple[Pack, ...], limits: tuple[Limit, ...], minutes: float,
    move_mah: float, card: DialCard,
) -> Upkeep:  # fmt: skip
    cells = [pack.reading.cell_v for pack in packs if pack.reading and pack.reading.cell_v]
    expected = Expected(
        cells=packs[0].cells,
        t_min=(0.0, minutes),
        cell_v=(round(card.pack_v / card.cells, 4), card.end_v or 0.0),
        current_a=(card.current_a, card.current_a),
        charge_mah=(0.0, move_mah),
        low_min=minutes / TIMER_FACTOR,
        high_min=minutes * TIMER_FACTOR,
        balance_min=0.0,
        end_v=None,
        timer_min=card.timer_min,
        dialled_a=card.current_a,
        air_c=packs[0].air_c,
        spread_v=max((max(one) - min(one) for one in cells), default=0.0),
        missing_high_mah=move_mah * TIMER_FACTOR,
        least_v=least_down_v(packs[0]),
        kind=kind,
    )
    return Upkeep(kind, choice, packs, setup.board, setup, limits, minutes, move_mah, card, expected)


def _card(
    kind: Kind, packs: Sequence[Pack], rules: HouseRules, current_a: float, end_v: float, minutes: float,
    move_mah: float,
) -> DialCard:  # fmt: skip
    chemistry, cells = packs[0].chemistry, packs[0].cells
    volts = [pack.reading.pack_v for pack in packs if pack.reading is not None]
    timer_min = minutes if kind is Kind.EVEN_OUT else ceil_to_step(minutes * TIMER_FACTOR, TIMER_STEP_MIN)
    return DialCard(
        chemistry=chemistry.label,
        mode=MODES[kind],
        cells=cells,
        current_a=current_a,
        end_v=round(end_v, 3),
        capacity_mah=ceil_to_step(total_ah(packs) * 1000, 1),
        timer_min=timer_min,
        temperature_cutoff_c=TEMPERATURE_CUTOFF_C,
        discharge_cutoff_v=least_down_v(packs[0]),
        storage_v=rules.storage_of(chemistry),
        pack_v=round(sum(volts) / len(volts), 3),
        pack_tolerance_v=round(cells * READ_BACK_TOLERANCE_V, 3),
        full_pack_v=None,
        end_action=kept("stop and sound"),
        stop_mah=ceil_to_step(move_mah * TIMER_FACTOR, 1) if kind is Kind.DOWN else None,
        balance_min=0.0,
    )
