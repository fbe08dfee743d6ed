"""One choice, whole: which packs, where, fed by what, how fast, up to where."""

from dataclasses import dataclass
from enum import StrEnum
from math import isfinite
from typing import Annotated

from annotated_types import Ge, Gt, Le, Len

from iterum.core.fields import Named, Says
from iterum.core.reasons import Reason, reason

MOST_RATE_C, MOST_AMPS_A = 20.0, 500.0
"""No label and no charger goes further: more is mistyped."""


MOST_OWN_C = 2.0
"""Without a charge C on the label nobody may decide on more. Common practice, no source."""


class Kind(StrEnum):
    """What a batch in hand is there for."""

    CHARGE = "charge"
    EVEN_OUT = "even out"
    BALANCE = "balance"
    DOWN = "bring down"


@dataclass(frozen=True)
class Choice:
    """All that a person has chosen; it travels whole from page, file or plan to card and run.

    board : None for one pack alone; a chain is named "A + B". fed_by : a supply, a source or "mains"; None as in the
    kit. rate_c : multiples of capacity per hour; None as in the house rules. current_a : the pilot's own amps.
    own_rate_c : the pilot's own decision on more than 1C for packs whose label gives no charge C.
    end_v : V per cell at which the charge ends, where it is not the house rule's. plugged_last : for `even_out`.
    """

    packs: Annotated[tuple[Annotated[str, Len(0, 40)], ...], Len(1, 40), Says("Packs")]
    board: Annotated[str | None, Len(0, 90), Says("Board", help='One board, or a chain of two: "A + B".')] = None
    channel: Annotated[Named, Says("Channel")] = None
    fed_by: Annotated[Named, Says("Fed by", help='Another supply or source than in the kit, or "mains".')] = None
    rate_c: Annotated[float | None, Gt(0), Le(20), Says("Rate", "C", help="Empty: the house rule's.")] = None
    own_rate_c: Annotated[
        float | None,
        Gt(1),
        Le(MOST_OWN_C),
        Says("My own decision", "C", help="More than 1C for LiPo packs without a charge C on the label."),
    ] = None
    current_a: Annotated[float | None, Gt(0), Le(200), Says("Amps to set", "A")] = None
    end_v: Annotated[
        float | None, Ge(2.0), Le(4.35), Says("Ends at", "V", help="Volts per cell. Empty: the house rule's.")
    ] = None
    plugged_last: Annotated[Named, Says("Plugged in last")] = None

    def faults(self) -> tuple[Reason, ...]:
        """What nobody can choose: no packs, one twice, amps or rates that are none."""
        errors = []
        if not self.packs:
            errors.append(reason("choice_empty"))
        twice = tuple(tag for tag in dict.fromkeys(self.packs) if self.packs.count(tag) > 1)
        if twice:
            errors.append(reason("choice_twice", ids=twice))
        for code, value, most in (
            ("choice_amps", self.current_a, MOST_AMPS_A),
            ("choice_rate", self.rate_c, MOST_RATE_C),
            ("choice_own_rate", self.own_rate_c, MOST_OWN_C),
        ):
            if value is not None and not (isfinite(value) and 0 < value <= most):
                errors.append(reason(code, typed=value, most=most))
        return tuple(errors)
