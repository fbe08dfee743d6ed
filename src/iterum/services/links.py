"""Connections to chargers and checkers: found by their stored addresses, read live, kept over loss and return."""

import threading
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.devices.driver import ChannelReading, Identity, LinkLost, Refused
from iterum.devices.lines import DEFAULT_PORT, LineCharger, LineChecker
from iterum.store.database import Store
from iterum.store.runs import Device

CHARGER, CHECKER = "charger", "checker"
LOCAL_PORTS = range(DEFAULT_PORT, DEFAULT_PORT + 4)
"""Where a charger on this machine is looked for."""


@dataclass(frozen=True)
class Link:
    """One device as it was last met. identity : None while it never answered. lost : what it said when it was lost."""

    device: Device
    identity: Identity | None = None
    heard_at: datetime | None = None
    lost: str | None = None


@dataclass(frozen=True)
class Place:
    """A channel of the kit that a device carries: the driver, and how the device calls it."""

    driver: LineCharger
    channel: str
    identity: Identity | None

    @property
    def hands(self) -> bool:
        """Whether packs can be plugged in by command. Raises LinkLost where the device was not met yet and is away."""
        return (self.identity or self.driver.identify()).hands


class Links:
    """Every device of this server. Safe to use from several threads."""

    def __init__(self, store: Store, timeout_s: float = 2.0) -> None:
        self._store, self._timeout_s = store, timeout_s
        self._lock = threading.Lock()
        self._chargers: dict[tuple[str, int], LineCharger] = {}
        self._checkers: dict[tuple[str, int], LineChecker] = {}
        self._links: dict[tuple[str, str, int], Link] = {}
        self.latest: dict[str, tuple[ChannelReading, datetime]] = {}
        """By channel of the kit: what it showed last, and when."""
        self._devices: tuple[Device, ...] | None = None

    def devices(self) -> tuple[Device, ...]:
        """The devices that are kept."""
        if self._devices is None:
            with self._store.reading() as repository:
                self._devices = repository.runs.devices()
        return self._devices

    def add(self, kind: str, host: str, port: int, kit_channels: tuple[str, ...]) -> Link:
        """Meet a device and keep it. Its channels go to those of the kit with the same name, else in their order.

        Raises LinkLost when it does not answer.
        """
        if kind == CHECKER:
            self._checker(host, port).client.ask("HELLO")
            device, identity = Device(kind, host, port, "checker", {}), None
        else:
            identity = self._driver(host, port).identify()
            device = Device(kind, host, port, identity.name, _paired(kit_channels, identity.channels))
        with self._store.writing(changes_session=False) as repository:
            repository.runs.save_device(device)
        self._devices = None
        return self._keep(Link(device, identity))

    def drop(self, key: int) -> None:
        """Talk to a device no more."""
        with self._store.writing(changes_session=False) as repository:
            repository.runs.drop_device(key)
        self._devices = None
        self.latest.clear()

    def look_for(self, kit_channels: tuple[str, ...]) -> list[Link]:
        """Chargers on this machine that answer and are not kept yet."""
        known = {(device.host, device.port) for device in self.devices()}
        found = []
        for port in LOCAL_PORTS:
            if ("127.0.0.1", port) in known:
                continue
            try:
                found.append(self.add(CHARGER, "127.0.0.1", port, kit_channels))
            except (LinkLost, Refused):
                continue
        return found

    def links(self) -> tuple[Link, ...]:
        """Every device as it was last met."""
        known = self._links
        return tuple(replace(known.get(_key(device), Link(device)), device=device) for device in self.devices())

    def _keep(self, link: Link) -> Link:
        with self._lock:
            self._links[_key(link.device)] = link
        return link

    def _driver(self, host: str, port: int) -> LineCharger:
        with self._lock:
            return self._chargers.setdefault((host, port), LineCharger(host, port, self._timeout_s))

    def place(self, channel: str) -> Place | None:
        """The device that carries a channel of the kit; None where nobody does."""
        for device in self.devices():
            if device.kind == CHARGER and channel in device.channels:
                link = self._links.get(_key(device))
                driver = self._driver(device.host, device.port)
                return Place(driver, device.channels[channel], link.identity if link else None)
        return None

    def checker(self) -> LineChecker | None:
        """The cell checker, where there is one."""
        for device in self.devices():
            if device.kind == CHECKER:
                return self._checker(device.host, device.port)
        return None

    def _checker(self, host: str, port: int) -> LineChecker:
        with self._lock:
            return self._checkers.setdefault((host, port), LineChecker(host, port, self._timeout_s))

    def read_all(self, now: datetime) -> None:
        """Read every channel of every charger; one that does not answer is noted as lost and asked again next time."""
        for device in self.devices():
            if device.kind != CHARGER:
                continue
            driver = self._driver(device.host, device.port)
            link = self._links.get(_key(device), Link(device))
            try:
                identity = link.identity or driver.identify()
                for channel, theirs in device.channels.items():
                    self.latest[channel] = (driver.read(theirs), now)
                self._keep(replace(link, device=device, identity=identity, heard_at=now, lost=None))
            except (LinkLost, Refused) as error:
                self._keep(replace(link, device=device, lost=str(error)))

    def close(self) -> None:
        """Let go of every connection."""
        for charger in self._chargers.values():
            charger.close()
        for checker in self._checkers.values():
            checker.close()


def _key(device: Device) -> tuple[str, str, int]:
    return device.kind, device.host, device.port


def _paired(ours: tuple[str, ...], theirs: tuple[str, ...]) -> dict[str, str]:
    """Channels of the kit with those of a device: by name, or in order where no name agrees."""
    same = {name: name for name in ours if name in theirs}
    return same or dict(zip(ours, theirs, strict=False))
