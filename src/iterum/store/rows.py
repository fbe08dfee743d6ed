"""Rows of tables for core objects, within one transaction."""

from collections.abc import Hashable, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, Row, Table, insert, update
from sqlalchemy.exc import IntegrityError

from iterum.core.reasons import NotThere
from iterum.core.say import say


class TagTaken(ValueError):
    """The tag is used already, by something in use or retired."""

    def __init__(self, tag: str) -> None:
        super().__init__(say("{tag} is used already", tag=repr(tag)))
        self.tag = tag


class Rows:
    """What every repository does with rows. known : answers of this look; None inside a change."""

    def __init__(self, connection: Connection, known: dict[Hashable, Any] | None = None) -> None:
        self._connection, self.known = connection, known

    def _rows(self, statement: Any) -> Sequence[Row[Any]]:
        return self._connection.execute(statement).all()

    def _save(self, table: Table, values: Mapping[str, Any], known_as: str | None) -> int:
        try:
            if known_as is None:
                return self._insert(table, values)
            row = self._connection.execute(
                update(table).where(table.c.id == known_as).values(values).returning(table.c.key)
            ).first()
        except IntegrityError as error:
            if "UNIQUE" not in str(error.orig):
                raise
            raise TagTaken(str(values["id"])) from error
        if row is None:
            raise NotThere(table.name, known_as)
        return int(row.key)

    def _insert(self, table: Table, values: Mapping[str, Any]) -> int:
        return int(self._connection.execute(insert(table).values(values).returning(table.c.key)).scalar_one())
