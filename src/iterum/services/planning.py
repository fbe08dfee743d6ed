"""Planning off the request: a search in a thread that shows how far it is, can be stopped, and keeps its best."""

import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from itertools import chain
from time import perf_counter

from iterum.core.bench.bench import Running
from iterum.core.bench.session import Session
from iterum.core.planning.by_hand import move, with_batch
from iterum.core.planning.explain import BatchWhy, Relaxed, bottlenecks, explain
from iterum.core.planning.history import Flown, Past, problem_as_it_is
from iterum.core.planning.plan import Plan, Planner, Progress, outcomes, source_uses, visits_in
from iterum.core.planning.problem import PlannedBatch, batch_in_hand, later
from iterum.core.planning.replan import FROZEN_MIN, Replanner, changes
from iterum.core.planning.rounds import tag_of
from iterum.core.planning.schedule import Gene
from iterum.core.planning.score import Prefer
from iterum.core.reasons import NotThere, Reason, reason
from iterum.core.season.run import BEFORE_CHARGE, LIVE, State
from iterum.exchange.results import (
    batches_from,
    outcome_document,
    past_document,
    past_from,
    plan_document,
    plan_moved,
    reasons_document,
)
from iterum.store.repository import KeptPlan
from iterum.store.runs import KeptRun

SEARCH_PART = 0.7
"""Of the time for a plan; what is left goes into what would make it sooner."""


@dataclass(frozen=True)
class Answer:
    """A plan with its reasons, and what would make the whole sooner."""

    plan: Plan
    whys: tuple[BatchWhy, ...]
    relaxed: tuple[Relaxed, ...]
    changed: tuple[Reason, ...] = ()
    past: Past = field(default_factory=Past)


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
) -> Answer:
    """Search for so many seconds, or until the plan is proved or somebody stops it.

    follow : plan again from an old plan, leaving what runs alone and changing as little as can be. known : plans by
    other preferences: none of them may be better by this one.
    """
    begun = perf_counter()
    planner = (
        Replanner(session, follow.batches, follow.now_min, prefer, flown=follow.flown)
        if follow
        else Planner(session, prefer)
    )
    found = [planner.search.best, *(planner.search.found(tuple(genes)) for genes in known)]
    planner.search.best = min(found, key=lambda item: item.score)
    for progress in planner.improve():
        on_progress(progress)
        if stopped() or perf_counter() > begun + SEARCH_PART * seconds:
            break
    plan = planner.plan()
    if isinstance(planner, Replanner):
        changed = changes(planner.kept.to_come, plan.batches[len(planner.kept.fixed) :])
        past = Past(planner.kept.done, planner.flown)
        return Answer(plan, explain(planner.problem, plan), (), changed if follow and follow.tell else (), past)
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


InHand = tuple[KeptRun, Running]


def true_batches(
    kept: KeptPlan, in_hand: Sequence[InHand], session: Session, now: datetime
) -> tuple[PlannedBatch, ...]:
    """A kept plan as its batches really went, in its own minutes.

    in_hand : every run that was not over when it was made, the oldest first, with what it still takes. What runs stays;
    what is done is done; what was stopped or given up is gone; what was not begun is still to come, although its time
    may be past; and what runs outside the plan is there too. What was taken from a source by then stands in its ledger,
    so a batch that is done takes nothing more, and one that runs only what is still to go in.
    """
    now_min = (now - kept.made_at) / timedelta(minutes=1)
    by_packs: dict[frozenset[str], list[InHand]] = {}
    for run, running in in_hand:
        by_packs.setdefault(frozenset(run.packs), []).append((run, running))
    found = [replace(batch, energy_in_wh=0.0) for batch in past_from(kept.document).done]
    for batch in sorted(batches_from(kept.document), key=lambda batch: batch.start_min):
        same = by_packs.get(frozenset(map(tag_of, batch.packs)))
        told = same.pop(0) if same else None
        if told is not None:
            real = _as_run(batch, *told, kept, session, now_min)
            found += [real] if real else []
        elif batch.end_min <= 0 or batch.start_min > now_min + FROZEN_MIN or batch.locked:
            found.append(batch)
        else:  # nobody began it: it is still to come
            found.append(later(batch, now_min + FROZEN_MIN + 0.5 - batch.start_min))
    for run, running in chain.from_iterable(by_packs.values()):
        if run.state in LIVE or run.state in BEFORE_CHARGE:
            real = _as_run(batch_in_hand(running, session), run, running, kept, session, now_min)
            found += [real] if real else []
    return tuple(sorted(found, key=lambda item: item.start_min))


def _as_run(
    batch: PlannedBatch, run: KeptRun, running: Running, kept: KeptPlan, session: Session, now_min: float
) -> PlannedBatch | None:
    """A batch with the times of its run; None where it was stopped or given up."""
    setup_min = session.rules.setup_min
    if run.stopped:
        return None  # what its packs hold is told by what is read of them
    if run.state in (State.DONE, State.CHECKED):
        ended_min = ((run.ended_at or run.state_at) - kept.made_at) / timedelta(minutes=1)
        end_min = min(ended_min, now_min - 0.01)
        lead_min = min(batch.lead_min, end_min - 0.01)
        start_min = min(batch.start_min, lead_min - 0.01)
        return replace(
            batch, start_min=start_min, lead_min=lead_min, full_min=end_min, end_min=end_min, energy_in_wh=0.0
        )
    energy_in_wh = running.energy_left_wh / run.source_part
    balance_min = run.expected.balance_min if run.expected else 0.0
    if run.state in LIVE and run.charging_at is not None:
        lead_min = (run.charging_at - kept.made_at) / timedelta(minutes=1)
        end_min = now_min + max(running.minutes_left, 0.5)
        full_min = max(end_min - balance_min, now_min + 0.25)
        return replace(batch, start_min=lead_min - setup_min, lead_min=lead_min, full_min=full_min, end_min=end_min,
                       energy_in_wh=energy_in_wh)  # fmt: skip
    if run.state in BEFORE_CHARGE:
        return later(batch, now_min + setup_min - batch.lead_min)
    return None


def moved(
    session: Session, kept: KeptPlan, number: int, channel: str | None, start_min: float | None, now_min: float
) -> KeptPlan:
    """A kept plan with one batch put elsewhere by hand, and kept there.

    session : with its minutes counted from the plan's start. Raises Unsafe with every rule it would break, NotThere
    for a batch that is not there.
    """
    batches = batches_from(kept.document)
    if not 0 <= number < len(batches):
        raise NotThere("batch", number)
    old = batches[number]
    start_min = old.start_min if start_min is None else start_min
    past = past_from(kept.document)
    batch = move(session, batches, number, channel or old.channel, start_min, now_min, past)
    return _rewritten(session, kept, with_batch(batches, number, batch), batch)


def locked(session: Session, kept: KeptPlan, number: int, is_locked: bool) -> KeptPlan:
    """A kept plan with one batch kept where it is, or free again. Raises NotThere for a batch that is not there."""
    batches = batches_from(kept.document)
    if not 0 <= number < len(batches):
        raise NotThere("batch", number)
    batch = replace(batches[number], locked=is_locked)
    return _rewritten(session, kept, with_batch(batches, number, batch), batch if is_locked else None)


def _rewritten(
    session: Session, kept: KeptPlan, batches: Sequence[PlannedBatch], by_hand: PlannedBatch | None
) -> KeptPlan:
    reasons = {frozenset(item["packs"]): item["reasons"] for item in kept.document["batches"]}
    if by_hand is not None:
        reasons[frozenset(map(tag_of, by_hand.packs))] = reasons_document([reason("kept_by_you")])
    past = past_from(kept.document)
    problem = problem_as_it_is(session, batches, (), past)
    every = (*past.done, *batches)
    outcome = outcome_document(outcomes(problem, every, session.wanted), source_uses(session.kit, every))
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
    keep: Callable[[KeptPlan], None] | None = None
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
            for prefer, answer in self.answers.items() if self.keep else ():
                document = plan_document(answer.plan, answer.whys, answer.relaxed, answer.changed, self._clock)
                document["past"] = past_document(answer.past)
                assert self.keep is not None  # asked just above
                self.keep(KeptPlan(self.begun_at, prefer.value, document, self.revision))
            self.done = True
        except Exception as error:  # handed on to whoever asks for the plan, who raises it
            self.defect = error

    def _clock(self, minute: float) -> str:
        """The time of day of a minute of the plan, on this machine."""
        return (self.begun_at + timedelta(minutes=minute)).astimezone().strftime("%H:%M")

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
