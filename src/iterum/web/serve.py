"""Serving the pages on this machine with a production server."""

import logging
import signal
from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path

import waitress
from flask import Flask

from iterum.devices.driver import LinkLost, Refused
from iterum.web.app import LOCAL_HOSTS, create_app

HOST = "127.0.0.1"


def serve(
    database: Path,
    port: int,
    clock: Callable[[], datetime],
    addresses: Sequence[tuple[str, str]] = (),
    speed: float = 1.0,
) -> None:
    """Listen on this machine only, until interrupted, and watch every charge. addresses : (kind, address)."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    app = create_app(database, clock, watch=True, speed=speed)
    meet(app, addresses)
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # a system that stops us is a person's Ctrl+C
    try:
        waitress.serve(app, host=HOST, port=port, threads=4, ident="iterum")
    finally:
        found = app.extensions["iterum"]
        found["watch"].stop()
        found["links"].close()
        found["store"].close()


def meet(app: Flask, addresses: Sequence[tuple[str, str]]) -> None:
    """Keep the devices that were named; one that does not answer yet is told of and left aside."""
    found = app.extensions["iterum"]
    channels = tuple(channel.id for _, channel in found["desk"].session().kit.channels())
    for kind, address in addresses:
        try:
            found["links"].add(kind, address, channels)
        except (LinkLost, Refused) as error:
            logging.getLogger("iterum").warning("%s at %s was not met: %s", kind, address, error)


__all__ = ["HOST", "LOCAL_HOSTS", "serve"]
