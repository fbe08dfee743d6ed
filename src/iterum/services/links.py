"""Connections to chargers and checkers: found by their stored addresses, read live, kept over loss and return."""

import threading
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace
from datetime import datetime

from iterum.devices.driver import ChannelReading, ChargerDriver, CheckerDriver, Identity, LinkLost, Refused
from iterum.devices.drivers import charger_at, checker_at, whole
from iterum.devices.lines import DEFAULT_PORT
from iterum.store.database import Store
from iterum.store.runs import Device

CHARGER, CHECKER = "charger", "checker"
LOCAL_PORTS = range(DEFAULT_PORT, DEFAULT_PORT + 4)
"""Where a charger on this machine is looked for."""


WAIT_S, MOST_DEVICES = 0.5, 32
"""So long the watch waits for answers before it judges by what is there; so many devices are read side by side."""


@dataclass(frozen=True)
class Link:
    """One device as it was last met. identity : None while it never answered. lost : what it said when it was lost.

    refused : by channel of the kit, why it would not tell of it.
    """

    device: Device
    identity: Identity | None = None
    heard_at: datetime | None = None
    lost: str | None = None
    refused: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Place:
    """A channel of the kit that a device carries: the driver, and how the device calls it."""

    driver: ChargerDriver
    channel: str
    identity: Identity | None

    @property
    def commands(self) -> bool:
        """Whether it can be set, started and stopped. Raises LinkLost where it was not met yet and is away."""
        return (self.identity or self.driver.identify()).commands

    @property
    def hands(self) -> bool:
        """Whether packs can be plugged in by command. Raises LinkLost where the device was not met yet and is away."""
        return (self.identity or self.driver.identify()).hands


class Links:
    """Every device of this server. Safe to use from several threads."""

    def __init__(self, store: Store, timeout_s: float = 2.0) -> None:
        self._store, self._timeout_s = store, timeout_s
        self._lock = threading.Lock()
        self._chargers: dict[str, ChargerDriver] = {}
        self._checkers: dict[str, CheckerDriver] = {}
        self._links: dict[tuple[str, str], Link] = {}
        self.latest: dict[str, tuple[ChannelReading, datetime]] = {}
        """By channel of the kit: what it showed last, and when."""
        self._devices: tuple[Device, ...] | None = None
        self.wait_s = WAIT_S
        self._readers = ThreadPoolExecutor(MOST_DEVICES, "reader")
        self._reading: dict[tuple[str, str], Future[None]] = {}

    def devices(self) -> tuple[Device, ...]:
        """The devices that are kept."""
        if self._devices is None:
            with self._store.reading() as repository:
                self._devices = repository.runs.devices()
        return self._devices

    def add(self, kind: str, address: str, kit_channels: tuple[str, ...]) -> Link:
        """Meet a device and keep it. Its channels go to those of the kit with the same name, else in their order.

        Raises LinkLost when it does not answer, Refused for an address that no driver understands.
        """
        address = whole(address)
        if kind == CHECKER:
            device, identity = Device(kind, address, self._checker(address).identify().name, {}), None
        else:
            identity = self._driver(address).identify()
            device = Device(kind, address, identity.name, _paired(kit_channels, identity.channels))
        with self._store.writing(changes_session=False) as repository:
            repository.runs.save_device(device)
        self._devices = None
        return self._keep(Link(device, identity))

    def drop(self, key: int) -> None:
        """Talk to a device no more."""
        with self._store.writing(changes_session=False) as repository:
            repository.runs.drop_device(key)
        self.renew()

    def renew(self) -> None:
        """Look again which devices are kept."""
        self._devices = None
        self.latest.clear()

    def look_for(self, kit_channels: tuple[str, ...]) -> list[Link]:
        """Chargers on this machine that answer and are not kept yet."""
        known = {device.address for device in self.devices()}
        devices = []
        for port in LOCAL_PORTS:
            address = whole(f"127.0.0.1:{port}")
            if address in known:
                continue
            try:
                devices.append(self.add(CHARGER, address, kit_channels))
            except (LinkLost, Refused):
                continue
        return devices

    def links(self) -> tuple[Link, ...]:
        """Every device as it was last met."""
        known = self._links
        return tuple(replace(known.get(_key(device), Link(device)), device=device) for device in self.devices())

    def _keep(self, link: Link) -> Link:
        with self._lock:
            self._links[_key(link.device)] = link
        return link

    def _driver(self, address: str) -> ChargerDriver:
        with self._lock:
            if address not in self._chargers:
                self._chargers[address] = charger_at(address, self._timeout_s)
            return self._chargers[address]

    def place(self, channel: str) -> Place | None:
        """The device that carries a channel of the kit; None where nobody does."""
        for device in self.devices():
            if device.kind == CHARGER and channel in device.channels:
                link = self._links.get(_key(device))
                driver = self._driver(device.address)
                return Place(driver, device.channels[channel], link.identity if link else None)
        return None

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

    def read_all(self, now: datetime) -> None:
        """Ask every charger, each by a reader of its own, and wait a moment for the answers.

        Who takes longer is not waited for: what it shows is there when it comes, and it is asked again after that. One
        that does not answer is noted as lost; a channel that refuses leaves the others read.
        """
        for device in self.devices():
            under_way = self._reading.get(_key(device))
            if device.kind == CHARGER and (under_way is None or under_way.done()):
                self._reading[_key(device)] = self._readers.submit(self._read, device, now)
        done, _ = wait(list(self._reading.values()), timeout=self.wait_s)
        for reader in done:
            reader.result()  # a defect of ours is told, not swallowed

    def _read(self, device: Device, now: datetime) -> None:
        link = self._links.get(_key(device), Link(device))
        refused: dict[str, str] = {}
        try:
            driver = self._driver(device.address)
            identity = link.identity or driver.identify()
            for channel, theirs in device.channels.items():
                try:
                    self.latest[channel] = (driver.read(theirs), now)
                except Refused as refusal:
                    refused[channel] = str(refusal)
        except (LinkLost, Refused) as error:
            self._keep(replace(link, device=device, lost=str(error)))
        else:
            self._keep(replace(link, device=device, identity=identity, heard_at=now, lost=None, refused=refused))

    def close(self) -> None:
        """Let go of every connection."""
        self._readers.shutdown(wait=False, cancel_futures=True)
        for charger in self._chargers.values():
            charger.close()
        for checker in self._checkers.values():
            checker.close()


def _key(device: Device) -> tuple[str, str]:
    return device.kind, device.address


def _paired(ours: tuple[str, ...], theirs: tuple[str, ...]) -> dict[str, str]:
    """Channels of the kit with those of a device: by name, or in order where no name agrees."""
    same = {name: name for name in ours if name in theirs}
    return same or dict(zip(ours, theirs, strict=False))
