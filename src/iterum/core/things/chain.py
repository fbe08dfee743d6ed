"""The kit as trees from a source to its channels: what each part passes to the packs, what flows, what is narrowest."""

from dataclasses import dataclass
from itertools import groupby

from iterum.core.quantities import at_most
from iterum.core.things.bench import Bench, Running
from iterum.core.things.feed import feed_of
from iterum.core.things.kit import Channel, Charger, Source, Supply


@dataclass(frozen=True)
class Link:
    """One part of a chain.

    packs_w : the most of its watts that reach the packs, None where it has no limit. own_w : its limit as it is
    labelled, at its own output (a source, a supply) or at the packs (a charger, a channel). now_w : what leaves it now,
    so counted. flows_w : what of it reaches the packs now.
    """

    part: Source | Supply | Charger | Channel | None
    packs_w: float | None
    own_w: float | None
    now_w: float
    flows_w: float

    @property
    def left_w(self) -> float | None:
        """What it could still give, counted as `own_w`; None without a limit."""
        return None if self.own_w is None else max(self.own_w - self.now_w, 0.0)


@dataclass(frozen=True)
class Branch:
    """One charger with what stands before it, and its channels with the batches on them."""

    supply: Link | None
    charger: Link
    channels: tuple[tuple[Link, tuple[Running, ...]], ...]

    @property
    def supply_id(self) -> str | None:
        """Tag of the supply before the charger; None without one."""
        return self.supply.part.id if self.supply and self.supply.part else None


@dataclass(frozen=True)
class Narrow:
    """The part that holds the most back. holds_back_w : what the parts after it could give the packs beyond it."""

    id: str
    holds_back_w: float


@dataclass(frozen=True)
class Tree:
    """One source and every charger that it feeds, those of one supply together; without a source, what hangs on
    mains."""

    source: Link
    branches: tuple[Branch, ...]

    @property
    def narrowest(self) -> Narrow | None:
        """The one part that holds the most back; None where each passes on all that the parts after it can take."""
        narrow: list[Narrow] = []

        def passed_w(link: Link, wanted_w: float) -> float:
            if link.part is None or link.packs_w is None or at_most(wanted_w, link.packs_w):
                return wanted_w
            narrow.append(Narrow(link.part.id, wanted_w - link.packs_w))
            return link.packs_w

        taken_w = 0.0
        for _, fed in groupby(self.branches, key=lambda branch: branch.supply_id):
            branches = list(fed)
            group_w = sum(
                passed_w(branch.charger, sum(link.packs_w or 0.0 for link, _ in branch.channels)) for branch in branches
            )
            supply = branches[0].supply
            taken_w += group_w if supply is None else passed_w(supply, group_w)
        passed_w(self.source, taken_w)
        return max(narrow, key=lambda item: item.holds_back_w, default=None)


def trees(bench: Bench) -> tuple[Tree, ...]:
    """The kit from its sources to its channels, as it runs now; what gives most now first, what
    feeds nothing last, with no branch."""
    by_source: dict[str | None, list[Charger]] = {source.id: [] for source in bench.kit.sources}
    for charger in bench.kit.chargers:
        source = feed_of(charger, bench.kit).source
        by_source.setdefault(source.id if source else None, []).append(charger)
    built = [_tree(bench, source_id, chargers) for source_id, chargers in by_source.items()]
    return tuple(sorted(built, key=lambda tree: (not tree.branches, -tree.source.flows_w)))


def _tree(bench: Bench, source_id: str | None, chargers: list[Charger]) -> Tree:
    built = [_branch(bench, charger) for charger in chargers]
    supplies = [branch.supply_id for branch in built]
    branches = tuple(sorted(built, key=lambda branch: supplies.index(branch.supply_id)))
    flows_w = sum(branch.charger.flows_w for branch in branches)
    source = next((item for item in bench.kit.sources if item.id == source_id), None)
    if source is None:
        return Tree(Link(None, None, None, flows_w, flows_w), branches)
    feeds = [feed_of(charger, bench.kit) for charger in chargers]
    now_w = max((bench.drawn(feed).links_w.get(source.id, 0.0) for feed in feeds), default=0.0)
    limit_w = source.power_limit_w
    best = max((feed.efficiency_from_source for feed in feeds), default=1.0)
    return Tree(Link(source, None if limit_w is None else limit_w * best, limit_w, now_w, flows_w), branches)


def _branch(bench: Bench, charger: Charger) -> Branch:
    feed = feed_of(charger, bench.kit)
    drawn = bench.drawn(feed)
    limits = [watts for watts in (charger.total_power_w, feed.charger_input_power_w) if watts is not None]
    charger_w = min(limits, default=None)
    supply = None
    if feed.supplies:
        first = feed.supplies[0]
        part = feed.efficiencies[first.id]
        now_w = drawn.links_w.get(first.id, 0.0)
        supply = Link(first, first.max_power_w * part, first.max_power_w, now_w, now_w * part)
    channels = []
    for channel in charger.channels:
        on_it = tuple(batch for batch in bench.running if batch.channel == channel.id)
        watts = sum(batch.power_w for batch in on_it)
        channels.append((Link(channel, channel.max_power_w, channel.max_power_w, watts, watts), on_it))
    return Branch(supply, Link(charger, charger_w, charger_w, drawn.charger_w, drawn.charger_w), tuple(channels))
