"""The session: packs, kit, rules and wishes of one evening."""

from dataclasses import dataclass, field

from iterum.core.kit import Kit
from iterum.core.packs import Pack
from iterum.core.rules import HouseRules


@dataclass(frozen=True)
class Wish:
    """So many packs of a class, full, by a minute counted from now."""

    count: int
    family: str
    at_min: float
    name: str | None = None


@dataclass(frozen=True)
class GroupChoice:
    """Which packs on which board and channel, for `size`, `equalise` and `charge`."""

    packs: tuple[str, ...]
    board: str | None = None
    channel: str | None = None
    current_a: float | None = None
    plugged_last: str | None = None


@dataclass(frozen=True)
class Session:
    """Everything one session file says."""

    packs: tuple[Pack, ...] = ()
    kit: Kit = field(default_factory=Kit)
    rules: HouseRules = field(default_factory=HouseRules)
    wanted: tuple[Wish, ...] = ()
    group: GroupChoice | None = None
    name: str | None = None
    note: str | None = None
