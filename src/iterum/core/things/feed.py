"""The chain source > supplies > charger > channel: its power limits, its efficiencies, its volts.

All watts that leave here are watts *at the packs*, after every efficiency on the way.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import accumulate
from operator import mul

from iterum.core.reasons import Reason, reason
from iterum.core.things.kit import Charger, Kit, Source, Supply, find

AC_FROM_V = 80.0
"""From these input volts on a charger hangs on an AC outlet, not on a battery."""


@dataclass(frozen=True)
class Feed:
    """What feeds one charger, link by link.

    supplies : from the charger outwards; a supply may hang on a supply. source : None on mains without a limit.
    """

    charger: Charger
    supplies: tuple[Supply, ...] = ()
    source: Source | None = None

    @property
    def on_mains(self) -> bool:
        """Whether the charger hangs on mains itself."""
        return not self.supplies and self.source is None

    @property
    def input_v(self) -> float | None:
        """Volts at the charger's input, None when unknown."""
        if self.supplies:
            return self.supplies[0].output_v
        return self.source.voltage_v if self.source else None

    @property
    def on_ac(self) -> bool:
        """Whether the charger hangs on AC, of the mains or of a station, for which its label gives other watts."""
        outlet = self.input_v is not None and self.input_v >= AC_FROM_V and self.charger.mains_power_w is not None
        return self.on_mains or outlet

    @property
    def watts_are_half(self) -> bool:
        """Whether half the charger's watts count, because its label gives them at a higher input voltage only."""
        return not self.on_ac and self.charger.watts_are_half(self.input_v)

    @property
    def efficiencies(self) -> Mapping[str, float]:
        """By link (supplies, then the source), the part of what leaves it that reaches the packs."""
        parts = accumulate((supply.efficiency for supply in self.supplies), mul, initial=self.charger.efficiency)
        links = [*(supply.id for supply in self.supplies), *([self.source.id] if self.source else [])]
        return dict(zip(links, parts, strict=False))

    @property
    def efficiency_from_source(self) -> float:
        """Part of what is taken at the far end of the chain that reaches the packs."""
        efficiency = self.charger.efficiency
        for supply in self.supplies:
            efficiency *= supply.efficiency
        return efficiency

    @property
    def charger_input_power_w(self) -> float | None:
        """Most the charger takes in as it is fed, W at the packs; None when no such limit is known.

        The table of watts by input volts speaks of charging watts; its input amps are before its losses. Where the
        input volts are not known, the least of the table counts, and the lowest volts that its label allows.
        """
        charger = self.charger
        if self.on_ac:
            return charger.power_on_mains_w
        limits = []
        derated_w = charger.power_at(self.input_v)
        if derated_w is not None:
            limits.append(derated_w)
        input_v = charger.input_min_v if self.input_v is None else self.input_v
        if charger.max_input_current_a is not None and input_v is not None:
            limits.append(charger.max_input_current_a * input_v * charger.efficiency)
        return min(limits, default=None)

    @property
    def stop_input_v(self) -> float | None:
        """Volts at the charger's input under which charging has to stop; None where no such limit is known.

        The source's own stop counts where it feeds the charger directly.
        """
        source_v = self.source.stops_at_v if self.source is not None and not self.supplies else None
        own_v = None if self.on_ac else self.charger.input_min_v
        known = [volts for volts in (own_v, source_v) if volts is not None]
        return max(known, default=None)

    def input_fault(self) -> Reason | None:
        """Why the charger cannot run on these input volts, or None when nothing is known against it."""
        low_v, high_v = self.charger.input_min_v, self.charger.input_max_v
        if self.on_ac or self.input_v is None:
            return None
        if low_v is not None and self.input_v < low_v:
            return reason("input_too_low", charger=self.charger.id, input_v=self.input_v, limit_v=low_v)
        if high_v is not None and self.input_v > high_v:
            return reason("input_too_high", charger=self.charger.id, input_v=self.input_v, limit_v=high_v)
        return None


@dataclass(frozen=True)
class Drawn:
    """What others draw of a chain at the same time.

    charger_w : through the same charger, W at their packs. links_w : by supply and source, W that leave it.
    """

    charger_w: float = 0.0
    links_w: Mapping[str, float] = field(default_factory=dict, hash=False)


NOTHING_DRAWN = Drawn()


def feed_of(charger: Charger, kit: Kit) -> Feed:
    """The chain behind a charger. Ids that name nothing were refused when the kit was read, and so were circles."""
    supplies: list[Supply] = []
    link = charger.fed_by
    while (supply := find(kit.supplies, link)) is not None and supply not in supplies:
        supplies.append(supply)
        link = supply.fed_by
    return Feed(charger, tuple(supplies), find(kit.sources, link))
