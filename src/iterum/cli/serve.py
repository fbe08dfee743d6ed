"""`iterum serve`."""

import socket
import sys
from collections.abc import Container
from pathlib import Path
from shutil import rmtree
from typing import Any
from urllib.parse import urlsplit

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT, present, printable
from iterum.cli.folder import database_in, held
from iterum.cli.share import show
from iterum.core.say import say
from iterum.demo import MEETINGS
from iterum.demo.live import start_bench, start_demo
from iterum.devices.driver import Refused
from iterum.devices.drivers import CHECKERS, DRIVERS, charger_at, checker_at, whole
from iterum.guardian.clock import SteadyClock
from iterum.guardian.remote import RemoteGuardian
from iterum.services.sharing import PORT
from iterum.store.copies import check, last_moment
from iterum.store.troubles import StoreTrouble
from iterum.web.serve import HOST, Ask, guarded_beside
from iterum.web.serve import serve as run_server


@command("serve")
@click.option(
    "--port", default=8765, show_default=True, type=click.IntRange(1, 65535), help=say("Port on this machine.")
)
@click.option("--data", type=click.Path(file_okay=False, path_type=Path), help=say("Folder of the database."))
@click.option(
    "--demo",
    is_flag=False,
    flag_value="meeting",
    type=click.Choice(list(MEETINGS)),
    help=say("Use a made-up meeting, in a database of its own; club: four pilots at one table."),
)
@click.option("--fresh", is_flag=True, help=say("With --demo: forget what was changed in it and start over."))
@click.option(
    "--charger",
    "chargers",
    multiple=True,
    metavar="ADDRESS",
    help="A charger to read: HOST:PORT, or log:PORT?channel=NAME; may be given again.",
)
@click.option("--checker", metavar="HOST:PORT", help=say("A cell checker to read packs with."))
@click.option("--speed", default=1.0, show_default=True, type=click.FloatRange(1, 600),
              help=say("With --demo: time-lapse, for clock and simulated charger alike."))  # fmt: skip
@click.option(
    "--share",
    "way",
    is_flag=False,
    flag_value="encrypted",
    type=click.Choice(["encrypted", "plain"]),
    help=say("Open a second door for paired phones on the local network; plain: everybody there can read along."),
)
@click.option(
    "--share-port", default=PORT, show_default=True, type=click.IntRange(1, 65535), help=say("Port of that door.")
)
def serve(
    port: int, data: Path | None, demo: str | None, fresh: bool, chargers: tuple[str, ...], checker: str | None,
    speed: float, **share: Any,
) -> None:  # fmt: skip
    """See `iterum serve --help`."""
    if speed != 1 and not demo:
        click.echo(say("--speed goes with --demo only: a real charger keeps real time."), err=True)
        sys.exit(BAD_INPUT)
    database = database_in(data, demo is not None, demo or "")
    addresses = [("charger", _address(text, DRIVERS)) for text in chargers]
    addresses += [("checker", _address(checker, CHECKERS))] if checker else []
    _refuse_taken_port(port)
    with held(database):
        try:
            asked = Ask(share["share_port"], share["way"] == "plain", show) if share["way"] else None
            _serve(database, port, addresses, speed, demo, fresh, asked)
        except StoreTrouble as trouble:
            click.echo(str(trouble), err=True)
            sys.exit(BAD_INPUT)


def _serve(
    database: Path, port: int, addresses: list[tuple[str, str]], speed: float, demo: str | None,
    fresh: bool, share: Ask | None,
) -> None:  # fmt: skip
    clock = SteadyClock(present, None if demo else last_moment(database), speed=speed)
    bench = None
    try:
        if demo:
            if fresh:
                _forget(database, clock)
            bench = start_bench(speed, demo)
            start_demo(database, clock, bench.port, demo)
        elif database.exists():
            check(database)
        here = f"http://{HOST}:{port}/"
        told = say("Iterum is at {here}  (data in {database}; Ctrl+C stops it)", here=here, database=database)
        click.echo(told)
        run_server(database, port, clock, addresses, speed, share, simulated=demo is not None)
    finally:
        if bench is not None:
            bench.stop()


def _forget(database: Path, clock: SteadyClock) -> None:
    """Take a demo away, and what was guarded of it: the batches of the new one have the same numbers."""
    guarded = guarded_beside(database)
    if guarded.is_dir():
        RemoteGuardian(guarded, clock.time).end()
        rmtree(guarded, ignore_errors=True)
    for part in ("", "-wal", "-shm"):
        database.with_name(database.name + part).unlink(missing_ok=True)


def _address(text: str, known: Container[str]) -> str:
    """HOST:PORT, or an address with its scheme; anything else ends the command as bad input."""
    address = whole(text)
    try:
        if urlsplit(address).scheme in known:
            (charger_at if known is DRIVERS else checker_at)(address, 1.0)
            return address
        raise Refused(say("no driver speaks to it"))
    except Refused as error:
        click.echo(f"{printable(text)}: {error}", err=True)
        sys.exit(BAD_INPUT)


def _refuse_taken_port(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, port))
        except OSError:
            free = port + 1
            told = say(
                "Port {port} is taken. Choose another: --port {free}, or PORT={free} make demo.", port=port, free=free
            )
            click.echo(told, err=True)
            sys.exit(BAD_INPUT)
