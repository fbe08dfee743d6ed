"""Opening the database: migrations, foreign keys, write-ahead log, one transaction at a time."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event

from iterum.store.repository import Repository


def _set_pragmas(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions are begun below, so that they cover reads too
    cursor = connection.cursor()
    cursor.execute("PRAGMA foreign_keys = ON")
    cursor.execute("PRAGMA journal_mode = WAL")
    cursor.execute("PRAGMA synchronous = FULL")
    cursor.execute("PRAGMA busy_timeout = 5000")
    cursor.close()


def migrate(engine: Engine) -> None:
    """Bring the tables to the newest version. Safe to call on every start."""
    config = Config()
    config.set_main_option("script_location", "iterum:store/migrations")
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        connection.commit()


class Store:
    """One SQLite database file, opened and migrated."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self.engine = create_engine(f"sqlite:///{path}")
        event.listen(self.engine, "connect", _set_pragmas)
        migrate(self.engine)

    @contextmanager
    def reading(self) -> Iterator[Repository]:
        """A look at the data, all of it from one moment."""
        with self.engine.connect() as connection:
            connection.exec_driver_sql("BEGIN")
            yield Repository(connection)
            connection.rollback()

    @contextmanager
    def writing(self, changes_session: bool = True, as_planned: bool = False) -> Iterator[Repository]:
        """A change: all of it is kept, or, when anything raises, nothing.

        changes_session : whether what was computed from the session must be computed anew. as_planned : a plan that
        was up to date stays so.
        """
        with self.engine.connect() as connection:
            connection.exec_driver_sql("BEGIN IMMEDIATE")
            repository = Repository(connection)
            yield repository
            if changes_session:
                repository.bump_revision(as_planned)
            connection.commit()

    def close(self) -> None:
        """Let go of the file."""
        self.engine.dispose()
