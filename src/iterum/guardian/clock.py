"""The time that charges are counted by: it goes on evenly, whatever is done to the clock of the
machine.

A clock that is set back an hour would make a charge an hour younger than it is, and its timer an
hour late. So the machine's clock is asked once, at the start, and counted on from there by one
that nobody sets and that goes on while the machine sleeps. Where the two differ, Iterum says so.
The server and the guardian count by the same clock.
"""

import time
from collections.abc import Callable
from datetime import datetime, timedelta

from iterum.core.say import say

PARTED_S = 60.0
"""Further apart than this, the machine's clock was set: Iterum says so."""
BELIEVED = timedelta(days=1)
"""The last moment that is kept may be so much later than the machine's clock, and is believed
rather than it.
"""


def since_boot_s() -> float:
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
        steady_s: Callable[[], float] = since_boot_s,
        speed: float = 1.0,
    ) -> None:
        """wall : the machine's clock. at_least : the last moment that is kept, which cannot be
        still to come.

        speed : seconds of it for each real one, above 0.
        """
        self._wall, self._steady_s = wall, steady_s
        begun, begun_s = wall(), steady_s()
        behind = at_least is not None and begun < at_least <= begun + BELIEVED
        self.time = (at_least if behind and at_least is not None else begun, begun_s, speed)
        """(The moment it began with, at seconds of the steady clock, its speed): the same clock
        in another process.
        """

    def __call__(self) -> datetime:
        """Now."""
        begun, begun_s, speed = self.time
        return begun + timedelta(seconds=(self._steady_s() - begun_s) * speed)

    @property
    def parted_s(self) -> float:
        """Seconds by which the machine's clock differs by now, above 0 where it is ahead; 0
        within a minute.
        """
        if self.time[2] != 1.0:  # in time-lapse the two differ on purpose
            return 0.0
        off_s = (self._wall() - self()).total_seconds()
        return off_s if abs(off_s) > PARTED_S else 0.0


def parted_words(clock: object) -> str:
    """What to say where the machine's clock was set; empty where it was not."""
    off_s = clock.parted_s if isinstance(clock, SteadyClock) else 0.0
    if not off_s:
        return ""
    way = "ahead of" if off_s > 0 else "behind"
    return say(
        "This machine’s clock is {off_s:.0f} min {way} Iterum’s own time: somebody set it. Charges and "
        "timers still count correctly. When nothing is charging, restart Iterum to take the machine’s time.",
        off_s=abs(off_s) / 60,
        way=way,
    )
