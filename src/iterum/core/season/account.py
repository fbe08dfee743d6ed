"""A day that was rehearsed on the whole bench, set against the plan with which it began: heat by heat."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from math import inf

from iterum.core.bench.session import Wish
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.history import have_flown
from iterum.core.planning.record import KeptPlan
from iterum.core.planning.rehearsed import as_flown


@dataclass(frozen=True)
class HeatTold:
    """One heat. promised : packs that the first plan gave it; have : that were full when it began, None while it is to
    come. planned_at, at : when it was to begin then, and when it did or does now.
    """

    wish: Wish
    promised: int
    planned_at: datetime
    at: datetime
    have: int | None

    @property
    def held(self) -> bool:
        """Whether it got what was promised, or still may."""
        return self.have is None or self.have >= min(self.promised, self.wish.count)


def heats_told(
    first: KeptPlan, latest: KeptPlan, batches: Sequence[PlannedBatch], wanted: Sequence[Wish], now: datetime,
    hurt: Mapping[str, float],
) -> tuple[HeatTold, ...]:  # fmt: skip
    """Each heat of the first plan as it went, in the order of time.

    latest : the plan in force now. batches : as they really went, and wanted : the heats as they stand now, both in its
    minutes. hurt : minutes at which packs were found hurt, by tag.
    """
    there = {charge for batch in batches for charge in batch.charges}
    never = [replace(batch, full_min=inf) for batch in latest.plan.batches if not there & set(batch.charges)]
    told = (*latest.plan.past.flown, *latest.plan.heats)
    over = have_flown(wanted, told, latest.minute(now))
    went = {_name(item.wish): item for item in as_flown(over, (*batches, *never), hurt)}
    stand = {_name(wish): wish for wish in wanted if wish.is_heat}
    heats = []
    for item in (item for item in first.plan.wanted if item.wish.is_heat):
        flew, now_wish = went.get(_name(item.wish)), stand.get(_name(item.wish))
        planned_at = first.moment(item.wish.at_min)
        at = latest.moment(flew.at_min) if flew else latest.moment(now_wish.at_min) if now_wish else planned_at
        have = flew.have if flew else None if at > now else 0
        heats.append(HeatTold(item.wish, item.have, planned_at, at, have))
    return tuple(sorted(heats, key=lambda item: item.at))


def _name(wish: Wish) -> tuple[str, str | None]:
    return wish.family, wish.name
