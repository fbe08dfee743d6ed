"""`iterum guard`: the guardian's process, which `iterum serve` starts by itself."""

import os
from datetime import datetime
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import present
from iterum.core.say import ENGLISH, say, speaking
from iterum.guardian.clock import SteadyClock
from iterum.guardian.remote import run


@command("guard")
@click.argument("folder", type=click.Path(file_okay=False, exists=True, path_type=Path))
@click.option("--begun", help=say("The moment at which its clock begins; now without it."))
@click.option("--begun-s", type=float, help=say("Seconds of the machine's steady clock at that moment."))
@click.option("--speed", default=1.0, show_default=True, type=click.FloatRange(1, 600), help="Time-lapse.")
@click.option("--detach", is_flag=True, help=say("Go on in the background, as nobody's child."))
def guard(folder: Path, begun: str | None, begun_s: float | None, speed: float, detach: bool) -> None:
    """See `iterum guard --help`."""
    if detach and hasattr(os, "fork") and os.fork():
        return
    clock = SteadyClock(present, speed=speed)
    if begun is not None and begun_s is not None:
        clock.time = datetime.fromisoformat(begun), begun_s, speed
    with speaking(ENGLISH):  # what it tells is said again by who reads it
        run(folder, clock)
