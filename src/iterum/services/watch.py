"""The watch: a thread of the server that looks at every charge each second, whether or not a page is open."""

import logging
import threading
from collections.abc import Callable
from datetime import datetime
from time import monotonic

from iterum.services.watching import Watcher
from iterum.store.copies import DailyCopies
from iterum.store.troubles import StoreTrouble

EVERY_S = 1.0
BLIND_S = 15.0
"""A watch that has not looked for so long is told of, loudly."""


class Watch:
    """Looks until it is stopped. A look that fails is logged, and the next one is made all the same."""

    def __init__(
        self, watcher: Watcher, clock: Callable[[], datetime], copies: DailyCopies, every_s: float = EVERY_S
    ) -> None:
        self._copies = copies
        self._watcher, self._clock, self._every_s = watcher, clock, every_s
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, name="watch", daemon=True)
        self._looked_s: float | None = None
        self._begun_s: float | None = None

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
        """Seconds since it looked last, or since it should have begun; None where it was never begun."""
        if self._begun_s is None:
            return None
        return monotonic() - (self._begun_s if self._looked_s is None else self._looked_s)

    @property
    def blind(self) -> bool:
        """Whether it has not looked for so long that nobody can rely on it."""
        return self.ago_s is not None and self.ago_s > BLIND_S

    @property
    def words(self) -> str:
        """When it looked, for every page."""
        return "" if self.ago_s is None else f"Watched {self.ago_s:.0f} s ago"

    def _look(self) -> None:
        while not self._over.wait(self._every_s):
            try:
                now = self._clock()
                self._watcher.watch(now)
                self._looked_s = monotonic()
            except Exception:
                logging.getLogger("iterum").exception("the watch failed once and goes on")
            try:
                self._copies.keep(self._clock())
            except StoreTrouble as trouble:
                logging.getLogger("iterum").warning("no copy was made today: %s", trouble)
