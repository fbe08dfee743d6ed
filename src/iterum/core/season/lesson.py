"""A lesson: a situation, what somebody may do in it, and what would come of it by the model.

It is played with hands on a simulated bench: what is judged there is what was really joined and charged, by how the
packs truly stood, whatever Iterum was told of them. Or only a choice is named; what comes of that is worked out alike.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum

from iterum.core.electrical.joining import EvenedOut, even_out
from iterum.core.electrical.plugging import PackJoined
from iterum.core.electrical.waiting import BALANCE_LEAD_A
from iterum.core.permit.facts import Level
from iterum.core.permit.permit import Way
from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.season.outlook import expected_of
from iterum.core.season.run import LIVE, State
from iterum.core.season.storage import gap_of
from iterum.core.season.upkeep import Upkeep, upkeep
from iterum.core.sizing.arrange import answer
from iterum.core.sizing.size import Sizing
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.packs import Condition, Pack
from iterum.core.things.rules import JoinOrder
from iterum.core.things.session import Session

LACKS_MAH = 0.05
"""Part of what was missing that may still be, where a charge was ended by hand: less is full for a heat."""


class Until(StrEnum):
    """How far a batch of a lesson has to come before it counts as well done."""

    CHARGING = "charging"
    FULL = "full"


@dataclass(frozen=True)
class Does:
    """What a choice does: packs joined (the last one to the others), a run, packs left as they are, or another look.

    rate_c : at which joined packs are to be charged, multiples of capacity per hour; None for the house's. kind : of
    the run in `charge`. stop_min : the minute at which somebody stops it. leave, leave_h : packs, and for how many
    hours they are left.
    """

    join: tuple[str, ...] = ()
    last: str | None = None
    balance_first: bool = False
    rate_c: float | None = None
    charge: Choice | None = None
    kind: Kind = Kind.CHARGE
    stop_min: float | None = None
    leave: tuple[str, ...] = ()
    leave_h: float = 0.0


@dataclass(frozen=True)
class Option:
    """One thing that may be done. good : whether it avoids the slip. then : what to know of it."""

    id: str
    words: str
    good: bool
    then: str
    does: Does = field(default_factory=Does)


@dataclass(frozen=True)
class Lesson:
    """One situation. instead : what to keep in mind.

    session : what can be known of it. truth : the same as it truly is, where a label lies. unread : packs that nobody
    has measured yet. by_total : whether the checker shows only whole packs. until : how far a batch has to come.
    begins : the page on which hands begin.
    """

    id: str
    title: str
    situation: str
    question: str
    session: Session
    options: tuple[Option, ...]
    instead: str
    truth: Session
    unread: tuple[str, ...] = ()
    by_total: bool = False
    until: Until = Until.CHARGING
    begins: str = "measure"

    @property
    def found(self) -> Session:
        """The bench as it is found: what must be measured is not, and what only a look shows nobody has seen yet."""
        packs = (replace(pack, condition=Condition.OK, reading=None if pack.id in self.unread else pack.reading)
                 for pack in self.session.packs)  # fmt: skip
        return replace(self.session, packs=tuple(packs))


@dataclass(frozen=True)
class Outcome:
    """What would come of a choice.

    fits : whether nothing speaks against it. worst : the pack that sees most C while they even out. balance_a : the
    most amps through a balance wire, where those lead. rates_c : C of each pack at the amps that were to be dialled, by
    its label's capacity, also where that is refused. brought : where it is a run that fills nothing.
    """

    packs: tuple[Pack, ...]
    evening: EvenedOut | None = None
    worst: PackJoined | None = None
    balance_a: float | None = None
    sizing: Sizing | None = None
    brought: Upkeep | None = None
    refusals: tuple[Reason, ...] = ()
    rates_c: Mapping[str, float] = field(default_factory=dict)
    fits: bool = True


def outcome(lesson: Lesson, option: Option) -> Outcome:
    """What would come of a choice, by the same model and rules as everywhere."""
    return came_of(lesson.session, option.does)


def came_of(session: Session, does: Does) -> Outcome:
    """What comes of an act with packs that stand as the session says."""
    bench = session.bench
    if does.leave:
        return _left(bench, does)
    joined = _joined(bench, does) if does.join else None
    if joined is not None and (does.charge is None or not joined.fits):
        return joined
    if does.charge is None:
        return Outcome(session.packs)
    ran = _ran(bench, does, does.charge)
    return ran if joined is None else replace(joined, sizing=ran.sizing, brought=ran.brought, rates_c=ran.rates_c,
                                              refusals=ran.refusals, fits=ran.fits)  # fmt: skip


def _left(bench: Bench, does: Does) -> Outcome:
    packs = bench.members(does.leave)
    over = [gap for pack in packs if (gap := gap_of(pack, bench.rules)) and gap.way is Way.DOWN]
    told = tuple(
        reason("left_full", id=gap.pack.id, hours=does.leave_h, cell_v=gap.pack.cell_v, storage_v=gap.target_v,
               move_mah=gap.move_mah)
        for gap in over
    )  # fmt: skip
    return Outcome(packs, refusals=told, fits=not told)


def _joined(bench: Bench, does: Does) -> Outcome:
    packs = bench.members(does.join)
    board = next((board for board in bench.kit.boards if board.takes(packs[0].cells)), None)
    rules = replace(bench.rules, join_order=JoinOrder.BALANCE_FIRST) if does.balance_first else bench.rules
    try:
        evening = even_out(packs, rules, board, does.last, does.rate_c)
    except Unsafe as never:
        return Outcome(packs, refusals=never.reasons, fits=False)
    worst = max(evening.packs, key=lambda item: item.peak_rate_c)
    balance_a = evening.joining.balance_a if does.balance_first else None
    fits = evening.level is not Level.STOP and (balance_a is None or at_most(balance_a, BALANCE_LEAD_A))
    return Outcome(packs, evening, worst, balance_a, refusals=evening.reasons, fits=fits)


def _ran(bench: Bench, does: Does, choice: Choice) -> Outcome:
    packs = bench.members(choice.packs)
    if does.kind is not Kind.CHARGE:
        try:
            return Outcome(packs, brought=upkeep(bench, does.kind, choice))
        except Unsafe as never:
            return Outcome(packs, refusals=never.reasons, fits=False)
    _, sizing, refusal = answer(bench, choice)
    amps = choice.current_a or (sizing.current_a if sizing else _least_a(bench, choice))
    whole_ah = sum(pack.capacity_ah for pack in packs)
    rates_c = {pack.id: amps / whole_ah for pack in packs} if amps else {}
    if sizing is None and all(rates_c.get(pack.id, 0.0) <= pack.charge_c for pack in packs):
        rates_c = {}  # it is not the amps for which it is refused
    if sizing is not None and does.stop_min is not None and (short := _short(sizing, does.stop_min)):
        return Outcome(packs, sizing=sizing, refusals=(short,), rates_c=rates_c, fits=False)
    return Outcome(packs, sizing=sizing, refusals=refusal.reasons if refusal else (), rates_c=rates_c,
                   fits=sizing is not None)  # fmt: skip


def _short(sizing: Sizing, stop_min: float) -> Reason | None:
    """What is missing where a charge is stopped by the clock; None where it is full by then."""
    expected = expected_of(sizing.hookup, sizing.charge, sizing.dial)
    lacks_mah = expected.missing_mah - expected.charge_at(stop_min)
    if lacks_mah <= LACKS_MAH * expected.missing_mah:
        return None
    return reason("stopped_short", minutes=stop_min, current_a=expected.amps_at(stop_min), lacks_mah=lacks_mah,
                  missing_mah=expected.missing_mah, full_min=expected.minutes)  # fmt: skip


def _least_a(bench: Bench, choice: Choice) -> float | None:
    """The fewest amps that the chosen channel can give; None where no channel is chosen."""
    pair = bench.kit.channel(choice.channel)
    return pair[1].min_current_a if pair else None


# ---------------------------------------------------------------------------------------- played with hands


@dataclass(frozen=True)
class Deed:
    """One batch as hands really did it. packs : as they truly stood when they were plugged in. said : as Iterum was
    told of them. stopped_min : the minute of the charge at which it was stopped by hand; None where it was not.
    """

    packs: tuple[Pack, ...]
    said: tuple[Pack, ...]
    choice: Choice
    kind: Kind
    state: State
    stopped_min: float | None = None

    @property
    def does(self) -> Does:
        """The same as an act, to see what comes of it."""
        tags = self.choice.packs
        return Does(
            join=tags if len(tags) > 1 else (), charge=None if self.kind is Kind.EVEN_OUT else self.choice,
            kind=self.kind, stop_min=self.stopped_min,
        )  # fmt: skip


@dataclass(frozen=True)
class Judged:
    """What was really done in a lesson, once it can be told. option : of the lesson, nearest to it."""

    good: bool
    outcome: Outcome
    deed: Deed
    option: Option


def judged(lesson: Lesson, deeds: Sequence[Deed]) -> Judged | None:
    """Whether the slip was made, or the lesson done without it; None as long as neither. deeds : the oldest first."""
    for deed in deeds:
        does = deed.does if lesson.until is Until.FULL else replace(deed.does, stop_min=None)
        told = came_of(replace(lesson.truth, packs=_as_stood(lesson.truth.packs, deed.packs)), does)
        wrong = _not_as_said(deed)
        if wrong or not told.fits:
            told = replace(told, refusals=(*wrong, *told.refusals), fits=False)
            return Judged(False, told, deed, _nearest(lesson, deed, good=False))
        far = State.DONE if lesson.until is Until.FULL else State.CHARGING
        done = deed.state in (far, State.DONE, State.CHECKED) or (far is State.CHARGING and deed.state in LIVE)
        if done and deed is deeds[-1]:
            return Judged(True, told, deed, _nearest(lesson, deed, good=True))
    return None


def _as_stood(packs: Sequence[Pack], stood: Sequence[Pack]) -> tuple[Pack, ...]:
    """The packs, those that were plugged in as they stood then."""
    known = {pack.id: pack for pack in stood}
    return tuple(known.get(pack.id, pack) for pack in packs)


def _not_as_said(deed: Deed) -> tuple[Reason, ...]:
    """Packs of which Iterum was told another number of cells, or another chemistry, than they have."""
    said = {pack.id: pack for pack in deed.said}
    return tuple(
        reason("not_as_said", id=pack.id, family=pack.family, said=said[pack.id].family,
               cell_v=said[pack.id].chemistry.full_v * said[pack.id].cells / pack.cells)
        for pack in deed.packs
        if pack.id in said and said[pack.id].family != pack.family
    )  # fmt: skip


def _nearest(lesson: Lesson, deed: Deed, good: bool) -> Option:
    """The option of that kind which means most of the same packs."""
    tags = set(deed.choice.packs)

    def alike(option: Option) -> int:
        mine = {*option.does.join, *(option.does.charge.packs if option.does.charge else ())}
        return len(tags & mine) - len(tags ^ mine)

    return max((option for option in lesson.options if option.good is good), key=alike)
