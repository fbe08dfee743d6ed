"""Serving the pages on this machine with a production server."""

import logging
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import waitress

from iterum.web.app import LOCAL_HOSTS, create_app

HOST = "127.0.0.1"


def serve(database: Path, port: int, clock: Callable[[], datetime]) -> None:
    """Listen on this machine only, until interrupted."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    app = create_app(database, clock)
    waitress.serve(app, host=HOST, port=port, threads=4, ident="iterum")


__all__ = ["HOST", "LOCAL_HOSTS", "serve"]
