"""One choice, whole: which packs, where, fed by what, how fast, up to where."""

from dataclasses import dataclass
from math import isfinite

from iterum.core.reasons import Reason, reason

MOST_RATE_C, MOST_AMPS_A = 20.0, 500.0
"""No label and no charger goes further: more is mistyped."""


@dataclass(frozen=True)
class Choice:
    """All that a person has chosen; it travels whole from page, file or plan to card and run.

    board : None for one pack alone; a chain is named "A + B". fed_by : a supply, a source or "mains"; None as in the
    kit. rate_c : multiples of capacity per hour; None as in the house rules. current_a : the pilot's own amps.
    end_v : V per cell at which the charge ends, where it is not the house rule's. plugged_last : for `even_out`.
    """

    packs: tuple[str, ...]
    board: str | None = None
    channel: str | None = None
    fed_by: str | None = None
    rate_c: float | None = None
    current_a: float | None = None
    end_v: float | None = None
    plugged_last: str | None = None

    def faults(self) -> tuple[Reason, ...]:
        """What nobody can choose: no packs, one twice, amps or rates that are none."""
        found = []
        if not self.packs:
            found.append(reason("choice_empty"))
        twice = tuple(tag for tag in dict.fromkeys(self.packs) if self.packs.count(tag) > 1)
        if twice:
            found.append(reason("choice_twice", ids=twice))
        for code, value, most in (
            ("choice_amps", self.current_a, MOST_AMPS_A),
            ("choice_rate", self.rate_c, MOST_RATE_C),
        ):
            if value is not None and not (isfinite(value) and 0 < value <= most):
                found.append(reason(code, typed=value, most=most))
        return tuple(found)
