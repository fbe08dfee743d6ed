"""The voltage ladder: one column a pack, a caliper a group, left-out packs at the ends."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from iterum.core.groups.group import Group
from iterum.core.groups.matching import LeftOut
from iterum.core.quantities import at_most, difference
from iterum.core.say import say, say_many
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.web.pictures.scale import Scale
from iterum.web.words import letter

BREAK_V = 0.10
"""A pack further than this from the rest lies beyond a break in the axis."""
AXIS_X = 58.0
BEAM_PX = 30.0
GAP_PX = 14.0
WIDEST_COLUMN_PX = 44.0
NARROWEST_COLUMN_PX = 9.0
ROW_COLUMN_PX = 33.0
"""Columns at least this wide have their own figures under them."""


@dataclass(frozen=True)
class Rung:
    """One pack: its rung (outline: rated mAh, fill: what it holds), its whisker, its column."""

    pack: Pack
    x: float
    y: float
    width: float
    filled: float
    whisker: str | None
    left_out: bool
    beyond: bool = False


@dataclass(frozen=True)
class GroupMarks:
    """One group: header, beam, jaws, and the room left or the part that is too much."""

    letter: str
    group: Group
    x: float
    width: float
    low_y: float
    high_y: float
    allowed_y: float
    rungs: tuple[Rung, ...]
    amps: str
    ports: str
    left_v: float
    beam_ticks: tuple[float, ...]
    turned: bool
    """Whether the worst cell gap is nearer its own limit than the packs are to theirs."""


@dataclass(frozen=True)
class Ghost:
    """Where a fix would bring a left-out pack: from its rung up to here."""

    x: float
    from_y: float
    to_y: float


@dataclass(frozen=True)
class Ladder:
    """All marks of one ladder, in pixels."""

    width: float
    height: float
    top: float
    bottom: float
    column: float
    ticks: tuple[tuple[float, str | None], ...]
    groups: tuple[GroupMarks, ...]
    below: tuple[Rung, ...]
    above: tuple[Rung, ...]
    unmeasured: tuple[tuple[float, Pack], ...]
    ghosts: tuple[Ghost, ...]
    broken_below: bool
    broken_above: bool
    rows: bool
    head_y: float = 20.0
    label: str = ""


@dataclass
class _Columns:
    """Hands out columns from left to right."""

    x: float
    column: float

    def take(self) -> float:
        middle = self.x + self.column / 2
        self.x += self.column
        return round(middle, 2)

    def skip(self, px: float) -> None:
        self.x += px


@dataclass
class _Drawing:
    """What all rungs of one ladder share."""

    scale: Scale
    column: float
    largest_mah: float
    soc: dict[str, float]
    under_y: float
    over_y: float
    columns: _Columns = field(default_factory=lambda: _Columns(0, 0))

    def rung(self, pack: Pack, left_out: bool) -> Rung:
        volts = pack.cell_v or 0.0
        beyond = not self.scale.low <= volts <= self.scale.high
        y = self.scale(volts) if not beyond else self.under_y if volts < self.scale.low else self.over_y
        width = round(self.column * 0.78 * (0.55 + 0.45 * pack.capacity_mah / self.largest_mah), 2)
        cells = pack.reading.cell_v if pack.reading else ()
        x, whisker = self.columns.take(), None
        if cells and not beyond:
            low, high = self.scale(min(cells)), self.scale(max(cells))
            whisker = f"M{x} {low}V{high}M{x - 4} {low}h8M{x - 4} {high}h8"
        return Rung(pack, x, y, width, round(width * self.soc.get(pack.id, 0.0), 2), whisker, left_out, beyond)


def _axis_range(grouped: Sequence[float], others: Sequence[float]) -> tuple[float, float]:
    """Lowest and highest volts on the axis: every grouped pack, and whoever is near enough to them.

    Without groups, the largest set of packs without a gap of more than `BREAK_V`.
    """
    ordered = sorted(others)
    if not grouped:
        runs: list[list[float]] = [[ordered[0]]]
        for value in ordered[1:]:
            if not at_most(value - runs[-1][-1], BREAK_V):
                runs.append([])
            runs[-1].append(value)
        largest = max(runs, key=len)
        return largest[0], largest[-1]
    low, high = min(grouped), max(grouped)
    for value in ordered:
        high = max(high, value) if at_most(value - high, BREAK_V) else high
    for value in reversed(ordered):
        low = min(low, value) if at_most(low - value, BREAK_V) else low
    return low, high


def _allowed_cell_v(group: Group) -> float:
    """The window in V per cell, whatever the school measures it on."""
    cells = group.packs[0].cells
    return group.window.allowed_v if group.window.per == "cell" else group.window.allowed_v / cells


def columns_that_fit(width: float) -> int:
    """Most packs that one ladder of this width can show."""
    return int((width - AXIS_X - 2 * GAP_PX) / (NARROWEST_COLUMN_PX + 1))


def draw(
    groups: Sequence[Group],
    left_out: Sequence[LeftOut],
    rules: HouseRules,
    soc: dict[str, float],
    heads: Sequence[tuple[str, int | None]],
    width: float = 756.0,
    height: float = 500.0,
    first_letter: int = 0,
) -> Ladder | None:
    """The ladder of one class, or None when nothing in it was measured.

    soc : 0..1 by pack id. heads : amps and ports that stand at each group's head.
    """
    out = [item.pack for item in left_out if item.pack.cell_v is not None]
    unmeasured = [item.pack for item in left_out if item.pack.cell_v is None]
    shown = [pack for group in groups for pack in group.packs] + out
    if not shown:
        return None
    volts = [pack.cell_v or 0.0 for pack in shown]
    low, high = _axis_range(volts[: len(volts) - len(out)], volts[len(volts) - len(out) :])
    reached = [item.fix.numbers["until_v"] for item in left_out if item.fix.code == "fix_charge_up"]
    low = min([low, *(until_v for until_v in reached if until_v >= low - BREAK_V)])
    tops = [high] + [(group.packs[0].cell_v or 0.0) + _allowed_cell_v(group) for group in groups]
    broken_below, broken_above = not at_most(low, min(volts)), not at_most(max(volts), max(tops))
    column = (width - AXIS_X - 2 * GAP_PX - len(groups) * (BEAM_PX + GAP_PX)) / max(len(shown) + len(unmeasured), 1)
    column = min(max(column, NARROWEST_COLUMN_PX), WIDEST_COLUMN_PX)
    rows = column >= ROW_COLUMN_PX
    top, bottom = 104.0, height - (120.0 if rows else 44.0)
    axis_bottom = bottom - (58.0 if broken_below else 12.0)
    axis_top = top + (46.0 if broken_above else 0.0)
    scale = Scale(low - 0.005, max(tops) + 0.008, axis_bottom, axis_top)
    drawing = _Drawing(scale, column, max(pack.capacity_mah for pack in shown), soc, bottom - 16, top)
    columns = drawing.columns = _Columns(AXIS_X + GAP_PX, column)
    middle_v = min((group.packs[0].cell_v or 0.0 for group in groups), default=high + 1)
    below = [
        drawing.rung(pack, True) for pack in sorted(out, key=lambda p: p.cell_v or 0) if (pack.cell_v or 0) < middle_v
    ]
    columns.skip(GAP_PX if below else 0)
    marks = []
    for index, group in enumerate(groups):
        marks.append(_group_marks(drawing, group, letter(first_letter + index), heads[index], rules))
    above = [
        drawing.rung(pack, True) for pack in sorted(out, key=lambda p: p.cell_v or 0) if (pack.cell_v or 0) >= middle_v
    ]
    slots = tuple((columns.take(), pack) for pack in unmeasured)
    step = scale.step_for(34)
    fine = scale.step_for(9)
    ticks = tuple(
        (scale(value), f"{value:.2f}" if abs(value / step - round(value / step)) < 1e-6 else None)
        for value in scale.ticks(max(min(fine, step), 0.01))
    )
    return Ladder(
        width=width,
        height=height,
        top=top,
        bottom=bottom,
        column=column,
        ticks=ticks,
        groups=tuple(marks),
        below=tuple(below),
        above=tuple(above),
        unmeasured=slots,
        ghosts=_ghosts(drawing, left_out, [*below, *above]),
        broken_below=broken_below,
        broken_above=broken_above,
        rows=rows,
        label=_label(groups, left_out),
    )


def _ghosts(drawing: _Drawing, left_out: Sequence[LeftOut], rungs: Sequence[Rung]) -> tuple[Ghost, ...]:
    targets = {item.pack.id: item.fix.numbers.get("until_v") for item in left_out if item.fix.code == "fix_charge_up"}
    ghosts = []
    for rung in rungs:
        until_v = targets.get(rung.pack.id)
        if until_v is not None and drawing.scale.low <= until_v <= drawing.scale.high:
            ghosts.append(Ghost(rung.x, rung.y, drawing.scale(until_v)))
    return tuple(ghosts)


def _group_marks(
    drawing: _Drawing, group: Group, name: str, head: tuple[str, int | None], rules: HouseRules
) -> GroupMarks:
    amps, ports = head
    columns, scale = drawing.columns, drawing.scale
    start = columns.x
    columns.skip(BEAM_PX)
    rungs = tuple(drawing.rung(pack, False) for pack in group.packs)
    low_v, high_v = group.packs[0].cell_v or 0.0, group.packs[-1].cell_v or 0.0
    allowed_v = _allowed_cell_v(group)
    width = columns.x - start
    columns.skip(GAP_PX)
    used = (group.worst_cell_gap_v or 0.0) / rules.cell_window_v()
    beam = scale.step_for(4)
    end_v = max(low_v + allowed_v, high_v)
    steps = int(difference((end_v - low_v) / beam, 0))
    return GroupMarks(
        letter=name,
        group=group,
        x=round(start, 2),
        width=round(width, 2),
        low_y=scale(low_v),
        high_y=scale(high_v),
        allowed_y=scale(low_v + allowed_v),
        rungs=rungs,
        amps=amps,
        ports=say("{packs} of {ports} ports", packs=len(group.packs), ports=ports)
        if ports
        else say("{count} packs", count=len(group.packs)),
        left_v=round(allowed_v - (high_v - low_v), 9),
        beam_ticks=tuple(scale(low_v + index * beam) for index in range(1, steps + 1)),
        turned=used > group.window.spread_v / group.window.allowed_v,
    )


def _label(groups: Sequence[Group], left_out: Sequence[LeftOut]) -> str:
    return say_many(
        "Voltage ladder: one group, {left_out} packs not in a group. The table below says the same.",
        "Voltage ladder: {count} groups, {left_out} packs not in a group. The table below says the same.",
        len(groups),
        left_out=len(left_out),
    )
