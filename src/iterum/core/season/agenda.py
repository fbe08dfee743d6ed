"""What is to be done next at the bench, and after that: from what is in hand, the plan in force, and the heats."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.record import KeptPlan
from iterum.core.season.records import KeptRun
from iterum.core.season.run import BEFORE_CHARGE, LIVE, Act, State
from iterum.core.season.storage import StorageBatch
from iterum.core.things.session import Wish

BATCH_LONGEST = timedelta(days=2)
"""Batches in hand are not older than this."""


OFF_BEFORE = timedelta(minutes=2)
"""So long before a heat its packs come off the charger, balanced or not."""
PLANNED = 2
"""The rank of what is only planned."""


class Do(StrEnum):
    """What kind of thing there is to do."""

    GO_ON = "go on"
    READ_AFTER = "read after"
    CHECK = "check"
    TAKE_OFF = "take off"
    SWAP = "swap"
    STORE = "store"
    FLY = "fly"
    GIVEN_UP = "given up"


@dataclass(frozen=True)
class InHand:
    """A batch in hand: when it is full and balanced, and when its next hand check is due; None before it charges."""

    run: KeptRun
    ends_at: datetime | None = None
    check_at: datetime | None = None


@dataclass(frozen=True)
class ToDo:
    """One thing to do, and when. run : the batch in hand it is about, or that comes off for it; act : its next step.

    off : packs that come off their channel first. batch : what goes on. stored : the same, on its way to storage volts.
    heat : its name. packs : that fly in it.
    met, of : tries of the plan in which a heat was met, and how many there were; None where nothing was tried.
    """

    do: Do
    at: datetime
    run: KeptRun | None = None
    act: Act | None = None
    off: tuple[str, ...] = ()
    off_channel: str | None = None
    batch: PlannedBatch | None = None
    stored: StorageBatch | None = None
    heat: str = ""
    packs: tuple[str, ...] = ()
    wanted: int = 0
    met: int | None = None
    of: int | None = None

    def late_by(self, now: datetime) -> timedelta:
        """How long it is overdue; none where it is to come."""
        return max(now - self.at, timedelta())


def agenda(
    in_hand: Sequence[InHand],
    kept: KeptPlan | None,
    begun: Iterable[frozenset[str]],
    heats: Sequence[tuple[datetime, Wish]],
    now: datetime,
    storage: Sequence[StorageBatch] = (),
) -> tuple[ToDo, ...]:
    """Everything to be done, in the order of time; what is in somebody's hands comes first.

    kept : the plan in force, None without one. begun : packs of each batch that was not over when it was made, however
    often they went on. heats : as they stand now, each with its moment: the plan may be older than what moved or was
    taken away. storage : batches of the evening, their minutes from now.
    """
    waiting = _to_begin(kept, begun, {tag for item in in_hand for tag in item.run.packs}) if kept else []
    stored = sorted((item.batch for item in storage), key=lambda batch: batch.start_min)
    taken = {(batch.channel, batch.board) for batch in (*waiting, *stored)}
    flights = _heats(kept, heats, now) if kept is not None else []
    todos = [todo for item in in_hand for todo in _of_run(item, taken, now, flights)] + flights
    if kept is not None:
        todos += [_swap(kept.moment(batch.start_min), batch, in_hand, waiting) for batch in waiting]
    for item in storage:
        goes_on = _swap(now + timedelta(minutes=item.batch.start_min), item.batch, in_hand, stored)
        todos.append(replace(goes_on, do=Do.STORE, stored=item))
    return tuple(sorted(todos, key=lambda todo: (rank(todo, now), todo.at)))


def rank(todo: ToDo, now: datetime) -> int:
    """What somebody is at comes first, then what hangs on the bench and is due, then what is planned."""
    if todo.do is Do.GO_ON:
        return 0
    return 1 if todo.do in (Do.READ_AFTER, Do.TAKE_OFF) and todo.at <= now else PLANNED


def _of_run(
    item: InHand, taken: set[tuple[str, str | None]], now: datetime, flights: Sequence[ToDo]
) -> list[ToDo]:  # fmt: skip
    """What one batch in hand asks for. taken : channels and boards that something planned waits for. flights : heats to
    come, with who flies.
    """
    run = item.run
    if run.state in BEFORE_CHARGE:
        if run.next_act is Act.CHECK:  # they have evened out, and that was all
            return [ToDo(Do.READ_AFTER, run.state_at, run, off=run.packs, off_channel=run.place)]
        waits = timedelta(minutes=run.card.evens_out_min) if run.next_act is Act.EVEN_OUT else timedelta()
        return [ToDo(Do.GO_ON, run.state_at + waits, run, run.next_act)]
    if run.state in (State.DONE, State.STOPPED):
        return [ToDo(Do.READ_AFTER, run.ended_at or run.state_at, run, off=run.packs, off_channel=run.place)]
    if run.state not in LIVE:
        return []
    todos = []
    if item.check_at is not None and (item.ends_at is None or item.check_at < item.ends_at or item.check_at <= now):
        todos.append(ToDo(Do.CHECK, item.check_at, run))
    first = min((one for one in flights if set(one.packs) & set(run.packs)), key=lambda one: one.at, default=None)
    if first is not None and (item.ends_at is None or first.at - OFF_BEFORE < item.ends_at):
        off_at = first.at - OFF_BEFORE  # it may be full by then, though not balanced
        return [*todos, ToDo(Do.TAKE_OFF, off_at, run, off=run.packs, off_channel=run.place, heat=first.heat)]
    followed = any(run.channel == channel or (run.board and run.board == board) for channel, board in taken)
    if item.ends_at is not None and not followed:
        todos.append(ToDo(Do.TAKE_OFF, item.ends_at, run, off=run.packs, off_channel=run.place))
    return todos


def _to_begin(kept: KeptPlan, begun: Iterable[frozenset[str]], held: set[str]) -> list[PlannedBatch]:
    """Batches of the plan that nobody has begun, the first ones first. A pack may go round more than once."""
    done, ahead = Counter(begun), []
    for batch in sorted(kept.plan.batches, key=lambda item: item.start_min):
        tags = frozenset(batch.packs)
        if done[tags]:
            done[tags] -= 1
        elif batch.end_min > 0 and not held & tags:
            ahead.append(batch)
    return ahead


def _swap(at: datetime, batch: PlannedBatch, in_hand: Sequence[InHand], waiting: Sequence[PlannedBatch]) -> ToDo:
    """A planned batch that goes on, with what comes off its channel or board before, whether it hangs there by now or
    will be planned to."""
    before = [item for item in waiting if item.start_min < batch.start_min
              and (item.channel == batch.channel or (item.board and item.board == batch.board))]  # fmt: skip
    if before:
        last = max(before, key=lambda item: item.start_min)
        return ToDo(Do.SWAP, at, off=last.packs, off_channel=last.channel, batch=batch)
    there = [item for item in in_hand if item.run.channel == batch.channel
             or (item.run.board and item.run.board == batch.board)]  # fmt: skip
    if not there:
        return ToDo(Do.SWAP, at, batch=batch)
    ends = [item.ends_at for item in there if item.ends_at is not None]
    run = there[-1].run
    return ToDo(Do.SWAP, max([at, *ends]), run, off=run.packs, off_channel=run.place, batch=batch)


def _heats(kept: KeptPlan, heats: Sequence[tuple[datetime, Wish]], now: datetime) -> list[ToDo]:
    """Heats of the plan still to come, each with who flies, and those that are given up, at their moments of now."""
    todos, left = [], [heat for heat in heats if heat[1].is_heat]
    for item in kept.plan.wanted:
        planned_at = kept.moment(item.wish.at_min)
        wanted = (item.wish.name, item.wish.family, item.wish.pilot)
        same = [heat for heat in left if (heat[1].name, heat[1].family, heat[1].pilot) == wanted]
        if not item.wish.is_heat or not same:  # none: it was taken away since
            continue
        heat = min(same, key=lambda one: abs(one[0] - planned_at))
        left.remove(heat)
        at = heat[0]
        if at < now:
            continue
        odds = item.odds if item.met else None
        todos.append(ToDo(
            Do.FLY if item.have else Do.GIVEN_UP, at, heat=item.wish.name or "", packs=tuple(item.packs),
            wanted=item.wish.count, met=odds.met if odds else None, of=odds.of if odds else None,
        ))  # fmt: skip
    return todos
