"""The kit as trees from a source to its channels: what each part passes to the packs, what flows, what is narrowest."""

from dataclasses import dataclass

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

    def narrowest(self, source: Link) -> str | None:
        """Which link of the way passes the least to the packs: "source", "supply", "charger" or "channels"."""
        channels_w = sum(link.packs_w or 0.0 for link, _ in self.channels)
        ways = [("channels", channels_w), ("charger", self.charger.packs_w)]
        ways += [("supply", self.supply.packs_w)] if self.supply else []
        ways.append(("source", source.packs_w))
        known = [(watts, name) for name, watts in ways if watts is not None]
        return min(known, key=lambda item: item[0])[1]


@dataclass(frozen=True)
class Tree:
    """One source and every charger that it feeds; without a source, what hangs on mains."""

    source: Link
    branches: tuple[Branch, ...]


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
    branches = tuple(_branch(bench, charger) for charger in chargers)
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
