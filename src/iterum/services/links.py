"""Devices that are kept, which of their channels is which of the kit, and the guardian that reads
and stops them.
"""

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Protocol

from iterum.core.reasons import NotThere, Unsafe, reason
from iterum.core.run.guard import ChannelReading
from iterum.core.say import say
from iterum.core.season.outlook import Observation
from iterum.core.season.records import KeptRun
from iterum.core.season.run import Act, State
from iterum.core.season.watching import Finding
from iterum.devices.driver import CheckerDriver, Identity, LinkLost, Refused, Settings
from iterum.devices.drivers import checker_at, commands_at, whole
from iterum.devices.lines import DEFAULT_PORT
from iterum.guardian.reports import ChannelReport, DeviceLink, Report
from iterum.services.desk import Desk
from iterum.store.database import Store
from iterum.store.runs import Device

CHARGER, CHECKER = "charger", "checker"
LOCAL_PORTS = range(DEFAULT_PORT, DEFAULT_PORT + 4)
"""Where a charger on this machine is looked for."""


class Guard(Protocol):
    """The guardian, in this process or in its own."""

    def link(self, devices: Sequence[DeviceLink]) -> None:
        """Read these devices from now on, and no others."""

    def arm(self, run: KeptRun, seen: Sequence[Observation] = ()) -> None:
        """Guard a batch, or go on with what has changed of it."""

    def arm_as_kept(self, run: KeptRun, seen: Sequence[Observation], told: State | None) -> None:
        """Guard a batch as the database has it, where nobody has brought it on meanwhile."""

    def disarm(self, run_key: int) -> None:
        """A person says that the packs of a batch are off."""

    def observe(self, run_key: int, seen: Observation) -> tuple[Finding, ...]:
        """Take what a person typed about a batch as evidence."""

    def forget(self, run_key: int, seen: Sequence[Observation]) -> None:
        """What was typed about a batch was taken back."""

    def has_seen(self, run_key: int) -> None:
        """Somebody has seen what is wrong with a batch."""

    def meet(self, address: str) -> Identity:
        """Who answers at an address."""

    def read(self, name: str) -> ChannelReading:
        """What a channel shows at this moment."""

    def dial(self, name: str, settings: Settings) -> None:
        """Set a channel; nothing starts."""

    def start(self, name: str, act: Act) -> None:
        """Start a channel."""

    def stop(self, name: str, act: Act | None = None) -> None:
        """Stop a channel, until a reading shows it."""

    def plug(self, name: str, packs: tuple[str, ...]) -> None:
        """Plug packs in by command."""

    def remember(self, run_key: int, act: Act, by: str, why: str | None) -> None:
        """An act was done that could not be written down."""

    def channels(self) -> tuple[ChannelReport, ...]:
        """Every guarded channel at this moment."""

    def report(self, written: int = 0) -> Report:
        """Everything known now."""

    def look(self) -> None:
        """Look once, where it does not look by itself."""

    def close(self) -> None:
        """Leave it alone."""


@dataclass(frozen=True)
class Link:
    """One device as it was last met. identity : None while it never answered. lost : what it said
    when it was lost.

    refused : by channel of the kit, why it would not tell of it. unbound : its channels that no
    channel of the kit was confirmed for. doubtful : another device tells the same of itself, and
    nobody has said since Iterum started which is which.
    """

    device: Device
    identity: Identity | None = None
    heard_at: datetime | None = None
    lost: str | None = None
    refused: Mapping[str, str] = field(default_factory=dict)
    unbound: tuple[str, ...] = ()
    doubtful: bool = False


@dataclass(frozen=True)
class Place:
    """A channel of the kit that a device carries."""

    guard: Guard
    channel: str
    identity: Identity | None
    commands: bool

    @property
    def hands(self) -> bool:
        """Whether packs can be plugged in by command."""
        return self.identity is not None and self.identity.hands


class Links:
    """Every device of this server. Safe to use from several threads."""

    def __init__(self, store: Store, guard: Guard, timeout_s: float = 2.0, since: datetime | None = None) -> None:
        """since : when this server started; channels that were confirmed before are asked about
        where in doubt.
        """
        self._store, self.guard, self._timeout_s, self._since = store, guard, timeout_s, since
        self._lock = threading.Lock()
        self._checkers: dict[str, CheckerDriver] = {}
        self._devices: tuple[Device, ...] | None = None
        self._linked: tuple[str, tuple[DeviceLink, ...]] = ("", ())
        self.report = Report("")
        """What the guardian told last."""

    # ------------------------------------------------------------------ devices

    def devices(self) -> tuple[Device, ...]:
        """The devices that are kept."""
        if self._devices is None:
            with self._store.reading() as repository:
                self._devices = repository.runs.devices()
        return self._devices

    def link(self, life: str = "") -> None:
        """Have the guardian read these devices. What hangs on their channels is armed before.

        life : of the guardian; a new one has to be told.
        """
        bound = tuple(
            DeviceLink(device.address, device.identity, dict(device.channels))
            for device in self.devices()
            if device.kind == CHARGER and device.channels
        )
        if (life, bound) != self._linked:
            self.guard.link(bound)
            self._linked = life, bound

    def add(self, kind: str, address: str) -> Device:
        """Meet a device and keep it. A person confirms afterwards which of its channels is which.

        Raises LinkLost when it does not answer, Refused for an address that no driver
        understands, and for a device that is kept already at another address.
        """
        address = whole(address)
        if kind == CHECKER:
            device = Device(kind, address, self._checker(address).identify().name, {})
        else:
            identity = self.guard.meet(address)
            twin = next((item for item in self.devices() if item.kind == CHARGER and item.address != address
                         and identity.serial is not None and item.identity is not None
                         and item.identity.serial == identity.serial), None)  # fmt: skip
            if twin is not None:
                raise Refused(
                    say(
                        "{identity}, serial {serial}, is kept at {address}: remove that first",
                        identity=identity.name,
                        serial=identity.serial,
                        address=twin.address,
                    )
                )
            known = next((item for item in self.devices() if item.address == address), None)
            same = known is not None and known.identity is not None and known.identity.is_same(identity)
            device = Device(kind, address, identity.name, dict(known.channels) if known and same else {}, 0, identity)
        with self._store.writing(changes_session=False) as repository:
            repository.runs.save_device(device)
        self.renew()
        return next(item for item in self.devices() if (item.kind, item.address) == (kind, address))

    def confirm(self, key: int, named: Sequence[tuple[str, str]], now: datetime) -> None:
        """A person says which channel of the kit each channel of a device is.

        named : (channel of the kit, channel as the device calls it). Raises NotThere, and Unsafe
        where one is taken or named twice, or where a batch hangs on one that would change.
        """
        device = next((item for item in self.devices() if item.key == key), None)
        if device is None:
            raise NotThere("device", key)
        channels, before = dict(named), dict(device.channels)
        held = {item.name for item in self.guard.channels() if item.run_key is not None}
        changed = {ours for ours in before.keys() | channels.keys() if before.get(ours) != channels.get(ours)}
        ours_named = [ours for ours, _ in named]
        wrong = [reason("binding_twice", channel=ours) for ours in channels if ours_named.count(ours) > 1]
        wrong += [
            reason("binding_taken", channel=ours, device=other.name or other.address)
            for other in self.devices()
            if other.key != key
            for ours in channels
            if ours in other.channels
        ]
        wrong += [reason("binding_held", channel=ours) for ours in sorted(changed & held) if ours in before]
        if wrong:
            raise Unsafe(tuple(wrong))
        with self._store.writing(changes_session=False) as repository:
            repository.runs.save_device(replace(device, channels=channels, confirmed_at=now))
        self.renew()

    def drop(self, key: int) -> None:
        """Talk to a device no more."""
        with self._store.writing(changes_session=False) as repository:
            repository.runs.drop_device(key)
        self.renew()

    def renew(self) -> None:
        """Look again which devices are kept."""
        self._devices = None
        self.link(self._linked[0])

    def look_for(self) -> list[Device]:
        """Chargers on this machine that answer and are not kept yet."""
        known = {device.address for device in self.devices()}
        found = []
        for port in LOCAL_PORTS:
            address = whole(f"127.0.0.1:{port}")
            if address in known:
                continue
            try:
                found.append(self.add(CHARGER, address))
            except (LinkLost, Refused):
                continue
        return found

    def links(self) -> tuple[Link, ...]:
        """Every device as it was last met."""
        told = {item.address: item for item in self.report.devices}
        links = []
        for device in self.devices():
            report = told.get(device.address)
            identity = (report.identity if report else None) or device.identity
            theirs = identity.channels if identity is not None else ()
            unbound = tuple(channel for channel in theirs if channel not in device.channels.values())
            doubtful = self.doubtful(device)
            if report is None:
                links.append(Link(device, identity, unbound=unbound, doubtful=doubtful))
            else:
                links.append(Link(device, identity, report.heard_at, report.lost, report.refused, unbound, doubtful))
        return tuple(links)

    def doubtful(self, device: Device) -> bool:
        """Whether a device might be another one: it has no serial number, and a second one tells
        the same of itself.
        """
        mine = device.identity
        if device.kind != CHARGER or mine is None or mine.serial is not None or not device.channels:
            return False
        alike = any(
            other.key != device.key and other.identity is not None and other.identity.serial is None
            and (other.identity.name, set(other.identity.channels)) == (mine.name, set(mine.channels))
            for other in self.devices() if other.kind == CHARGER
        )  # fmt: skip
        confirmed = device.confirmed_at is not None and (self._since is None or device.confirmed_at >= self._since)
        return alike and not confirmed

    # ------------------------------------------------------------------ channels

    def place(self, channel: str) -> Place | None:
        """The device that carries a channel of the kit; None where no device was confirmed for
        it.
        """
        for device in self.devices():
            if device.kind == CHARGER and channel in device.channels:
                told = next((item for item in self.report.devices if item.address == device.address), None)
                identity = (told.identity if told else None) or device.identity
                return Place(self.guard, channel, identity, commands_at(device.address))
        return None

    def in_doubt(self, channel: str) -> bool:
        """Whether a channel is bound to a device that might be another one."""
        return any(channel in device.channels and self.doubtful(device) for device in self.devices())

    def channel(self, name: str) -> ChannelReport | None:
        """What the guardian told last of a channel."""
        return next((item for item in self.report.channels if item.name == name), None)

    def latest(self, name: str) -> tuple[ChannelReading, datetime] | None:
        """What a channel showed last, and when; None where it showed nothing."""
        told = self.channel(name)
        if told is None or told.reading is None or told.read_at is None:
            return None
        return told.reading, told.read_at

    # ------------------------------------------------------------------ the checker

    def checker(self) -> CheckerDriver | None:
        """The cell checker, where there is one."""
        for device in self.devices():
            if device.kind == CHECKER:
                return self._checker(device.address)
        return None

    def _checker(self, address: str) -> CheckerDriver:
        with self._lock:
            if address not in self._checkers:
                self._checkers[address] = checker_at(address, self._timeout_s)
            return self._checkers[address]

    def close(self) -> None:
        """Let go of every connection."""
        self.guard.close()
        for checker in self._checkers.values():
            checker.close()


def bind_by_name(links: "Links", desk: Desk, device: Device, now: datetime) -> None:
    """Confirm that a device's channels are those of the kit with the same names: known of
    simulated devices alone.
    """
    ours = {channel.id for _, channel in desk.session().kit.channels()}
    theirs = device.identity.channels if device.identity is not None else ()
    links.confirm(device.key, [(name, name) for name in theirs if name in ours], now)


def proposed(link: Link, kit_channels: Sequence[str], taken: Sequence[str]) -> dict[str, str]:
    """Channels of the kit that a device's unbound channels may be: where the names say it, and
    only then.

    kit_channels : of the kit. taken : those that other devices carry. Returns channel of the
    device -> of the kit.
    """
    free = [name for name in kit_channels if name not in taken and name not in link.device.channels]
    return {theirs: theirs for theirs in link.unbound if theirs in free}
