"""The one table of what may limit the amps of a batch: a row holds everything that is known of a kind of limit."""

from dataclasses import dataclass
from enum import Enum, StrEnum, auto

from iterum.core.say import Words


class Stage(StrEnum):
    """Parts of the chain, from what feeds it to the packs, as the picture of it names them."""

    SOURCE = "Source"
    SUPPLY = "Supply"
    CHARGER = "Charger"
    CHANNEL = "Channel"
    BOARD = "Board"
    PACKS = "Packs"


class Rests(Enum):
    """What the amps of a limit depend on, beside the place itself."""

    PACK = auto()
    """On each pack by itself: a C of it."""
    PORT = auto()
    """On the share of each pack, or of a board that hangs on a port."""
    HUNG = auto()
    """On the packs of a board that hangs on another; else on the board alone."""
    PLACE = auto()
    """On nothing else: amps."""
    WATTS = auto()
    """On watts of the charger, which backs off by itself: divided as the house rule says."""
    FED_WATTS = auto()
    """On watts of what feeds the charger, which nothing backs off for: divided by full volts."""
    ENERGY = auto()
    """On the watt-hours that are left."""


class Way(Enum):
    """The way the amps flow where a limit holds."""

    IN = auto()
    OUT = auto()
    BOTH = auto()


@dataclass(frozen=True, eq=False)
class LimitKind:
    """One kind of limit. name : as in the session file. words : what sentences call it. wished : it is only wished for,
    so that the smallest amps of a channel may pass it, up to the labels."""

    name: str
    words: str
    stage: Stage
    rests: Rests
    way: Way = Way.IN
    wished: bool = False

    def __reduce__(self) -> tuple[object, ...]:
        """Stay one and the same also in a process that it is sent to."""
        return _kind, (self.name,)

    @property
    def is_watts(self) -> bool:
        """Whether it is watts turned into amps."""
        return self.rests in (Rests.WATTS, Rests.FED_WATTS)

    @property
    def is_of_packs(self) -> bool:
        """Whether it depends on which packs are charged, on any board."""
        return self.wished or self.rests in (Rests.PACK, Rests.PORT)


WANTED_RATE = LimitKind("wanted_rate", Words("rate you want"), Stage.PACKS, Rests.PACK, wished=True)
PACK_CHARGE_C = LimitKind("pack_charge_c", Words("packs' charge C"), Stage.PACKS, Rests.PACK)
WEAK_PACK = LimitKind("weak_pack", Words("a weak pack"), Stage.PACKS, Rests.PACK)
BOARD_CURRENT = LimitKind("board_current", Words("board"), Stage.BOARD, Rests.HUNG, Way.BOTH)
BOARD_FUSE = LimitKind("board_fuse", Words("board's fuse"), Stage.BOARD, Rests.HUNG, Way.BOTH)
PORT_FUSE = LimitKind("port_fuse", Words("a port fuse"), Stage.BOARD, Rests.PORT, Way.BOTH)
ADAPTER_CURRENT = LimitKind("adapter_current", Words("an adapter"), Stage.BOARD, Rests.PORT, Way.BOTH)
CHANNEL_CURRENT = LimitKind("channel_current", Words("channel's amps"), Stage.CHANNEL, Rests.PLACE)
CHANNEL_POWER = LimitKind("channel_power", Words("channel's watts"), Stage.CHANNEL, Rests.WATTS)
CHARGER_POWER = LimitKind("charger_power", Words("charger's watts"), Stage.CHARGER, Rests.WATTS)
CHARGER_INPUT = LimitKind("charger_input", Words("charger's input"), Stage.CHARGER, Rests.WATTS)
SUPPLY_POWER = LimitKind("supply_power", Words("supply"), Stage.SUPPLY, Rests.FED_WATTS)
SOURCE_POWER = LimitKind("source_power", Words("source"), Stage.SOURCE, Rests.FED_WATTS)
SOURCE_ENERGY = LimitKind("source_energy", Words("what the source still holds"), Stage.SOURCE, Rests.ENERGY)
DOWN_CURRENT = LimitKind("down_current", Words("channel's discharge amps"), Stage.CHANNEL, Rests.PLACE, Way.OUT)
DOWN_RATE = LimitKind("down_rate", Words("what the packs may give"), Stage.PACKS, Rests.PACK, Way.OUT)
DOWN_POWER = LimitKind("down_power", Words("channel's discharge watts"), Stage.CHANNEL, Rests.WATTS, Way.OUT)

KINDS: dict[str, LimitKind] = {kind.name: kind for kind in list(globals().values()) if isinstance(kind, LimitKind)}
"""Each kind of limit by its name."""


def _kind(name: str) -> LimitKind:
    return KINDS[name]
