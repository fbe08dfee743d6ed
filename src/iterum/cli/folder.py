"""Where the data lies, and who holds it: one server to a folder."""

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import click
import platformdirs
from filelock import FileLock, Timeout

from iterum.cli.common import BAD_INPUT
from iterum.core.say import say

_Function = TypeVar("_Function", bound=Callable[..., Any])


def database_options(function: _Function) -> _Function:
    """`--data FOLDER` and `--demo`, for a command that works on one database."""
    demo = click.option("--demo", is_flag=True, help=say("The made-up meeting's database."))
    data = click.option("--data", type=click.Path(file_okay=False, path_type=Path), help=say("Folder of the database."))
    return data(demo(function))


def database_in(data: Path | None, demo: bool, meeting: str = "") -> Path:
    """The database of a folder; of the user's own without one. meeting : which made-up one, where it is the demo."""
    folder = data or platformdirs.user_data_path("iterum")
    return folder / ("club.sqlite3" if meeting == "club" else "demo.sqlite3" if demo else "iterum.sqlite3")


@contextmanager
def held(database: Path) -> Iterator[None]:
    """The folder for oneself; where another server has it, says so and ends."""
    try:
        database.parent.mkdir(parents=True, exist_ok=True)
        lock = FileLock(database.with_name(f"{database.stem}.lock"), timeout=0)
        lock.acquire()
    except Timeout:
        click.echo(
            say("Iterum runs on {database} already. Use that one, or stop it first.", database=database), err=True
        )
        sys.exit(BAD_INPUT)
    except OSError as error:
        click.echo(
            say("{parent} may not be written to: {strerror}.", parent=database.parent, strerror=error.strerror),
            err=True,
        )
        sys.exit(BAD_INPUT)
    try:
        yield
    finally:
        lock.release()
