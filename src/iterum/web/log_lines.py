"""The server's log: short lines, and few of them, whoever causes them.

A stranger on the network, or a device that goes mad, must not be able to fill a disk or to hide
what matters among thousands of lines.
"""

import logging
from collections.abc import Callable
from time import monotonic

from iterum.core.say import say

MOST_CHARACTERS, MOST_TRACE_LINES = 400, 40
MOST_A_MINUTE = 60


class ShortLines(logging.Formatter):
    """One line a record, of bounded length, and a bounded trace under a defect."""

    def format(self, record: logging.LogRecord) -> str:
        """The text of a record."""
        text = super().format(record)
        head, *trace = text.split("\n") if record.exc_info else [" ".join(text.split())]
        short = "".join(letter if letter.isprintable() else "?" for letter in head)
        if len(short) > MOST_CHARACTERS:
            short = f"{short[:MOST_CHARACTERS]}… ({len(short)} characters)"
        kept = trace if len(trace) <= MOST_TRACE_LINES else ["  …", *trace[-MOST_TRACE_LINES:]]
        return "\n".join([short, *(line[: 2 * MOST_CHARACTERS] for line in kept)])


class FewLines(logging.Filter):
    """Lets `MOST_A_MINUTE` records through, then says once how many more there were."""

    def __init__(self, steady_s: Callable[[], float] = monotonic) -> None:
        super().__init__()
        self._steady_s, self._begun_s, self._count = steady_s, steady_s(), 0

    def filter(self, record: logging.LogRecord) -> bool:
        """Whether a record is written."""
        now_s = self._steady_s()
        if now_s - self._begun_s >= 60:
            left = self._count - MOST_A_MINUTE
            self._begun_s, self._count = now_s, 0
            if left > 0:
                record.msg = say("({left} more lines are not shown) {msg}", left=left, msg=record.msg)
        self._count += 1
        return self._count <= MOST_A_MINUTE


def to_standard_error() -> None:
    """Write the log to standard error, bounded."""
    handler = logging.StreamHandler()
    handler.setFormatter(ShortLines("%(asctime)s %(name)s %(levelname)s %(message)s"))
    handler.addFilter(FewLines())
    logging.basicConfig(level=logging.INFO, handlers=[handler])
