"""What the Plan page shows, from the kept plan."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from iterum.core.electrical.charging import BALANCE_ALLOWANCE_MIN, balance_allowance_min
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.record import KeptPlan, PlanRecord, Unplanned
from iterum.core.quantities import at_most
from iterum.core.reasons import NotThere, Reason, Unsafe
from iterum.core.sizing.dial import TIMER_FACTOR, safety_timer_min
from iterum.core.sizing.size import Sizing, size
from iterum.core.things.choice import Choice
from iterum.core.things.session import Session
from iterum.services.desk import kit_items
from iterum.web.pictures import day_strip, pinch
from iterum.wording import about


@dataclass(frozen=True)
class ToDo:
    """One visit to the bench: when, what comes off, what goes on."""

    at: datetime
    until: datetime
    off: tuple[PlannedBatch, ...]
    on: tuple[PlannedBatch, ...]


@dataclass(frozen=True)
class Chosen:
    """The batch under the pointer: its pinch, where its packs are at hand as planned; else why not."""

    number: int
    batch: PlannedBatch
    sizing: Sizing | None
    picture: pinch.Pinch | None
    refusals: tuple[Reason, ...]
    begun: bool


@dataclass(frozen=True)
class PlanPage:
    """A kept plan with its pictures and its visits. `stale` says that something changed since."""

    kept: KeptPlan
    picture: day_strip.DayStrip | None
    phone: day_strip.DayStrip | None
    todos: tuple[ToDo, ...]
    names: Mapping[str, str]
    channels: tuple[tuple[str, str], ...]
    stale: bool
    now_min: float

    @property
    def plan(self) -> PlanRecord:
        """The plan itself."""
        return self.kept.plan

    @property
    def left_out(self) -> list[tuple[list[str], Unplanned]]:
        """Packs left out, those with the same reason in one row; not those that are full and fly."""
        rows: dict[tuple[str, str], tuple[list[str], Unplanned]] = {}
        flying = {tag for item in self.plan.wanted for tag in item.packs}
        for left in self.plan.left_out:
            if left.reason.code == "full" and left.tag in flying:
                continue
            rows.setdefault((self.say(left.reason), self.say(left.fix)), ([], left))[0].append(left.tag)
        return list(rows.values())

    @property
    def entries(self) -> list[ToDo]:
        """What there is to do at the bench, in the order of time: the visits, and what comes off for nothing else."""
        off = [batch for todo in self.todos for batch in todo.off]
        only_off = [
            ToDo(self.clock(batch.end_min), self.clock(batch.end_min), (batch,), ())
            for batch in self.plan.batches
            if batch not in off
        ]
        return sorted((*self.todos, *only_off), key=lambda todo: todo.at)

    def balanced(self, batch: PlannedBatch) -> bool:
        """Whether it stays on for all of its balancing, not only until its heat."""
        return batch.end_min - batch.full_min > BALANCE_ALLOWANCE_MIN - 0.5

    def say(self, item: Reason) -> str:
        """The sentence of a reason, its minutes as times of day."""
        return about(item, lambda minute: self.clock(minute).astimezone().strftime("%H:%M"))

    def clock(self, minute: float) -> datetime:
        """The time of day of a minute of the plan."""
        return self.kept.moment(minute)


def timer_min(batch: PlannedBatch, session: Session) -> float:
    """The safety timer of a batch, minutes from when its charge begins: the one that its dial card tells."""
    bench, by_id = session.bench, {pack.id: pack for pack in session.packs}
    packs = [by_id[tag] for tag in batch.packs if tag in by_id]
    balance_min = balance_allowance_min(packs, bench.rules) if packs else 0.0
    likely_min, longest_min = ((end_min or batch.full_min) - batch.lead_min + balance_min
                               for end_min in (batch.full_min, batch.late_min))  # fmt: skip
    return safety_timer_min(likely_min, longest_min, TIMER_FACTOR)


def named_of(session: Session) -> day_strip.Named:
    """What a strip needs of the kit: names, and the limits of its sources."""
    kit = session.kit
    names = {item.id: item.name or item.id for item in (*kit_items(kit), *kit.all_boards())}
    names |= {channel.id: channel.name or channel.id for _, channel in kit.channels()}
    limits = {source.id: source.power_limit_w for source in kit.sources}
    return day_strip.Named(
        names,
        {tag: watts for tag, watts in limits.items() if watts is not None},
        {source.id: source.usable_wh for source in kit.sources if source.usable_wh is not None},
    )


def plan_page(kept: KeptPlan, session: Session, revision: int, now: datetime) -> PlanPage:
    """Everything the page shows of a plan."""
    named = named_of(session)
    channels = tuple((channel.id, channel.name or channel.id) for _, channel in session.kit.channels())
    now_min = kept.minute(now)
    return PlanPage(
        kept,
        day_strip.draw(kept.plan, kept.made_at, named, now_min),
        day_strip.draw(kept.plan, kept.made_at, named, now_min, day_strip.NARROW),
        _todos(kept),
        named.names,
        channels,
        revision != kept.revision,
        now_min,
    )


def _todos(kept: KeptPlan) -> tuple[ToDo, ...]:
    """The visits in order of time. A batch comes off when its channel or board is needed."""
    batches = kept.plan.batches
    todos = []
    for start, end, numbers in day_strip.visits(batches):
        on = tuple(batches[number] for number in numbers)
        taken = {batch.channel for batch in on} | {batch.board for batch in on if batch.board}
        off = tuple(
            batch for batch in batches
            if at_most(batch.end_min, end) and (batch.channel in taken or batch.board in taken)
            and not any(item.start_min > batch.start_min and item.start_min < start
                        and item.channel == batch.channel for item in batches)
        )  # fmt: skip
        todos.append(ToDo(kept.moment(start), kept.moment(end), off, on))
    return tuple(todos)


def chosen_batch(shown: PlanPage, session: Session, number: int) -> Chosen | None:
    """The batch with its limits worked out again from the packs as they are; None where there is no such batch."""
    batches = shown.plan.batches
    if not 0 <= number < len(batches):
        return None
    batch = batches[number]
    begun = batch.start_min < shown.now_min - 0.5
    choice = Choice(batch.packs, batch.board, batch.channel, current_a=batch.current_a)
    try:
        sizing = size(session.bench, choice)
    except NotThere:
        return Chosen(number, batch, None, None, (), begun)
    except Unsafe as refusal:
        return Chosen(number, batch, None, None, refusal.reasons, begun)
    return Chosen(number, batch, sizing, pinch.draw(sizing, sizing.setup.board is None), (), begun)
