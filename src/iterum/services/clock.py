"""The time that charges are counted by: it goes on evenly, whatever is done to the clock of the machine.

A clock that is set back an hour would make a charge an hour younger than it is, and its timer an hour late. So the
machine's clock is asked once, at the start, and counted on from there by one that nobody sets and that goes on while
the machine sleeps. Where the two part, that is said.
"""

import time
from collections.abc import Callable
from datetime import datetime, timedelta

PARTED_S = 60.0
"""Further apart than this, the machine's clock was set: it is told."""
BELIEVED = timedelta(days=1)
"""What is kept may be so much later than the machine's clock says, and is believed rather than it."""


def _since_boot_s() -> float:
    """Seconds by a clock that nobody sets; where the system has it, one that goes on in sleep."""
    if hasattr(time, "CLOCK_BOOTTIME"):
        return time.clock_gettime(time.CLOCK_BOOTTIME)
    return time.monotonic()


class SteadyClock:
    """The present moment, from the machine's clock at the start and counted on evenly."""

    def __init__(
        self,
        wall: Callable[[], datetime],
        at_least: datetime | None = None,
        steady_s: Callable[[], float] = _since_boot_s,
    ) -> None:
        """wall : the machine's clock. at_least : the last moment that is kept, which cannot be still to come."""
        self._wall, self._steady_s = wall, steady_s
        begun, self._begun_s = wall(), steady_s()
        behind = at_least is not None and begun < at_least <= begun + BELIEVED
        self._begun = at_least if behind and at_least is not None else begun

    def __call__(self) -> datetime:
        """Now."""
        return self._begun + timedelta(seconds=self._steady_s() - self._begun_s)

    @property
    def parted_s(self) -> float:
        """Seconds by which the machine's clock stands off by now, above 0 where it is ahead; 0 within a minute."""
        off_s = (self._wall() - self()).total_seconds()
        return off_s if abs(off_s) > PARTED_S else 0.0


def parted_words(clock: object) -> str:
    """What is to be said of a machine's clock that was set; empty where it was not."""
    off_s = clock.parted_s if isinstance(clock, SteadyClock) else 0.0
    if not off_s:
        return ""
    way = "ahead of" if off_s > 0 else "behind"
    return (
        f"This machine’s clock stands {abs(off_s) / 60:.0f} min {way} the time that Iterum counts by: it was set. "
        "Charges and timers go on by Iterum’s own. When nothing charges, start Iterum anew to take the machine’s time."
    )
