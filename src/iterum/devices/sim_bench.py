"""A simulated bench: packs with the physics of the electrical model, a charger with several channels, faults on demand.

Time is given in from outside, in seconds of the bench, so that it can run in real time, in time-lapse, or in a test.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from math import inf

import numpy as np

from iterum.core.electrical.circuit import Branch, Feeding, branch_of, run
from iterum.core.electrical.resistance import Use
from iterum.core.quantities import at_most
from iterum.core.run.guard import ChannelReading
from iterum.core.say import say
from iterum.core.season.run import Status
from iterum.core.things.feed import feed_of
from iterum.core.things.kit import Channel, Charger
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.session import Session
from iterum.core.things.setup import least_power_w
from iterum.devices.driver import Refused, Settings

AIR_C = 19.0
WARMS_K_A_C = 2.0
"""Kelvin above the air for each C of charge: enough to be seen, far from warm."""
HOT_K_A_MIN = 4.0
COOLS_S = 900.0
BALANCES_S = 1200.0
"""Cells that differ at the start come together in about this time."""
LAG_V_A_MIN = 0.012
SAG_V = 0.4
"""Volts that a source drops at its full watts."""


@dataclass
class SimPack:
    """One pack: its circuit, how far each cell stands off the mean, and its warmth."""

    pack: Pack
    branch: Branch
    offsets_v: list[float]
    temperature_c: float = AIR_C
    hot: bool = False
    lagging_cell: int | None = None

    @property
    def rest_v(self) -> float:
        """Volts of the pack with nothing connected."""
        return self.branch.source_v

    def as_it_stands(self) -> Pack:
        """The pack as a checker without rounding, and a thermometer, would read it now."""
        mean_v = self.rest_v / self.pack.cells
        cell_v = tuple(mean_v + volts for volts in self.offsets_v)
        return replace(self.pack, reading=Reading.of_cells(cell_v, temperature_c=self.temperature_c))


@dataclass
class SimChannel:
    """One channel: what it is, what is plugged in, what is dialled, what it does."""

    charger: Charger
    channel: Channel
    power_w: float
    source_v: float | None
    packs: list[str] = field(default_factory=list)
    settings: Settings | None = None
    status: Status = Status.IDLE
    charge_mah: float = 0.0
    seconds: float = 0.0
    node_v: float = 0.0
    current_a: float = 0.0
    why: str | None = None
    count_off: int = 0
    sag_v: float = 0.0


class SimBench:
    """Packs and channels of one session. Every method is called under the caller's lock."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.packs: dict[str, SimPack] = {}
        for pack in session.packs:
            if pack.reading is not None and pack.chemistry.table is not None:
                mean_v = pack.reading.pack_v / pack.cells
                cells = pack.reading.cell_v or (mean_v,) * pack.cells
                apart_v = [volts - mean_v for volts in cells]
                read_c = pack.reading.temperature_c
                warm_c = AIR_C if read_c is None else read_c
                self.packs[pack.id] = SimPack(pack, branch_of(pack, 0.0, Use.CHARGE), apart_v, warm_c)
        self.channels: dict[str, SimChannel] = {}
        for charger, channel in session.kit.channels():
            feed = feed_of(charger, session.kit)
            power_w = least_power_w(session.bench.setup(None, channel.id))
            self.channels[channel.id] = SimChannel(charger, channel, power_w, feed.input_v)
        self.silent_s = 0.0
        self.log: list[str] = []
        self.plugged: list[tuple[Pack, ...]] = []
        """Packs that were plugged in together, each time, as they stood then."""

    def channel(self, name: str) -> SimChannel:
        """A channel. Raises Refused for one that is not there."""
        if name not in self.channels:
            raise Refused(say("no channel {name}", name=name))
        return self.channels[name]

    # ------------------------------------------------------------------ hands

    def plug(self, name: str, packs: Sequence[str]) -> None:
        """Plug packs in; none takes all off. Raises Refused for packs that cannot be there."""
        channel = self.channel(name)
        for tag in packs:
            if tag not in self.packs:
                raise Refused(say("no pack {tag}", tag=tag))
            if any(tag in other.packs for other in self.channels.values() if other is not channel):
                raise Refused(say("{tag} hangs on another channel", tag=tag))
        if len({(self.packs[tag].pack.family) for tag in packs}) > 1:
            raise Refused(say("these packs cannot share a board"))
        if channel.status is Status.CHARGING:
            self.stop(name, "unplugged")
        channel.packs = list(packs)
        if packs:
            self.plugged.append(self.standing(packs))
        channel.status, channel.charge_mah, channel.seconds = Status.IDLE, 0.0, 0.0
        channel.settings, channel.why = None, None
        channel.node_v = self._joined_v(channel)

    def standing(self, tags: Sequence[str]) -> tuple[Pack, ...]:
        """Packs as they stand now; those of which nothing is known are left out."""
        return tuple(self.packs[tag].as_it_stands() for tag in tags if tag in self.packs)

    def _joined_v(self, channel: SimChannel) -> float:
        branches = [self.packs[tag].branch for tag in channel.packs]
        if not branches:
            return 0.0
        total_s = sum(1 / branch.r0_ohm for branch in branches)
        return sum(branch.source_v / branch.r0_ohm for branch in branches) / total_s

    # ------------------------------------------------------------------ the charger

    def dial(self, name: str, settings: Settings) -> None:
        """Set a channel. Raises Refused outside what it can do."""
        channel = self.channel(name)
        if channel.status is Status.CHARGING:
            raise Refused(say("it is charging"))
        limits = channel.channel
        if not (
            at_most(limits.min_current_a, settings.current_a) and at_most(settings.current_a, limits.max_current_a)
        ):
            raise Refused(
                say(
                    "{current_a:g} A is not within {min_current_a:g} to {max_current_a:g} A",
                    current_a=settings.current_a,
                    min_current_a=limits.min_current_a,
                    max_current_a=limits.max_current_a,
                )
            )
        channel.settings = settings

    def start(self, name: str) -> None:
        """Begin, or go on. Raises Refused when nothing is plugged in or set, or the count does not agree."""
        channel = self.channel(name)
        if channel.status is Status.CHARGING:
            return
        if channel.settings is None or not channel.packs:
            raise Refused("nothing is set" if channel.packs else "nothing is plugged in")
        if channel.settings.cells != self._counted(channel):
            raise Refused(
                say(
                    "it counts {counted} cells and is set to {cells}",
                    counted=self._counted(channel),
                    cells=channel.settings.cells,
                )
            )
        channel.status, channel.why = Status.CHARGING, None
        self.log.append(f"start {name} {','.join(channel.packs)}")

    def stop(self, name: str, why: str = "by hand") -> None:
        """Stop at once."""
        channel = self.channel(name)
        if channel.status is Status.CHARGING:
            channel.status, channel.why, channel.current_a = Status.STOPPED, why, 0.0
            self.log.append(f"stop {name} {why.replace(' ', '-')} {channel.charge_mah:.0f}")

    def _counted(self, channel: SimChannel) -> int:
        return self.packs[channel.packs[0]].pack.cells + channel.count_off if channel.packs else 0

    def fault(self, kind: str, name: str, value: str | None = None) -> None:
        """A fault on demand: link, count, lag, hot, watts, sag. Raises Refused for another."""
        number = float(value) if value is not None else None
        if kind == "link":
            self.silent_s = number if number is not None else 30.0
            return
        channel = self.channel(name)
        if kind == "count":
            channel.count_off = int(number if number is not None else -1)
        elif kind == "watts":
            channel.power_w = number if number is not None else 20.0
        elif kind == "sag":
            channel.sag_v = number if number is not None else 3.0
        elif kind == "lag" and channel.packs:
            for tag in channel.packs:  # balance leads join the same cell of all
                self.packs[tag].lagging_cell = int(number if number is not None else 2) - 1
        elif kind == "hot" and channel.packs:
            self.packs[channel.packs[0]].hot = True
        else:
            raise Refused(say("no such fault here: {kind}", kind=kind))

    # ------------------------------------------------------------------ time

    def advance(self, seconds: float) -> None:
        """Let time pass on the whole bench."""
        if seconds <= 0:
            return
        self.silent_s = max(self.silent_s - seconds, 0.0)
        hanging = set()
        for channel in self.channels.values():
            if channel.packs:
                hanging |= set(channel.packs)
                self._advance(channel, seconds)
        for tag, item in self.packs.items():
            if tag not in hanging:
                item.branch = item.branch.rested(seconds)
                self._cool(item, 0.0, seconds)

    def _advance(self, channel: SimChannel, seconds: float) -> None:
        packs = [self.packs[tag] for tag in channel.packs]
        branches = [item.branch for item in packs]
        settings = channel.settings
        charging = channel.status is Status.CHARGING and settings is not None
        feeding = Feeding()
        if charging and settings is not None:
            feeding = Feeding(settings.current_a, channel.power_w, settings.end_v * settings.cells)
        trace = run(branches, feeding, seconds)
        for item, branch in zip(packs, trace.last, strict=True):
            item.branch = branch
        channel.node_v = float(trace.node_v[-1])
        channel.current_a = float(trace.feed_a[-1]) if charging else 0.0
        taken_s = float(trace.t_s[-1])
        if charging and settings is not None:
            amps = trace.feed_a
            moved_as = float(np.sum(np.diff(trace.t_s) * (amps[1:] + amps[:-1]) / 2))
            channel.charge_mah += moved_as / 3.6
            channel.seconds += taken_s
            if trace.done:
                channel.status, channel.current_a = Status.DONE, 0.0
                self.log.append(f"done {channel.channel.id} {channel.charge_mah:.0f}")
            elif channel.seconds > settings.timer_min * 60:
                self.stop(channel.channel.id, "safety timer")
            elif channel.charge_mah > settings.capacity_mah * 1.2:
                self.stop(channel.channel.id, "capacity")
        for item in packs:
            rate_c = channel.current_a / sum(one.pack.capacity_ah for one in packs) if charging else 0.0
            self._cool(item, rate_c, seconds)
            self._balance(item, seconds, charging)

    def _cool(self, item: SimPack, rate_c: float, seconds: float) -> None:
        if item.hot and rate_c > 0:
            item.temperature_c += HOT_K_A_MIN * seconds / 60
            return
        goal_c = AIR_C + WARMS_K_A_C * rate_c
        item.temperature_c = goal_c + (item.temperature_c - goal_c) * 2.718 ** (-seconds / COOLS_S)

    def _balance(self, item: SimPack, seconds: float, charging: bool) -> None:
        if charging:
            item.offsets_v = [volts * 2.718 ** (-seconds / BALANCES_S) for volts in item.offsets_v]
        if charging and item.lagging_cell is not None and item.lagging_cell < len(item.offsets_v):
            others = len(item.offsets_v) - 1
            drop_v = LAG_V_A_MIN * seconds / 60
            for cell in range(len(item.offsets_v)):
                item.offsets_v[cell] += -drop_v if cell == item.lagging_cell else drop_v / others

    # ------------------------------------------------------------------ what is shown

    def read(self, name: str) -> ChannelReading:
        """What a channel shows."""
        channel = self.channel(name)
        packs = [self.packs[tag] for tag in channel.packs]
        cells = self._counted(channel)
        offsets_v = [sum(column) / len(packs) for column in zip(*(item.offsets_v for item in packs), strict=True)]
        mean_v = channel.node_v / packs[0].pack.cells if packs else 0.0
        drawn_w = channel.current_a * channel.node_v
        settings = channel.settings
        return ChannelReading(
            status=channel.status,
            cells=cells,
            pack_v=round(channel.node_v, 3),
            current_a=round(channel.current_a, 3),
            charge_mah=round(channel.charge_mah, 1),
            minutes=round(channel.seconds / 60, 2),
            cell_v=tuple(round(mean_v + volts, 3) for volts in offsets_v),
            temperature_c=round(max((item.temperature_c for item in packs), default=AIR_C), 1),
            input_v=self._input_v(channel, drawn_w),
            set_a=settings.current_a if settings else None,
            set_end_v=settings.end_v if settings else None,
            why=channel.why,
        )

    def _input_v(self, channel: SimChannel, drawn_w: float) -> float | None:
        if channel.source_v is None:
            return None
        part = drawn_w / channel.power_w if channel.power_w not in (0, inf) else 0.0
        return round(channel.source_v - SAG_V * min(part, 1.0) - channel.sag_v, 2)

    def check(self, tag: str) -> tuple[float, ...]:
        """What a cell checker reads at a pack, rounded as one does. Raises Refused for a pack not there."""
        if tag not in self.packs:
            raise Refused(say("no pack {tag}", tag=tag))
        item = self.packs[tag]
        mean_v = item.rest_v / item.pack.cells
        return tuple(round(mean_v + volts, 2) for volts in item.offsets_v)
