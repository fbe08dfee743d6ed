"""The bench as it is now: kit, house rules, packs, what charges, and what the sources still hold.

Every decision (a card, a suggestion, a plan, putting away, a command, the start of a run) looks at one of these and at
nothing else, so that two of them cannot disagree.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Annotated

from annotated_types import Ge, Gt, Le, Len

from iterum.core.fields import Says
from iterum.core.reasons import NotThere, Reason, reason
from iterum.core.things.feed import Drawn, Feed, feed_of
from iterum.core.things.kit import Board, Kit
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup

MAINS = "mains"
"""What may be named instead of a supply or source: mains without a limit."""


@dataclass(frozen=True)
class Running:
    """One batch that is in hand now: its packs, board and channel are taken, and so are its watts and watt-hours.

    channel : empty where packs only even out on a board. power_w : W at its packs from now until its end; 0 where
    it charges no more but still hangs there.
    energy_left_wh : Wh that are still to go into its packs. minutes_left : until channel and board are free.
    """

    packs: Annotated[tuple[Annotated[str, Len(0, 40)], ...], Len(1, 40), Says("Packs")]
    board: Annotated[str | None, Len(0, 90), Says("Board")]
    channel: Annotated[str, Len(1, 40), Says("Channel", help="the tag of a channel")]
    current_a: Annotated[float, Gt(0), Le(500), Says("Amps", "A")]
    power_w: float
    energy_left_wh: Annotated[
        float,
        Ge(0),
        Le(100000),
        Says(
            "Watt-hours left",
            "Wh",
            help="Wh still to go into its packs; without it the amps at full volts until its end.",
        ),
    ]
    minutes_left: Annotated[float, Ge(0), Le(10080), Says("Minutes left", "min")]


def running_at(
    packs: Sequence[Pack], board: str | None, channel: str, current_a: float, minutes_left: float, rules: HouseRules,
    energy_left_wh: float | None = None,
) -> Running:  # fmt: skip
    """A batch of which only the amps and the minutes left are known: at full volts until its end, the safe side.

    minutes_left : 0 where it charges no more and still hangs there. energy_left_wh : Wh, where it is known better.
    board : its tag; None for one pack alone. channel : its tag. current_a : A at the charger, above 0.
    """
    first = packs[0]
    power_w = current_a * first.cells * rules.full_v(first.chemistry) if minutes_left > 0 else 0.0
    ids = tuple(pack.id for pack in packs)
    left_wh = power_w * minutes_left / 60 if energy_left_wh is None else energy_left_wh
    return Running(ids, board, channel, current_a, power_w, left_wh, minutes_left)


@dataclass(frozen=True)
class Bench:
    """All that a decision may look at. Sources hold what is left in them, by their `taken_wh`."""

    packs: tuple[Pack, ...] = ()
    kit: Kit = field(default_factory=Kit)
    rules: HouseRules = field(default_factory=HouseRules)
    running: tuple[Running, ...] = ()

    @cached_property
    def _by_id(self) -> Mapping[str, Pack]:
        return {pack.id: pack for pack in self.packs}

    @cached_property
    def in_hand(self) -> Mapping[str, Running]:
        """By pack, the batch that has it now."""
        return {tag: batch for batch in self.running for tag in batch.packs}

    @property
    def free_packs(self) -> tuple[Pack, ...]:
        """Packs that no batch has now."""
        return tuple(pack for pack in self.packs if pack.id not in self.in_hand)

    def members(self, tags: Sequence[str]) -> tuple[Pack, ...]:
        """The packs with these tags, in their order. Raises NotThere."""
        for tag in tags:
            if tag not in self._by_id:
                raise NotThere("pack", tag)
        return tuple(self._by_id[tag] for tag in tags)

    # ------------------------------------------------------------------ where it could be charged

    def refed(self, channel_id: str, fed_by: str | None) -> "Bench":
        """The same bench with the charger of one channel fed by something else (`MAINS`, a supply or a source).

        Raises NotThere where that is none.

        channel_id : its tag. fed_by : a supply, a source or "mains"; None as in the kit.
        """
        if fed_by is None:
            return self
        link = fed_by if fed_by in self.kit.feeder_ids() else None
        if link is None and fed_by != MAINS:
            raise NotThere("supply or source", fed_by)
        chargers = tuple(
            replace(item, fed_by=link) if any(channel.id == channel_id for channel in item.channels) else item
            for item in self.kit.chargers
        )
        return replace(self, kit=replace(self.kit, chargers=chargers))

    def setup(self, board_id: str | None, channel_id: str) -> Setup:
        """A board (None for one pack alone) and a channel with all that stands behind them now. Raises NotThere.

        board_id : its tag; None for one pack alone. channel_id : its tag.
        """
        pair = self.kit.channel(channel_id)
        if pair is None:
            raise NotThere("channel", channel_id)
        board = self.kit.board(board_id)
        if board is None and board_id is not None:
            raise NotThere("board", board_id)
        charger, channel = pair
        feed = feed_of(charger, self.kit)
        return Setup(board, channel, feed, self.drawn(feed), self.left_wh(feed))

    def setups_for(self, packs: Sequence[Pack]) -> Iterator[Setup]:
        """Every board and channel that is free and could be tried for these packs."""
        boards: Sequence[Board | None] = [None]
        if len(packs) > 1:
            boards = [board for board in self.kit.all_boards() if self._suits(board, packs)]
        taken = {batch.channel for batch in self.running}
        for charger, channel in self.kit.channels():
            if channel.id not in taken:
                feed = feed_of(charger, self.kit)
                drawn, left_wh = self.drawn(feed), self.left_wh(feed)
                yield from (Setup(board, channel, feed, drawn, left_wh) for board in boards)

    def _suits(self, board: Board, packs: Sequence[Pack]) -> bool:
        size = board.fewest <= len(packs) <= board.ports
        return size and board.takes(packs[0].cells) and not self.taken_boards & set(board.part_ids)

    @cached_property
    def taken_boards(self) -> frozenset[str]:
        """Ids of the boards that batches in hand hang on, those of chains one by one."""
        boards = [self.kit.board(batch.board) for batch in self.running]
        return frozenset(part for board in boards if board for part in board.part_ids)

    # ------------------------------------------------------------------ what others take

    def _feed(self, channel_id: str) -> Feed | None:
        pair = self.kit.channel(channel_id)
        return None if pair is None else feed_of(pair[0], self.kit)

    def drawn(self, feed: Feed) -> Drawn:
        """What batches in hand draw of the chain behind a charger."""
        charger_w, links_w = 0.0, dict.fromkeys(feed.efficiencies, 0.0)
        for batch in self.running:
            theirs = self._feed(batch.channel)
            if theirs is None:
                continue
            charger_w += batch.power_w if theirs.charger.id == feed.charger.id else 0.0
            for link, part in theirs.efficiencies.items():
                if link in links_w:
                    links_w[link] += batch.power_w / part
        return Drawn(charger_w, links_w)

    def reserved_wh(self, source_id: str) -> float:
        """Wh that batches in hand will still take from a source.

        source_id : its tag.
        """
        total_wh = 0.0
        for batch in self.running:
            feed = self._feed(batch.channel)
            if feed is not None and feed.source is not None and feed.source.id == source_id:
                total_wh += batch.energy_left_wh / feed.efficiency_from_source
        return total_wh

    def left_wh(self, feed: Feed) -> float | None:
        """Wh that the source behind a charger still has for others; None where no budget is known."""
        if feed.source is None or feed.source.usable_wh is None:
            return None
        return max(feed.source.usable_wh - self.reserved_wh(feed.source.id), 0.0)

    def kit_after(self, minutes: float) -> Kit:
        """The kit when so many minutes have passed: its sources less what batches in hand have taken by then."""
        taken_wh = dict.fromkeys((source.id for source in self.kit.sources), 0.0)
        for batch in self.running:
            feed = self._feed(batch.channel)
            if feed is not None and feed.source is not None:
                part = min(minutes / batch.minutes_left, 1.0) if batch.minutes_left > 0 else 1.0
                taken_wh[feed.source.id] += part * batch.energy_left_wh / feed.efficiency_from_source
        sources = (replace(item, taken_wh=item.taken_wh + taken_wh[item.id]) for item in self.kit.sources)
        return replace(self.kit, sources=tuple(sources))

    # ------------------------------------------------------------------ what is taken

    def conflicts(self, packs: Sequence[str], board_id: str | None, channel_id: str) -> tuple[Reason, ...]:
        """Batches in hand that hold these packs, this channel or this board.

        board_id : its tag; None for one pack alone. channel_id : its tag.
        """
        board = self.kit.board(board_id)
        parts = set(board.part_ids) if board else set()
        reasons: list[Reason] = []
        for batch in self.running:
            theirs = self.kit.board(batch.board)
            reasons += [reason("pack_busy", id=tag) for tag in packs if tag in batch.packs]
            if channel_id and batch.channel == channel_id:
                reasons.append(reason("channel_busy", channel=channel_id, packs=batch.packs))
            if theirs is not None and parts & set(theirs.part_ids):
                reasons.append(reason("board_busy", board=theirs.id, packs=batch.packs))
        return tuple(reasons)
