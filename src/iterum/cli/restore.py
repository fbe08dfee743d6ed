"""`iterum restore`."""

import sys
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT, present
from iterum.cli.folder import database_in, database_options, held
from iterum.core.say import say
from iterum.store.copies import restore as restore_copy
from iterum.store.troubles import StoreTrouble


@command("restore")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@database_options
def restore(file: Path, data: Path | None, demo: bool) -> None:
    """See `iterum restore --help`."""
    database = database_in(data, demo)
    with held(database):
        try:
            kept = restore_copy(file, database, present())
        except StoreTrouble as trouble:
            click.echo(str(trouble), err=True)
            sys.exit(BAD_INPUT)
    click.echo(
        say("{database} is {file} from now on.", database=database, file=file)
        + (say(" What was there is {kept}.", kept=kept) if kept else "")
    )
