"""The plan: what a search found, with exact times, its bound, what was left out and why."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from math import inf

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.odds import Odds, odds_of
from iterum.core.planning.problem import Problem
from iterum.core.planning.rounds import ChargeKey
from iterum.core.planning.schedule import Gene, visits_of
from iterum.core.planning.score import Score
from iterum.core.quantities import MOMENT_MIN, at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.kit import Kit
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Wish


@dataclass(frozen=True)
class NotPlanned:
    """A pack without a batch, why, and what would mend it."""

    pack: Pack
    reason: Reason
    fix: Reason
    round: int = 1
    """Which charge of the day, where packs come round again."""

    @property
    def key(self) -> ChargeKey:
        """Which charge it is that is not planned."""
        return ChargeKey(self.pack.id, self.round)


@dataclass(frozen=True)
class WishOutcome:
    """What became of a wish: how many are full by then (not yet balanced), and when the last of them is (None: never).

    packs : tags of those that will be ready and fly in a heat; empty where any will do. reason : why it is
    not met. odds : of a heat, in how many tries of the day it was met.
    """

    wish: Wish
    met: bool
    have: int
    ready_min: float | None
    packs: tuple[str, ...] = ()
    reason: Reason | None = None
    odds: Odds | None = None


@dataclass(frozen=True)
class SourceUse:
    """What a plan takes from one source. usable_wh : what is left in it; None where no budget is known."""

    id: str
    used_wh: float
    usable_wh: float | None
    peak_w: float


@dataclass(frozen=True)
class Plan:
    """A whole plan. bound_min : before which no plan that charges as much is done, None where that is not known;
    proved : whether this one is done then."""

    batches: tuple[PlannedBatch, ...]
    left_out: tuple[NotPlanned, ...]
    wanted: tuple[WishOutcome, ...]
    makespan_min: float
    bound_min: float | None
    proved: bool
    visits: int
    sources: tuple[SourceUse, ...]
    score: Score
    genes: tuple[Gene, ...]
    iterations: int

    @property
    def gap(self) -> float | None:
        """How far the makespan may be over the best there is, as a part of the bound; None without a bound."""
        return self.makespan_min / self.bound_min - 1 if self.bound_min else None


@dataclass(frozen=True)
class BatchWhy:
    """Reasons for one batch: what it waits for, and for a lone pack why nobody joins it."""

    batch: PlannedBatch
    reasons: tuple[Reason, ...]


@dataclass(frozen=True)
class Relaxed:
    """One thing widened by one step, and the minutes it would save."""

    reason: Reason
    makespan_min: float
    saved_min: float


@dataclass(frozen=True)
class Progress:
    """Where a search stands."""

    iterations: int
    makespan_min: float
    bound_min: float | None


def with_odds(plan: Plan, rules: HouseRules, flown: Mapping[str, int] | None = None) -> Plan:
    """A plan with the odds of each of its heats, on days such as the house rules say they are. One that is met by the
    plan's own minutes, but in under half of the days, counts as not met: its chance is told.

    flown : by tag, heats of the day that are over.
    """
    heats = [item for item in plan.wanted if item.wish.is_heat and item.packs]
    flights = [(item.wish, item.packs) for item in heats]
    odds = odds_of(plan.batches, flights, rules.setup_min, rules.days, flown=flown)
    told = dict(zip(map(id, heats), odds, strict=True))
    return replace(plan, wanted=tuple(_with_odds(item, told.get(id(item))) for item in plan.wanted))


def _with_odds(item: WishOutcome, odds: Odds | None) -> WishOutcome:
    if odds is None or not item.met or odds.likely:
        return replace(item, odds=odds)
    why = reason("heat_unlikely", met=odds.met, of=odds.of, at_min=item.wish.at_min)
    return replace(item, odds=odds, met=False, reason=why)


# ------------------------------------------------------------------ what a list of batches comes to


def outcomes(problem: Problem, batches: Sequence[PlannedBatch], wanted: Sequence[Wish]) -> tuple[WishOutcome, ...]:
    """What becomes of each wish when these batches are charged, those done and running included."""
    told = []
    for wish in wanted:
        if wish.at_min <= 0:
            continue
        ready = _ready_for(problem, batches, wish)
        have = sum(end_min <= wish.at_min + MOMENT_MIN for end_min in ready)
        last = ready[wish.count - 1] if len(ready) >= wish.count else None
        packs = _flying(problem, batches, wish)
        told.append(WishOutcome(wish, have >= wish.count, min(have, wish.count), last, packs))
    return tuple(item if item.met else replace(item, reason=_why_unmet(problem, item, told)) for item in told)


def _flying(problem: Problem, batches: Sequence[PlannedBatch], wish: Wish) -> tuple[str, ...]:
    """Tags of the packs that will be ready for a heat, and so fly in it."""
    if problem.day is None:
        return ()
    full_at = {key: batch.full_min for batch in batches for key in batch.charges}
    seats = [seat for seat in problem.day.seats if seat.heat == wish]
    ready = {seat.charge: full_at.get(seat.charge, seat.ready_min) for seat in seats}
    return tuple(
        charge.tag for charge, at_min in ready.items() if at_min is not None and at_min <= wish.at_min + MOMENT_MIN
    )


def _why_unmet(problem: Problem, item: WishOutcome, every: Sequence[WishOutcome]) -> Reason | None:
    """Why a wish is not met: no packs, no pack full by then, or the bench busy with others that are worth more. None
    where it is only late."""
    day = problem.day
    if day is None and item.ready_min is None:
        there = sum(verdict.pack.family == item.wish.family for verdict in problem.verdicts)
        count = {"count": item.wish.count, "family": item.wish.family}
        return reason("heat_too_few", **count) if there < item.wish.count else reason("wish_left_out", **count)
    if day is None or item.wish not in day.heats:
        return None
    at = day.heats.index(item.wish)
    numbers = {"count": item.wish.count, "could": day.could[at], "at_min": item.wish.at_min, "family": item.wish.family}
    soonest_min = day.soonest_min[at]
    if soonest_min is None:
        return reason("heat_too_few", **numbers)
    if soonest_min == inf:
        return reason("heat_no_channel", **numbers)
    if day.could[at] < item.wish.count:
        return reason("heat_too_soon", soonest_min=soonest_min, **numbers)
    others = tuple(one.wish.name or one.wish.family for one in every if one.met and one.wish.is_heat)
    return reason("heat_given_up", others=others, **numbers)


def _ready_for(problem: Problem, batches: Sequence[PlannedBatch], wish: Wish) -> list[float]:
    """When the packs of a wish are full, rising."""
    full_at = {key: batch.full_min for batch in batches for key in batch.charges}
    if problem.day is not None:
        seats = [seat for seat in problem.day.seats if seat.heat == wish]
        ready = [full_at.get(seat.charge, seat.ready_min) for seat in seats]
        return sorted(full_min for full_min in ready if full_min is not None)
    mine = (verdict for verdict in problem.verdicts if verdict.pack.family == wish.family)
    full = [0.0 for one in mine if one.full and one.charges and ChargeKey(one.pack.id) not in full_at]
    return sorted([*full, *(batch.full_min for batch in batches if batch.family == wish.family for _ in batch.packs)])


def source_uses(kit: Kit, batches: Sequence[PlannedBatch]) -> tuple[SourceUse, ...]:
    """What these batches take from each source: Wh in all, and the most watts at once from now on."""
    uses = []
    for source in kit.sources:
        mine = [batch for batch in batches if batch.source == source.id]
        ahead = [batch for batch in mine if batch.end_min > 0]
        peak_w = max(
            (
                sum(b.power_in_w for b in ahead if b.lead_min <= one.lead_min and not at_most(b.end_min, one.lead_min))
                for one in ahead
            ),
            default=0.0,
        )
        uses.append(SourceUse(source.id, sum(batch.energy_in_wh for batch in mine), source.usable_wh, peak_w))
    return tuple(uses)


def visits_in(batches: Sequence[PlannedBatch]) -> int:
    """How often somebody goes to the bench for the batches still to be set up."""
    return len(visits_of([(batch.start_min, batch.lead_min) for batch in batches if batch.lead_min > 0]))
