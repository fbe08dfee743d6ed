"""`iterum restore`."""

import sys
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT, present
from iterum.cli.folder import database_in, held
from iterum.store.copies import restore as restore_copy
from iterum.store.troubles import StoreTrouble


@command("restore")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--data", type=click.Path(file_okay=False, path_type=Path), help="Folder of the database.")
@click.option("--demo", is_flag=True, help="The made-up meeting's database.")
def restore(file: Path, data: Path | None, demo: bool) -> None:
    """See `iterum restore --help`."""
    database = database_in(data, demo)
    with held(database):
        try:
            kept = restore_copy(file, database, present())
        except StoreTrouble as trouble:
            click.echo(str(trouble), err=True)
            sys.exit(BAD_INPUT)
    click.echo(f"{database} is {file} from now on." + (f" What was there is {kept}." if kept else ""))
