"""The watch: a thread of the server that writes down what the guardian tells, whether or not a
page is open.
"""

import logging
import threading
from collections.abc import Callable
from datetime import datetime
from time import monotonic

from iterum.core.reasons import Busy
from iterum.core.say import say
from iterum.devices.driver import LinkLost
from iterum.services.watching import Watcher
from iterum.store.copies import DailyCopies
from iterum.store.troubles import StoreTrouble

EVERY_S = 0.5
BLIND_S = 5.0
"""A guardian that has not judged for so long is told of, loudly."""


class Watch:
    """Asks the guardian until it is stopped. What fails is logged, and tried again."""

    def __init__(
        self, watcher: Watcher, clock: Callable[[], datetime], copies: DailyCopies, every_s: float = EVERY_S
    ) -> None:
        self._copies = copies
        self._watcher, self._clock, self._every_s = watcher, clock, every_s
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, name="watch", daemon=True)
        self._judged_s: float | None = None
        self._begun_s: float | None = None
        self._trouble: str | None = None

    def start(self) -> None:
        """Begin to look."""
        self._begun_s = monotonic()
        self._thread.start()

    def stop(self) -> None:
        """Look no more."""
        self._over.set()
        if self._begun_s is not None:
            self._thread.join(5)

    @property
    def ago_s(self) -> float | None:
        """Seconds since the guardian judged last, or since it should have begun; None where it
        was never begun.
        """
        if self._begun_s is None:
            return None
        return monotonic() - (self._begun_s if self._judged_s is None else self._judged_s)

    @property
    def blind(self) -> bool:
        """Whether nothing was judged for so long that nobody can rely on it."""
        return self.ago_s is not None and self.ago_s > BLIND_S

    @property
    def words(self) -> str:
        """When it looked, for every page."""
        return "" if self.ago_s is None else say("Watched {ago_s:.0f} s ago", ago_s=self.ago_s)

    def _look(self) -> None:
        while not self._over.wait(self._every_s):
            try:
                self._watcher.watch(self._clock())
            except (StoreTrouble, Busy, LinkLost) as trouble:
                self._say(str(trouble))
            except Exception:
                logging.getLogger("iterum").exception("the watch failed once and goes on")
            else:
                self._trouble = None
            report = self._watcher.told
            if report is not None and report[1] > (self._begun_s or 0.0):
                self._judged_s = report[1] - report[0].judged_ago_s
            try:
                self._copies.keep(self._clock())
            except StoreTrouble as trouble:
                self._say(say("no copy was made today: {trouble}", trouble=trouble))

    def _say(self, trouble: str) -> None:
        """Log a trouble once, not each time it comes again."""
        if trouble != self._trouble:
            logging.getLogger("iterum").warning("%s", trouble)
        self._trouble = trouble
