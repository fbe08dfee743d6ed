"""Planning off the request: a search in a thread that shows how far it is, can be stopped, and keeps its best."""

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from time import perf_counter

from iterum.core.planning.by_hand import move, with_batch
from iterum.core.planning.explain import BatchWhy, Relaxed, bottlenecks, explain
from iterum.core.planning.plan import Plan, Planner, Progress, outcomes, source_uses, visits_in
from iterum.core.planning.problem import PlannedBatch, Problem
from iterum.core.planning.replan import Replanner, changes
from iterum.core.planning.rounds import tag_of
from iterum.core.planning.search import Prefer
from iterum.core.reasons import Reason, reason
from iterum.core.session import Session
from iterum.exchange.results import batches_from, outcome_document, plan_moved, reasons_document
from iterum.store.repository import KeptPlan

SEARCH_PART = 0.7
"""Of the time for a plan; what is left goes into what would make it sooner."""


@dataclass(frozen=True)
class Answer:
    """A plan with its reasons, and what would make the whole sooner."""

    plan: Plan
    whys: tuple[BatchWhy, ...]
    relaxed: tuple[Relaxed, ...]
    changed: tuple[Reason, ...] = ()


@dataclass(frozen=True)
class Follow:
    """An old plan that was followed so far: its batches, and the minute of it that is now."""

    batches: tuple[PlannedBatch, ...]
    now_min: float


def make_plan(
    session: Session,
    prefer: Prefer,
    seconds: float,
    on_progress: Callable[[Progress], None] = lambda _: None,
    stopped: Callable[[], bool] = lambda: False,
    follow: Follow | None = None,
) -> Answer:
    """Search for so many seconds, or until the plan is proved or somebody stops it.

    follow : plan again from an old plan, leaving what runs alone and changing as little as can be.
    """
    begun = perf_counter()
    planner = Replanner(session, follow.batches, follow.now_min, prefer) if follow else Planner(session, prefer)
    for progress in planner.improve():
        on_progress(progress)
        if stopped() or perf_counter() > begun + SEARCH_PART * seconds:
            break
    plan = planner.plan()
    if isinstance(planner, Replanner):
        changed = changes(planner.kept.to_come, plan.batches[len(planner.kept.fixed) :])
        return Answer(plan, explain(planner.problem, plan), (), changed)
    relaxed: list[Relaxed] = []
    until = max(begun + seconds, perf_counter() + (1 - SEARCH_PART) * seconds)
    widened = bottlenecks(planner.problem, plan) if plan.batches else iter(())
    while not stopped() and perf_counter() < until:
        step = next(widened, False)
        if step is False:
            break
        relaxed += [step] if isinstance(step, Relaxed) else []
    relaxed.sort(key=lambda item: -item.saved_min)
    return Answer(plan, explain(planner.problem, plan), tuple(relaxed))


def moved(
    session: Session, kept: KeptPlan, number: int, channel: str | None, start_min: float | None, now_min: float
) -> KeptPlan:
    """A kept plan with one batch put elsewhere by hand, and kept there.

    session : with its minutes counted from the plan's start. Raises Unsafe with every rule it would break, KeyError
    for a batch that is not there.
    """
    batches = batches_from(kept.document)
    if not 0 <= number < len(batches):
        raise KeyError(number)
    old = batches[number]
    start_min = old.start_min if start_min is None else start_min
    batch = move(session, batches, number, channel or old.channel, start_min, now_min)
    return _rewritten(session, kept, with_batch(batches, number, batch), batch)


def locked(session: Session, kept: KeptPlan, number: int, is_locked: bool) -> KeptPlan:
    """A kept plan with one batch kept where it is, or free again. Raises KeyError for a batch that is not there."""
    batches = batches_from(kept.document)
    if not 0 <= number < len(batches):
        raise KeyError(number)
    batch = replace(batches[number], locked=is_locked)
    return _rewritten(session, kept, with_batch(batches, number, batch), batch if is_locked else None)


def _rewritten(
    session: Session, kept: KeptPlan, batches: Sequence[PlannedBatch], by_hand: PlannedBatch | None
) -> KeptPlan:
    reasons = {frozenset(item["packs"]): item["reasons"] for item in kept.document["batches"]}
    if by_hand is not None:
        reasons[frozenset(map(tag_of, by_hand.packs))] = reasons_document([reason("kept_by_you")])
    outcome = outcome_document(outcomes(Problem(session), batches, session.wanted), source_uses(session.kit, batches))
    document = plan_moved(kept.document, batches, reasons, outcome, visits_in(batches))
    return replace(kept, document=document)


@dataclass
class PlanJob:
    """One search that runs, or ran: by one preference, or by several to compare, which share its seconds."""

    session: Session
    preferences: tuple[Prefer, ...]
    seconds: float
    begun_at: datetime
    revision: int
    follow: Follow | None = None
    progress: Progress | None = None
    answers: dict[Prefer, Answer] = field(default_factory=dict)
    done: bool = False
    defect: Exception | None = None
    _stop: threading.Event = field(default_factory=threading.Event)
    _begun_s: float = field(default_factory=perf_counter)
    _thread: threading.Thread | None = None

    @property
    def running(self) -> bool:
        """Whether it is still at work."""
        return not self.done and self.defect is None

    @property
    def elapsed_s(self) -> float:
        """Seconds since it began."""
        return perf_counter() - self._begun_s

    def start(self) -> None:
        """Begin in a thread of its own."""
        self._thread = threading.Thread(target=self._run, name="planning", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            for prefer in self.preferences:
                self.answers[prefer] = make_plan(
                    self.session,
                    prefer,
                    self.seconds / len(self.preferences),
                    self._note,
                    self._stop.is_set,
                    self.follow,
                )
            self.done = True
        except Exception as error:  # handed on to whoever asks for the plan, who raises it
            self.defect = error

    def _note(self, progress: Progress) -> None:
        self.progress = progress

    def stop(self) -> None:
        """Take the best so far."""
        self._stop.set()

    def wait(self, seconds: float) -> None:
        """Wait for its end, at most so long."""
        if self._thread is not None:
            self._thread.join(seconds)


class PlanDesk:
    """The latest search of this server, at most one at a time."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self.job: PlanJob | None = None

    def begin(self, job: PlanJob) -> PlanJob:
        """Begin a search; one that runs is stopped, and its place taken."""
        with self._lock:
            if self.job is not None:
                self.job.stop()
            self.job = job
            self.job.start()
            return self.job
