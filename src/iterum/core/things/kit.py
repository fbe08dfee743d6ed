"""What boards, channels, chargers, supplies and sources can each do."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Annotated, TypeVar

from annotated_types import Ge, Gt, Le, Len

from iterum.core.fields import Checked, Kept, Name, Named, Note, Says, Tag
from iterum.core.quantities import at_most
from iterum.core.things.chemistry import MAX_CELLS

DEFAULT_LEAD_MOHM = 5.0
"""Plug and lead of one pack's branch. Common practice, no source."""
DEFAULT_CAPACITY_STEP_MAH = 100.0
"""Step of a charger's capacity setting. Common practice, no source."""


@dataclass(frozen=True)
class Port:
    """One port of a board, as a pack that is plugged in meets it.

    lead_mohm : plug and lead, mOhm, above 0. fuse_a : its fuse, A; None without one.
    """

    lead_mohm: float = DEFAULT_LEAD_MOHM
    fuse_a: float | None = None


CONNECTOR_A = {
    "PH2.0": 3.0, "JST": 5.0, "XT30": 15.0, "XT60": 30.0, "XT90": 45.0, "EC3": 30.0, "EC5": 60.0, "T-PLUG": 30.0,
    "TAMIYA": 10.0, "AS150": 75.0,
}  # fmt: skip
"""Amps that plugs of these kinds carry for long, the lower of the figures in use. Common practice, no source; the
part's own label comes first."""


def connector_a(name: str | None) -> float | None:
    """Amps that a kind of plug carries for long; None for a kind that is not known here.

    name : as written on it; None where it is not known.
    """
    return None if name is None else CONNECTOR_A.get(name.strip().upper().replace(" ", "").replace("TPLUG", "T-PLUG"))


def same_plug(one: str | None, other: str | None) -> bool:
    """Whether two plugs fit; where one of them is not known, nothing speaks against it.

    other : the second plug; None where it is not known.
    """
    if one is None or other is None:
        return True
    return one.strip().upper() == other.strip().upper()


@dataclass(frozen=True)
class Board(Checked):
    """A parallel board: all ports are common inside.

    ports : packs it takes. min_cells, max_cells : cell counts its balance sockets take.
    max_current_a : what its lead and plug carry in all. port_fuse_a : fuse of each port, None without.
    fuse_a : one fuse for all of it, None without. chains_to : id of the board it can be hung behind.
    parts : the two boards of a chain, the first one nearest to the charger; empty for a board by itself.
    """

    id: Tag
    ports: Annotated[int, Ge(1), Le(40), Says("Ports")]
    min_cells: Annotated[int, Ge(1), Le(MAX_CELLS), Says("Fewest cells")] = 1
    max_cells: Annotated[int, Ge(1), Le(MAX_CELLS), Says("Most cells")] = 14
    max_current_a: Annotated[float | None, Gt(0), Le(1000), Says("Current its lead and plug carry", "A")] = None
    port_fuse_a: Annotated[
        float | None, Gt(0), Le(500), Says("Fuse of each port", "A", help="Empty: no fuses. Prefer a fused board.")
    ] = None
    fuse_a: Annotated[float | None, Gt(0), Le(1000), Says("One fuse for all of it", "A", help="Empty: none.")] = None
    lead_mohm: Annotated[float, Gt(0), Le(1000), Says("Lead and plug of one branch", "mΩ")] = DEFAULT_LEAD_MOHM
    connector: Annotated[Named, Says("Connector")] = None
    chains_to: Annotated[
        Named,
        Says("Chains behind", help="The board it can be hung behind; all amps then pass that board's lead and fuse."),
    ] = None
    pilot: Annotated[Named, Says("Pilot", help="Whose it is. Empty: everybody's.")] = None
    lent: Annotated[bool, Says("Lent to others", help="Packs of other pilots may be charged with it too.")] = False
    name: Name = None
    note: Note = None
    parts: Annotated[tuple["Board", ...], Kept.ELSEWHERE] = ()

    def __post_init__(self) -> None:
        """A chain is as long as its boards make it; they were seen by themselves."""
        if not self.parts:
            super().__post_init__()

    def takes(self, cells: int) -> bool:
        """Whether its balance sockets take packs of this many cells."""
        return self.min_cells <= cells <= self.max_cells

    @property
    def part_ids(self) -> tuple[str, ...]:
        """Ids of the boards that are taken when it is: its own, or those of the two of a chain."""
        return tuple(part.id for part in self.parts) or (self.id,)

    @property
    def port(self) -> Port:
        """What a pack in any of its ports meets; of a chain the smaller fuse."""
        fuses = [part.port_fuse_a for part in self.parts or (self,) if part.port_fuse_a is not None]
        return Port(self.lead_mohm, min(fuses, default=None))

    @property
    def fewest(self) -> int:
        """Packs from which on it makes sense: a chain only where its first board has no room for all."""
        return self.parts[0].ports + 1 if self.parts else 1


@dataclass(frozen=True)
class Channel(Checked):
    """One output of a charger.

    discharge_power_w, discharge_current_a : what it can take out of a pack; None in watts: it cannot discharge.
    fixed_current : whether its amps cannot be set: the most of them flow, whatever is wanted.
    """

    id: Tag
    max_current_a: Annotated[float, Gt(0), Le(200), Says("Most amps", "A")]
    max_power_w: Annotated[float, Gt(0), Le(10000), Says("Most watts", "W")]
    min_current_a: Annotated[float, Ge(0), Le(50), Says("Fewest amps", "A")] = 0.1
    current_step_a: Annotated[float, Gt(0), Le(10), Says("Step of the amps setting", "A")] = 0.1
    min_cells: Annotated[int, Ge(1), Le(MAX_CELLS), Says("Fewest cells")] = 1
    max_cells: Annotated[int, Ge(1), Le(MAX_CELLS), Says("Most cells")] = 6
    discharge_power_w: Annotated[float | None, Ge(0), Le(5000), Says("Discharge watts", "W")] = None
    discharge_current_a: Annotated[
        float | None, Gt(0), Le(200), Says("Discharges with at most", "A", help="Empty: 1 A at most.")
    ] = None
    capacity_step_mah: Annotated[float, Gt(0), Le(5000), Says("Step of the capacity setting", "mAh")] = (
        DEFAULT_CAPACITY_STEP_MAH
    )
    fixed_current: Annotated[
        bool, Says("Its amps cannot be set", help="As on some sticks and USB chargers: the most amps always flow.")
    ] = False
    name: Name = None

    def takes(self, cells: int) -> bool:
        """Whether it charges packs of this many cells."""
        return self.min_cells <= cells <= self.max_cells


@dataclass(frozen=True)
class Charger(Checked):
    """A charger with its channels.

    fed_by : id of a supply or source, None for mains without a limit.
    efficiency : between its input and the packs. total_power_w : shared by its channels.
    power_by_input_v : (input V, W) pairs, linear between, flat outside; of a single pair, half at any lower volts.
    mains_power_w : W in all on mains and on any other AC, where that differs. failed : it charges nothing until
    somebody says that it works.
    """

    id: Tag
    channels: Annotated[tuple[Channel, ...], Len(1, 16), Says("Channels"), Kept.ELSEWHERE]
    fed_by: Annotated[Named, Says("Fed by", help="A supply or a source. Empty or mains: mains without a limit.")] = None
    efficiency: Annotated[float, Gt(0), Le(1), Says("Efficiency, between its input and the packs")] = 0.85
    total_power_w: Annotated[float | None, Gt(0), Le(20000), Says("Watts of all channels together", "W")] = None
    input_min_v: Annotated[float | None, Ge(0), Le(400), Says("Lowest input volts", "V")] = None
    input_max_v: Annotated[float | None, Gt(0), Le(400), Says("Highest input volts", "V")] = None
    max_input_current_a: Annotated[float | None, Gt(0), Le(500), Says("Most input amps", "A")] = None
    power_by_input_v: Annotated[
        tuple[tuple[Annotated[float, Ge(0), Le(20000)], Annotated[float, Ge(0), Le(20000)]], ...],
        Len(0, 20),
        Says("Charging watts by input volts", help="Pairs like 12:300, 24:400."),
    ] = ()
    mains_power_w: Annotated[
        float | None,
        Gt(0),
        Le(100000),
        Says("Watts on mains", "W", help="Where they differ from those on DC. Empty: the most of the table."),
    ] = None
    failed: Annotated[bool, Says("It has failed", help="Nothing is planned or begun on it.")] = False
    pilot: Annotated[Named, Says("Pilot", help="Whose it is. Empty: everybody's.")] = None
    lent: Annotated[bool, Says("Lent to others", help="Packs of other pilots may be charged with it too.")] = False
    name: Name = None
    note: Note = None

    def power_at(self, input_v: float | None) -> float | None:
        """Charging watts it gives at an input voltage; the least where that is not known; None without a table.

        input_v : V, None where it is not known.
        """
        points = sorted(self.power_by_input_v)
        if not points:
            return None
        if self.watts_are_half(input_v):
            return points[0][1] / 2
        if input_v is None:
            return min(watts for _, watts in points)
        if input_v <= points[0][0]:
            return points[0][1]
        for (low_v, low_w), (high_v, high_w) in pairwise(points):
            if input_v <= high_v:
                return low_w + (high_w - low_w) * (input_v - low_v) / (high_v - low_v)
        return points[-1][1]

    def watts_are_half(self, input_v: float | None) -> bool:
        """Whether its label gives watts at one input voltage only, and it is fed at a lower or an unknown one: then
        half of them count until somebody has read its watts there. Common practice, no source.

        input_v : V, None where it is not known.
        """
        points = self.power_by_input_v
        return len(points) == 1 and (input_v is None or not at_most(points[0][0], input_v))

    @property
    def power_on_mains_w(self) -> float | None:
        """Charging watts on mains: as labelled for it, else the most of its table."""
        if self.mains_power_w is not None:
            return self.mains_power_w
        return max((watts for _, watts in self.power_by_input_v), default=None)


SMALL_ADAPTER_W = 24.0
"""A wall adapter of up to this counts with half its label. Common practice, no source."""


@dataclass(frozen=True)
class Supply(Checked):
    """A power supply: `max_power_w` is what it gives out, `efficiency` is between its source and its output."""

    id: Tag
    max_power_w: Annotated[float, Gt(0), Le(100000), Says("Most watts it gives out", "W")]
    output_v: Annotated[float | None, Gt(0), Le(100), Says("Output volts", "V")] = None
    fed_by: Annotated[Named, Says("Fed by", help="Empty or mains: mains without a limit.")] = None
    efficiency: Annotated[float, Gt(0), Le(1), Says("Efficiency, between its source and its output")] = 0.88
    name: Name = None
    note: Note = None

    @property
    def is_small_adapter(self) -> bool:
        """Whether it is a wall adapter that should give no more than half its label for long."""
        return self.fed_by is None and self.max_power_w <= SMALL_ADAPTER_W


USABLE_PARTS = {"lipo": 0.8, "lihv": 0.8, "li-ion": 0.8, "life": 0.8, "pb": 0.5}
"""The part of a source that may be taken, where nobody said. Common practice, no source."""
SOURCE_STOP_V = {"lipo": 3.5, "lihv": 3.5, "li-ion": 3.1, "life": 2.9, "pb": 1.9}
"""Volts per cell under load at which a source that is itself a battery has to stop. Common practice, no source."""


@dataclass(frozen=True)
class Source(Checked):
    """Where the energy comes from.

    energy_wh : Wh it holds when filled, None where no budget is known. usable_fraction : the part that may be taken
    (0..1); None takes that of its chemistry. taken_wh : what was taken from it since it was filled.
    quiet_hours : (from, until) times of day, "HH:MM", in which it must not run.
    chemistry, cells : of a source that is a battery itself; None where that is not known. stop_v : volts at its
    terminals under load at which it has to stop, where that is not the usual figure of its chemistry.
    """

    id: Tag
    voltage_v: Annotated[float | None, Gt(0), Le(500), Says("Volts", "V")] = None
    max_current_a: Annotated[float | None, Gt(0), Le(1000), Says("Most amps", "A")] = None
    max_power_w: Annotated[float | None, Gt(0), Le(100000), Says("Most watts", "W")] = None
    energy_wh: Annotated[
        float | None,
        Ge(0),
        Le(1000000),
        Says("Energy it holds", "Wh", help="In watt-hours when filled. Empty: no budget is known."),
    ] = None
    usable_fraction: Annotated[
        float | None,
        Gt(0),
        Le(1),
        Says("Part of it that may be taken", help="Empty: 0.8 of a lithium source, 0.5 of lead, else all."),
    ] = None
    taken_wh: Annotated[float, Ge(0), Le(1000000), Says("Taken from it since it was filled", "Wh"), Kept.ELSEWHERE] = (
        0.0
    )
    quiet_hours: Annotated[
        tuple[
            tuple[
                Annotated[str, Says("", pattern=r"^([01][0-9]|2[0-3]):[0-5][0-9]$")],
                Annotated[str, Says("", pattern=r"^([01][0-9]|2[0-3]):[0-5][0-9]$")],
            ],
            ...,
        ],
        Len(0, 12),
        Says("Quiet hours", help="Times of day in which it must not run, such as 12:00-13:30."),
    ] = ()
    falls_back: Annotated[
        bool,
        Says(
            "Drops its volts when idle",
            help="A bank whose fast-charge volts fall to 5 V when nothing draws for a moment.",
        ),
    ] = False
    chemistry: Annotated[
        str | None,
        Says(
            "Chemistry",
            help="Of a source that is a battery: lipo, lihv, li-ion, life or pb (lead).",
            pattern=f"^({'|'.join(SOURCE_STOP_V)})$",
        ),
    ] = None
    cells: Annotated[int | None, Ge(1), Le(100), Says("Cells in series", help="Of a source that is a battery.")] = None
    stop_v: Annotated[
        float | None,
        Gt(0),
        Le(500),
        Says("Stops at", "V", help="Under load. Empty: the usual figure of its chemistry and cells."),
    ] = None
    pilot: Annotated[Named, Says("Pilot", help="Whose it is. Empty: everybody's.")] = None
    lent: Annotated[bool, Says("Lent to others", help="Packs of other pilots may be charged with it too.")] = False
    name: Name = None
    note: Note = None

    @property
    def stops_at_v(self) -> float | None:
        """Volts at its terminals under load at which nothing more may be taken; None where that is not known."""
        if self.stop_v is not None or self.chemistry is None or self.cells is None:
            return self.stop_v
        return round(SOURCE_STOP_V[self.chemistry] * self.cells, 2)

    @property
    def power_limit_w(self) -> float | None:
        """The most it may give, W: the smaller of its watts and its amps times volts; None without a limit."""
        limits = [] if self.max_power_w is None else [self.max_power_w]
        if self.max_current_a is not None and self.voltage_v is not None:
            limits.append(self.max_current_a * self.voltage_v)
        return min(limits, default=None)

    @property
    def usable_wh(self) -> float | None:
        """Wh that may still be taken from it; None where no budget is known."""
        return None if self.energy_wh is None else max(self.energy_wh * self.usable_part - self.taken_wh, 0.0)

    @property
    def usable_part(self) -> float:
        """The part of its energy that may be taken, 0..1."""
        return USABLE_PARTS.get(self.chemistry or "", 1.0) if self.usable_fraction is None else self.usable_fraction


Item = TypeVar("Item", Board, Charger, Supply, Source)


@dataclass(frozen=True)
class Kit:
    """Everything a pilot has to charge with."""

    boards: tuple[Board, ...] = ()
    chargers: tuple[Charger, ...] = ()
    supplies: tuple[Supply, ...] = ()
    sources: tuple[Source, ...] = ()

    def with_part(self, part: "Board | Charger | Supply | Source", known_as: str | None = None) -> "Kit":
        """The kit with one part more, or with it in place of the one known by that tag.

        known_as : its tag so far; None for a new part.
        """
        name = {Board: "boards", Charger: "chargers", Supply: "supplies", Source: "sources"}[type(part)]
        parts = list(getattr(self, name))
        at = next((place for place, item in enumerate(parts) if item.id == known_as), len(parts))
        parts[at : at + 1] = [part]
        return replace(self, **{name: tuple(parts)})

    def channels(self) -> Iterator[tuple[Charger, Channel]]:
        """Every channel with its charger, in the order of the kit."""
        for charger in self.chargers:
            for channel in charger.channels:
                yield charger, channel

    def all_boards(self) -> tuple[Board, ...]:
        """Boards as they are, then pairs that say they can be chained."""
        pairs = [(find(self.boards, board.chains_to), board) for board in self.boards if board.chains_to]
        return (*self.boards, *(chained(first, second) for first, second in pairs if first and first is not second))

    def board(self, board_id: str | None) -> Board | None:
        """The board with this id, or the chain that it names; None where there is no such board.

        An id is matched whole first; "A + B" names a chain only where no board has that id.
        board_id : its tag; None for one pack alone.
        """
        if board_id is None:
            return None
        whole = find(self.boards, board_id)
        first_id, plus, second_id = board_id.partition(CHAIN)
        if whole is not None or not plus:
            return whole
        first, second = find(self.boards, first_id), find(self.boards, second_id)
        return chained(first, second) if first and second and first is not second else None

    def channel(self, channel_id: str | None) -> tuple[Charger, Channel] | None:
        """A channel with its charger, None where there is none of this id.

        channel_id : its tag.
        """
        return next((item for item in self.channels() if item[1].id == channel_id), None)

    def feeder_ids(self) -> set[str]:
        """Ids that `fed_by` may name."""
        return {supply.id for supply in self.supplies} | {source.id for source in self.sources}

    def ports_for(self, cells: int) -> int | None:
        """Most ports of a board that takes this many cells; 0 without one, None when no board is known at all."""
        if not self.boards:
            return None
        return max((board.ports for board in self.all_boards() if board.takes(cells)), default=0)


CHAIN = " + "
"""Between the tags of two chained boards."""


def chained(first: Board, second: Board) -> Board:
    """Two boards as one: the second's lead takes one port of the first, the other ports add up.

    Both stay in `parts`, because what passes where decides. The way through both leads counts for every pack.
    """
    return Board(
        id=f"{first.id}{CHAIN}{second.id}",
        ports=first.ports - 1 + second.ports,
        min_cells=max(first.min_cells, second.min_cells),
        max_cells=min(first.max_cells, second.max_cells),
        lead_mohm=first.lead_mohm + second.lead_mohm,
        name=f"{first.name or first.id}{CHAIN}{second.name or second.id}",
        parts=(first, second),
    )


def find(items: Sequence[Item], wanted_id: str | None) -> Item | None:
    """The item with this id, or None.

    wanted_id : its tag; None finds nothing.
    """
    return next((item for item in items if item.id == wanted_id), None)
