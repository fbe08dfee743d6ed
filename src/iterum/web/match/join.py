"""What the join page of one group shows: how it evens out, and the steps to plug it in."""

from dataclasses import dataclass
from functools import cached_property, lru_cache

from iterum.core.electrical.joining import EvenedOut, Joining, even_out
from iterum.core.groups.group import Group, judge_group
from iterum.core.reasons import Reason
from iterum.core.say import LANGUAGE, Words, say
from iterum.core.season.upkeep import EVEN_OUT_MIN
from iterum.core.things.choice import Kind
from iterum.core.things.kit import Board
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules, JoinOrder
from iterum.web.pictures.curves import PHONE_WIDTH, EveningPicture, draw_evening


@dataclass(frozen=True)
class JoinStep:
    """One thing to do with a hand, and what to wait for after it."""

    act: str
    then: str


@dataclass(frozen=True)
class JoinPage:
    """Both verdicts on a group (volts, and what flows), the picture, the steps, the ways out."""

    packs: tuple[Pack, ...]
    group: Group
    evening: EvenedOut
    steps: tuple[JoinStep, ...]
    ways: tuple[Reason, ...]
    rules: HouseRules

    @cached_property
    def picture(self) -> EveningPicture:
        """The currents as they die down, for a wide page."""
        return draw_evening(self.evening, self.packs, self.rules)

    @cached_property
    def small(self) -> EveningPicture:
        """The same for a phone."""
        return draw_evening(self.evening, self.packs, self.rules, PHONE_WIDTH)

    @property
    def by_volts(self) -> tuple[Reason, ...]:
        """Rules on each pack, on volts, cells and capacities that it breaks."""
        by_current = ("join_", "rests_on", "balance_first")
        return tuple(item for item in self.evening.reasons if not item.code.startswith(by_current))

    @property
    def by_current(self) -> tuple[Reason, ...]:
        """What the joining rule says, good or bad."""
        return tuple(item for item in self.evening.reasons if item.code.startswith(("join_", "balance_first")))

    @property
    def rests_on(self) -> tuple[Reason, ...]:
        """What the numbers rest on."""
        return tuple(item for item in self.evening.reasons if item.code.startswith("rests_on"))


def wait_text(wait_min: float) -> str:
    """How long to wait, in words."""
    return say("no wait") if wait_min < 1 / 60 else say("wait {wait_min:min}", wait_min=wait_min)


_ENDS = {
    Kind.CHARGE: (Words("Board to the charger, a small spark is usual"), Words("then the charger may start")),
    Kind.DOWN: (Words("Board to the charger, a small spark is usual"), Words("then it may discharge")),
    Kind.BALANCE: (Words("Board to the charger, a small spark is usual"), Words("then it may balance")),
    Kind.EVEN_OUT: (Words("Leave them, connected to nothing else"), Words("then measure each again")),
}


def join_steps(joining: Joining, rules: HouseRules, kind: Kind = Kind.CHARGE) -> tuple[JoinStep, ...]:
    """The timetable as steps for the hands, by the house rule on balance leads, where that is allowed for this group.

    kind : what the packs are joined for; evening out has no charger.
    """
    balance = JoinStep(say("Balance leads of all packs"), say("cell 1 with cell 1: check each plug"))
    steps = [JoinStep(balance.act, say("{balance_a:.1f} A at most through a wire", balance_a=joining.balance_a or 0))]
    steps = steps if joining.balance_first else []
    last = len(joining.timetable) - 1
    for number, step in enumerate(joining.timetable):
        told = (
            say("{into_c:.1f}C at most", into_c=step.into.into_c) if step.into else say("red to red; nothing flows yet")
        )
        if step.wait_min and number < last:
            told = say("{told}; then {wait}", told=told, wait=wait_text(step.wait_min))
        steps.append(JoinStep(say("Main lead of {plug}", plug=step.plug), told))
    if not joining.balance_first:
        at_once = rules.join_order is JoinOrder.BALANCE_AT_ONCE or not joining.last_wait_min
        steps.append(balance if at_once else JoinStep(balance.act, say("after the wait; {then}", then=balance.then)))
    act, then = _ENDS[kind]
    wait_min = EVEN_OUT_MIN if kind is Kind.EVEN_OUT else joining.last_wait_min
    steps.append(JoinStep(say(act), f"{wait_text(wait_min)}, {say(then)}"))
    return tuple(steps)


def join_page(packs: tuple[Pack, ...], board: Board | None, rules: HouseRules, rate_c: float | None = None) -> JoinPage:
    """Everything the page shows, worked out once for the same packs. Raises Unsafe for packs never joined.

    rate_c : at which they are to be charged.
    """
    return _join_page(packs, board, rules, rate_c, LANGUAGE.get().code)


@lru_cache(maxsize=512)
def _join_page(
    packs: tuple[Pack, ...], board: Board | None, rules: HouseRules, rate_c: float | None, _language: str
) -> JoinPage:
    evening = even_out(packs, rules, board, rate_c=rate_c)
    group = judge_group(packs, rules, board.ports if board else None)
    return JoinPage(
        packs=packs,
        group=group,
        evening=evening,
        steps=join_steps(evening.joining, rules),
        ways=evening.joining.ways if group.allowed else (),
        rules=rules,
    )
