"""How sure a plan is: it is followed many times on days that go a little otherwise, by the times it knows already.

Nobody replans in these tries, so they tell what the plan itself stands; a model's odds, not a promise. What days are
like is one of the house rules. The same seed gives the same odds.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from iterum.core.planning.batches import PlannedBatch
from iterum.core.quantities import NOISE
from iterum.core.things.days import Days
from iterum.core.things.session import Wish

Array = NDArray[np.float64]

TRIES = 4_000
"""So many agree with many more within 0.02."""
CAUSES = ("channel", "hands", "board", "packs", "backs_off", "link", "minutes")
"""What makes a batch late: what it waits for, a charger that backs off, a link that is lost, its own minutes."""


@dataclass(frozen=True)
class Odds:
    """In how many of so many tries a heat was met; what broke it most often: the packs of a batch, and its cause."""

    met: int
    of: int
    packs: tuple[str, ...] = ()
    cause: str | None = None

    @property
    def likely(self) -> bool:
        """Whether it is met in half of the tries at least."""
        return 2 * self.met >= self.of


@dataclass(frozen=True, eq=False)
class _Ended:
    """One batch in every try: when its packs were full, and what made it later than planned, min, a row by cause."""

    full_min: Array
    late_min: Array


def odds_of(
    batches: Sequence[PlannedBatch], flights: Sequence[tuple[Wish, tuple[str, ...]]], setup_min: float,
    days: Days | None = None, tries: int = TRIES, seed: int = 1, flown: Mapping[str, int] | None = None,
) -> tuple[Odds, ...]:  # fmt: skip
    """For each heat, in how many tries all the packs that fly in it were full in time.

    batches : of a plan, times in minutes from now. flights : heats in the order of time, each with the tags that fly in
    it. setup_min : minutes that a set-up is planned to take. tries : how many, 1 or more. seed : of the chance.
    flown : by tag, heats of the day that are over: charges are counted from the first.
    """
    if not flights:
        return ()
    rng, days, flown = np.random.default_rng(seed), days or Days(), flown or {}
    at_min = [
        wish.at_min + np.where(rng.random(tries) < days.slips, rng.uniform(0, days.slip_min, tries), 0.0)
        for wish, _ in flights
    ]
    order = sorted(batches, key=lambda batch: batch.start_min)
    over = [at + (wish.fly_min or 0.0) for at, (wish, _) in zip(at_min, flights, strict=True)]
    back = {batch: _back(batch, flights, over, flown, np.zeros(tries)) for batch in order}
    ends = _followed(order, back, setup_min, days, rng, tries)
    return tuple(_odds(place, flights, ends, at_min[place], flown) for place in range(len(flights)))


def _odds(
    place: int, flights: Sequence[tuple[Wish, tuple[str, ...]]], ends: Mapping[PlannedBatch, _Ended], at_min: Array,
    flown: Mapping[str, int],
) -> Odds:  # fmt: skip
    """The odds of one heat."""
    (wish, tags), tries = flights[place], len(at_min)
    mine = _batches_of(place, flights, ends, flown)
    enough = len(tags) >= wish.count
    if not mine:
        return Odds(tries if enough else 0, tries)
    full_min = np.array([ends[batch].full_min for batch in mine])
    last = full_min.argmax(axis=0)
    good = (full_min.max(axis=0) <= at_min + NOISE) & enough
    broken: Counter[tuple[tuple[str, ...], str]] = Counter()
    for number, batch in enumerate(mine):
        causes = ends[batch].late_min[:, ~good & (last == number)].argmax(axis=0)
        broken.update((batch.packs, CAUSES[cause]) for cause in causes.tolist())
    worst = next(iter(broken.most_common(1)), None)
    met = int(good.sum())
    return Odds(met, tries, *worst[0]) if worst else Odds(met, tries)


def _batches_of(
    place: int, flights: Sequence[tuple[Wish, tuple[str, ...]]], ends: Mapping[PlannedBatch, _Ended],
    flown: Mapping[str, int],
) -> list[PlannedBatch]:  # fmt: skip
    """The batches that charge packs for a heat; none where all were full already."""
    before = Counter(flown) + Counter(tag for _, tags in flights[:place] for tag in tags)
    return [
        batch for batch in ends
        if any(tag in flights[place][1] and number == before[tag] + 1 for tag, number in batch.charges)
    ]  # fmt: skip


def _followed(
    order: Sequence[PlannedBatch], back: Mapping[PlannedBatch, Array], setup_min: float, days: Days,
    rng: np.random.Generator, tries: int,
) -> dict[PlannedBatch, _Ended]:  # fmt: skip
    """Every batch begun when the plan says, or as soon as channel, board, hands and packs are there. back : when the
    packs of each are back."""
    free: dict[tuple[str, str], Array] = {}
    which_cell: dict[str, Array] = {}  # packs of a class are bought together: one chance for all of them
    none, outcome = np.zeros(tries), dict[PlannedBatch, _Ended]()
    hands_min = none
    for batch in order:
        waits = np.array([free.get(("channel", batch.channel), none), hands_min,
                          free.get(("board", batch.board or ""), none), back[batch]])  # fmt: skip
        start_min = np.maximum(waits.max(axis=0), batch.start_min)
        late = np.zeros((len(CAUSES), tries))
        late[waits.argmax(axis=0), np.arange(tries)] = start_min - batch.start_min
        planned_min = batch.lead_min - batch.start_min
        by_hand = min(planned_min, setup_min)
        took_min = planned_min - by_hand + by_hand * np.maximum(rng.normal(1.0, days.hands, tries), 0.3)
        if batch.family not in which_cell:
            which_cell[batch.family] = rng.random(tries)
        as_it_is = _charge_min(batch, which_cell[batch.family], days)
        charge_min = as_it_is * np.where(rng.random(tries) < days.backs_off, 1 + days.back_off_part, 1.0)
        late[CAUSES.index("backs_off")] = charge_min - as_it_is
        late[CAUSES.index("link")] = np.where(rng.random(tries) < days.link_lost, days.unnoticed_min, 0.0)
        charge_min = charge_min + late[CAUSES.index("link")]
        if batch.lead_min <= 0:  # it charges already
            start_min, took_min = np.full(tries, batch.start_min), np.full(tries, planned_min)
        hands_min = start_min + took_min
        full_min = hands_min + charge_min
        late[CAUSES.index("hands")] += took_min - planned_min
        late[CAUSES.index("minutes")] = charge_min - (batch.full_min - batch.lead_min)
        balanced = np.minimum(batch.end_min - batch.full_min, batch.end_min - full_min)
        free["channel", batch.channel] = full_min + np.maximum(balanced, 0.0)
        if batch.board is not None:
            free["board", batch.board] = free["channel", batch.channel]
        outcome[batch] = _Ended(full_min, late)
    return outcome


def _charge_min(batch: PlannedBatch, chance: Array, days: Days) -> Array:
    """Minutes of a charge in each try: one of the ways that its packs may be, or what days do where those are unknown.

    chance : where in all of that, 0 to 1.
    """
    if batch.ways_min:
        ways_min = np.array(batch.ways_min)
        return np.asarray(np.interp(chance, (np.arange(len(ways_min)) + 0.5) / len(ways_min), ways_min))
    likely = batch.full_min - batch.lead_min
    low, high = likely * days.minutes_low, likely * days.minutes_high
    turn = (likely - low) / (high - low) if high > low else 0.5
    early = low + np.sqrt((high - low) * (likely - low) * chance)
    late = high - np.sqrt((high - low) * (high - likely) * (1 - chance))
    return np.asarray(np.where(chance < turn, early, late))


def _back(
    batch: PlannedBatch, flights: Sequence[tuple[Wish, tuple[str, ...]]], over: Sequence[Array],
    flown: Mapping[str, int], none: Array,
) -> Array:  # fmt: skip
    """When the packs of a batch that have flown before it are back and rested."""
    back_min = none
    for tag, number in batch.charges:
        to_come = max(number - 1 - flown.get(tag, 0), 0)
        before = [place for place, (_, tags) in enumerate(flights) if tag in tags][:to_come]
        if before:
            back_min = np.maximum(back_min, over[before[-1]] + flights[before[-1]][0].rest_min)
    return back_min
