"""What was worked out about sets of packs, kept for all problems of one session."""

from dataclasses import dataclass, field

from iterum.core.electrical.waiting import Waits
from iterum.core.planning.batches import Costs
from iterum.core.things.kit import Port
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup


@dataclass
class Known:
    """What was worked out about sets of packs, whichever round of the day they are in: shared by all problems of one
    session, which differ in who flies. Packs go by numbers that `number` gives out."""

    numbers: dict[tuple[Pack, float], int] = field(default_factory=dict)
    may_join: dict[tuple[int, ...], bool] = field(default_factory=dict)
    costs: dict[tuple[tuple[int, ...], int, int, int], Costs | None] = field(default_factory=dict)
    exact: dict[tuple[tuple[int, ...], int, int, int], Costs] = field(default_factory=dict)
    minutes: dict[tuple[tuple[int, ...], float, float | None, float], float] = field(default_factory=dict)
    may_meet: dict[tuple[tuple[int, ...], Port], bool] = field(default_factory=dict)
    waits: dict[tuple[tuple[int, ...], Port, float], Waits] = field(default_factory=dict)
    nearly: dict[tuple[object, ...], float] = field(default_factory=dict)
    setups: dict[tuple[int, int], Setup] = field(default_factory=dict)
    full_in_min: dict[int, float] = field(default_factory=dict)
    energy_wh: dict[tuple[int, float], float] = field(default_factory=dict)
    rules: dict[tuple[str, float], HouseRules] = field(default_factory=dict)

    def number(self, pack: Pack, need: float = 1.0) -> int:
        """The number of a pack as it is, whichever round it is in.

        need : how full it is to be charged, 0..1.
        """
        return self.numbers.setdefault((pack, need), len(self.numbers))
