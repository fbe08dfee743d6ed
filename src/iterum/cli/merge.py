"""`iterum merge`."""

import sys
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT
from iterum.cli.folder import database_in, held
from iterum.core.fields import BadInput
from iterum.core.say import say
from iterum.services.archiving import Archives
from iterum.store.database import Store
from iterum.store.troubles import StoreTrouble


@command("merge")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--data", type=click.Path(file_okay=False, path_type=Path), help=say("Folder of the database."))
def merge(file: Path, data: Path | None) -> None:
    """See `iterum merge --help`."""
    database = database_in(data, False)
    with held(database):
        try:
            store = Store(database)
            taken = Archives(store).take(file.read_bytes())
            store.close()
        except BadInput as bad:
            for fault in bad.faults:
                click.echo(f"{file}: {fault}", err=True)
            click.echo(say("Nothing was taken."), err=True)
            sys.exit(BAD_INPUT)
        except StoreTrouble as trouble:
            click.echo(str(trouble), err=True)
            sys.exit(BAD_INPUT)
    counts = [sum(part.values()) for part in (taken.new, taken.here, taken.left_out)]
    click.echo("{} rows are new, {} were here already, {} are left out.".format(*counts))
