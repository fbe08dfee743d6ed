"""What Iterum asks of a charger, whichever it is. A driver that keeps this can be read, started and stopped."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from iterum.core.season.run import Status


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
class ChannelReading:
    """What a channel shows. cells : as it counts them at its balance plug; minutes : since it started, its own clock.

    set_a, set_end_v : what it is set to, None before anything was dialled. why : of a fault or a stop.
    """

    status: Status
    cells: int
    pack_v: float
    current_a: float
    charge_mah: float
    minutes: float
    cell_v: tuple[float, ...] = ()
    temperature_c: float | None = None
    input_v: float | None = None
    set_a: float | None = None
    set_end_v: float | None = None
    why: str | None = None


@dataclass(frozen=True)
class Identity:
    """Who it is. hands : whether packs can be plugged in by command, which only a simulated bench does.

    commands : whether it can be set, started and stopped; one that only tells what it does cannot.
    """

    name: str
    channels: tuple[str, ...]
    hands: bool = False
    commands: bool = True


STOP_TRIES = 3
NO_CHARGE_A = 0.05
"""Amps that a channel may still show when it does not charge."""


def stop_surely(tell: Callable[[], object], read: Callable[[], ChannelReading]) -> None:
    """Tell a channel to stop until a reading shows that it did. Raises Refused where it charges on, and LinkLost."""
    why = "it was told to stop and charges on"
    for _ in range(STOP_TRIES):
        try:
            tell()
        except Refused as refusal:
            why = f"it refuses to stop: {refusal}"
        shown = read()
        if shown.status is not Status.CHARGING and abs(shown.current_a) <= NO_CHARGE_A:
            return
    raise Refused(why)


class ChargerDriver(Protocol):
    """A charger. Every method raises LinkLost when it does not answer, and Refused when it will not."""

    @classmethod
    def at(cls, address: str, timeout_s: float) -> "ChargerDriver":
        """The driver for an address of its scheme; nothing is opened yet. Raises Refused, with the mend."""

    def identify(self) -> Identity:
        """Its name and channels."""

    def read(self, channel: str) -> ChannelReading:
        """What a channel shows now."""

    def dial(self, channel: str, settings: Settings) -> None:
        """Set a channel; nothing starts."""

    def start(self, channel: str) -> None:
        """Begin to charge, or go on after a pause."""

    def stop(self, channel: str) -> None:
        """Stop charging at once; it counts only when a reading shows it. Raises Refused where it charges on."""

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
