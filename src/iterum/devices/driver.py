"""What Iterum asks of a charger, whichever it is. A driver that keeps this can be read, started and stopped."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar, Protocol

from iterum.core.run.guard import ChannelReading
from iterum.core.say import say


class LinkLost(ConnectionError):
    """The device does not answer. It may come back; what it did meanwhile is read from it then."""


class Refused(RuntimeError):
    """The device answers that it will not do what was asked, and why."""


@dataclass(frozen=True)
class Settings:
    """What is dialled: cells, amps, full volts per cell, capacity and safety timer."""

    cells: int
    current_a: float
    end_v: float
    capacity_mah: float
    timer_min: float


@dataclass(frozen=True)
class Identity:
    """Who a device is. hands : whether packs can be plugged in by command, which only a simulated bench does.

    commands : whether it can be set, started and stopped; one that only tells what it does cannot. serial : what tells
    it from others of its kind, None where it does not say.
    """

    name: str
    channels: tuple[str, ...]
    hands: bool = False
    commands: bool = True
    serial: str | None = None

    def is_same(self, told: "Identity") -> bool:
        """Whether a device that tells this of itself can be the one that was met before."""
        if self.serial is not None or told.serial is not None:
            return self.serial == told.serial
        return self.name == told.name and set(self.channels) <= set(told.channels)


def stopped_by(tell: Callable[[], object], read: Callable[[], ChannelReading]) -> None:
    """Tell a channel to stop, and look at it. Raises Refused where it still charges, and LinkLost."""
    why = say("it was told to stop and still charges")
    try:
        tell()
    except Refused as refusal:
        why = say("it refuses to stop: {refusal}", refusal=refusal)
    if not read().off:
        raise Refused(why)


class ChargerDriver(Protocol):
    """A charger. Every method raises LinkLost when it does not answer, and Refused when it will not.

    commands : whether it takes commands; a driver that only listens cannot stop anything.
    """

    commands: ClassVar[bool]

    @classmethod
    def at(cls, address: str, timeout_s: float) -> "ChargerDriver":
        """The driver for an address of its scheme; nothing is opened yet. Raises Refused, with the mend."""

    def identify(self) -> Identity:
        """Its name and channels."""

    def expect(self, identity: Identity) -> None:
        """Believe nothing from now on of a device that says that it is another one."""

    def stand_by(self) -> bool:
        """Keep the way open by which a stop is sent; whether it is open. Waits for no reading."""

    def read(self, channel: str) -> ChannelReading:
        """What a channel shows now."""

    def dial(self, channel: str, settings: Settings) -> None:
        """Set a channel; nothing starts."""

    def start(self, channel: str) -> None:
        """Begin to charge, or go on after a pause."""

    def stop(self, channel: str) -> None:
        """Send one stop; it counts only when a reading shows it. Raises Refused where it still charges."""

    def plug(self, channel: str, packs: tuple[str, ...]) -> None:
        """Plug packs in, or unplug all (none given): a pair of hands on a simulated bench."""

    def close(self) -> None:
        """Let go of the connection."""


class CheckerDriver(Protocol):
    """A cell checker. Raises LinkLost and Refused as a charger does."""

    @classmethod
    def at(cls, address: str, timeout_s: float) -> "CheckerDriver":
        """The driver for an address of its scheme."""

    def identify(self) -> Identity:
        """Its name."""

    def check(self, pack_id: str) -> tuple[float, ...]:
        """Rest volts of each cell of the pack it is plugged into, V."""

    def close(self) -> None:
        """Let go of the connection."""
