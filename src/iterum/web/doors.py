"""The two doors: one on this machine alone, and a second one on the local network, open only while somebody shares.

Both are the same server library. Before the second stands a doorman who speaks TLS with a certificate of our own
authority and passes whole requests only. The certificate and its names are renewed when the network changes, and the
door closes by itself when its time is over.
"""

import ipaddress
import logging
import socket
import ssl
import threading
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from hmac import compare_digest
from pathlib import Path
from typing import Any

from cheroot.wsgi import Server
from flask import Flask

from iterum.services.sharing import NAME, NETWORKS, PORT, Shared, Sharing
from iterum.web.doorman import Doorman

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


class _Server(Server):
    def error_log(self, msg: str = "", level: int = logging.INFO, traceback: bool = False) -> None:
        """What the library has to say, into our own log, which is bounded."""
        logging.getLogger("iterum").log(level, "%s", msg, exc_info=traceback)


def server(app: _Wsgi, host: str, port: int, secret: Callable[[], str] | None = None) -> Server:
    """A server for one of the doors. secret : by which the doorman of the second is known; None for the first."""

    def door(environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        told, address = environ.pop("HTTP_X_ITERUM_DOOR", ""), environ.pop("HTTP_X_ITERUM_FROM", "")
        environ[SHARED] = secret is not None
        if secret is not None:
            if not compare_digest(told, secret()):
                start("403 Forbidden", [("Content-Length", "0")])
                return [b""]
            environ["REMOTE_ADDR"] = address
            environ["wsgi.url_scheme"] = environ.pop("HTTP_X_ITERUM_SCHEME", "https")
        return app(environ, start)

    made = _Server((host, port), door, numthreads=THREADS, server_name="iterum", timeout=SLOWEST_S)
    made.software, made.shutdown_timeout = "iterum", 2
    made.max_request_header_size = 65_536
    return made


class SecondDoor:
    """The door on the network. `open` and `close` may be called from any thread, and again."""

    def __init__(self, app: Flask, sharing: Sharing, folder: Path, clock: Callable[[], datetime]) -> None:
        self._app, self._sharing, self._folder, self._clock = app, sharing, folder, clock
        self._lock = threading.RLock()
        self._server: Server | None = None
        self._doorman: Doorman | None = None
        self._context: ssl.SSLContext | None = None
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
            self._context = None if plain else new_context()
            if self._context is not None:
                shared = replace(shared, fingerprint=self._encrypt(self._context, addresses))
            inside = server(self._app, HOST, 0, secret=self._secret)
            inside.prepare()
            doorman = Doorman("0.0.0.0", port, inside.bind_addr[1], self._context)  # noqa: S104 (it was asked for)
            self._server, self._doorman, self._over = inside, doorman, threading.Event()
            threading.Thread(target=self._serve, args=(inside,), name="second door", daemon=True).start()
            doorman.open()
            self._sharing.shared = replace(shared, named=self._announce(addresses, port))
            threading.Thread(target=self._look, args=(self._over,), name="network", daemon=True).start()
            return self._sharing.shared

    @staticmethod
    def _serve(opened: Server) -> None:
        with suppress(OSError):
            opened.serve()

    def _secret(self) -> str:
        return self._doorman.secret if self._doorman is not None else ""

    def _encrypt(self, context: ssl.SSLContext, addresses: tuple[str, ...]) -> str:
        """Encrypt at these addresses from now on; the fingerprint that a browser shows of it."""
        from iterum.services.authority import Authority, fingerprint  # noqa: PLC0415 (only where something is shared)

        if self.authority is None:
            self.authority = Authority(self._folder, self._clock())
        leaf = self.authority.server(addresses, (NAME, _own_name()), self._clock())
        context.load_cert_chain(str(leaf), str(leaf))
        return fingerprint(leaf)

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
                    if self._context is not None:
                        shared = replace(shared, fingerprint=self._encrypt(self._context, addresses))
                    named = self._announce(addresses, shared.port)
                    self._sharing.shared = replace(shared, addresses=addresses, named=named)

    def close(self) -> None:
        """Share no more."""
        with self._lock:
            self._over.set()
            self._silence()
            opened, self._server = self._server, None
            doorman, self._doorman = self._doorman, None
            self._sharing.shared = None
            if doorman is not None:
                doorman.close()
            if opened is not None:
                opened.stop()


def new_context() -> ssl.SSLContext:
    """TLS 1.2 or later, as a server."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    return context


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
