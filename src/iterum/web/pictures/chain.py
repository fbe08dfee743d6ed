"""The kit as a picture: widths are watts that reach the packs, from a source to its channels."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import groupby

from iterum.core.say import say
from iterum.core.things.bench import Running
from iterum.core.things.chain import Branch, Link, Tree
from iterum.core.things.kit import Channel, Charger, Source, Supply

WIDTH = 770
COLUMNS = {"source": (34, 158), "supply": (176, 290), "charger": (308, 428), "channel": (446, 566)}
PACKS_X = 604
HEAD, FOOT = 42.0, 26.0
LEAST, MOST_HALF, CHANNEL_TALL = 34.0, 75.0, 60.0
GAP = 30.0
MOST_PX_A_W = 0.6
NEXT = {"source": 176, "supply": 308, "charger": 446, "channel": 604}
"""Where the column after one begins: words may run so far."""
PX_A_LETTER = 6.2
CASE_PX = 138.0
TINTS = ("pinetint", "brasstint", "lilac", "stone")


@dataclass(frozen=True)
class Part:
    """One part as it is drawn: where, how wide open, and what is said of it. name : as much of `full` as has room.
    wider : than it is drawn."""

    column: str
    kind: str
    tag: str
    name: str
    full: str
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


@dataclass(frozen=True)
class Shape:
    """What all trees of a page share, so that they can be compared.

    px_a_w : pixels of one watt. tall : pixels of a channel.
    """

    px_a_w: float
    tall: float


def shape_of(trees: Sequence[Tree]) -> Shape:
    """One scale for all trees: the strongest channel fills its row."""
    rows = [[link.packs_w or 0.0 for branch in tree.branches for link, _ in branch.channels] for tree in trees]
    most_w = max((watts for row in rows for watts in row), default=0.0)
    tall = LEAST if max(map(len, rows), default=0) > 3 else CHANNEL_TALL
    px_a_w = min(MOST_PX_A_W, tall / most_w) if most_w else MOST_PX_A_W
    return Shape(px_a_w, max(min(most_w * px_a_w, tall), LEAST))


def _fitting(text: str, px: float) -> str:
    """As much of a text as has room."""
    letters = max(int(px / PX_A_LETTER), 4)
    return text if len(text) <= letters else text[: letters - 1].rstrip() + "…"


def _watts(value: float | None) -> str:
    return say("no limit") if value is None else f"{value:.0f} W"


@dataclass
class _Pen:
    """What is drawn so far, and the scale."""

    px_a_w: float
    tall: float
    narrowest: str | None
    names: Mapping[str, str]
    tints: Mapping[str, str]
    clocks: Mapping[str, str]
    parts: list[Part] = field(default_factory=list)
    walls: list[Wall] = field(default_factory=list)
    streams: list[Stream] = field(default_factory=list)
    cases: list[Case] = field(default_factory=list)

    def half(self, link: Link) -> tuple[float, bool]:
        """Half the width of a part's pipe, and whether it is wider than that."""
        if link.packs_w is None:
            return MOST_HALF, True
        wanted = link.packs_w * self.px_a_w / 2
        return max(min(wanted, MOST_HALF), 5.0), wanted > MOST_HALF

    def height(self, link: Link) -> float:
        """What a part takes in its column, with its words."""
        return 2 * self.half(link)[0] + HEAD + FOOT

    def part(self, column: str, link: Link, facts: str, top: float, height: float) -> Part:
        """Draw a part in its column, in the middle of what it feeds."""
        x, right = COLUMNS[column]
        half, wider = self.half(link)
        middle = top + 18.0 + self.tall / 2 if column == "channel" else top + (HEAD + height - FOOT) / 2
        told = say("{now_w:.0f} W now", now_w=link.now_w)
        if link.left_w is not None:
            told = say("{now_w:.0f} W now, {left_w:.0f} left", now_w=link.now_w, left_w=link.left_w)
        tag = link.part.id if link.part else "mains"
        full, room = self.names.get(tag, tag), float(NEXT[column] - x)
        if column == "channel":
            room -= (len(facts) + 1) * PX_A_LETTER * 0.85  # they stand beside the name, in lighter letters
        drawn = Part(
            column,
            _kind(link.part),
            tag,
            _fitting(full, room),
            full,
            facts,
            told if link.now_w else say("idle"),
            x,
            right,
            top,
            height,
            middle,
            half,
            wider,
            tag == self.narrowest,
        )
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


def draw(
    tree: Tree,
    names: Mapping[str, str],
    clocks: Mapping[str, str],
    tints: Mapping[str, str],
    shape: Shape | None = None,
) -> Picture:
    """One tree. names : of parts by tag. clocks : by channel, when what hangs there is done. tints : by pack tag.
    shape : that of all trees beside it; its own where there is none.
    """
    shape = shape or shape_of((tree,))
    narrowest = tree.narrowest
    pen = _Pen(shape.px_a_w, shape.tall, narrowest.id if narrowest else None, names, tints, clocks)
    groups = [list(fed) for _, fed in groupby(tree.branches, key=lambda branch: branch.supply_id)]
    heights = [_heights(pen, group) for group in groups]
    whole = max(sum(map(sum, heights)), pen.height(tree.source))
    spare = (whole - sum(map(sum, heights))) / max(len(tree.branches), 1)
    heights = [[height + spare for height in group] for group in heights]
    source = pen.part("source", tree.source, _source_facts(tree.source), 0.0, whole)
    shares = iter(_shares(source, [float(len(branch.channels)) for branch in tree.branches]))
    top = 0.0
    for group, tall_ones in zip(groups, heights, strict=True):
        ends = [next(shares) for _ in group]
        before = [(source, share) for share in ends]
        if group[0].supply is not None and isinstance(group[0].supply.part, Supply):
            before = _supply(pen, group, (source, (ends[0][0], ends[-1][1])), top, sum(tall_ones))
        for branch, tall_here, place in zip(group, tall_ones, before, strict=True):
            _branch(pen, branch, (source, place), top, tall_here)
            top += tall_here
    flowing = ", ".join(stream.text for stream in pen.streams) or say("nothing flows")
    fed = ", ".join(part.name for part in pen.parts if part.column == "charger") or say("nothing")
    label = say("{source} feeds {fed}: {flowing}.", source=source.name, fed=fed, flowing=flowing)
    if narrowest:
        label += " " + say(
            "Bottleneck: {part}, {holds_back_w:.0f} W.",
            part=names.get(narrowest.id, narrowest.id),
            holds_back_w=narrowest.holds_back_w,
        )
    return Picture(
        WIDTH, whole, label, tuple(pen.parts), tuple(pen.walls), tuple(pen.streams), tuple(pen.cases), shape.px_a_w
    )


def _source_facts(link: Link) -> str:
    if not isinstance(link.part, Source):
        return say("no limit")
    volts = f" · {link.part.voltage_v:g} V" if link.part.voltage_v else ""
    return _watts(link.own_w) + volts


def _heights(pen: _Pen, group: Sequence[Branch]) -> list[float]:
    """What each branch of one supply takes: room for its channels, its charger, and the supply before them."""
    row = pen.tall + GAP
    heights = [max(len(branch.channels) * row + HEAD + FOOT, pen.height(branch.charger)) for branch in group]
    supply = group[0].supply
    spare = 0.0 if supply is None else max(pen.height(supply) - sum(heights), 0.0) / len(group)
    return [height + spare for height in heights]


Place = tuple[Part, tuple[float, float]]
"""A part, and which share of its opening: offsets from its middle."""


def _supply(pen: _Pen, group: Sequence[Branch], fed: Place, top: float, height: float) -> list[Place]:
    """The supply of some chargers, drawn once, and the share of it that each has."""
    link = group[0].supply
    assert link is not None
    assert isinstance(link.part, Supply)
    facts = say("{watts} · efficiency {efficiency:%}", watts=_watts(link.own_w), efficiency=link.part.efficiency)
    supply = pen.part("supply", link, facts, top, height)
    pen.wall(*fed, supply)
    return [(supply, share) for share in _shares(supply, [float(len(branch.channels)) for branch in group])]


def _branch(pen: _Pen, branch: Branch, fed: tuple[Part, Place], top: float, height: float) -> None:
    """One charger with its channels, its streams and what hangs on it. fed : the source, and what stands before the
    charger."""
    source, before = fed
    way = [source] if before[0] is source else [source, before[0]]
    total = _watts(branch.charger.own_w)
    total = say("{watts} in all", watts=total) if branch.charger.own_w is not None else total
    charger = pen.part("charger", branch.charger, total, top, height)
    pen.wall(*before, charger)
    places = _shares(charger, [link.packs_w or 1.0 for link, _ in branch.channels])
    offset = sum(batch.power_w for _, on_it in branch.channels for batch in on_it) * pen.px_a_w / -2
    row = pen.tall + GAP
    first = top + HEAD + (height - HEAD - FOOT - len(branch.channels) * row) / 2
    for number, ((link, on_it), share) in enumerate(zip(branch.channels, places, strict=True)):
        item = link.part
        assert isinstance(item, Channel)
        low = say(
            "{min_current_a:g} to {max_current_a:g} A · {watts}",
            min_current_a=item.min_current_a,
            max_current_a=item.max_current_a,
            watts=_watts(link.own_w),
        )
        part = pen.part("channel", link, low, first + number * row, row)
        pen.wall(charger, share, part)
        wide = sum(batch.power_w for batch in on_it) * pen.px_a_w
        if on_it and wide:
            pen.streams.append(_stream(pen, [*way, charger], part, offset, wide, on_it))
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
    return Stream(
        "M" + "L".join(over) + end + "L" + "L".join(under) + "Z",
        tint,
        say("{watts:.0f} W to {last}", watts=watts, last=last.name),
        last.x + 8,
        last.middle + 5,
    )


def _case(pen: _Pen, part: Part, on_it: Sequence[Running], channel: str, row: float) -> Case:
    if not on_it:
        return Case(part.middle - 22, 44.0, say("Put a pack here"), "", channel, ())
    batch = on_it[0]
    title = ", ".join(batch.packs) if len(batch.packs) < 3 else f"{len(batch.packs)} packs"
    board = pen.names.get(batch.board, batch.board) if batch.board else say("no board")
    until = say(", until {clocks}", clocks=pen.clocks[channel]) if channel in pen.clocks else ""
    tall = min(row - 6, 60.0)
    amps = f", {batch.current_a:g} A"
    facts = f"{_fitting(board, CASE_PX - len(amps) * PX_A_LETTER)}{amps}{until}"
    return Case(part.middle - tall / 2, tall, _fitting(title, CASE_PX), facts, channel, batch.packs)
