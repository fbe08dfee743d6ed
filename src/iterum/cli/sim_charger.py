"""`iterum sim-charger`."""

import sys
import threading
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT, load, printable
from iterum.core.fields import BadInput
from iterum.core.say import say
from iterum.demo import demo_session
from iterum.devices.lines import DEFAULT_PORT, THIS_MACHINE
from iterum.devices.sim_server import SimServer


@command("sim-charger")
@click.argument("file", type=click.Path(), required=False)
@click.option(
    "--port", default=DEFAULT_PORT, show_default=True, type=click.IntRange(0, 65535), help=say("0: any free one.")
)
@click.option("--speed", default=1.0, show_default=True, type=click.FloatRange(0.1, 3600), help="Time-lapse.")
@click.option(
    "--until-input-ends", is_flag=True, help=say("Stop when standard input is closed, as by a parent that ends.")
)
def sim_charger(file: str | None, port: int, speed: float, until_input_ends: bool) -> None:
    """See `iterum sim-charger --help`."""
    try:
        session = load(file) if file else demo_session()
    except BadInput as error:
        for fault in error.faults:
            click.echo(printable(f"{Path(file or '').name}: {fault}"), err=True)
        sys.exit(BAD_INPUT)
    try:
        server = SimServer(session, THIS_MACHINE, port, speed)
    except OSError:
        click.echo(say("Port {port} is taken. Choose another with --port.", port=port), err=True)
        sys.exit(BAD_INPUT)
    channels = ", ".join(server.bench.channels)
    click.echo(
        say(
            "Simulated charger at {this_machine}:{port}, ×{speed:plain}, channels {channels}",
            this_machine=THIS_MACHINE,
            port=server.port,
            speed=speed,
            channels=channels,
        )
    )
    sys.stdout.flush()
    server.start()
    try:
        if until_input_ends:
            sys.stdin.read()
        else:
            threading.Event().wait()
    except KeyboardInterrupt:
        pass
    server.close()
