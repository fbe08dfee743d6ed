"""Every fact that a verdict on a pack may rest on, one row each."""

from dataclasses import dataclass
from enum import StrEnum

WEAK_RATE_C = 0.5
"""What a weak pack may take at most."""


class Level(StrEnum):
    """Verdict on one pack: fit for a board, look at it first, or stop."""

    FIT = "fit"
    LOOK = "look"
    STOP = "stop"


@dataclass(frozen=True)
class Fault:
    """One fact about a pack, and all that follows from it; its sentence and its mend stand in `iterum.wording`.

    charges, joins : whether it may still be charged at all, and share a board. comes_down : whether a charger may
    bring it down to storage volts. max_rate_c : the most C it may take then; its charger balances it.
    """

    code: str
    level: Level
    charges: bool = True
    joins: bool = True
    comes_down: bool = True
    max_rate_c: float | None = None


_STOP, _LOOK = Level.STOP, Level.LOOK
FAULTS: dict[str, Fault] = {
    fault.code: fault
    for fault in (  # the worst first
        Fault("damaged", _STOP, charges=False, joins=False, comes_down=False),
        Fault("volts_disagree", _STOP, charges=False, joins=False, comes_down=False),
        Fault("count_doubt", _STOP, charges=False, joins=False, comes_down=False),
        Fault("below_refuse", _STOP, charges=False, joins=False, comes_down=False),
        Fault("over_full", _STOP, charges=False, joins=False, comes_down=False),
        Fault("too_hot", _STOP, charges=False, joins=False, comes_down=False),
        Fault("too_cold", _STOP, charges=False, joins=False, comes_down=False),
        Fault("not_measured", _LOOK, charges=False, joins=False, comes_down=False),
        Fault("charged_since", _LOOK, charges=False, joins=False, comes_down=False),
        Fault("above_full", _LOOK, charges=False, joins=False),
        Fault("cells_apart_weak", _LOOK, joins=False, max_rate_c=WEAK_RATE_C),
        Fault("nearly_flat", _LOOK, joins=False, max_rate_c=WEAK_RATE_C),
        Fault("spent", _LOOK),
        Fault("run_low", _LOOK),
        Fault("cells_apart_look", _LOOK),
        Fault("charge_c_unlikely", _LOOK),
        Fault("cells_not_read", _LOOK),
        Fault("count_possible", _LOOK),
        Fault("worn", _LOOK),
        Fault("ends_by_drop", Level.FIT, joins=False, comes_down=False),
        Fault("full", Level.FIT),
        Fault("full_by_charge", Level.FIT),
        Fault("cells_agree", Level.FIT),
        Fault("nothing_wrong", Level.FIT),
    )
}
"""Every fact that a verdict may name. To add one: a row here, a sentence and, where it keeps a pack off a board, its
mend in `iterum.wording`, and the place below that finds it."""
RANK = {code: rank for rank, code in enumerate(FAULTS)}
