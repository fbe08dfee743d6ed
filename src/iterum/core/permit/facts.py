"""Every fact that a permit may rest on, one row each: which acts it forbids, and the most C of the others."""

from dataclasses import dataclass
from enum import StrEnum

WEAK_RATE_C = 0.5
"""The most C into or out of a weak pack, and into cells at 0 to 10 °C."""


class Level(StrEnum):
    """Verdict on one pack: fit for a board, look at it first, or stop."""

    FIT = "fit"
    LOOK = "look"
    STOP = "stop"


class Act(StrEnum):
    """What may be done with a pack."""

    JOIN = "join"
    CHARGE = "charge"
    DISCHARGE = "discharge"
    BALANCE = "balance"
    STORE = "store"


@dataclass(frozen=True)
class Fact:
    """One fact about a pack, and what follows from it; its sentence and its fix are in `iterum.wording`.

    forbids : acts that must not be done. max_rate_c : the most C of those that may be, None for no limit of its own.
    """

    code: str
    level: Level
    forbids: frozenset[Act] = frozenset()
    max_rate_c: float | None = None


_STOP, _LOOK, _FIT = Level.STOP, Level.LOOK, Level.FIT
_ALL = frozenset(Act)
_MOVE = _ALL - {Act.STORE}
_JOIN = frozenset({Act.JOIN})
_IN = frozenset({Act.JOIN, Act.CHARGE})
FACTS: dict[str, Fact] = {
    fact.code: fact
    for fact in (  # the worst first
        Fact("damaged", _STOP, _ALL),
        Fact("went_home", _LOOK, _ALL),
        Fact("volts_disagree", _STOP, _ALL),
        Fact("pins_disagree", _STOP, _ALL),
        Fact("count_doubt", _STOP, _ALL),
        Fact("other_chemistry", _STOP, _ALL),
        Fact("life_doubt", _STOP, _ALL),
        Fact("below_refuse", _STOP, _ALL),
        Fact("over_full", _STOP, _ALL),
        Fact("too_hot", _STOP, _ALL),
        Fact("too_cold", _STOP, _MOVE),
        Fact("not_measured", _LOOK, _ALL),
        Fact("charged_since", _LOOK, _ALL),
        Fact("flown_since", _LOOK, _ALL),
        Fact("air_outside", _LOOK, _MOVE),
        Fact("above_full", _LOOK, _IN),
        Fact("cells_apart_weak", _LOOK, _JOIN, WEAK_RATE_C),
        Fact("nearly_flat", _LOOK, _JOIN, WEAK_RATE_C),
        Fact("cold", _LOOK, max_rate_c=WEAK_RATE_C),
        Fact("spent", _LOOK),
        Fact("run_low", _LOOK),
        Fact("cells_apart_look", _LOOK),
        Fact("charge_c_unlikely", _LOOK),
        Fact("cells_not_read", _LOOK, frozenset({Act.JOIN, Act.BALANCE})),
        Fact("stale", _LOOK, _JOIN),
        Fact("life_possible", _LOOK),
        Fact("count_possible", _LOOK),
        Fact("worn", _LOOK),
        Fact("ends_by_drop", _FIT, frozenset({Act.JOIN, Act.DISCHARGE, Act.BALANCE})),
        Fact("full", _FIT),
        Fact("full_by_charge", _FIT),
        Fact("cells_agree", _FIT),
        Fact("nothing_wrong", _FIT),
    )
}
"""Every fact that a permit may name. To add one: a row here, a sentence and, where it forbids something, its fix in
`iterum.wording`, and the place in `permit.py` that finds it."""
RANK = {code: rank for rank, code in enumerate(FACTS)}
