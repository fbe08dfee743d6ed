"""Serving the pages on this machine, and on the network where that was asked for, with a production server."""

import logging
import signal
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from threading import Event, Thread

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
    guard = RemoteGuardian(database.parent / f"{database.stem}.guardian", clock.time)
    app = create_app(database, clock, watch=True, speed=speed, guard=guard)
    meet(app, addresses)
    parts = app.extensions["iterum"]
    here = server(app, HOST, port)
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # a system that stops us is a person's Ctrl+C
    try:
        if share is not None:
            shared = parts["door"].open(None, share.plain, share.port)
            share.tell(shared, parts["sharing"].offer(Role.ALL, clock()))
        here.start()
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


def rehearse(database: Path, rehearsal: Rehearsal, address: str, over: Event, told: Callable[[str], None]) -> None:
    """Serve a rehearsal on a free port of this machine until it is over. address : of its simulated charger."""
    app = create_app(database, rehearsal.clock, watch=True, rehearsal=rehearsal)
    app.extensions["iterum"]["over"] = over
    meet(app, ((CHARGER, address), (CHECKER, address)), confirmed=True)
    parts = app.extensions["iterum"]
    here = server(app, HOST, 0)
    here.prepare()
    told(f"http://{HOST}:{here.bind_addr[1]}/")
    Thread(target=here.serve, daemon=True).start()
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        over.wait()
    finally:
        here.stop()
        parts["watch"].stop()
        parts["links"].close()
        parts["work"].close()
        parts["store"].close()


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
