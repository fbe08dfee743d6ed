"""What the join page of one group shows: how it evens out, and the steps to plug it in."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.joining import Evening, even_out, ways_out
from iterum.core.kit import DEFAULT_LEAD_MOHM, Board
from iterum.core.matching import Group, judge_group
from iterum.core.packs import Level, Pack
from iterum.core.reasons import Reason
from iterum.core.rules import HouseRules, JoinOrder
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
    evening: Evening
    picture: EveningPicture
    small: EveningPicture
    steps: tuple[JoinStep, ...]
    ways: tuple[Reason, ...]

    @property
    def by_volts(self) -> tuple[Reason, ...]:
        """Rules on each pack, on volts, cells and capacities that it breaks."""
        return tuple(item for item in self.evening.reasons if not item.code.startswith(("join_", "rests_on")))

    @property
    def by_current(self) -> tuple[Reason, ...]:
        """What the joining rule says, good or bad."""
        return tuple(item for item in self.evening.reasons if item.code.startswith("join_"))

    @property
    def rests_on(self) -> tuple[Reason, ...]:
        """What the numbers rest on."""
        return tuple(item for item in self.evening.reasons if item.code.startswith("rests_on"))


def _wait(seconds: float | None) -> str:
    if seconds is None:
        return "wait until it has settled; not within four hours"
    return "no wait" if seconds < 1 else f"wait {minutes(seconds / 60)}"


def join_steps(evening: Evening, order: Sequence[str], rules: HouseRules) -> tuple[JoinStep, ...]:
    """The plugs in their order, by the house rule on balance leads."""
    waits = {plug.id: plug.wait_s for plug in evening.plugs}
    found = []
    if rules.join_order is JoinOrder.BALANCE_FIRST:
        found.append(JoinStep("Balance leads of all packs", "as your house rule says"))
    for tag in order:
        rate_c = next((plug.rate_c for plug in evening.plugs if plug.id == tag), 0.0)
        then = _wait(waits.get(tag, 0.0)) if tag != order[-1] else _wait(evening.balance_s)
        found.append(
            JoinStep(f"Main lead of {tag}", f"{rate_c:.1f}C at most, {then}" if tag in waits else "nothing flows yet")
        )
    if rules.join_order is not JoinOrder.BALANCE_FIRST:
        found.append(JoinStep("Balance leads of all packs", "cell 1 with cell 1: check each plug"))
    settled = "at once" if (evening.settled_s or 0.0) < 1 else _wait(evening.settled_s).replace("wait", "after")
    found.append(JoinStep("Board to the charger, a small spark is usual", f"charging may start {settled}"))
    return tuple(found)


def join_page(packs: Sequence[Pack], board: Board | None, rules: HouseRules) -> JoinPage:
    """Everything the page shows. Raises Unsafe for packs that may never be joined."""
    lead_mohm = board.lead_mohm if board else DEFAULT_LEAD_MOHM
    evening = even_out(packs, rules, lead_mohm)
    group = judge_group(packs, rules, board.ports if board else None)
    return JoinPage(
        packs=tuple(packs),
        group=group,
        evening=evening,
        picture=draw_evening(evening, packs, rules),
        small=draw_evening(evening, packs, rules, PHONE_WIDTH),
        steps=join_steps(evening, group.plug_in_order, rules),
        ways=ways_out(packs, rules, lead_mohm) if evening.level is Level.STOP and group.allowed else (),
    )
