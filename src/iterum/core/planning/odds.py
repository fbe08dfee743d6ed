"""How sure a plan is: it is followed many times on days that go a little otherwise, by the times it knows already.

Nobody replans in these tries, so they tell what the plan itself stands; a model's odds, not a promise. What days are
like is one of the house rules. The same seed gives the same odds.
"""

import random
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import sqrt

from iterum.core.planning.batches import PlannedBatch
from iterum.core.quantities import at_most
from iterum.core.things.days import Days
from iterum.core.things.session import Wish

TRIES = 300


@dataclass(frozen=True)
class Odds:
    """In how many of so many tries a heat was met; what broke it most often: the packs of a batch, and its cause."""

    met: int
    of: int
    packs: tuple[str, ...] = ()
    cause: str | None = None


@dataclass(frozen=True)
class _Ended:
    """One batch in one try: when its packs were full, and what made it later than planned, in minutes by cause."""

    full_min: float
    late_min: Mapping[str, float]


def odds_of(
    batches: Sequence[PlannedBatch], flights: Sequence[tuple[Wish, tuple[str, ...]]], setup_min: float,
    days: Days | None = None, tries: int = TRIES, seed: int = 1,
) -> tuple[Odds, ...]:  # fmt: skip
    """For each heat, in how many tries all the packs that fly in it were full in time.

    batches : of a plan, times in minutes from now. flights : heats in the order of time, each with the tags that fly in
    it. setup_min : minutes that a set-up is planned to take. tries : how many, 1 or more. seed : of the chance.
    """
    rng, days = random.Random(seed), days or Days()
    met = [0] * len(flights)
    broken: list[Counter[tuple[tuple[str, ...], str]]] = [Counter() for _ in flights]
    order = sorted(batches, key=lambda batch: batch.start_min)
    for _ in range(tries):
        at_min = [wish.at_min + (rng.uniform(0, days.slip_min) if rng.random() < days.slips else 0.0)
                  for wish, _ in flights]  # fmt: skip
        ends = _followed(order, flights, at_min, setup_min, days, rng)
        for place, (wish, tags) in enumerate(flights):
            late = _latest(place, flights, ends)
            if len(tags) >= wish.count and (late is None or at_most(ends[late].full_min, at_min[place])):
                met[place] += 1
            elif late is not None:
                cause = max(ends[late].late_min, key=lambda name: ends[late].late_min[name], default="minutes")
                broken[place][late.packs, cause] += 1
    odds = []
    for count, why in zip(met, broken, strict=True):
        worst = next(iter(why.most_common(1)), None)
        odds.append(Odds(count, tries, *worst[0]) if worst else Odds(count, tries))
    return tuple(odds)


def _latest(
    place: int, flights: Sequence[tuple[Wish, tuple[str, ...]]], ends: Mapping[PlannedBatch, _Ended]
) -> PlannedBatch | None:
    """The batch whose packs are full last of those that fly in a heat; None where all were full already."""
    flown = Counter(tag for _, tags in flights[:place] for tag in tags)
    mine = [
        batch for batch in ends
        if any(tag in flights[place][1] and number == flown[tag] + 1 for tag, number in batch.charges)
    ]  # fmt: skip
    return max(mine, key=lambda batch: ends[batch].full_min, default=None)


def _followed(
    order: Sequence[PlannedBatch], flights: Sequence[tuple[Wish, tuple[str, ...]]], at_min: Sequence[float],
    setup_min: float, days: Days, rng: random.Random,
) -> dict[PlannedBatch, _Ended]:  # fmt: skip
    """One try: every batch begun when the plan says, or as soon as channel, board, hands and packs are there."""
    free: dict[tuple[str, str], float] = {}
    which_cell: dict[str, float] = {}  # packs of a class are bought together: one chance for all of them
    hands_min, outcome = 0.0, dict[PlannedBatch, _Ended]()
    over = [at + (wish.fly_min or 0.0) for at, (wish, _) in zip(at_min, flights, strict=True)]
    for batch in order:
        late: dict[str, float] = {}
        waits = {"channel": free.get(("channel", batch.channel), 0.0), "hands": hands_min,
                 "board": free.get(("board", batch.board or ""), 0.0),
                 "packs": _back(batch, flights, over)}  # fmt: skip
        start_min = max(batch.start_min, *waits.values())
        if start_min > batch.start_min:
            late[max(waits, key=lambda name: waits[name])] = start_min - batch.start_min
        planned_min = batch.lead_min - batch.start_min
        by_hand = min(planned_min, setup_min)
        took_min = planned_min - by_hand + by_hand * max(rng.gauss(1.0, days.hands), 0.3)
        charge_min = _charge_min(batch, which_cell.setdefault(batch.family, rng.random()), days)
        if rng.random() < days.backs_off:
            charge_min *= 1 + days.back_off_part
            late["backs_off"] = charge_min * days.back_off_part
        if rng.random() < days.link_lost:
            charge_min += days.unnoticed_min
            late["link"] = days.unnoticed_min
        if batch.lead_min <= 0:  # it charges already
            start_min, took_min = batch.start_min, planned_min
        hands_min = start_min + took_min
        full_min = hands_min + charge_min
        late |= {"hands": late.get("hands", 0.0) + took_min - planned_min,
                 "minutes": charge_min - (batch.full_min - batch.lead_min)}  # fmt: skip
        end_min = full_min + max(min(batch.end_min - batch.full_min, batch.end_min - full_min), 0.0)
        free["channel", batch.channel] = end_min
        if batch.board is not None:
            free["board", batch.board] = end_min
        outcome[batch] = _Ended(full_min, late)
    return outcome


def _charge_min(batch: PlannedBatch, chance: float, days: Days) -> float:
    """Minutes of a charge in one try: within what its volts leave open, the planned ones the likeliest."""
    likely = batch.full_min - batch.lead_min
    low, high = likely * days.minutes_low, likely * days.minutes_high
    if batch.early_min is not None and batch.late_min is not None:
        low, high = min(batch.early_min - batch.lead_min, low), max(batch.late_min - batch.lead_min, high)
    turn = (likely - low) / (high - low) if high > low else 0.5
    if chance < turn:
        return low + sqrt((high - low) * (likely - low) * chance)
    return high - sqrt((high - low) * (high - likely) * (1 - chance))


def _back(batch: PlannedBatch, flights: Sequence[tuple[Wish, tuple[str, ...]]], over: Sequence[float]) -> float:
    """When the packs of a batch that have flown before it are back and rested."""
    back_min = 0.0
    for tag, number in batch.charges:
        before = [place for place, (_, tags) in enumerate(flights) if tag in tags][: number - 1]
        if before:
            back_min = max(back_min, over[before[-1]] + flights[before[-1]][0].rest_min)
    return back_min
