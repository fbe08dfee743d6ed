"""What boards, channels, chargers, supplies and sources can each do."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TypeVar

DEFAULT_LEAD_MOHM = 5.0
"""Plug and lead of one pack's branch. Common practice, no source."""
DEFAULT_CAPACITY_STEP_MAH = 100.0
"""Step of a charger's capacity setting. Common practice, no source."""


@dataclass(frozen=True)
class Board:
    """A parallel board: all ports are common inside.

    ports : packs it takes. min_cells, max_cells : cell counts its balance sockets take.
    max_current_a : what its lead and plug carry in all. port_fuse_a : fuse of each port, None without.
    chains_to : id of the board it can be hung behind.
    """

    id: str
    ports: int
    min_cells: int = 1
    max_cells: int = 14
    max_current_a: float | None = None
    port_fuse_a: float | None = None
    lead_mohm: float = DEFAULT_LEAD_MOHM
    connector: str | None = None
    chains_to: str | None = None
    name: str | None = None
    note: str | None = None

    def takes(self, cells: int) -> bool:
        """Whether its balance sockets take packs of this many cells."""
        return self.min_cells <= cells <= self.max_cells


@dataclass(frozen=True)
class Channel:
    """One output of a charger."""

    id: str
    max_current_a: float
    max_power_w: float
    min_current_a: float = 0.1
    current_step_a: float = 0.1
    min_cells: int = 1
    max_cells: int = 6
    discharge_power_w: float | None = None
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
    power_by_input_v : (input V, W) pairs, linear between, flat outside.
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
    name: str | None = None
    note: str | None = None

    def power_at(self, input_v: float) -> float | None:
        """Charging watts it gives at an input voltage; None where no such limit is known."""
        points = sorted(self.power_by_input_v)
        if not points:
            return None
        if input_v <= points[0][0]:
            return points[0][1]
        for (low_v, low_w), (high_v, high_w) in pairwise(points):
            if input_v <= high_v:
                return low_w + (high_w - low_w) * (input_v - low_v) / (high_v - low_v)
        return points[-1][1]


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

    energy_wh : Wh it holds, None for endless. usable_fraction : the part that may be taken (0..1).
    quiet_hours : (from, until) times of day, "HH:MM", in which it must not run.
    """

    id: str
    voltage_v: float | None = None
    max_current_a: float | None = None
    max_power_w: float | None = None
    energy_wh: float | None = None
    usable_fraction: float = 1.0
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
        """Wh that may be taken from it; None for endless."""
        return None if self.energy_wh is None else self.energy_wh * self.usable_fraction


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
        """Boards as they are, then pairs that can be chained."""
        pairs = [(find(self.boards, board.chains_to), board) for board in self.boards if board.chains_to]
        return (*self.boards, *(chained(first, second) for first, second in pairs if first and first is not second))

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
    """Two boards as one: ports add up; all amps pass the first board's lead, the second's its fuse as well.

    On the safe side, no more than the smallest of leads and of the fuse between them, and the longest way for all.
    """
    amps = [a for a in (first.max_current_a, second.max_current_a, first.port_fuse_a) if a is not None]
    fuses = [a for a in (first.port_fuse_a, second.port_fuse_a) if a is not None]
    return Board(
        id=f"{first.id}{CHAIN}{second.id}",
        ports=first.ports + second.ports,
        min_cells=max(first.min_cells, second.min_cells),
        max_cells=min(first.max_cells, second.max_cells),
        max_current_a=min(amps, default=None),
        port_fuse_a=min(fuses, default=None),
        lead_mohm=first.lead_mohm + second.lead_mohm,
        connector=second.connector,
        name=f"{first.name or first.id}{CHAIN}{second.name or second.id}",
    )


def find(items: Sequence[Item], wanted_id: str | None) -> Item | None:
    """The item with this id, or None."""
    return next((item for item in items if item.id == wanted_id), None)
