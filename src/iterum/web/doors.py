"""The two doors: one on this machine alone, and a second one on the local network, open only while somebody shares.

Both are the same server library. The second speaks TLS with a certificate of our own authority, renews it and its
names when the network changes, and closes by itself when its time is over.
"""

import ipaddress
import logging
import socket
import threading
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from ssl import TLSVersion
from typing import Any

from cheroot.wsgi import Server
from flask import Flask

from iterum.services.sharing import NAME, NETWORKS, PORT, Shared, Sharing

HOST = "127.0.0.1"
LOOK_EVERY_S, THREADS, SLOWEST_S = 5.0, 12, 10
SHARED = "iterum.shared"
"""In the environment of a request: whether it came by the second door."""
_Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


def own_addresses() -> tuple[str, ...]:
    """IPv4 addresses of this machine on its networks; only private ones are shared on."""
    import ifaddr  # noqa: PLC0415 (only where something is shared)

    addresses = [str(one.ip) for adapter in ifaddr.get_adapters() for one in adapter.ips if one.is_IPv4]
    return tuple(dict.fromkeys(text for text in addresses if _is_private(text)))


def _is_private(text: str) -> bool:
    return any(ipaddress.ip_address(text) in ipaddress.ip_network(network) for network in NETWORKS)


def server(app: _Wsgi, host: str, port: int, shared: bool) -> Server:
    """A server for one of the doors."""

    def door(environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        environ[SHARED] = shared
        return app(environ, start)

    made = Server((host, port), door, numthreads=THREADS, server_name="iterum", timeout=SLOWEST_S)
    made.software, made.shutdown_timeout = "iterum", 2
    made.max_request_header_size = 65_536
    return made


class SecondDoor:
    """The door on the network. `open` and `close` may be called from any thread, and again."""

    def __init__(self, app: Flask, sharing: Sharing, folder: Path, clock: Callable[[], datetime]) -> None:
        self._app, self._sharing, self._folder, self._clock = app, sharing, folder, clock
        self._lock = threading.RLock()
        self._server: Server | None = None
        self._named: Any = None
        self._over = threading.Event()
        self._port = PORT
        self.authority: Any = None

    def open(self, until: datetime | None, plain: bool = False, port: int | None = None) -> Shared:
        """Share. until : when it closes by itself. plain : without encryption. Raises OSError for a taken port.

        port : the one of the last time where none is given.
        """
        with self._lock:
            self.close()
            port = self._port = port or self._port
            addresses = own_addresses()
            shared = Shared(until, plain, port, addresses)
            _refuse_taken(port)
            opened = server(self._app, "0.0.0.0", port, shared=True)  # noqa: S104 (it was asked for)
            if not plain:
                opened.ssl_adapter, told = self._encrypted(addresses)
                shared = replace(shared, fingerprint=told)
            opened.prepare()
            self._server, self._over = opened, threading.Event()
            threading.Thread(target=self._serve, args=(opened,), name="second door", daemon=True).start()
            self._sharing.shared = replace(shared, named=self._announce(addresses, port))
            threading.Thread(target=self._look, args=(self._over,), name="network", daemon=True).start()
            return self._sharing.shared

    @staticmethod
    def _serve(opened: Server) -> None:
        with suppress(OSError):
            opened.serve()

    def _encrypted(self, addresses: tuple[str, ...]) -> tuple[Any, str]:
        """What encrypts at these addresses, and the fingerprint that a browser shows of it."""
        from cheroot.ssl.builtin import BuiltinSSLAdapter  # noqa: PLC0415 (only where something is shared)

        from iterum.services.authority import Authority, fingerprint  # noqa: PLC0415

        if self.authority is None:
            self.authority = Authority(self._folder, self._clock())
        leaf = self.authority.server(addresses, (NAME, _own_name()), self._clock())
        adapter = BuiltinSSLAdapter(str(leaf), str(leaf))
        adapter.context.minimum_version = TLSVersion.TLSv1_2
        return adapter, fingerprint(leaf)

    def _announce(self, addresses: tuple[str, ...], port: int) -> bool:
        """Say on the network where `iterum.local` is. Where that cannot be done, addresses still work."""
        self._silence()
        if not addresses:
            return False
        from zeroconf import InterfaceChoice, IPVersion, NonUniqueNameException, ServiceInfo, Zeroconf  # noqa: PLC0415

        try:
            named = Zeroconf(interfaces=InterfaceChoice.All, ip_version=IPVersion.V4Only)
            info = ServiceInfo("_https._tcp.local.", "Iterum._https._tcp.local.", port, server=f"{NAME}.",
                               addresses=[socket.inet_aton(item) for item in addresses])  # fmt: skip
            named.register_service(info, allow_name_change=True, cooperating_responders=True)
        except (OSError, NonUniqueNameException) as error:
            logging.getLogger("iterum").warning("%s is not announced: %s", NAME, error)
            return False
        self._named = named
        return True

    def _silence(self) -> None:
        named, self._named = self._named, None
        if named is not None:
            with suppress(OSError, RuntimeError):
                named.close()

    def _look(self, over: threading.Event) -> None:
        """Follow the network, and close in time."""
        while not over.wait(LOOK_EVERY_S):
            with self._lock:
                shared = self._sharing.shared
                if over.is_set() or shared is None or self._server is None:
                    return
                if not self._sharing.is_open(self._clock()):
                    self.close()
                    return
                addresses = own_addresses()
                if addresses != shared.addresses:
                    if not shared.plain:
                        self._server.ssl_adapter, told = self._encrypted(addresses)
                        shared = replace(shared, fingerprint=told)
                    named = self._announce(addresses, shared.port)
                    self._sharing.shared = replace(shared, addresses=addresses, named=named)

    def close(self) -> None:
        """Share no more."""
        with self._lock:
            self._over.set()
            self._silence()
            opened, self._server = self._server, None
            self._sharing.shared = None
            if opened is not None:
                opened.stop()


def _refuse_taken(port: int) -> None:
    """Raises OSError for a port that somebody else has."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        probe.bind(("0.0.0.0", port))  # noqa: S104 (asked, and let go at once)


def _own_name() -> str:
    return f"{socket.gethostname().split('.')[0].lower() or 'bench'}.local"


def names_of(shared: Shared) -> tuple[str, ...]:
    """Host names that the second door answers to."""
    return (*shared.addresses, NAME, _own_name())
