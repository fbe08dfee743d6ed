"""Where a batch hangs: board, channel and the feed behind them, with the watts that each part can give."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.things.feed import NOTHING_DRAWN, Drawn, Feed
from iterum.core.things.kit import Board, Channel, Port
from iterum.core.things.limit_kinds import (
    CHANNEL_POWER,
    CHARGER_INPUT,
    CHARGER_POWER,
    SOURCE_POWER,
    SUPPLY_POWER,
    LimitKind,
)
from iterum.core.things.packs import Pack


@dataclass(frozen=True)
class Setup:
    """Where a group is to be charged: a board (None for one pack alone), a channel, what feeds it, what others take.

    left_wh : what the source still holds for it; None where no budget is known.
    """

    board: Board | None
    channel: Channel
    feed: Feed
    drawn: Drawn = NOTHING_DRAWN
    left_wh: float | None = None

    @property
    def port(self) -> Port:
        """Plug and lead of one branch with its fuse; a pack alone has a plug too."""
        return self.board.port if self.board else Port()

    @property
    def lead_mohm(self) -> float:
        """Plug and lead of one branch, mOhm."""
        return self.port.lead_mohm


def total_ah(packs: Sequence[Pack]) -> float:
    """Ah that these packs hold together."""
    return round(sum(pack.capacity_ah for pack in packs), 9)


@dataclass(frozen=True)
class Power:
    """One part of the chain: W at the packs that it gives in all, and that are left when others have theirs."""

    kind: LimitKind
    whole_w: float
    left_w: float
    link: str | None = None


def powers_of(setup: Setup, cautious: bool = False) -> tuple[Power, ...]:
    """Every power limit of the chain that is known; the tightest of several supplies.

    cautious : count a small wall adapter with half its label.
    """
    feed, drawn = setup.feed, setup.drawn
    powers = [Power(CHANNEL_POWER, setup.channel.max_power_w, setup.channel.max_power_w)]
    for kind, whole_w in (
        (CHARGER_POWER, feed.charger.total_power_w),
        (CHARGER_INPUT, feed.charger_input_power_w),
    ):
        if whole_w is not None:
            powers.append(Power(kind, whole_w, max(whole_w - drawn.charger_w, 0.0)))
    parts = feed.efficiencies
    supplies = []
    for supply in feed.supplies:
        gives_w = supply.max_power_w / 2 if cautious and supply.is_small_adapter else supply.max_power_w
        left_w = max(gives_w - drawn.links_w.get(supply.id, 0.0), 0.0)
        supplies.append(Power(SUPPLY_POWER, gives_w * parts[supply.id], left_w * parts[supply.id], supply.id))
    if supplies:
        powers.append(min(supplies, key=lambda item: item.left_w))
    source_w = feed.source.power_limit_w if feed.source else None
    if feed.source is not None and source_w is not None:
        tag = feed.source.id
        left_w = max(source_w - drawn.links_w.get(tag, 0.0), 0.0)
        powers.append(Power(SOURCE_POWER, source_w * parts[tag], left_w * parts[tag], tag))
    return tuple(powers)


def least_power_w(setup: Setup) -> float:
    """The least watts at the packs that any part of the chain leaves."""
    return min(power.left_w for power in powers_of(setup))
