"""A straight scale from a quantity to pixels, and where its ticks fall."""

from collections.abc import Iterator
from dataclasses import dataclass
from math import ceil

from iterum.core.quantities import NOISE, at_most

MOST_TICKS = 100
STEPS = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0)


@dataclass(frozen=True)
class Scale:
    """Maps `low`..`high` to `start`..`end` pixels."""

    low: float
    high: float
    start: float
    end: float

    def __call__(self, value: float) -> float:
        """The pixel of a value."""
        part = (value - self.low) / (self.high - self.low)
        return round(self.start + (self.end - self.start) * part, 2)

    def step_for(self, least_px: float) -> float:
        """The finest step whose ticks stand at least `least_px` apart."""
        px_per_unit = abs(self.end - self.start) / (self.high - self.low)
        return next((step for step in STEPS if step * px_per_unit >= least_px), STEPS[-1])

    def ticks(self, step: float) -> Iterator[float]:
        """Multiples of `step` on the scale, rising; of a coarser step where there were more than anybody reads."""
        while self.high - self.low > MOST_TICKS * step:
            step *= 2
        index = ceil(self.low / step - NOISE)
        while at_most(index * step, self.high):
            yield round(index * step, 9)
            index += 1
