"""Opening the database: migrations, foreign keys, write-ahead log, one transaction at a time."""

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from contextvars import ContextVar
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import URL, Engine, create_engine, event
from sqlalchemy.exc import DatabaseError, OperationalError

from iterum.core.reasons import Busy, NotThere
from iterum.core.say import say
from iterum.store import undo
from iterum.store.copies import copy
from iterum.store.repository import Repository
from iterum.store.troubles import trouble_of
from iterum.store.versions import VERSION, bring_up, lacking, refuse_other, version_of


def _set_pragmas(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions are begun below, so that they cover reads too
    cursor = connection.cursor()
    cursor.execute("PRAGMA foreign_keys = ON")
    cursor.execute("PRAGMA journal_mode = WAL")
    cursor.execute("PRAGMA synchronous = FULL")
    cursor.execute("PRAGMA busy_timeout = 5000")
    cursor.close()


def migrate(engine: Engine, path: Path) -> None:
    """Bring the tables to the newest version: all of it or nothing, with a copy made before. Safe on every start."""
    with engine.connect() as connection:
        version = version_of(connection)
        if version is not None:
            refuse_other(path, version)
        if version == VERSION and not any(lacking(connection)):
            return
        if version is not None:
            copy(path, path.with_name(f"{path.stem}.before-{VERSION}{path.suffix}"))
        connection.rollback()
        connection.exec_driver_sql("BEGIN IMMEDIATE")
        bring_up(connection)
        connection.commit()


class TakenAlready(Exception):
    """What comes with an id that was taken before."""


class Store:
    """One SQLite database file, opened and migrated."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self.engine = create_engine(URL.create("sqlite", database=str(path)))
        event.listen(self.engine, "connect", _set_pragmas)
        self._snapshot: ContextVar[ExitStack] = ContextVar("snapshot")
        self._looked_at: ContextVar[Repository | None] = ContextVar("looked_at")
        self._once: ContextVar[tuple[str, datetime] | None] = ContextVar("once", default=None)
        self._act: ContextVar[undo.Undoable | None] = ContextVar("act", default=None)
        try:
            migrate(self.engine, path)
        except (DatabaseError, OSError) as error:
            raise trouble_of(error, path) or error from error

    @contextmanager
    def snapshot(self) -> Iterator[None]:
        """Every `reading` within it looks at the data of one moment, that of the first; a change ends that moment."""
        token = self._snapshot.set(ExitStack())
        try:
            yield
        finally:
            self._snapshot.get(ExitStack()).close()
            self._snapshot.reset(token)
            self._looked_at.set(None)

    @contextmanager
    def reading(self) -> Iterator[Repository]:
        """A look at the data, all of it from one moment."""
        snapshot, counted = self._snapshot.get(None), self._looked_at.get(None)
        if snapshot is None:
            with self._look() as repository:
                yield repository
            return
        if counted is None:
            counted = snapshot.enter_context(self._look())
            self._looked_at.set(counted)
        yield counted

    @contextmanager
    def _look(self) -> Iterator[Repository]:
        try:
            with self.engine.connect() as connection:
                connection.exec_driver_sql("BEGIN")
                yield Repository(connection, {})
                connection.rollback()
        except DatabaseError as error:
            raise trouble_of(error, self.path) or error from error
        except OverflowError as error:  # a number beyond what the database counts: nothing has it
            raise NotThere("row", str(error)) from error

    @contextmanager
    def writing(self, changes_session: bool = True, as_planned: bool = False) -> Iterator[Repository]:
        """A change: all of it is kept, or, when anything raises, nothing.

        changes_session : whether what was computed from the session must be computed again. as_planned : a plan that
        was up to date stays so.
        """
        with self.engine.connect() as connection:
            try:
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            except OperationalError as error:
                if "locked" in str(error.orig):
                    raise Busy(say("another change to the database takes long; nothing was saved")) from error
                raise trouble_of(error, self.path) or error from error
            try:
                repository, act, once = Repository(connection), self._act.get(), self._once.get()
                if once is not None and not repository.take_once(*once):
                    raise TakenAlready
                if act is not None:
                    undo.watch(connection)
                yield repository
                if act is not None:
                    undo.keep(connection, act)
                if changes_session:
                    repository.bump_revision(as_planned)
                connection.commit()
                self._once.set(None)  # more changes of the same request go with it
            except DatabaseError as error:
                connection.rollback()
                raise trouble_of(error, self.path) or error from error
            except OverflowError as error:
                connection.rollback()
                raise NotThere("row", str(error)) from error
        snapshot = self._snapshot.get(None)
        if snapshot is not None:
            self._looked_at.set(None)
            snapshot.close()

    @contextmanager
    def once(self, key: str, at: datetime) -> Iterator[None]:
        """The first change within is made with this id, all or nothing. Raises TakenAlready where that was done before.

        at : when it was entered.
        """
        token = self._once.set((key, at))
        try:
            yield
        finally:
            self._once.reset(token)

    @contextmanager
    def undoable(self, what: str, at: datetime) -> Iterator[undo.Undoable]:
        """Every change within can be taken back as one act. what : was done, in words."""
        act = undo.Undoable(what, at)
        token = self._act.set(act)
        try:
            yield act
        finally:
            self._act.reset(token)

    def close(self) -> None:
        """Let go of the file, and leave it whole: nothing beside it."""
        with suppress(DatabaseError, OSError), self.engine.connect() as connection:
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        self.engine.dispose()
