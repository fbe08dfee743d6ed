"""The current to dial for one group: every limit with its number, the binding one, the shares, the card.

Common practice, no source, except where a number comes from a label.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from iterum.core.chemistry import Chemistry
from iterum.core.estimate import estimate, lump
from iterum.core.feed import Feed
from iterum.core.kit import DEFAULT_LEAD_MOHM, Board, Channel
from iterum.core.matching import refusals
from iterum.core.packs import Pack
from iterum.core.quantities import NOISE, at_most, ceil_to_step, floor_to_step
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.rules import Balance, HouseRules, SizeAt

TIMER_FACTOR = 1.4
"""Safety timer over predicted minutes (practice: 1.3 to 1.5)."""
TIMER_STEP_MIN = 5.0
TEMPERATURE_CUTOFF_C = 50
"""About 120 degrees Fahrenheit."""
DISCHARGE_CUTOFF_V = 3.2
"""Per cell, for a LiPo, rather than the 3.0 many chargers offer."""
READ_BACK_TOLERANCE_V = 0.04
"""How far a charger's reading may be from the expected volts, V per cell."""
BALANCE_ALLOWANCE_MIN = 20.0
"""Full balancing can add up to this; no model here predicts it, so it is a stated allowance."""
FAST_RATE_C = 2.0
"""Above this only if the label says so, and not daily."""


POWER_LIMITS = ("channel_power", "charger_power", "charger_input", "supply_power", "source_power")
"""Names of the limits that are watts turned into amps."""


@dataclass(frozen=True)
class Limit:
    """One limit, turned into amps at the board.

    name : as in the session file. power_w, volts : what it was computed from, where it is a power limit.
    reason : the formula with its numbers.
    """

    name: str
    current_a: float
    reason: Reason


@dataclass(frozen=True)
class Share:
    """What one pack of the group gets: the current splits by capacity."""

    id: str
    current_a: float
    rate_c: float


@dataclass(frozen=True)
class DialCard:
    """What to set on the charger, and what it must show before anyone confirms."""

    chemistry: str
    mode: str
    cells: int
    current_a: float
    end_v: float
    capacity_mah: float
    timer_min: float
    temperature_cutoff_c: float
    discharge_cutoff_v: float
    storage_v: float
    pack_v: float
    pack_tolerance_v: float
    full_pack_v: float
    end_action: str


@dataclass(frozen=True)
class Sizing:
    """The current to dial and why.

    exact_a : the smallest limit before rounding down to the channel's step.
    drop_off_rate_c : the rate on the others should one pack come off the board, None for one pack.
    minutes : about how long it takes, balancing not included.
    """

    current_a: float
    exact_a: float
    rate_c: float
    binding: str
    limits: tuple[Limit, ...]
    shares: tuple[Share, ...]
    full_v: float
    divisor_v: float
    dial: DialCard
    drop_off_rate_c: float | None
    minutes: float
    notes: tuple[Reason, ...]


@dataclass(frozen=True)
class Setup:
    """Where a group is to be charged: a board (None for one pack alone), a channel, and what feeds it."""

    board: Board | None
    channel: Channel
    feed: Feed
    others_w: float = 0.0
    """Watts at their packs that other channels of this chain draw at the same time."""


def _divisor_v(packs: Sequence[Pack], rules: HouseRules) -> float:
    """Volts of the whole pack that a charger's own watts are divided by, as the house rule says."""
    first = packs[0]
    if rules.size_at is SizeAt.NOMINAL:
        return first.cells * first.chemistry.nominal_v
    if rules.size_at is SizeAt.PRESENT:
        return max(pack.reading.pack_v for pack in packs if pack.reading is not None)
    return first.cells * rules.full_v(first.chemistry)


def _total_ah(packs: Sequence[Pack]) -> float:
    return round(sum(pack.capacity_ah for pack in packs), 9)


def _pack_limits(packs: Sequence[Pack], rules: HouseRules) -> list[Limit]:
    """What is wanted, and what the packs' own labels allow."""
    total_ah = _total_ah(packs)
    wanted_c = rules.wanted_rate_c(packs[0].chemistry)
    slowest = min(packs, key=lambda pack: pack.charge_c)
    return [
        Limit(
            "wanted_rate",
            wanted_c * total_ah,
            reason("limit_wanted_rate", rate_c=wanted_c, total_ah=total_ah, count=len(packs)),
        ),
        Limit(
            "pack_charge_c",
            slowest.charge_c * total_ah,
            reason(
                "limit_pack_charge_c",
                rate_c=slowest.charge_c,
                total_ah=total_ah,
                id=slowest.id,
                labelled=slowest.max_charge_c is not None,
            ),
        ),
    ]


def _board_limits(packs: Sequence[Pack], board: Board | None) -> list[Limit]:
    """What the board's lead and fuses carry. A fuse sees only its own pack's share."""
    if board is None:
        return []
    found = []
    if board.max_current_a is not None:
        found.append(Limit("board_current", board.max_current_a, reason("limit_board_current", board=board.id)))
    if board.port_fuse_a is not None:
        largest = max(packs, key=lambda pack: pack.capacity_ah)
        part = largest.capacity_ah / _total_ah(packs)
        found.append(
            Limit(
                "port_fuse",
                board.port_fuse_a / part,
                reason("limit_port_fuse", fuse_a=board.port_fuse_a, id=largest.id, part=part),
            )
        )
    return found


def _label_powers_w(setup: Setup) -> list[tuple[str, float]]:
    """Every power limit of the chain that is known, W at the packs, before what others draw."""
    feed = setup.feed
    known = (
        ("channel_power", setup.channel.max_power_w),
        ("charger_power", feed.charger.total_power_w),
        ("charger_input", feed.charger_input_power_w),
        ("supply_power", feed.supply_power_w),
        ("source_power", feed.source_power_w),
    )
    return [(name, power_w) for name, power_w in known if power_w is not None]


def power_limits_w(setup: Setup) -> list[tuple[str, float]]:
    """What each part of the chain leaves this channel, W at the packs; other channels share all but its own."""
    return [
        (name, power_w if name == "channel_power" else max(power_w - setup.others_w, 0.0))
        for name, power_w in _label_powers_w(setup)
    ]


def _power_limits(setup: Setup, divisor_v: float, full_v: float) -> list[Limit]:
    """Watts turned into amps. The charger's own watts are divided as the house rule says, since it backs off
    by itself; a supply's or source's always by full volts, since nothing backs off for them."""
    feed = setup.feed
    found = []
    for (name, power_w), (_, left_w) in zip(_label_powers_w(setup), power_limits_w(setup), strict=True):
        volts = full_v if name in ("supply_power", "source_power") else divisor_v
        others_w = power_w - left_w
        found.append(
            Limit(
                name,
                left_w / volts,
                reason(f"limit_{name}", power_w=power_w, volts=volts, others_w=others_w, **_power_parts(name, feed)),
            )
        )
    return found


def _power_parts(name: str, feed: Feed) -> dict[str, float | None]:
    """The labelled numbers behind a power limit, so that its formula can be checked by hand."""
    if name == "charger_input":
        return {"input_v": feed.input_v}
    if name == "supply_power" and feed.supply:
        return {"output_w": feed.supply.max_power_w, "efficiency": feed.charger.efficiency}
    if name == "source_power" and feed.source:
        return {"source_w": feed.source.power_limit_w, "efficiency": feed.efficiency_from_source}
    return {}


def limits_of(packs: Sequence[Pack], setup: Setup, rules: HouseRules) -> tuple[Limit, ...]:
    """Every limit on the current of a group, in amps at the board, from the wish to the source."""
    full_v = packs[0].cells * rules.full_v(packs[0].chemistry)
    return (
        *_pack_limits(packs, rules),
        *_board_limits(packs, setup.board),
        Limit(
            "channel_current", setup.channel.max_current_a, reason("limit_channel_current", channel=setup.channel.id)
        ),
        *_power_limits(setup, _divisor_v(packs, rules), full_v),
    )


def setup_faults(packs: Sequence[Pack], setup: Setup) -> list[Reason]:
    """Why this board, channel or feed cannot charge these packs at all."""
    cells = packs[0].cells
    found = []
    if not setup.channel.takes(cells):
        found.append(
            reason(
                "channel_cells",
                channel=setup.channel.id,
                cells=cells,
                min_cells=setup.channel.min_cells,
                max_cells=setup.channel.max_cells,
            )
        )
    if setup.board is None and len(packs) > 1:
        found.append(reason("board_missing", count=len(packs)))
    if setup.board is not None and not setup.board.takes(cells):
        found.append(
            reason(
                "board_cells",
                board=setup.board.id,
                cells=cells,
                min_cells=setup.board.min_cells,
                max_cells=setup.board.max_cells,
            )
        )
    input_fault = setup.feed.input_fault()
    return found + ([input_fault] if input_fault else [])


def _smallest_a(channel: Channel) -> float:
    """The smallest current a channel can do."""
    return max(ceil_to_step(channel.min_current_a, channel.current_step_a), channel.current_step_a)


def _dialled(limits: Sequence[Limit], channel: Channel) -> tuple[float, Limit, list[Reason]]:
    """The current to dial, the binding limit and notes. Raises Unsafe when the channel cannot go that low."""
    binding = min(limits, key=lambda limit: limit.current_a)
    current_a = floor_to_step(binding.current_a, channel.current_step_a)
    smallest_a = _smallest_a(channel)
    if at_most(smallest_a, current_a):
        return current_a, binding, []
    # The wish may be exceeded up to the labels; nothing else may.
    hard = min((limit for limit in limits if limit.name != "wanted_rate"), key=lambda limit: limit.current_a)
    if not at_most(smallest_a, hard.current_a):
        raise Unsafe(
            (
                reason(
                    "minimum_too_high",
                    channel=channel.id,
                    smallest_a=smallest_a,
                    limit_a=hard.current_a,
                    limit=hard.name,
                ),
            )
        )
    return smallest_a, binding, [reason("minimum_dialled", smallest_a=smallest_a, wanted_a=binding.current_a)]


def minutes_at(packs: Sequence[Pack], current_a: float, setup: Setup, rules: HouseRules) -> float:
    """About how long to full, by the fast estimate; for a chemistry whose volts tell nothing, from empty."""
    chemistry = packs[0].chemistry
    if chemistry.table is None:
        return 60 * _total_ah(packs) / current_a
    lead_mohm = setup.board.lead_mohm if setup.board else DEFAULT_LEAD_MOHM
    power_w = min(power_w for _, power_w in power_limits_w(setup))
    found = estimate(
        lump([packs], lead_mohm),
        np.array([current_a]),
        np.array([power_w]),
        rules.full_v(chemistry),
        rules.tail_fraction,
    )
    return float(found.minutes[0])


def _mode(chemistry: Chemistry, rules: HouseRules) -> str:
    if not chemistry.joins:
        return "ends by voltage drop, no balance"
    return "balance" if rules.balance is Balance.EVERY_CHARGE else "balance every fifth, else plain charge"


def dial_card(packs: Sequence[Pack], current_a: float, minutes: float, setup: Setup, rules: HouseRules) -> DialCard:
    """What to set for these packs at so many amps; minutes : what it is expected to take, balancing not included."""
    chemistry, cells = packs[0].chemistry, packs[0].cells
    volts = [pack.reading.pack_v for pack in packs if pack.reading is not None]
    end_v = rules.full_v(chemistry)
    return DialCard(
        chemistry=chemistry.label,
        mode=_mode(chemistry, rules),
        cells=cells,
        current_a=current_a,
        end_v=end_v,
        capacity_mah=ceil_to_step(_total_ah(packs) * 1000, setup.channel.capacity_step_mah),
        timer_min=ceil_to_step(TIMER_FACTOR * (minutes + BALANCE_ALLOWANCE_MIN), TIMER_STEP_MIN),
        temperature_cutoff_c=TEMPERATURE_CUTOFF_C,
        discharge_cutoff_v=DISCHARGE_CUTOFF_V if chemistry.nominal_v > 3.4 else chemistry.careful_v,
        storage_v=chemistry.storage_high_v,
        pack_v=round(sum(volts) / len(volts), 3),
        pack_tolerance_v=round(cells * READ_BACK_TOLERANCE_V, 3),
        full_pack_v=round(cells * end_v, 3),
        end_action="stop and sound",
    )


def _notes(packs: Sequence[Pack], shares: Sequence[Share], rules: HouseRules) -> list[Reason]:
    """What the pilot should know beside the number."""
    found = []
    fastest = max(shares, key=lambda share: share.rate_c)
    if not at_most(fastest.rate_c, FAST_RATE_C):
        found.append(reason("above_2c", id=fastest.id, rate_c=fastest.rate_c))
    if any(pack.max_charge_c is None for pack in packs):
        found.append(reason("no_label_c", ids=tuple(pack.id for pack in packs if pack.max_charge_c is None)))
    if rules.size_at is not SizeAt.FULL:
        found.append(reason("backs_off", size_at=rules.size_at.value))
    if packs[0].chemistry_name == "lihv":
        found.append(reason("lihv_label"))
    return found


def size(packs: Sequence[Pack], setup: Setup, rules: HouseRules) -> Sizing:
    """The current to dial for these packs on this board and channel.

    Raises Unsafe with every reason when the packs must not be joined, when board, channel or feed cannot
    serve them, or when the channel's smallest current is more than a limit allows.
    """
    faults = list(refusals(packs, rules, setup.board.ports if setup.board else None))
    faults += setup_faults(packs, setup)
    if faults:
        raise Unsafe(tuple(faults))
    return size_joinable(packs, setup, rules)


def _current(
    packs: Sequence[Pack], setup: Setup, rules: HouseRules
) -> tuple[tuple[Limit, ...], float, Limit, list[Reason]]:
    limits = limits_of(packs, setup, rules)
    return limits, *_dialled(limits, setup.channel)


def current_to_dial(packs: Sequence[Pack], setup: Setup, rules: HouseRules) -> float:
    """Only the amps of `size_joinable`, for whoever asks about thousands of batches. Raises Unsafe as it does."""
    return _current(packs, setup, rules)[1]


def slower_current(current_a: float, part: float, channel: Channel) -> float:
    """A part of the amps, on the channel's step and not under its smallest current."""
    return max(floor_to_step(current_a * part, channel.current_step_a), _smallest_a(channel))


def size_joinable(packs: Sequence[Pack], setup: Setup, rules: HouseRules) -> Sizing:
    """`size` for packs and a setup that nothing speaks against, as whoever tries many setups has found already.

    Raises Unsafe when the channel's smallest current is more than a limit allows.
    """
    limits, current_a, binding, notes = _current(packs, setup, rules)
    total_ah = _total_ah(packs)
    rate_c = current_a / total_ah
    shares = tuple(Share(pack.id, current_a * pack.capacity_ah / total_ah, rate_c) for pack in packs)
    minutes = minutes_at(packs, current_a, setup, rules)
    smallest_ah = min(pack.capacity_ah for pack in packs)
    largest_ah = max(pack.capacity_ah for pack in packs)
    return Sizing(
        current_a=current_a,
        exact_a=binding.current_a,
        rate_c=rate_c,
        binding=binding.name,
        limits=limits,
        shares=shares,
        full_v=packs[0].cells * rules.full_v(packs[0].chemistry),
        divisor_v=_divisor_v(packs, rules),
        dial=dial_card(packs, current_a, minutes, setup, rules),
        drop_off_rate_c=current_a / (total_ah - largest_ah) if len(packs) > 1 and smallest_ah < total_ah else None,
        minutes=minutes,
        notes=(*notes, *_notes(packs, shares, rules)),
    )


def tied(limits: Sequence[Limit]) -> tuple[str, ...]:
    """Names of the limits that bind equally, from the wish to the source."""
    smallest_a = min(limit.current_a for limit in limits)
    return tuple(limit.name for limit in limits if limit.current_a <= smallest_a + NOISE)
