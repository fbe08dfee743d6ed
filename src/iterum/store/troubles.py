"""What can go wrong with the database file, in one sentence each, with what to do."""

import sqlite3
from pathlib import Path

from sqlalchemy.exc import DatabaseError

from iterum.core.say import Words, say


class StoreTrouble(RuntimeError):
    """The database cannot be used, or could not be written to; says why, and what to do. Nothing was half saved."""


NOT_OURS = Words("{name} is no database of Iterum, or is damaged. Bring back a copy: iterum restore COPY.")
_BY_TEXT = (
    ("disk is full", Words("The disk is full. Make room, then save again.")),
    ("disk i/o error", Words("The disk does not take what is written to it. Save elsewhere, and look at the disk.")),
    ("readonly", Words("{name} may not be written to. Give yourself the right to write it, and its folder.")),
    ("read-only", Words("{name} may not be written to. Give yourself the right to write it, and its folder.")),
    ("unable to open", Words("{name} cannot be opened. Look whether its folder is there and may be written to.")),
    ("locked", Words("Another program holds {name}. Close it, then save again.")),
    ("malformed", Words("{name} is damaged. Stop Iterum and bring back a copy: iterum restore COPY.")),
    ("not a database", NOT_OURS),
    ("no such table", NOT_OURS),
)


def trouble_of(error: Exception, path: Path) -> StoreTrouble | None:
    """The sentence for a database's own error; None for what is a defect of ours."""
    text = str(getattr(error, "orig", None) or error).lower()
    if isinstance(error, (DatabaseError, sqlite3.Error, OSError)):
        for sign, sentence in _BY_TEXT:
            if sign in text:
                return StoreTrouble(say(sentence, name=path))
    return None


def newer(path: Path) -> StoreTrouble:
    """It was written by a later version."""
    return StoreTrouble(
        say(
            "{path} was written by a newer Iterum. Start that one, "
            "or bring back a copy from before: iterum restore COPY.",
            path=path,
        )
    )


def not_ours(path: Path) -> StoreTrouble:
    """It was made by something else."""
    return StoreTrouble(say(NOT_OURS, name=path))


def older(path: Path) -> StoreTrouble:
    """It is from before Iterum was released."""
    return StoreTrouble(
        say(
            "{path} is of a trial version that this Iterum does not read any more. Start that one, write an "
            "archive with it (iterum archive), and take the archive in here (iterum merge).",
            path=path,
        )
    )
