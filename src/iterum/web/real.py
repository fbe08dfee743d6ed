"""What the real bench does next, for the mark of a rehearsal: asked of it on this machine, and not waited for."""

import time
from urllib.error import URLError
from urllib.request import urlopen

from iterum.web.context import rehearsal

PATIENCE_S, HOLDS_S = 0.4, 5.0
SILENT = "does not answer just now"
_told: dict[str, tuple[float, str]] = {}


def real_next() -> str:
    """In a few words; empty where this is the real bench."""
    mine = rehearsal()
    if mine is None:
        return ""
    asked_s, words = _told.get(mine.real_url, (0.0, ""))
    if words and time.monotonic() - asked_s < HOLDS_S:
        return words
    try:
        with urlopen(f"{mine.real_url}/rehearse/next", timeout=PATIENCE_S) as answer:  # noqa: S310 (our own machine)
            words = answer.read(200).decode("utf-8", "replace")
    except (URLError, OSError, ValueError):
        words = SILENT
    _told[mine.real_url] = (time.monotonic(), words)
    return words
