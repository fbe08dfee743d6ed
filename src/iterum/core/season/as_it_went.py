"""A kept plan beside what really happened: its batches as they ran, and batches that the pilot moved by hand."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from itertools import chain

from iterum.core.planning.batches import PlannedBatch, batch_in_hand, later
from iterum.core.planning.by_hand import move, with_batch
from iterum.core.planning.history import problem_as_it_is
from iterum.core.planning.plan import outcomes, source_uses, visits_in
from iterum.core.planning.record import KeptPlan
from iterum.core.planning.replan import FROZEN_MIN
from iterum.core.reasons import NotThere, reason
from iterum.core.season.records import KeptRun
from iterum.core.season.run import BEFORE_CHARGE, LIVE, State
from iterum.core.things.bench import Running
from iterum.core.things.session import Session

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
    now_min = kept.minute(now)
    begun, waiting = begun_and_waiting(kept, in_hand, session, now)
    to_come = [
        batch
        if batch.start_min > now_min + FROZEN_MIN or batch.locked
        else later(batch, now_min + FROZEN_MIN + 0.5 - batch.start_min)
        for batch in waiting
    ]
    return tuple(sorted((*begun, *to_come), key=lambda item: item.start_min))


def begun_and_waiting(
    kept: KeptPlan, in_hand: Sequence[InHand], session: Session, now: datetime
) -> tuple[list[PlannedBatch], list[PlannedBatch]]:
    """The same apart: what was begun, with its real times; and what nobody began yet, with those of the plan."""
    now_min = kept.minute(now)
    by_packs: dict[frozenset[str], list[InHand]] = {}
    for run, running in in_hand:
        by_packs.setdefault(frozenset(run.packs), []).append((run, running))
    begun = [replace(batch, energy_in_wh=0.0) for batch in kept.plan.past.done]
    waiting: list[PlannedBatch] = []
    for batch in sorted(kept.plan.batches, key=lambda batch: batch.start_min):
        same = by_packs.get(frozenset(batch.packs))
        told = same.pop(0) if same else None
        if told is not None:
            real = _as_run(_where_it_is(batch, *told, session), *told, kept, session, now_min)
            begun += [real] if real else []
        else:
            (begun if batch.end_min <= 0 else waiting).append(batch)
    for run, running in chain.from_iterable(by_packs.values()):
        if run.state in LIVE or run.state in BEFORE_CHARGE:
            outside = batch_in_hand(running, session)
            full_min = max(outside.end_min - _balance_min(run), outside.lead_min)
            real = _as_run(replace(outside, full_min=full_min), run, running, kept, session, now_min)
            begun += [real] if real else []
    return begun, waiting


def _where_it_is(batch: PlannedBatch, run: KeptRun, running: Running, session: Session) -> PlannedBatch:
    """A batch of the plan on the channel and board, and with the amps, that it really got."""
    if (run.channel, run.board, run.current_a) == (batch.channel, batch.board, batch.current_a):
        return batch
    there = replace(batch, board=run.board, channel=run.channel, current_a=run.current_a, rate_c=run.rate_c)
    if run.state not in LIVE and run.state not in BEFORE_CHARGE:
        return there
    real = batch_in_hand(running, session)
    return replace(there, source=run.source, power_w=real.power_w, power_in_w=real.power_in_w)


def _balance_min(run: KeptRun) -> float:
    return run.expected.balance_min if run.expected else 0.0


def _as_run(
    batch: PlannedBatch, run: KeptRun, running: Running, kept: KeptPlan, session: Session, now_min: float
) -> PlannedBatch | None:
    """A batch with the times of its run; None where it was stopped or given up."""
    setup_min = session.rules.setup_min
    if run.stopped:
        return None  # what its packs hold is told by what is read of them
    if run.state in (State.DONE, State.CHECKED):
        ended_min = kept.minute(run.ended_at or run.state_at)
        end_min = min(ended_min, now_min - 0.01)
        lead_min = min(batch.lead_min, end_min - 0.01)
        start_min = min(batch.start_min, lead_min - 0.01)
        return replace(
            batch, start_min=start_min, lead_min=lead_min, full_min=end_min, end_min=end_min, energy_in_wh=0.0
        )
    energy_in_wh = running.energy_left_wh / run.source_part
    balance_min = _balance_min(run)
    if run.state in LIVE and run.charging_at is not None:
        lead_min = kept.minute(run.charging_at)
        end_min = now_min + max(running.minutes_left, 0.5)
        full_min = max(end_min - balance_min, now_min + 0.25)
        # The plan may have it taken off at full, or when its heat begins, not balanced.
        end_min = min(end_min, full_min + max(batch.end_min - batch.full_min, 0.0))
        return replace(batch, start_min=lead_min - setup_min, lead_min=lead_min, full_min=full_min, end_min=end_min,
                       energy_in_wh=energy_in_wh)  # fmt: skip
    if run.state in BEFORE_CHARGE:
        hands_min = _hands_from(session, now_min)
        held = later(batch, hands_min + setup_min - batch.lead_min)
        return replace(held, locked=batch.locked or hands_min > now_min)  # it hangs where it is, however late it begins
    return None


def _hands_from(session: Session, now_min: float) -> float:
    """From when on somebody is at the bench for as long as a set-up takes: not while a heat is flown."""
    hands_min = now_min
    for wish in sorted((wish for wish in session.wanted if wish.is_heat), key=lambda wish: wish.at_min):
        if wish.at_min < hands_min + session.rules.setup_min and wish.over_min > hands_min:
            hands_min = wish.over_min
    return hands_min


def moved(
    session: Session, kept: KeptPlan, number: int, channel: str | None, start_min: float | None, now_min: float
) -> KeptPlan:
    """A kept plan with one batch put elsewhere by hand, and kept there.

    session : with its minutes counted from the plan's start. Raises Unsafe with every rule it would break, NotThere
    for a batch that is not there.
    number : counted from 0. channel : its tag; None where it stays. start_min : minutes of the plan; None where it
    stays. now_min : minutes of the plan.
    """
    batches = kept.plan.batches
    if not 0 <= number < len(batches):
        raise NotThere("batch", number)
    old = batches[number]
    start_min = old.start_min if start_min is None else start_min
    past = kept.plan.past
    batch = move(session, batches, number, channel or old.channel, start_min, now_min, past)
    return _rewritten(session, kept, with_batch(batches, number, batch), batch)


def locked(session: Session, kept: KeptPlan, number: int, is_locked: bool) -> KeptPlan:
    """A kept plan with one batch kept where it is, or free again. Raises NotThere for a batch that is not there.

    number : counted from 0. is_locked : whether it stays there.
    """
    batches = kept.plan.batches
    if not 0 <= number < len(batches):
        raise NotThere("batch", number)
    batch = replace(batches[number], locked=is_locked)
    return _rewritten(session, kept, with_batch(batches, number, batch), batch if is_locked else None)


def _rewritten(
    session: Session, kept: KeptPlan, batches: Sequence[PlannedBatch], by_hand: PlannedBatch | None
) -> KeptPlan:
    reasons = {frozenset(item.packs): why for item, why in kept.plan.explained}
    if by_hand is not None:
        reasons[frozenset(by_hand.packs)] = (reason("kept_by_you"),)
    problem = problem_as_it_is(session, batches, (), kept.plan.past)
    every = (*kept.plan.past.done, *batches)
    plan = kept.plan.by_hand(
        batches,
        [reasons.get(frozenset(batch.packs), ()) for batch in batches],
        outcomes(problem, every, session.wanted),
        source_uses(session.kit, every),
        visits_in(batches),
    )
    return replace(kept, plan=plan)
