"""`iterum backup`."""

import sys
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT
from iterum.cli.folder import database_in, database_options
from iterum.core.say import say
from iterum.store.copies import check, copy
from iterum.store.troubles import StoreTrouble


@command("backup")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@database_options
def backup(file: Path, data: Path | None, demo: bool) -> None:
    """See `iterum backup --help`."""
    database = database_in(data, demo)
    try:
        check(database)
        copy(database, file)
    except StoreTrouble as trouble:
        click.echo(str(trouble), err=True)
        sys.exit(BAD_INPUT)
    click.echo(say("{database} is copied to {file}, and the copy was checked.", database=database, file=file))
