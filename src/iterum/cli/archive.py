"""`iterum archive`."""

import sys
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT, present
from iterum.cli.folder import database_in, database_options
from iterum.core.say import say
from iterum.services.archiving import Archives
from iterum.store.copies import check
from iterum.store.database import Store
from iterum.store.troubles import StoreTrouble


@command("archive")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@database_options
def archive(file: Path, data: Path | None, demo: bool) -> None:
    """See `iterum archive --help`."""
    database = database_in(data, demo)
    try:
        check(database)
        store = Store(database)
        text = Archives(store).text(present())
        store.close()
        file.write_text(text, encoding="utf-8")
    except (StoreTrouble, OSError) as trouble:
        click.echo(str(trouble), err=True)
        sys.exit(BAD_INPUT)
    click.echo(say("{count} rows are in {file}.", count=text.count(chr(10)) - 1, file=file))
