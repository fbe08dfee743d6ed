"""A plan as it is kept: batches with their reasons, wishes, sources, what was left out, and what was over by then."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.history import Flown, Past
from iterum.core.planning.plan import BatchWhy, Plan, Relaxed, SourceUse, WishOutcome
from iterum.core.reasons import Reason
from iterum.core.things.session import Wish


@dataclass(frozen=True)
class Unplanned:
    """A pack without a batch in one of its rounds, why, and what would mend it."""

    tag: str
    round: int
    reason: Reason
    fix: Reason


@dataclass(frozen=True)
class Offer:
    """A change that would win back a heat: what it is, wins and costs in its reason.

    plan : what taking it leads to; None for a part that would have to be bought, or a pack to be measured first.
    wanted : what is asked for with it, where that changes.
    """

    reason: Reason
    plan: "PlanRecord | None" = None
    wanted: tuple[Wish, ...] | None = None


@dataclass(frozen=True)
class PlanRecord:
    """What a search found, without what it found it with. reasons : of each batch, in the order of `batches`."""

    batches: tuple[PlannedBatch, ...] = ()
    reasons: tuple[tuple[Reason, ...], ...] = ()
    left_out: tuple[Unplanned, ...] = ()
    wanted: tuple[WishOutcome, ...] = ()
    sources: tuple[SourceUse, ...] = ()
    makespan_min: float = 0.0
    bound_min: float | None = None
    proved: bool = False
    visits: int = 0
    changed: tuple[Reason, ...] = ()
    would_help: tuple[Relaxed, ...] = ()
    past: Past = field(default_factory=Past)
    offers: tuple[Offer, ...] = ()
    hurried: bool = False
    """Whether the search still found better plans when its time was up, or had none."""
    called_off: bool = False
    """Whether the day is over: nothing more is charged, everything goes to storage."""

    @property
    def gap(self) -> float | None:
        """How far the makespan may be over the best there is, as a part of the bound; None without a bound."""
        return self.makespan_min / self.bound_min - 1 if self.bound_min else None

    @property
    def explained(self) -> tuple[tuple[PlannedBatch, tuple[Reason, ...]], ...]:
        """Each batch with its reasons."""
        return tuple(zip(self.batches, self.reasons, strict=True))

    @property
    def heats(self) -> tuple[Flown, ...]:
        """The heats, each with the packs that fly in it."""
        return tuple(Flown(item.wish, item.packs) for item in self.wanted if item.wish.is_heat)

    def to_storage(self) -> "PlanRecord":
        """The same plan where the day is called off: nothing of it is begun any more. Who flies stays, to be asked who
        flew in what is over."""
        return replace(
            self,
            batches=(),
            reasons=(),
            left_out=(),
            changed=(),
            would_help=(),
            offers=(),
            makespan_min=0.0,
            bound_min=None,
            proved=False,
            visits=0,
            hurried=False,
            called_off=True,
        )

    def by_hand(
        self, batches: Sequence[PlannedBatch], reasons: Sequence[tuple[Reason, ...]], wanted: Iterable[WishOutcome],
        sources: Iterable[SourceUse], visits: int,
    ) -> "PlanRecord":  # fmt: skip
        """The same plan with its batches as the pilot moved them: nothing is proved any more, and nothing compared.

        visits : visits to the bench, 0 or more.
        """
        return replace(
            self,
            batches=tuple(batches),
            reasons=tuple(reasons),
            wanted=tuple(wanted),
            sources=tuple(sources),
            makespan_min=max((batch.end_min for batch in batches), default=0.0),
            bound_min=None,
            proved=False,
            visits=visits,
            changed=(),
            would_help=(),
            offers=(),
            hurried=False,
        )


def record_of(
    plan: Plan, whys: Sequence[BatchWhy] = (), relaxed: Sequence[Relaxed] = (), changed: Iterable[Reason] = (),
    past: Past | None = None, offers: Iterable[Offer] = (), hurried: bool = False,
) -> PlanRecord:  # fmt: skip
    """What is kept of a plan.

    changed : what is otherwise than in the plan before. hurried : whether its search had too little time.
    """
    reasons = {why.batch: why.reasons for why in whys}
    return PlanRecord(
        batches=plan.batches,
        reasons=tuple(reasons.get(batch, ()) for batch in plan.batches),
        left_out=tuple(Unplanned(left.pack.id, left.round, left.reason, left.fix) for left in plan.left_out),
        wanted=plan.wanted,
        sources=plan.sources,
        makespan_min=plan.makespan_min,
        bound_min=plan.bound_min,
        proved=plan.proved,
        visits=plan.visits,
        changed=tuple(changed),
        would_help=tuple(relaxed),
        past=past or Past(),
        offers=tuple(offers),
        hurried=hurried,
    )


@dataclass(frozen=True)
class KeptPlan:
    """A plan with when it was made, by which preference, and the revision of the session it was made for."""

    made_at: datetime
    prefer: str
    plan: PlanRecord
    revision: int

    def minute(self, moment: datetime) -> float:
        """A moment in minutes of the plan."""
        return (moment - self.made_at) / timedelta(minutes=1)

    def moment(self, minute: float) -> datetime:
        """The moment of a minute of the plan."""
        return self.made_at + timedelta(minutes=minute)
