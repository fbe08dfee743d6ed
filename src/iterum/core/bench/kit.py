"""What boards, channels, chargers, supplies and sources can each do."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TypeVar

DEFAULT_LEAD_MOHM = 5.0
"""Plug and lead of one pack's branch. Common practice, no source."""
DEFAULT_CAPACITY_STEP_MAH = 100.0
"""Step of a charger's capacity setting. Common practice, no source."""


CONNECTOR_A = {
    "PH2.0": 3.0, "JST": 5.0, "XT30": 15.0, "XT60": 30.0, "XT90": 45.0, "EC3": 30.0, "EC5": 60.0, "T-PLUG": 30.0,
    "TAMIYA": 10.0, "AS150": 75.0,
}  # fmt: skip
"""Amps that plugs of these kinds carry for long, the lower of the figures in use. Common practice, no source; the
part's own label comes first."""


def connector_a(name: str | None) -> float | None:
    """Amps that a kind of plug carries for long; None for a kind that is not known here."""
    return None if name is None else CONNECTOR_A.get(name.strip().upper().replace(" ", "").replace("TPLUG", "T-PLUG"))


def same_plug(one: str | None, other: str | None) -> bool:
    """Whether two plugs fit; where one of them is not known, nothing speaks against it."""
    if one is None or other is None:
        return True
    return one.strip().upper() == other.strip().upper()


@dataclass(frozen=True)
class Board:
    """A parallel board: all ports are common inside.

    ports : packs it takes. min_cells, max_cells : cell counts its balance sockets take.
    max_current_a : what its lead and plug carry in all. port_fuse_a : fuse of each port, None without.
    fuse_a : one fuse for all of it, None without. chains_to : id of the board it can be hung behind.
    parts : the two boards of a chain, the first one nearest to the charger; empty for a board by itself.
    """

    id: str
    ports: int
    min_cells: int = 1
    max_cells: int = 14
    max_current_a: float | None = None
    port_fuse_a: float | None = None
    fuse_a: float | None = None
    lead_mohm: float = DEFAULT_LEAD_MOHM
    connector: str | None = None
    chains_to: str | None = None
    name: str | None = None
    note: str | None = None
    parts: tuple["Board", ...] = ()

    def takes(self, cells: int) -> bool:
        """Whether its balance sockets take packs of this many cells."""
        return self.min_cells <= cells <= self.max_cells

    @property
    def part_ids(self) -> tuple[str, ...]:
        """Ids of the boards that are taken when it is: its own, or those of the two of a chain."""
        return tuple(part.id for part in self.parts) or (self.id,)

    @property
    def fewest(self) -> int:
        """Packs from which on it makes sense: a chain only where its first board has no room for all."""
        return self.parts[0].ports + 1 if self.parts else 1


@dataclass(frozen=True)
class Channel:
    """One output of a charger.

    discharge_power_w, discharge_current_a : what it can take out of a pack; None in watts: it cannot discharge.
    """

    id: str
    max_current_a: float
    max_power_w: float
    min_current_a: float = 0.1
    current_step_a: float = 0.1
    min_cells: int = 1
    max_cells: int = 6
    discharge_power_w: float | None = None
    discharge_current_a: float | None = None
    capacity_step_mah: float = DEFAULT_CAPACITY_STEP_MAH
    name: str | None = None

    def takes(self, cells: int) -> bool:
        """Whether it charges packs of this many cells."""
        return self.min_cells <= cells <= self.max_cells


@dataclass(frozen=True)
class Charger:
    """A charger with its channels.

    fed_by : id of a supply or source, None for mains without a limit.
    efficiency : between its input and the packs. total_power_w : shared by its channels.
    power_by_input_v : (input V, W) pairs, linear between, flat outside. mains_power_w : W in all on mains, where that
    differs.
    """

    id: str
    channels: tuple[Channel, ...]
    fed_by: str | None = None
    efficiency: float = 0.85
    total_power_w: float | None = None
    input_min_v: float | None = None
    input_max_v: float | None = None
    max_input_current_a: float | None = None
    power_by_input_v: tuple[tuple[float, float], ...] = ()
    mains_power_w: float | None = None
    name: str | None = None
    note: str | None = None

    def power_at(self, input_v: float | None) -> float | None:
        """Charging watts it gives at an input voltage; the least where that is not known; None without a table."""
        points = sorted(self.power_by_input_v)
        if not points:
            return None
        if input_v is None:
            return min(watts for _, watts in points)
        if input_v <= points[0][0]:
            return points[0][1]
        for (low_v, low_w), (high_v, high_w) in pairwise(points):
            if input_v <= high_v:
                return low_w + (high_w - low_w) * (input_v - low_v) / (high_v - low_v)
        return points[-1][1]

    @property
    def power_on_mains_w(self) -> float | None:
        """Charging watts on mains: as labelled for it, else the most of its table."""
        if self.mains_power_w is not None:
            return self.mains_power_w
        return max((watts for _, watts in self.power_by_input_v), default=None)


@dataclass(frozen=True)
class Supply:
    """A power supply: `max_power_w` is what it gives out, `efficiency` is between its source and its output."""

    id: str
    max_power_w: float
    output_v: float | None = None
    fed_by: str | None = None
    efficiency: float = 0.88
    name: str | None = None
    note: str | None = None


@dataclass(frozen=True)
class Source:
    """Where the energy comes from.

    energy_wh : Wh it holds when filled, None where no budget is known. usable_fraction : the part that may be taken
    (0..1). taken_wh : what was taken from it since it was filled.
    quiet_hours : (from, until) times of day, "HH:MM", in which it must not run.
    """

    id: str
    voltage_v: float | None = None
    max_current_a: float | None = None
    max_power_w: float | None = None
    energy_wh: float | None = None
    usable_fraction: float = 1.0
    taken_wh: float = 0.0
    quiet_hours: tuple[tuple[str, str], ...] = ()
    name: str | None = None
    note: str | None = None

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
        return None if self.energy_wh is None else max(self.energy_wh * self.usable_fraction - self.taken_wh, 0.0)


Item = TypeVar("Item", Board, Charger, Supply, Source)


@dataclass(frozen=True)
class Kit:
    """Everything a pilot has to charge with."""

    boards: tuple[Board, ...] = ()
    chargers: tuple[Charger, ...] = ()
    supplies: tuple[Supply, ...] = ()
    sources: tuple[Source, ...] = ()

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
        """
        if board_id is None:
            return None
        found = find(self.boards, board_id)
        first_id, plus, second_id = board_id.partition(CHAIN)
        if found is not None or not plus:
            return found
        first, second = find(self.boards, first_id), find(self.boards, second_id)
        return chained(first, second) if first and second and first is not second else None

    def channel(self, channel_id: str | None) -> tuple[Charger, Channel] | None:
        """A channel with its charger, None where there is none of this id."""
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
    """The item with this id, or None."""
    return next((item for item in items if item.id == wanted_id), None)
