"""What the join page of one group shows: how it evens out, and the steps to plug it in."""

from dataclasses import dataclass
from functools import cached_property, lru_cache

from iterum.core.bench.kit import DEFAULT_LEAD_MOHM, Board
from iterum.core.bench.packs import Pack
from iterum.core.bench.rules import HouseRules, JoinOrder
from iterum.core.electrical.joining import EvenedOut, Joining, even_out
from iterum.core.match.group import Group, judge_group
from iterum.core.reasons import Reason
from iterum.web.pictures.curves import PHONE_WIDTH, EveningPicture, draw_evening
from iterum.wording import minutes


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


def wait_text(seconds: float) -> str:
    """How long to wait, in words."""
    return "no wait" if seconds < 1 else f"wait {minutes(seconds / 60)}"


def join_steps(joining: Joining, rules: HouseRules) -> tuple[JoinStep, ...]:
    """The plugs in their order, by the house rule on balance leads, where that is allowed for this group."""
    plugs = {plug.id: plug for plug in joining.plugs}
    balance = JoinStep("Balance leads of all packs", "cell 1 with cell 1: check each plug")
    steps = [JoinStep("Balance leads of all packs", f"{joining.balance_a or 0:.1f} A at most through a wire")]
    steps = steps if joining.balance_first else []
    for tag in joining.order:
        plug = plugs.get(tag)
        if plug is None:
            steps.append(JoinStep(f"Main lead of {tag}", "nothing flows yet"))
            continue
        head = f"{wait_text(plug.wait_s)} before it; " if plug.wait_s else ""
        steps.append(JoinStep(f"Main lead of {tag}", f"{head}{plug.rate_c:.1f}C at most"))
    if not joining.balance_first:
        at_once = rules.join_order is JoinOrder.BALANCE_AT_ONCE or not joining.wait_min
        steps.append(balance if at_once else JoinStep(balance.act, f"after the wait; {balance.then}"))
    wait = wait_text(60 * joining.wait_min)
    steps.append(JoinStep("Board to the charger, a small spark is usual", f"{wait}, then the charger may start"))
    return tuple(steps)


@lru_cache(maxsize=512)
def join_page(packs: tuple[Pack, ...], board: Board | None, rules: HouseRules, rate_c: float | None = None) -> JoinPage:
    """Everything the page shows, worked out once for the same packs. Raises Unsafe for packs never joined.

    rate_c : at which they are to be charged.
    """
    lead_mohm = board.lead_mohm if board else DEFAULT_LEAD_MOHM
    evening = even_out(packs, rules, lead_mohm, rate_c=rate_c)
    group = judge_group(packs, rules, board.ports if board else None)
    return JoinPage(
        packs=packs,
        group=group,
        evening=evening,
        steps=join_steps(evening.joining, rules),
        ways=evening.joining.ways if group.allowed else (),
        rules=rules,
    )
