"""A lesson: a situation, what somebody may do in it, and what would come of it by the model."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from iterum.core.bench.choice import Choice
from iterum.core.bench.kit import DEFAULT_LEAD_MOHM
from iterum.core.bench.packs import Pack
from iterum.core.bench.rules import JoinOrder
from iterum.core.bench.session import Session
from iterum.core.electrical.joining import EvenedOut, even_out
from iterum.core.electrical.plugging import PackJoined
from iterum.core.reasons import Reason, Unsafe
from iterum.core.sizing.arrange import answer
from iterum.core.sizing.size import Sizing


@dataclass(frozen=True)
class Does:
    """What a choice does: packs joined (the last one to the others), a charge, or only another look.

    rate_c : at which joined packs are to be charged, multiples of capacity per hour; None for the house's.
    """

    join: tuple[str, ...] = ()
    last: str | None = None
    balance_first: bool = False
    rate_c: float | None = None
    charge: Choice | None = None


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
    """One situation. instead : what to keep in mind."""

    id: str
    title: str
    situation: str
    question: str
    session: Session
    options: tuple[Option, ...]
    instead: str


@dataclass(frozen=True)
class Outcome:
    """What would come of a choice.

    worst : the pack that sees most C while they even out. balance_a : the most amps through a balance wire, where
    those lead. rates_c : C of each pack at the amps that were to be dialled, by its label's capacity, also where that
    is refused.
    """

    packs: tuple[Pack, ...]
    evening: EvenedOut | None = None
    worst: PackJoined | None = None
    balance_a: float | None = None
    sizing: Sizing | None = None
    refusals: tuple[Reason, ...] = ()
    rates_c: Mapping[str, float] = field(default_factory=dict)


def outcome(lesson: Lesson, option: Option) -> Outcome:
    """What would come of it, by the same model and rules as everywhere."""
    bench, does = lesson.session.bench, option.does
    if does.join:
        packs = bench.members(does.join)
        board = next((board for board in bench.kit.boards if board.takes(packs[0].cells)), None)
        rules = replace(bench.rules, join_order=JoinOrder.BALANCE_FIRST) if does.balance_first else bench.rules
        try:
            evening = even_out(packs, rules, board.lead_mohm if board else DEFAULT_LEAD_MOHM, does.last,
                               board.ports if board else None, does.rate_c)  # fmt: skip
        except Unsafe as never:
            return Outcome(packs, refusals=never.reasons)
        worst = max(evening.packs, key=lambda item: item.peak_rate_c)
        balance_a = evening.joining.balance_a if does.balance_first else None
        return Outcome(packs, evening, worst, balance_a, refusals=evening.reasons)
    if does.charge is None:
        return Outcome(lesson.session.packs)
    _, sizing, refusal = answer(bench, does.charge)
    packs = bench.members(does.charge.packs)
    amps = does.charge.current_a or (sizing.current_a if sizing else _least_a(lesson, does.charge))
    whole_ah = sum(pack.capacity_ah for pack in packs)
    rates_c = {pack.id: amps / whole_ah for pack in packs} if amps else {}
    if sizing is None and all(rates_c.get(pack.id, 0.0) <= pack.charge_c for pack in packs):
        rates_c = {}  # it is not the amps for which it is refused
    return Outcome(packs, sizing=sizing, refusals=refusal.reasons if refusal else (), rates_c=rates_c)


def _least_a(lesson: Lesson, choice: Choice) -> float | None:
    """The fewest amps that the chosen channel can give; None where no channel is chosen."""
    pair = lesson.session.kit.channel(choice.channel)
    return pair[1].min_current_a if pair else None
