"""The kit as a picture: widths are watts that reach the packs, from a source to its channels."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from iterum.core.things.bench import Running
from iterum.core.things.chain import Branch, Link, Tree
from iterum.core.things.kit import Channel, Charger, Source, Supply

WIDTH = 770
COLUMNS = {"source": (34, 158), "supply": (176, 290), "charger": (308, 428), "channel": (446, 566)}
PACKS_X = 604
HEAD, FOOT = 42.0, 26.0
LEAST, MOST_HALF, CHANNEL_TALL = 34.0, 96.0, 84.0
GAP = 30.0
WIDE_W, WIDE_PX, NARROW_PX = 200.0, 0.32, 0.6
TINTS = ("pinetint", "brasstint", "lilac", "stone")


@dataclass(frozen=True)
class Part:
    """One part as it is drawn: where, how wide open, and what is said of it. wider : than it could be drawn."""

    column: str
    kind: str
    tag: str
    name: str
    facts: str
    told: str
    x: float
    right: float
    y: float
    height: float
    middle: float
    half: float
    wider: bool
    narrowest: bool


@dataclass(frozen=True)
class Wall:
    """The pipe between two parts: its inside, and its two edges."""

    inside: str
    edges: str


@dataclass(frozen=True)
class Stream:
    """What flows to one batch, as one shape from its source to its packs. tint : of its class."""

    path: str
    tint: str
    text: str
    x: float
    y: float


@dataclass(frozen=True)
class Case:
    """What hangs on a channel, or a free place. packs : empty where nothing does."""

    y: float
    height: float
    title: str
    facts: str
    channel: str
    packs: tuple[str, ...]


@dataclass(frozen=True)
class Picture:
    """One tree. walls : the pipes between parts. px_a_w : pixels of one watt."""

    width: int
    height: float
    label: str
    parts: tuple[Part, ...]
    walls: tuple[Wall, ...]
    streams: tuple[Stream, ...]
    cases: tuple[Case, ...]
    px_a_w: float


def _watts(value: float | None) -> str:
    return "no limit" if value is None else f"{value:.0f} W"


@dataclass
class _Pen:
    """What is drawn so far, and the scale."""

    px_a_w: float
    names: Mapping[str, str]
    tints: Mapping[str, str]
    clocks: Mapping[str, str]
    parts: list[Part] = field(default_factory=list)
    walls: list[Wall] = field(default_factory=list)
    streams: list[Stream] = field(default_factory=list)
    cases: list[Case] = field(default_factory=list)

    def half(self, link: Link, most: float) -> tuple[float, bool]:
        """Half the width of a part's pipe, and whether it is wider than that."""
        if link.packs_w is None:
            return most, True
        wanted = link.packs_w * self.px_a_w / 2
        return max(min(wanted, most), 5.0), wanted > most

    def part(self, column: str, link: Link, facts: str, top: float, height: float, narrowest: bool) -> Part:
        """Draw a part in its column, in the middle of what it feeds."""
        x, right = COLUMNS[column]
        item = link.part
        head = HEAD if column != "channel" else 18.0
        most = min((height - head - (FOOT if column != "channel" else 8.0)) / 2, MOST_HALF)
        half, wider = self.half(link, most)
        middle = top + head + most if column == "channel" else top + (head + height - FOOT) / 2
        told = f"{link.now_w:.0f} W now" + ("" if link.left_w is None else f", {link.left_w:.0f} left")
        tag = item.id if item else "mains"
        drawn = Part(column, _kind(item), tag, self.names.get(tag, tag), facts, told if link.now_w else "idle",
                     x, right, top, height, middle, half, wider, narrowest)  # fmt: skip
        self.parts.append(drawn)
        return drawn

    def wall(self, before: Part, share: tuple[float, float], after: Part) -> None:
        """The pipe between two parts: from a share of the first, given as offsets from its middle, to the second."""
        top, bottom = before.middle + share[0], before.middle + share[1]
        over = f"M{before.right} {top:.1f}L{after.x} {after.middle - after.half:.1f}"
        low = after.middle + after.half
        inside = f"{over}V{low:.1f}L{before.right} {bottom:.1f}Z"
        self.walls.append(Wall(inside, f"{over}M{before.right} {bottom:.1f}L{after.x} {low:.1f}"))


def _kind(item: Source | Supply | Charger | Channel | None) -> str:
    kinds = {Source: "source", Supply: "supply", Charger: "charger", Channel: "channel"}
    return kinds[type(item)] if item is not None else "mains"


def _shares(before: Part, weights: Sequence[float]) -> list[tuple[float, float]]:
    """A part's opening divided among what it feeds, as offsets from its middle."""
    whole = sum(weights) or 1.0
    shares, at = [], -before.half
    for weight in weights:
        wide = 2 * before.half * weight / whole
        shares.append((at, at + wide))
        at += wide
    return shares


def draw(tree: Tree, names: Mapping[str, str], clocks: Mapping[str, str], tints: Mapping[str, str]) -> Picture:
    """One tree. names : of parts by tag. clocks : by channel, when what hangs there is done. tints : by pack tag."""
    channels = [link for branch in tree.branches for link, _ in branch.channels]
    most_w = max((link.packs_w or 0.0 for link in channels), default=0.0)
    px_a_w = WIDE_PX if sum(link.packs_w or 0.0 for link in channels) > WIDE_W else NARROW_PX
    tall = LEAST if len(channels) > 3 else min(max(most_w * px_a_w, LEAST), CHANNEL_TALL)
    px_a_w = min(px_a_w, tall / most_w) if most_w else px_a_w
    row = tall + GAP
    pen = _Pen(px_a_w, names, tints, clocks)
    height = sum(len(branch.channels) * row + HEAD + FOOT for branch in tree.branches) or HEAD + FOOT + 20
    source = pen.part("source", tree.source, _source_facts(tree.source), 0.0, height,
                      any(branch.narrowest(tree.source) == "source" for branch in tree.branches))  # fmt: skip
    top = 0.0
    weights = [float(len(branch.channels)) for branch in tree.branches]
    for branch, share in zip(tree.branches, _shares(source, weights), strict=True):
        tall_here = len(branch.channels) * row + HEAD + FOOT
        narrowest = branch.narrowest(tree.source)
        _branch(pen, branch, narrowest, (source, share), top, row, tall_here)
        top += tall_here
    flowing = ", ".join(stream.text for stream in pen.streams) or "nothing flows"
    fed = ", ".join(part.name for part in pen.parts if part.column == "charger") or "nothing"
    label = f"{source.name} feeds {fed}: {flowing}."
    return Picture(
        WIDTH, height, label, tuple(pen.parts), tuple(pen.walls), tuple(pen.streams), tuple(pen.cases), px_a_w
    )


def _source_facts(link: Link) -> str:
    if not isinstance(link.part, Source):
        return "no limit"
    volts = f" · {link.part.voltage_v:g} V" if link.part.voltage_v else ""
    return _watts(link.own_w) + volts


def _branch(
    pen: _Pen, branch: Branch, narrowest: str | None, fed: tuple[Part, tuple[float, float]], top: float, row: float,
    height: float,
) -> None:  # fmt: skip
    """One charger with its supply and channels, its streams and what hangs on it."""
    way = [fed]
    if branch.supply is not None and isinstance(branch.supply.part, Supply):
        facts = f"{_watts(branch.supply.own_w)} · keeps {branch.supply.part.efficiency:g}"
        supply = pen.part("supply", branch.supply, facts, top, height, narrowest == "supply")
        pen.wall(*way[-1], supply)
        way.append((supply, (-supply.half, supply.half)))
    total = _watts(branch.charger.own_w) + (" in all" if branch.charger.own_w is not None else "")
    charger = pen.part("charger", branch.charger, total, top, height, narrowest == "charger")
    pen.wall(*way[-1], charger)
    places = _shares(charger, [link.packs_w or 1.0 for link, _ in branch.channels])
    offset = sum(batch.power_w for _, on_it in branch.channels for batch in on_it) * pen.px_a_w / -2
    for number, ((link, on_it), share) in enumerate(zip(branch.channels, places, strict=True)):
        item = link.part
        assert isinstance(item, Channel)
        low = f"{item.min_current_a:g} to {item.max_current_a:g} A · {_watts(link.own_w)}"
        part = pen.part("channel", link, low, top + HEAD + number * row, row, narrowest == "channels")
        pen.wall(charger, share, part)
        wide = sum(batch.power_w for batch in on_it) * pen.px_a_w
        if on_it and wide:
            pen.streams.append(_stream(pen, [*(item for item, _ in way), charger], part, offset, wide, on_it))
            offset += wide
        pen.cases.append(_case(pen, part, on_it, item.id, row))


def _stream(pen: _Pen, way: Sequence[Part], last: Part, offset: float, wide: float, on_it: Sequence[Running]) -> Stream:
    """One band through every part of the way, as wide as its watts, in the middle of its channel at the end."""
    tops = [(part, max(min(offset, part.half - wide), -part.half)) for part in way]
    tops.append((last, max(-wide / 2, -last.half)))
    wide = min(wide, 2 * last.half)
    over = [f"{edge} {part.middle + at:.1f}" for part, at in tops for edge in (part.x, part.right)]
    under = [f"{edge} {part.middle + at + wide:.1f}" for part, at in reversed(tops) for edge in (part.right, part.x)]
    end = f"L{PACKS_X} {last.middle + tops[-1][1]:.1f}V{last.middle + tops[-1][1] + wide:.1f}"
    watts = sum(batch.power_w for batch in on_it)
    tint = pen.tints.get(on_it[0].packs[0], TINTS[0])
    return Stream("M" + "L".join(over) + end + "L" + "L".join(under) + "Z", tint, f"{watts:.0f} W to {last.name}",
                  last.x + 8, last.middle + 5)  # fmt: skip


def _case(pen: _Pen, part: Part, on_it: Sequence[Running], channel: str, row: float) -> Case:
    if not on_it:
        return Case(part.middle - 22, 44.0, "Put a pack here", "", channel, ())
    batch = on_it[0]
    title = ", ".join(batch.packs) if len(batch.packs) < 3 else f"{len(batch.packs)} packs"
    board = pen.names.get(batch.board, batch.board) if batch.board else "no board"
    until = f", until {pen.clocks[channel]}" if channel in pen.clocks else ""
    tall = min(row - 6, 60.0)
    return Case(part.middle - tall / 2, tall, title, f"{board}, {batch.current_a:g} A{until}", channel, batch.packs)
