"""Planning off the request: a search in a thread that shows how far it is, can be stopped, and keeps its best."""

import os
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from time import perf_counter
from typing import TypeVar

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.explain import bottlenecks, explain
from iterum.core.planning.history import Flown, Past
from iterum.core.planning.offers import offers
from iterum.core.planning.plan import BatchWhy, Plan, Progress, Relaxed, with_odds
from iterum.core.planning.planner import Planner
from iterum.core.planning.proving import is_worth_it
from iterum.core.planning.record import KeptPlan, Offer, PlanRecord, record_of
from iterum.core.planning.replan import Replanner, changes
from iterum.core.planning.schedule import Gene
from iterum.core.planning.score import Prefer
from iterum.core.reasons import Reason
from iterum.core.things.session import Session
from iterum.services.compiling import compile_ahead

TURN_S = 0.0005
"""How long a search computes before another thread has its turn. A page gives its turn away with every row that it
reads, and got it back after 5 ms: the log took two seconds while a plan was searched, and takes a quarter of one."""
LAST_PART, BETTER_PART = 0.3, 0.01
"""A search that found something better by so much in the last part of its time had too little of it."""
SEARCH_PART = 0.7
"""Of the time for a plan; what is left goes into what would make it sooner."""
SETTLED_BATCH_S, SETTLED_PACK_S = 0.005, 0.0025
"""About how long a batch of the plan that is taken takes until it is written out and explained, and each of its packs
in every way that it may be, s. Measured on two cores."""


@dataclass(frozen=True)
class Made:
    """A plan with its reasons, and what would make the whole sooner."""

    plan: Plan
    whys: tuple[BatchWhy, ...]
    relaxed: tuple[Relaxed, ...]
    offers: tuple[Offer, ...] = ()
    changed: tuple[Reason, ...] = ()
    past: Past = field(default_factory=Past)
    hurried: bool = False
    """Whether the search was still finding better plans when its time was up."""

    @property
    def record(self) -> PlanRecord:
        """What is kept of it."""
        return record_of(self.plan, self.whys, self.relaxed, self.changed, self.past, self.offers, self.hurried)


@dataclass(frozen=True)
class Follow:
    """An old plan that was followed so far: its batches, and the minute of it that is now."""

    batches: tuple[PlannedBatch, ...]
    now_min: float
    flown: tuple[Flown, ...] = ()
    """Who flies, and flew, in each heat by that plan."""
    tell: bool = True
    """Whether to say what changes; not where there was no plan, only batches in hand."""


def make_plan(
    session: Session,
    prefer: Prefer,
    seconds: float,
    on_progress: Callable[[Progress], None] = lambda _: None,
    stopped: Callable[[], bool] = lambda: False,
    follow: Follow | None = None,
    known: Iterable[Sequence[Gene]] = (),
) -> Made:
    """Search for so many seconds, or until the plan is proved or somebody stops it.

    follow : plan again from an old plan, leaving what runs alone and changing as little as can be. known : plans by
    other preferences: none of them may be better by this one.
    """
    begun = perf_counter()
    compile_ahead()
    planner = (
        Replanner(session, follow.batches, follow.now_min, prefer, flown=follow.flown)
        if follow
        else Planner(session, prefer, threads=_threads(len(session.packs), seconds))
    )
    others = [planner.search.candidate(tuple(genes)) for genes in known]
    if others:
        planner.search.best = min([planner.search.best, *others], key=lambda item: item.score)
    settling_s = SETTLED_BATCH_S * planner.search.batches + SETTLED_PACK_S * len(planner.problem.packs)
    search_s = min(SEARCH_PART * seconds, seconds - settling_s)
    until_s = begun + search_s
    late_s = until_s - LAST_PART * search_s
    before: tuple[float, ...] | None = None
    for progress in planner.improve(max(until_s - perf_counter(), 0.0)):
        on_progress(progress)
        if before is None and search_s > 0 and perf_counter() > late_s:
            before = planner.standing
        if stopped():
            break
    hurried = not stopped() and _still_better(before, planner.standing)
    plan = with_odds(planner.plan(), session.rules, planner.heats_over)
    if isinstance(planner, Replanner):
        changed = changes(planner.kept.to_come, plan.batches[len(planner.kept.fixed) :])
        past = Past(planner.kept.done, planner.flown)
        told_of = _until(begun + seconds, offers(planner, plan), stopped)
        told = changed if follow and follow.tell else ()
        return Made(plan, explain(planner.problem, plan), (), _best_of(told_of), told, past, hurried)
    if planner.problem.day is not None:
        told_of = _until(begun + seconds, offers(planner, plan), stopped)
        return Made(plan, explain(planner.problem, plan), (), _best_of(told_of), hurried=hurried)
    widened = bottlenecks(planner.problem, plan) if plan.batches else iter(())
    relaxed = _until(begun + seconds, widened, stopped)
    relaxed.sort(key=lambda item: -item.saved_min)
    return Made(plan, explain(planner.problem, plan), tuple(relaxed), hurried=hurried and not plan.proved)


def _still_better(before: tuple[float, ...] | None, after: tuple[float, ...]) -> bool:
    """Whether a plan got better by what counts in the last part of a search, or never came to it.

    before, after : what is wanted and not had, then the end, min.
    """
    if before is None:
        return True
    *lacked, ended_min = (round(figure, 1) for figure in before)
    *lacks, ends_min = (round(figure, 1) for figure in after)
    return lacks < lacked or (lacks == lacked and ends_min < ended_min * (1 - BETTER_PART))


def _threads(packs: int, seconds: float) -> int:
    """Threads of search: one for each core, less one where a helper works out a bound beside them."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return max(cores - is_worth_it(packs, seconds), 1)


_Step = TypeVar("_Step")


def _until(until_s: float, steps: Iterator[_Step | None], stopped: Callable[[], bool]) -> list[_Step]:
    """What steps find while there is time: time asked is time taken."""
    ladder: list[_Step] = []
    took_s = 0.0
    while not stopped() and (begun_s := perf_counter()) + took_s < until_s:
        try:
            step = next(steps)
        except StopIteration:
            break
        took_s = perf_counter() - begun_s
        ladder += [step] if step is not None else []
    return ladder


MOST_OFFERS = 6
LONGEST_WAIT_S = 10.0
"""A search that is to stop does so at its next turn."""


def _best_of(offers: Sequence[Offer]) -> tuple[Offer, ...]:
    """One offer of each kind for each heat, those that can be taken at once first."""
    kept: dict[tuple[object, ...], Offer] = {}
    for offer in offers:
        kept.setdefault((offer.reason.code, offer.reason.numbers.get("heat"), offer.reason.numbers["wins"]), offer)
    return tuple(sorted(kept.values(), key=lambda offer: offer.plan is None)[:MOST_OFFERS])


@dataclass
class PlanJob:
    """One search that runs, or ran: by one preference, or by several to compare, which share its seconds."""

    session: Session
    preferences: tuple[Prefer, ...]
    seconds: float
    begun_at: datetime
    revision: int
    follow: Follow | None = None
    keep: Callable[[KeptPlan], None] | None = None
    progress: Progress | None = None
    answers: dict[Prefer, Made] = field(default_factory=dict)
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
        sys.setswitchinterval(TURN_S)
        self._thread = threading.Thread(target=self._run, name="planning", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            for prefer in reversed(self.preferences):  # the first knows all others, and is kept last: it is in force
                self.answers[prefer] = make_plan(
                    self.session,
                    prefer,
                    self.seconds / len(self.preferences),
                    self._note,
                    self._stop.is_set,
                    self.follow,
                    [answer.plan.genes for answer in self.answers.values()],
                )
            keep = self.keep
            for prefer, answer in self.answers.items() if keep else ():
                assert keep is not None  # asked just above
                keep(KeptPlan(self.begun_at, prefer.value, answer.record, self.revision))
            self.done = True
        except Exception as error:  # handed on to whoever asks for the plan, who raises it
            self.defect = error

    def _note(self, progress: Progress) -> None:
        self.progress = progress

    def stop(self) -> None:
        """Take the best so far."""
        self._stop.set()

    def drop(self) -> None:
        """End, and keep nothing: a newer search takes its place, and may be done first."""
        self.keep = None
        self.stop()

    def wait(self, seconds: float) -> None:
        """Wait for its end, at most so long."""
        if self._thread is not None:
            self._thread.join(seconds)


class PlanDesk:
    """The latest search of this server, at most one at a time."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self.job: PlanJob | None = None

    def take_best(self) -> None:
        """Take the best that a search has found so far, and wait until it is kept."""
        if self.job is not None:
            self.job.stop()
            self.job.wait(LONGEST_WAIT_S)

    def drop(self) -> None:
        """End a search that nobody waits for; it keeps nothing."""
        with self._lock:
            if self.job is not None:
                self.job.drop()

    def begin(self, job: PlanJob) -> PlanJob:
        """Begin a search; one that runs is stopped, and its place taken."""
        with self._lock:
            if self.job is not None:
                self.job.drop()
            self.job = job
            self.job.start()
            return self.job
