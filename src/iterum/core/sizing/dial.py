"""The card to dial for one group, what each pack gets of it, how long it takes, and what to know beside the number.

Common practice, no source, except where a number comes from a label.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from iterum.core.amps.limits import adapters
from iterum.core.electrical.charging import (
    BALANCE_ALLOWANCE_MIN,
    NICKEL_FAST,
    Charge,
    balance_allowance_min,
    balance_due,
    nickel_minutes,
)
from iterum.core.electrical.estimate import as_one_pack, estimate
from iterum.core.electrical.joining import Joining
from iterum.core.permit.permit import permit_of
from iterum.core.quantities import at_most, ceil_to_step
from iterum.core.reasons import Reason, reason
from iterum.core.say import kept
from iterum.core.things.packs import Pack
from iterum.core.things.rules import Balance, HouseRules, SizeAt
from iterum.core.things.setup import Setup, least_power_w, total_ah

TIMER_FACTOR = 1.3
"""Safety timer over predicted minutes (practice: 1.3 to 1.5)."""
TIMER_OVER_LONGEST = 1.15
"""And over the longest that the volts leave open: passing the timer means stop, so no healthy charge may pass it."""
TIMER_STEP_MIN = 5.0
TEMPERATURE_CUTOFF_C = 50
"""About 120 degrees Fahrenheit."""
DISCHARGE_CUTOFF_V = 3.2
"""Per cell, for a LiPo, rather than the 3.0 many chargers offer."""
READ_BACK_TOLERANCE_V = 0.04
"""How far a charger's reading may be from the expected volts, V per cell."""
FAST_RATE_C = 2.0
"""Above this only if the label says so, and not daily."""
NICKEL_DROP_MV = (5.0, 10.0)
"""The drop in mV per cell at which a charger ends it. Common practice, no source."""


@dataclass(frozen=True)
class Share:
    """What one pack of the group gets: the current splits by capacity."""

    id: str
    current_a: float
    rate_c: float


@dataclass(frozen=True)
class DialCard:
    """What to set on the charger, and what it must show before anyone confirms.

    end_v, full_pack_v, storage_v, discharge_cutoff_v : None for a chemistry that ends by a drop in volts. drop_mv :
    that drop, mV per cell, at least and at most. stop_mah : mAh at which it must stop whatever else; None where volts
    end it.
    memory : number of the charger's memory that holds these settings; None without one.
    wait_min : all waits while the packs are plugged in and even out, last_wait_min : the last of them, between the last
    plug and the start. balance_min : the allowance for balancing in `timer_min`.
    """

    chemistry: str
    mode: str
    cells: int
    current_a: float
    end_v: float | None
    capacity_mah: float
    timer_min: float
    temperature_cutoff_c: float
    discharge_cutoff_v: float | None
    storage_v: float | None
    pack_v: float
    pack_tolerance_v: float
    full_pack_v: float | None
    end_action: str
    memory: int | None = None
    drop_mv: tuple[float, float] | None = None
    stop_mah: float | None = None
    wait_min: float = 0.0
    last_wait_min: float | None = None
    balance_min: float = BALANCE_ALLOWANCE_MIN

    @property
    def evens_out_min(self) -> float:
        """Minutes that the packs even out once all of them are plugged in."""
        return self.wait_min if self.last_wait_min is None else self.last_wait_min


def safety_timer_min(likely_min: float, longest_min: float, factor: float) -> float:
    """The safety timer of a charge: over its likely minutes, and over the longest that the volts leave open.

    likely_min, longest_min : balancing included, min. factor : over the likely minutes, above 1.
    """
    return ceil_to_step(max(factor * likely_min, TIMER_OVER_LONGEST * longest_min), TIMER_STEP_MIN)


def minutes_at(packs: Sequence[Pack], current_a: float, setup: Setup, rules: HouseRules) -> float:
    """About how long until full, by the fast estimate; where volts do not tell the charge, at most, from empty.

    current_a : A at the charger, above 0.
    """
    chemistry = packs[0].chemistry
    if chemistry.table is None:
        return nickel_minutes(packs, current_a)[1]
    guess = estimate(
        as_one_pack([packs], setup.lead_mohm),
        np.array([current_a]),
        np.array([least_power_w(setup)]),
        rules.full_v(chemistry),
        rules.tail_fraction,
    )
    return float(guess.minutes[0])


def _mode(packs: Sequence[Pack], rules: HouseRules) -> str:
    first = packs[0]
    if not first.chemistry.joins:
        return kept("ends by a drop in volts")
    if first.cells == 1:
        return kept("one cell, nothing to balance")
    if rules.balance is not Balance.EVERY_CHARGE and balance_due(packs):
        return kept("balance: the fifth charge since the last balancing")
    if balance_allowance_min(packs, rules):
        return kept("balance")
    before = max(pack.since_balance for pack in packs)
    return kept("plain charge, number {before} since it was balanced; every fifth is", before=before + 1)


def memory_of(packs: Sequence[Pack]) -> int | None:
    """The number under which the charger keeps its settings for them, where all that have one have the same."""
    numbers = {pack.memory for pack in packs if pack.memory is not None}
    return numbers.pop() if len(numbers) == 1 else None


def dial_card(
    packs: Sequence[Pack], charge: Charge, joined: Joining, setup: Setup, rules: HouseRules,
    stop_mah: float | None = None,
) -> DialCard:  # fmt: skip
    """What to set for these packs and the charge that is expected of them, joined so.

    stop_mah : mAh at which the charge ends part of the way; None for a whole one.
    """
    chemistry, cells = packs[0].chemistry, packs[0].cells
    volts = [pack.reading.pack_v for pack in packs if pack.reading is not None]
    by_volts = chemistry.joins
    end_v = rules.full_v(chemistry) if by_volts else None
    balance_min = balance_allowance_min(packs, rules)
    cutoff_v = DISCHARGE_CUTOFF_V if chemistry.nominal_v > 3.4 else chemistry.careful_v
    capacity_mah = total_ah(packs) * 1000
    if not by_volts:
        stop_mah = ceil_to_step(capacity_mah * NICKEL_FAST[1], setup.channel.capacity_step_mah)
    return DialCard(
        chemistry=chemistry.label,
        mode=_mode(packs, rules),
        cells=cells,
        current_a=charge.current_a,
        end_v=end_v,
        capacity_mah=ceil_to_step(capacity_mah, setup.channel.capacity_step_mah),
        timer_min=safety_timer_min(charge.minutes + balance_min, charge.minutes_high + balance_min, TIMER_FACTOR),
        temperature_cutoff_c=TEMPERATURE_CUTOFF_C,
        discharge_cutoff_v=cutoff_v if by_volts else None,
        storage_v=rules.storage_of(chemistry) if by_volts else None,
        pack_v=round(sum(volts) / len(volts), 3),
        pack_tolerance_v=round(cells * READ_BACK_TOLERANCE_V, 3),
        full_pack_v=round(cells * end_v, 3) if end_v is not None else None,
        end_action=kept("stop and sound"),
        memory=memory_of(packs),
        drop_mv=None if by_volts else NICKEL_DROP_MV,
        stop_mah=stop_mah,
        wait_min=joined.wait_min,
        last_wait_min=joined.last_wait_min,
        balance_min=balance_min,
    )


def shares_of(packs: Sequence[Pack], current_a: float) -> tuple[Share, ...]:
    """What each pack of the group gets: the current splits by capacity.

    current_a : A at the charger, above 0.
    """
    whole_ah = total_ah(packs)
    return tuple(Share(pack.id, current_a * pack.capacity_ah / whole_ah, current_a / whole_ah) for pack in packs)


def drop_off_rate_c(packs: Sequence[Pack], current_a: float) -> float | None:
    """The rate on the others should the largest pack come off the board, None for one pack.

    current_a : A at the charger, above 0.
    """
    if len(packs) < 2:
        return None
    return current_a / (total_ah(packs) - max(pack.capacity_ah for pack in packs))


def sizing_notes(packs: Sequence[Pack], setup: Setup, rate_c: float, rules: HouseRules) -> tuple[Reason, ...]:
    """What the pilot should know beside the number.

    rate_c : multiples of capacity per hour, above 0.
    """
    notes = list(adapters(packs, setup.board))
    if not at_most(rate_c, FAST_RATE_C):
        notes.append(reason("above_2c", id=packs[0].id, rate_c=rate_c))
    own = tuple(pack.id for pack in packs if pack.own_rate_c is not None)
    unlabelled = tuple(pack.id for pack in packs if pack.max_charge_c is None and pack.own_rate_c is None)
    if own:
        notes.append(reason("own_rate", ids=own, rate_c=max(pack.own_rate_c or 0.0 for pack in packs)))
    if unlabelled:
        notes.append(reason("no_label_c", ids=unlabelled))
    if setup.feed.watts_are_half:
        ((input_v, power_w),) = setup.feed.charger.power_by_input_v
        numbers = {"at_v": input_v, "power_w": power_w, "input_v": setup.feed.input_v}
        notes.append(reason("watts_at_one_voltage", charger=setup.feed.charger.id, **numbers))
    for pack in packs:
        told = [item for item in permit_of(pack, rules).reasons if item.code in _TOLD]
        notes += [Reason(item.code, {**item.numbers, "id": pack.id}) for item in told]
    if rules.size_at is not SizeAt.FULL:
        notes.append(reason("backs_off", size_at=rules.size_at.value))
    if packs[0].chemistry_name == "lihv":
        notes.append(reason("lihv_label"))
    if setup.left_wh is None and setup.feed.source is not None:
        notes.append(reason("no_budget", source=setup.feed.source.id))
    return tuple(notes)


_TOLD = ("cells_apart_weak", "nearly_flat", "run_low", "worn", "spent", "charge_c_unlikely", "full", "full_by_charge",
         "count_possible", "cells_not_read", "cold", "stale", "life_possible")  # fmt: skip
"""Facts about a pack that belong beside the amps to dial."""
