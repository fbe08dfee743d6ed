"""Serving the pages on this machine, and on the network where that was asked for, with a production server."""

import logging
import signal
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from threading import Event, Thread

from cheroot.server import HTTPServer
from flask import Flask

from iterum.devices.driver import LinkLost, Refused
from iterum.guardian.clock import SteadyClock
from iterum.guardian.remote import RemoteGuardian
from iterum.services.links import CHARGER, CHECKER, bind_by_name
from iterum.services.rehearsing import Rehearsal
from iterum.services.sharing import Offer, Role, Shared
from iterum.web.app import create_app
from iterum.web.doors import HOST, server
from iterum.web.log_lines import to_standard_error


@dataclass(frozen=True)
class Ask:
    """How to share from the start: at which port, whether without encryption, and who is told how a device comes in."""

    port: int
    plain: bool
    tell: Callable[[Shared, Offer], None]


def serve(
    database: Path,
    port: int,
    clock: SteadyClock,
    addresses: Sequence[tuple[str, str]] = (),
    speed: float = 1.0,
    share: Ask | None = None,
    simulated: bool = False,
) -> None:
    """Listen on this machine, until interrupted, and watch every charge. addresses : (kind, address).

    share : how it is to be shared from the start, where it is. simulated : whether its chargers end with it, so that
    nothing is left to guard.
    """
    to_standard_error()
    with asked_to_end() as over:
        _serve(database, port, clock, addresses, speed, share, simulated, over)


def _serve(
    database: Path, port: int, clock: SteadyClock, addresses: Sequence[tuple[str, str]], speed: float,
    share: Ask | None, simulated: bool, over: Event,
) -> None:  # fmt: skip
    """The same until a flag is set."""
    guard = RemoteGuardian(guarded_beside(database), clock.time)
    app = create_app(database, clock, watch=True, speed=speed, guard=guard)
    meet(app, addresses)
    parts = app.extensions["iterum"]
    here = server(app, HOST, port)
    try:
        if share is not None:
            shared = parts["door"].open(None, share.plain, share.port)
            share.tell(shared, parts["sharing"].offer(Role.ALL, clock()))
        _listen(here, over)
        over.wait()
    finally:
        here.stop()
        parts["door"].close()
        parts["rehearsals"].end()
        parts["watch"].stop()
        if simulated:
            guard.end()
        elif guard.armed:
            logging.getLogger("iterum").warning("packs still hang on chargers: the guardian goes on guarding them")
        parts["links"].close()
        parts["work"].close()
        parts["store"].close()


def guarded_beside(database: Path) -> Path:
    """The folder of what the guardian knows, beside its database."""
    return database.parent / f"{database.stem}.guardian"


def rehearse(database: Path, rehearsal: Rehearsal, address: str, over: Event, told: Callable[[str], None]) -> None:
    """Serve a rehearsal on a free port of this machine until it is over. address : of its simulated charger."""
    app = create_app(database, rehearsal.clock, watch=True, rehearsal=rehearsal)
    app.extensions["iterum"]["over"] = over
    meet(app, ((CHARGER, address), (CHECKER, address)), confirmed=True)
    parts = app.extensions["iterum"]
    here = server(app, HOST, 0)
    try:
        with asked_to_end(over):
            _listen(here, over)
            told(f"http://{HOST}:{here.bind_addr[1]}/")
            over.wait()
    finally:
        here.stop()
        parts["watch"].stop()
        parts["links"].close()
        parts["work"].close()
        parts["store"].close()


@contextmanager
def asked_to_end(over: Event | None = None) -> Iterator[Event]:
    """While it lasts, Ctrl+C and a system that stops us only set a flag.

    An exception in the middle of starting would leave a server that listens and answers nobody: its threads keep the
    process alive, and the port taken. One that comes while something is tidied away would be swallowed.
    """
    flag = Event() if over is None else over
    before = {name: signal.signal(name, lambda *_: flag.set()) for name in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield flag
    finally:
        for name, handler in before.items():
            signal.signal(name, handler)


def _listen(here: HTTPServer, over: Event) -> None:
    """Answer requests in a thread of its own from now on; when that ends, everything ends."""

    def answer() -> None:
        try:
            here.serve()
        finally:
            over.set()

    here.prepare()
    Thread(target=answer, name="listening", daemon=True).start()


def meet(app: Flask, addresses: Sequence[tuple[str, str]], confirmed: bool = False) -> None:
    """Keep the devices that were named; one that does not answer yet is told of and left aside.

    confirmed : whether their channels are those of the kit with the same names, which is known of simulated ones alone.
    """
    parts = app.extensions["iterum"]
    for kind, address in addresses:
        try:
            device = parts["links"].add(kind, address)
            if confirmed and kind == CHARGER:
                bind_by_name(parts["links"], parts["desk"], device, parts["clock"]())
        except (LinkLost, Refused) as error:
            logging.getLogger("iterum").warning("%s at %s was not met: %s", kind, address, error)


__all__ = ["HOST", "serve"]
