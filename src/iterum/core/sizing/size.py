"""One choice, whole: which packs, where, fed by what, how fast, up to where; and what the bench answers to it.

`size`, `charge` and the start of a run take the same bench and the same choice, so what one of them offers the other
can do.
"""

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from math import ceil, isfinite

from iterum.core.amps.limits import (
    Limit,
    amps_faults,
    limits_and_current,
    limits_of,
    minimum_too_high,
    setup_faults,
    smallest_a,
)
from iterum.core.electrical.charging import DAY_MIN, Charge, charge_packs
from iterum.core.electrical.estimate import energy_to_wh
from iterum.core.electrical.joining import Joining, joining, refuse_unjoinable, rests_on_reason
from iterum.core.electrical.waiting import OVER_SHARE
from iterum.core.groups.group import refusals
from iterum.core.permit.facts import Level
from iterum.core.permit.permit import permit_of
from iterum.core.quantities import at_most, ceil_to_step, difference, floor_to_step
from iterum.core.reasons import Reason, Unsafe, each_once, reason
from iterum.core.sizing.dial import DialCard, Share, dial_card, drop_off_rate_c, shares_of, sizing_notes
from iterum.core.things.bench import Bench
from iterum.core.things.chemistry import END_STEP_V
from iterum.core.things.choice import Choice
from iterum.core.things.limit_kinds import SOURCE_ENERGY
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup, total_ah

OVER_C = 1.02
"""A pack counts as over its charge C from this many times it on: shares are never quite in proportion."""


@dataclass(frozen=True)
class Hookup:
    """A choice with everything it names looked up: packs on a board and channel, under the rules that it sets."""

    choice: Choice
    packs: tuple[Pack, ...]
    setup: Setup
    rules: HouseRules


@dataclass(frozen=True)
class Budget:
    """Watt-hours of a charge against those that its source still has, both at the source.

    enough_for : how many of the packs, those that lack least first, it would fill. until_v : V per cell up to which it
    would bring all of them; None where not even a little.
    """

    source: str
    need_wh: float
    left_wh: float
    enough_for: int
    until_v: float | None

    @property
    def short(self) -> bool:
        """Whether it is too little."""
        return not at_most(self.need_wh, self.left_wh)


@dataclass(frozen=True)
class Sizing:
    """The current to dial and why.

    exact_a : the smallest limit before rounding down to the channel's step.
    drop_off_rate_c : the rate on the others should one pack come off the board, None for one pack.
    full_v : of the whole pack, None for a chemistry that volts do not end. budget : None where none is known.
    """

    choice: Choice
    packs: tuple[Pack, ...]
    setup: Setup
    rules: HouseRules
    current_a: float
    exact_a: float
    rate_c: float
    binding: str
    limits: tuple[Limit, ...]
    shares: tuple[Share, ...]
    full_v: float | None
    dial: DialCard
    drop_off_rate_c: float | None
    charge: Charge
    joining: Joining
    budget: Budget | None
    notes: tuple[Reason, ...]

    @property
    def minutes(self) -> float:
        """Until full, balancing not included."""
        return self.charge.minutes

    @property
    def hookup(self) -> Hookup:
        """What was sized: packs at their place, under the rules that the choice sets."""
        return Hookup(self.choice, self.packs, self.setup, self.rules)

    @property
    def settled(self) -> Choice:
        """The choice with every open question answered: it can be begun as it stands."""
        setup = self.setup
        board = setup.board.id if setup.board else None
        return replace(self.choice, board=board, channel=setup.channel.id, current_a=self.current_a)


def hookup(bench: Bench, choice: Choice) -> Hookup:
    """Everything that a choice names. Raises NotThere for what is not there, Unsafe for what nobody can choose."""
    faults = choice.faults()
    if faults:
        raise Unsafe(faults)
    packs = bench.members(choice.packs)
    chemistry, rules = packs[0].chemistry, bench.rules
    if choice.own_rate_c is not None:
        packs = decided(packs, rules, choice.own_rate_c)
        rules = replace(rules, rate_c=choice.own_rate_c)
    if choice.rate_c is not None:
        rules = replace(rules, rate_c=choice.rate_c)
    if choice.end_v is not None:
        low_v, high_v = chemistry.usual_low_v, chemistry.brim_v
        within = isfinite(choice.end_v) and at_most(low_v, choice.end_v) and at_most(choice.end_v, high_v)
        if not (chemistry.joins and within):
            raise Unsafe((reason("choice_end", typed=choice.end_v, low_v=low_v, high_v=high_v),))
        rules = replace(rules, end_v={**rules.end_v, chemistry.name: choice.end_v})
    setup = bench.refed(choice.channel or "", choice.fed_by).setup(choice.board, choice.channel or "")
    return Hookup(choice, packs, setup, rules)


def decided(packs: tuple[Pack, ...], rules: HouseRules, own_rate_c: float) -> tuple[Pack, ...]:
    """The packs with the pilot's own charge C where their label gives none. Raises Unsafe where nobody may decide so.

    own_rate_c : multiples of capacity per hour, over 1 and at most 2.
    """
    against = _against_own(packs, rules)
    if against:
        raise Unsafe((reason("own_rate_refused", rate_c=own_rate_c), *against))
    return tuple(pack if pack.max_charge_c else replace(pack, own_rate_c=own_rate_c) for pack in packs)


def may_decide(packs: Sequence[Pack], rules: HouseRules) -> bool:
    """Whether a pilot may decide on more than 1C: a label gives no charge C, and nothing speaks against it."""
    return any(not pack.max_charge_c for pack in packs) and not _against_own(packs, rules)


def _against_own(packs: Sequence[Pack], rules: HouseRules) -> list[Reason]:
    against: list[Reason] = []
    for pack in packs:
        told = {item.code: item for item in permit_of(pack, rules).reasons}
        against += [Reason(code, {**told[code].numbers, "id": pack.id}) for code in _NOT_OWN if code in told]
        if pack.chemistry_name != "lipo":
            against.append(reason("own_rate_lipo", id=pack.id, chemistry=pack.chemistry.label))
    return against


_NOT_OWN = ("cells_apart_weak", "nearly_flat", "spent", "worn", "cells_not_read", "cold")
"""Facts with which more than 1C is nobody's own decision."""


def against(bench: Bench, place: Hookup) -> tuple[Reason, ...]:
    """Everything, amps aside, for which this may not be charged so: packs, volts, board, channel, feed, what runs."""
    board = place.setup.board
    conflicts = bench.conflicts(place.choice.packs, place.choice.board, place.setup.channel.id)
    if place.choice.fed_by is not None:
        conflicts += _fed_otherwise(bench, place)
    return each_once(
        (*refusals(place.packs, place.rules, board.ports if board else None), *setup_faults(place.packs, place.setup),
         *conflicts)
    )  # fmt: skip


def _fed_otherwise(bench: Bench, place: Hookup) -> tuple[Reason, ...]:
    """A charger that runs cannot be fed by something else for another of its channels."""
    charger = place.setup.feed.charger
    as_is = next(item for item in bench.kit.chargers if item.id == charger.id)
    channels = {channel.id for channel in charger.channels}
    busy = [batch for batch in bench.running if batch.channel in channels and batch.power_w > 0]
    if as_is.fed_by == charger.fed_by or not busy:
        return ()
    return (reason("feed_busy", charger=charger.id, packs=busy[0].packs),)


def charged(packs: tuple[Pack, ...], setup: Setup, rules: HouseRules, current_a: float) -> tuple[Joining, Charge]:
    """How these packs join, and what their charge comes to then, at these amps.

    current_a : A at the charger, above 0.
    """
    source = setup.feed.source
    bare = setup.feed if source is None else replace(setup.feed, source=replace(source, taken_wh=0.0))
    return _charged(packs, replace(setup, feed=bare, left_wh=None), rules, current_a)


@lru_cache(maxsize=2048)
def _charged(packs: tuple[Pack, ...], setup: Setup, rules: HouseRules, current_a: float) -> tuple[Joining, Charge]:
    """The same, worked out once; what the source still holds does not matter for it."""
    joined = joining(packs, rules, setup.port, current_a / total_ah(packs))
    return joined, charge_packs(packs, setup, rules, current_a, joined.start)


def size(bench: Bench, choice: Choice) -> Sizing:
    """The current to dial for this choice: every limit, the card, what it takes, and the verdict on joining.

    Raises NotThere for what is not there, and Unsafe with every reason when the packs must not be charged so, when
    board, channel or feed cannot serve them or are taken, when own amps pass a limit, when the channel's smallest
    current is more than a limit allows, or when the source has too little left for the whole charge.
    """
    place = hookup(bench, choice)
    broken = against(bench, place)
    if broken:
        raise Unsafe(broken)
    packs, setup, rules = place.packs, place.setup, place.rules
    limits, current_a, binding, notes = limits_and_current(packs, setup, rules, choice.current_a)
    joined, result = charged(packs, setup, rules, current_a)
    if not result.done:
        raise Unsafe((too_long(result),))
    budget = budget_of(place, result, joined)
    if budget is not None and budget.short:
        raise Unsafe((_short(budget, packs),))
    chemistry = packs[0].chemistry
    part_way = choice.end_v is not None and choice.end_v < min(chemistry.end_choices_v, default=chemistry.full_v)
    stop_mah = ceil_to_step(result.charge_mah, setup.channel.capacity_step_mah) if part_way else None
    rate_c = current_a / total_ah(packs)
    return Sizing(
        choice=choice,
        packs=packs,
        setup=setup,
        rules=rules,
        current_a=current_a,
        exact_a=binding.current_a,
        rate_c=rate_c,
        binding=binding.name,
        limits=limits,
        shares=shares_of(packs, current_a),
        full_v=packs[0].cells * rules.full_v(chemistry) if chemistry.joins else None,
        dial=dial_card(packs, result, joined, setup, rules, stop_mah),
        drop_off_rate_c=drop_off_rate_c(packs, current_a),
        charge=result,
        joining=joined,
        budget=budget,
        notes=(*notes, *sizing_notes(packs, setup, rate_c, rules)),
    )


# ---------------------------------------------------------------------------------------- what the source still holds


def budget_of(place: Hookup, result: Charge, joined: Joining) -> Budget | None:
    """What the charge takes against what the source has; None where no budget is known."""
    setup = place.setup
    if setup.left_wh is None or setup.feed.source is None:
        return None
    part, need_wh = setup.feed.efficiency_from_source, result.energy_in_high_wh
    if at_most(need_wh, setup.left_wh):
        return Budget(setup.feed.source.id, need_wh, setup.left_wh, len(place.packs), None)
    return Budget(
        setup.feed.source.id, need_wh, setup.left_wh, _enough_for(place, part), _reaches_v(place, result, joined)
    )


def _enough_for(place: Hookup, part: float) -> int:
    """How many of the packs what is left would fill, those that lack least first."""
    end_v = place.rules.full_v(place.packs[0].chemistry)
    left_wh = place.setup.left_wh or 0.0
    for count, need_wh in enumerate(sorted(energy_to_wh([pack], end_v) / part for pack in place.packs)):
        left_wh -= need_wh
        if left_wh < 0:
            return count
    return len(place.packs)


def _reaches_v(place: Hookup, result: Charge, joined: Joining) -> float | None:
    """V per cell, in steps of `END_STEP_V`, up to which what is left brings all of them; None where not even a step."""
    packs, left_wh, chemistry = place.packs, place.setup.left_wh or 0.0, place.packs[0].chemistry
    if chemistry.table is None:
        return None
    low_v = max(chemistry.usual_low_v, *(pack.cell_v or 0.0 for pack in packs))
    end_v = floor_to_step(place.rules.full_v(chemistry), END_STEP_V)

    def fits(lower: int) -> bool:
        rules = replace(place.rules, end_v={**place.rules.end_v, chemistry.name: round(end_v - lower * END_STEP_V, 9)})
        reached = charge_packs(packs, place.setup, rules, result.current_a, joined.start)
        return at_most(reached.energy_in_high_wh, left_wh)

    steps = range(1, ceil(difference(end_v, low_v) / END_STEP_V))  # more of them take less
    first = bisect_left(steps, True, key=fits)
    return round(end_v - steps[first] * END_STEP_V, 9) if first < len(steps) else None


def too_long(result: Charge) -> Reason:
    """That a charge cannot end within a day, with what all of it takes."""
    hours, limit_h = result.minutes / 60, DAY_MIN / 60
    return reason("charge_too_long", hours=hours, limit_h=limit_h, need_wh=result.energy_in_high_wh)


def _short(budget: Budget, packs: Sequence[Pack]) -> Reason:
    return reason("energy_short", source=budget.source, need_wh=budget.need_wh, left_wh=budget.left_wh,
                  enough_for=budget.enough_for, count=len(packs), until_v=budget.until_v)  # fmt: skip


# ---------------------------------------------------------------------------------------- a charge, judged


@dataclass(frozen=True)
class Judged:
    """One predicted charge with the verdict on it: every limit, the joining rule, what runs, the watt-hours."""

    charge: Charge
    choice: Choice
    limits: tuple[Limit, ...]
    joining: Joining
    budget: Budget | None
    level: Level
    reasons: tuple[Reason, ...]


def charge(bench: Bench, choice: Choice) -> Judged:
    """Charge a choice in the full model and judge it by everything that `size` knows.

    Whatever can be joined at all is computed. Raises NotThere, and Unsafe for packs that may never be joined.
    """
    place = hookup(bench, choice)
    packs, setup, rules = place.packs, place.setup, place.rules
    refuse_unjoinable(packs)
    current_a, limits, broken = _amps(place)
    joined = joining(packs, rules, setup.port, current_a / total_ah(packs))
    result = charge_packs(packs, setup, rules, current_a, joined.start)
    budget = budget_of(place, result, joined)
    if budget is not None and budget.short:
        short = _short(budget, packs)
        broken = (*broken, short)
        limits = (*limits, Limit(SOURCE_ENERGY, 0.0, short))
    endless = () if result.done else (too_long(result),)
    stops = (*against(bench, place), *broken, *endless, *(() if joined.passes else joined.reasons))
    notes = (*sizing_notes(packs, setup, current_a / total_ah(packs), rules), *over_c(packs, result))
    careful = [item for item in notes if item.code not in _REMARKS]
    level = Level.STOP if stops else Level.LOOK if careful else Level.FIT
    reasons = (*stops, *notes) or (reason("charge_fine"),)
    told = () if packs[0].chemistry.table is None else each_once(rests_on_reason(pack) for pack in packs)
    return Judged(result, choice, limits, joined, budget, level, (*reasons, *told))


def over_c(packs: Sequence[Pack], result: Charge) -> tuple[Reason, ...]:
    """Packs that pass their charge C, or may pass it where they differ from what is likeliest.

    result : their charge.
    """
    notes = []
    for pack, item in zip(packs, result.packs, strict=True):
        limit_c, high_c, fan = pack.max_charge_a / pack.capacity_ah, result.peak_high_c(item.id), result.fan_of(item.id)
        over_s = item.over_s if fan is None else max(fan.over_s.high, item.over_s)
        if at_most(high_c, limit_c * OVER_C) or over_s < 1:
            continue
        numbers = {"likely_c": item.peak_rate_c, "rate_c": high_c, "charge_c": pack.charge_c, "over_s": over_s}
        likely = not at_most(item.peak_rate_c, limit_c * OVER_C) or not at_most(high_c, limit_c * OVER_SHARE)
        notes.append(reason("charge_above_c" if likely else "charge_may_pass_c", id=item.id, **numbers))
    return tuple(notes)


_REMARKS = frozenset({
    "charge_may_pass_c", "no_label_c", "backs_off", "lihv_label", "no_budget", "adapter_needed", "full",
    "full_by_charge",
})  # fmt: skip
"""Notes that tell something and ask for nothing."""


def rate_of(bench: Bench, choice: Choice) -> float | None:
    """The rate at which a choice would be charged, multiples of capacity per hour; None where it names no channel."""
    if choice.channel is None:
        return None
    place = hookup(bench, choice)
    return _amps(place)[0] / total_ah(place.packs)


def _amps(place: Hookup) -> tuple[float, tuple[Limit, ...], tuple[Reason, ...]]:
    """The amps to count with, every limit, and those that they break."""
    packs, setup, rules, channel = place.packs, place.setup, place.rules, place.setup.channel
    wanted_a = place.choice.current_a
    if wanted_a is not None:
        limits = limits_of(packs, setup, rules, wanted_a)
        return wanted_a, limits, amps_faults(wanted_a, limits, channel)
    try:
        limits, current_a, _, _ = limits_and_current(packs, setup, rules)
    except Unsafe:
        limits = limits_of(packs, setup, rules)
        tightest = min(limits, key=lambda limit: limit.current_a)
        return smallest_a(channel), limits, (minimum_too_high(channel, tightest),)
    return current_a, limits, ()
