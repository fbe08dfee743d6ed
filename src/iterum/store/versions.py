"""Bringing a database to the tables of this Iterum: what is lacking is added, nothing else changes.

A field that is new needs no step: its column is made from it, and its default stands in the rows from before. What
will have to be changed otherwise one day gets a higher `VERSION` and a step of its own here.
"""

import sqlite3
from collections.abc import Iterator
from pathlib import Path

from sqlalchemy import Connection, inspect
from sqlalchemy.exc import OperationalError
from sqlalchemy.schema import CreateColumn, CreateIndex

from iterum.store.tables import metadata
from iterum.store.troubles import newer, not_ours, older

VERSION = 18
FIRST = 17
"""The first version that can be brought to this one; databases from before were never released."""
ARCHIVES = tuple(f"{version:04}" for version in range(VERSION, 0, -1))
"""Versions of archives that can be taken in, the newest first: their lines name what they hold."""


def version_of(database: sqlite3.Connection | Connection) -> int | None:
    """The version of a database; None for a new one, 0 for one of somebody else. Raises what its driver raises for a
    file that is none.

    database : open.
    """
    execute = database.exec_driver_sql if isinstance(database, Connection) else database.execute
    version = int(execute("PRAGMA user_version").fetchone()[0])  # type: ignore[index]  # it always says one
    if version:
        return version
    try:  # where versions stood before
        row = execute("SELECT version_num FROM alembic_version").fetchone()
    except (sqlite3.OperationalError, OperationalError):
        tables = execute("SELECT count(*) FROM sqlite_master").fetchone()[0]  # type: ignore[index]
        return 0 if tables else None
    return 0 if row is None else int(row[0])


def refuse_other(path: Path, version: int) -> None:
    """Raises StoreTrouble for a version that this Iterum does not know.

    path : of the database. version : that it has.
    """
    if version > VERSION:
        raise newer(path)
    if version == 0:
        raise not_ours(path)
    if version < FIRST:
        raise older(path)


def lacking(connection: Connection) -> Iterator[str]:
    """The statements that add what a database lacks."""
    there, dialect = inspect(connection), connection.dialect
    names = set(there.get_table_names())
    for table in metadata.sorted_tables:
        if table.name not in names:
            continue
        columns = {column["name"] for column in there.get_columns(table.name)}
        for column in table.columns:
            if column.name not in columns:
                yield f"ALTER TABLE {table.name} ADD COLUMN {CreateColumn(column).compile(dialect=dialect)}"
        indexes = {index["name"] for index in there.get_indexes(table.name)}
        yield from (str(CreateIndex(index).compile(dialect=dialect)) for index in table.indexes
                    if index.name not in indexes)  # fmt: skip


def bring_up(connection: Connection) -> None:
    """Add what a database lacks, and say of which version it is.

    connection : within a transaction.
    """
    for statement in list(lacking(connection)):
        connection.exec_driver_sql(statement)
    metadata.create_all(connection)
    connection.exec_driver_sql("DROP TABLE IF EXISTS alembic_version")
    connection.exec_driver_sql(f"PRAGMA user_version = {VERSION}")
