"""Who shares the table: pilots, what each allows for their packs, and by which rule the table is shared.

Common practice, no source. Each pack's risk is its owner's decision, so packs of two pilots meet on a board only
where both said so.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated

from annotated_types import Len

from iterum.core.fields import Checked, Name, Note, Says, Tag


class Shape(StrEnum):
    """The shape of a pilot's mark: told apart without colour."""

    CIRCLE = "circle"
    SQUARE = "square"
    TRIANGLE = "triangle"
    DIAMOND = "diamond"
    HEXAGON = "hexagon"
    PENNANT = "pennant"


class TableRule(StrEnum):
    """How chargers, boards and watt-hours that belong to everybody are shared out."""

    EQUAL_HEATS = "equal_heats"
    BY_NEED = "by_need"
    EQUAL_ENERGY = "equal_energy"
    FINALS_FIRST = "finals_first"
    OWN_KIT = "own_kit"

    @property
    def is_fair(self) -> bool:
        """Whether the pilot who is worst off counts before the sum of all."""
        return self in (TableRule.EQUAL_HEATS, TableRule.EQUAL_ENERGY, TableRule.FINALS_FIRST)


@dataclass(frozen=True)
class Pilot(Checked):
    """One pilot at the table. id : as packs, heats and kit name them.

    mark : one or two letters, with a `shape` around them. shares_with : pilots on whose boards their packs may go, if
    those say so too. gone : went home, and the packs with them.
    """

    id: Tag
    mark: Annotated[str, Len(1, 2), Says("Mark", help="One or two letters.", pattern=r"^[^\s\x00-\x1f]{1,2}$")]
    shape: Annotated[Shape, Says("Shape")] = Shape.CIRCLE
    shares_with: Annotated[
        tuple[Annotated[str, Len(1, 40)], ...],
        Len(0, 40),
        Says("Shares a board with", help="Pilots whose packs may stand on a board with theirs, if both say so."),
    ] = ()
    gone: Annotated[bool, Says("Went home", help="Nothing of theirs is planned any more.")] = False
    name: Name = None
    note: Note = None


@dataclass(frozen=True)
class Terms:
    """On what terms a pack is at the table. with_packs_of : pilots whose packs it may share a board with, as both said.

    own_kit : it is charged with its pilot's own kit alone. gone : its pilot went home.
    """

    with_packs_of: frozenset[str] = frozenset()
    own_kit: bool = False
    gone: bool = False


NO_TERMS = Terms()
"""Those of packs without a pilot."""


def terms_of(pilots: Iterable[Pilot], rule: TableRule) -> Mapping[str, Terms]:
    """By pilot, the terms of their packs.

    rule : of the table.
    """
    by_id = {pilot.id: pilot for pilot in pilots}

    def both_said_so(pilot: Pilot) -> frozenset[str]:
        known = (by_id[other] for other in pilot.shares_with if other in by_id)
        return frozenset(other.id for other in known if pilot.id in other.shares_with)

    return {tag: Terms(both_said_so(pilot), rule is TableRule.OWN_KIT, pilot.gone) for tag, pilot in by_id.items()}
