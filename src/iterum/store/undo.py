"""What an act changed, row by row, so that it can be taken back.

While an act is written, temporary triggers note each row that it touches and what that was; see SQLite's own
description of undo by triggers (sqlite.org/undoredo.html). Kept are the row as it was and as it became: a row that
has changed since, or that others rest on, stays as it is, and the answer says how many did.
"""
# ruff: noqa: S608 (tables and columns are named by us, values are bound)

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, Table, delete, insert, select, update
from sqlalchemy.exc import IntegrityError

from iterum.core.reasons import NotThere
from iterum.store import tables

KEPT = 50
"""Acts that can be taken back, the latest."""
NOT_UNDONE = {("meeting", "revision")}
"""Columns that only ever rise."""
WATCHED = tuple(
    table for table in tables.metadata.sorted_tables if table.name not in ("undos", "undo_rows", "phones", "kept_ids")
)


@dataclass
class Undoable:
    """An act as it goes on: `key` of what can be taken back, None as long as nothing was changed."""

    what: str
    at: datetime
    key: int | None = None


@dataclass(frozen=True)
class Done:
    """An act that can be taken back, or was."""

    key: int
    at: datetime
    what: str
    undone_at: datetime | None


@dataclass(frozen=True)
class Undone:
    """What came of taking an act back: rows that are as before, and rows that stay because they were used since."""

    what: str
    back: int
    stayed: int


def _columns(table: Table) -> list[str]:
    return [column.name for column in table.c if (table.name, column.name) not in NOT_UNDONE]


def _key_of(table: Table) -> str:
    (column,) = table.primary_key.columns
    return column.name


def _quoted(names: list[str], before: str = "") -> str:
    return ", ".join(f'{before}"{name}"' for name in names)


def _script(table: Table) -> Iterator[str]:
    """What notes the rows of a table that are touched: their keys in order, and what they were, once."""
    name, names, key = table.name, _columns(table), _key_of(table)
    yield f"CREATE TEMP TABLE was_{name} AS SELECT {_quoted(names)} FROM main.{name} WHERE 0"
    for act, row in (("INSERT", "NEW"), ("UPDATE", "OLD"), ("DELETE", "OLD")):
        note = f"INSERT OR IGNORE INTO touched (name, row) VALUES ('{name}', {row}.\"{key}\");"
        keep = (
            f"INSERT INTO was_{name} SELECT {_quoted(names, 'OLD.')} WHERE NOT EXISTS "
            f"(SELECT 1 FROM touched WHERE name = '{name}' AND row = OLD.\"{key}\");"
        )
        first = "" if act == "INSERT" else keep
        yield f"CREATE TEMP TRIGGER {act.lower()}_{name} AFTER {act} ON main.{name} BEGIN {first} {note} END"


def watch(connection: Connection) -> None:
    """From here on note what is changed in this transaction."""
    run = connection.exec_driver_sql
    run("CREATE TEMP TABLE touched (at INTEGER PRIMARY KEY, name TEXT, row INTEGER, UNIQUE (name, row))")
    for table in WATCHED:
        for statement in _script(table):
            run(statement)


def keep(connection: Connection, act: Undoable) -> None:
    """Keep what was noted since `watch`, and note no more."""
    run = connection.exec_driver_sql
    for table in WATCHED:
        for verb in ("insert", "update", "delete"):
            run(f"DROP TRIGGER temp.{verb}_{table.name}")
    by_name = {table.name: table for table in WATCHED}
    changed = []
    for name, row_key in run("SELECT name, row FROM touched ORDER BY at").all():
        table = by_name[name]
        was, became = _row(connection, table, row_key, f"temp.was_{name}"), _row(connection, table, row_key)
        if table is tables.meeting and was is None:  # it stays, for its revision, with nothing said
            was = {column: row_key if column == "key" else None for column in _columns(table)}
        if was != became:
            changed.append({"table_name": name, "row_key": row_key, "was": was, "became": became})
    for table in WATCHED:
        run(f"DROP TABLE temp.was_{table.name}")
    run("DROP TABLE temp.touched")
    if not changed:
        return
    undos = tables.undos
    if act.key is None:
        statement = insert(undos).values(at=act.at, what=act.what).returning(undos.c.key)
        act.key = int(connection.execute(statement).scalar_one())
        connection.execute(delete(undos).where(undos.c.key <= act.key - KEPT))
    connection.execute(insert(tables.undo_rows), [{"undo_key": act.key, **row} for row in changed])


def _row(connection: Connection, table: Table, row_key: int, place: str | None = None) -> dict[str, Any] | None:
    """A row as the database holds it: texts, numbers and nothing, without what they stand for."""
    where = place or f"main.{table.name}"
    asked = f'SELECT {_quoted(_columns(table))} FROM {where} WHERE "{_key_of(table)}" = ?'
    kept = connection.exec_driver_sql(asked, (row_key,)).mappings().first()
    return None if kept is None else dict(kept)


def acts(connection: Connection) -> tuple[Done, ...]:
    """What can be taken back, or was, the latest first."""
    rows = connection.execute(select(tables.undos).order_by(tables.undos.c.key.desc())).all()
    return tuple(Done(row.key, row.at, row.what, row.undone_at) for row in rows)


def tags_in(connection: Connection, key: int) -> set[str]:
    """Tags of packs and kit that taking an act back would change."""
    return {
        str(side["id"]) for row in _rows_of(connection, key) for side in (row.was, row.became) if side and "id" in side
    }


def brought(connection: Connection, key: int, table: Table) -> set[int]:
    """Rows of a table that an act brought, and that are as it brought them."""
    rows = [row for row in _rows_of(connection, key) if row.table_name == table.name and row.was is None]
    return {row.row_key for row in rows if _row(connection, table, row.row_key) == row.became}


def _rows_of(connection: Connection, key: int) -> Sequence[Row[Any]]:
    """What an act touched, the last first."""
    rows = tables.undo_rows
    return connection.execute(select(rows).where(rows.c.undo_key == key).order_by(rows.c.key.desc())).all()


def undo(connection: Connection, key: int, at: datetime) -> Undone:
    """Take an act back: the last row that it touched first. Raises NotThere for one that is gone, or taken back."""
    undos = tables.undos
    taken = update(undos).where(undos.c.key == key, undos.c.undone_at.is_(None)).values(undone_at=at)
    what = connection.scalar(taken.returning(undos.c.what))
    if what is None:
        raise NotThere("act", key)
    by_name = {table.name: table for table in WATCHED}
    rows = _rows_of(connection, key)
    back = sum(_put_back(connection, by_name[row.table_name], row.row_key, row.was, row.became) for row in rows)
    return Undone(str(what), back, len(rows) - back)


def _put_back(connection: Connection, table: Table, row_key: int, was: Any, became: Any) -> bool:
    """Whether a row is as it was before: not where it has changed since, or something rests on it."""
    if _row(connection, table, row_key) != became:
        return False
    key = _key_of(table)
    with connection.begin_nested() as part:
        try:
            if became is not None:
                delete_it = f'DELETE FROM {table.name} WHERE "{key}" = ?'
                if was is None:
                    connection.exec_driver_sql(delete_it, (row_key,))
                    return True
                changes = ", ".join(f'"{name}" = ?' for name in was)
                connection.exec_driver_sql(
                    f'UPDATE {table.name} SET {changes} WHERE "{key}" = ?',
                    (*was.values(), row_key),
                )
                return True
            places = ", ".join("?" * len(was))
            names = _quoted(list(was))
            connection.exec_driver_sql(
                f"INSERT INTO {table.name} ({names}) VALUES ({places})",
                tuple(was.values()),
            )
            return True
        except IntegrityError:
            part.rollback()
            return False
