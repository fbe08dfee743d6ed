"""The watch: a thread of the server that looks at every charge each second, whether or not a page is open."""

import logging
import threading
from collections.abc import Callable
from datetime import datetime

from iterum.services.watching import Watcher

EVERY_S = 1.0


class Watch:
    """Looks until it is stopped. A look that fails is logged, and the next one is made all the same."""

    def __init__(self, watcher: Watcher, clock: Callable[[], datetime], every_s: float = EVERY_S) -> None:
        self._watcher, self._clock, self._every_s = watcher, clock, every_s
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, name="watch", daemon=True)
        self.looked_at: datetime | None = None
        """When it last looked, to be shown where that is long ago."""

    def start(self) -> None:
        """Begin to look."""
        self._thread.start()

    def stop(self) -> None:
        """Look no more."""
        self._over.set()
        self._thread.join(5)

    def _look(self) -> None:
        while not self._over.wait(self._every_s):
            try:
                now = self._clock()
                self._watcher.watch(now)
                self.looked_at = now
            except Exception:
                logging.getLogger("iterum").exception("the watch failed once and goes on")
