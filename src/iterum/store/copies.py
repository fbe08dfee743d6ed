"""Whole copies of the database: by command, each day by itself, and back again.

SQLite's own backup makes them, so that a copy is of one moment, whoever writes meanwhile; each is checked by opening.
"""

import sqlite3
from contextlib import closing
from datetime import UTC, date, datetime
from pathlib import Path

from iterum.core.say import say
from iterum.store.troubles import StoreTrouble, trouble_of
from iterum.store.versions import refuse_other, version_of

KEPT = 14
"""Daily copies that are kept, the newest."""


def copy(path: Path, to: Path) -> None:
    """A whole copy of the database, or none: it gets its name when it is complete and was checked.

    Raises StoreTrouble.
    """
    unfinished = to.with_name(to.name + ".part")
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        unfinished.unlink(missing_ok=True)
        with (
            closing(_looked_at(path)) as old,
            closing(sqlite3.connect(unfinished)) as new,
        ):
            old.backup(new)
            new.execute("PRAGMA journal_mode = DELETE").fetchall()  # one whole file
        check(unfinished)
        unfinished.replace(to)
    except (sqlite3.Error, OSError) as error:
        unfinished.unlink(missing_ok=True)
        raise trouble_of(error, to) or StoreTrouble(
            say("{to} was not written: {error}.", to=to, error=error)
        ) from error


def _looked_at(path: Path) -> sqlite3.Connection:
    """A database opened for reading alone; it is not made where it is not there."""
    return sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)


def check(path: Path) -> None:
    """That a file is a sound database of Iterum, of this version or an older one. Raises StoreTrouble."""
    if not path.is_file():
        raise StoreTrouble(say("{path} is not there.", path=path))
    try:
        with closing(_looked_at(path)) as database:
            told = database.execute("PRAGMA quick_check(1)").fetchone()
            version = version_of(database)
    except sqlite3.Error as error:
        raise trouble_of(error, path) or StoreTrouble(
            say("{path} cannot be read: {error}.", path=path, error=error)
        ) from error
    if told is None or told[0] != "ok" or version is None:
        raise StoreTrouble(say("{path} is damaged. Stop Iterum and bring back a copy: iterum restore COPY.", path=path))
    refuse_other(path, version)


def last_moment(path: Path) -> datetime | None:
    """The last moment that anything kept is of; None where nothing is kept, or it cannot be told."""
    if not path.is_file():
        return None
    told_by = (("readings", "entered_at"), ("run_events", "at"), ("observations", "at"), ("plans", "made_at"))
    asked = " UNION ALL ".join(f"SELECT max({column}) FROM {table}" for table, column in told_by)  # noqa: S608 (ours)
    try:
        with closing(_looked_at(path)) as database:
            told = [row[0] for row in database.execute(asked) if row[0]]
        return max((datetime.fromisoformat(text).replace(tzinfo=UTC) for text in told), default=None)
    except (sqlite3.Error, ValueError):
        return None


def restore(copy_of: Path, path: Path, now: datetime) -> Path | None:
    """Put a copy in place of the database; what was there is kept beside it. Returns where, None where nothing was.

    Nobody may have the database open. Raises StoreTrouble, and then everything is as it was.
    """
    check(copy_of)
    kept = None
    if path.exists():
        kept = path.with_name(f"{path.stem}.before-restore-{now:%Y%m%d-%H%M%S}{path.suffix}")
        for part in ("", "-wal"):
            beside = path.with_name(path.name + part)
            if beside.exists():
                beside.replace(kept.with_name(kept.name + part))
    try:
        copy(copy_of, path)
    except StoreTrouble:
        if kept is not None:
            kept.replace(path)
        raise
    return kept


class DailyCopies:
    """The copies that are made each day by themselves."""

    def __init__(self, path: Path) -> None:
        self.path, self.folder = path, path.parent / "copies"
        self._last: date | None = None

    def latest(self) -> Path | None:
        """The newest copy."""
        return max(self._all(), default=None)

    def _all(self) -> list[Path]:
        return sorted(self.folder.glob(f"{self.path.stem}-????-??-??{self.path.suffix}"))

    def keep(self, now: datetime) -> bool:
        """Make today's copy where there is none yet, and let go of the oldest. Raises StoreTrouble.

        Returns whether one was made.
        """
        today = now.astimezone().date()
        if self._last == today:
            return False
        self._last = today
        to = self.folder / f"{self.path.stem}-{today.isoformat()}{self.path.suffix}"
        if to.exists():
            return False
        copy(self.path, to)
        for old in self._all()[:-KEPT]:
            old.unlink(missing_ok=True)
        return True
