"""The chain source > supply > charger > channel: its power limits, its efficiencies, its volts.

All watts that leave here are watts *at the packs*, after every efficiency on the way.
"""

from dataclasses import dataclass

from iterum.core.kit import Charger, Kit, Source, Supply, find
from iterum.core.reasons import Reason, reason


@dataclass(frozen=True)
class Feed:
    """What feeds one charger, link by link.

    supply, source : None where the chain has none (mains without a limit).
    input_v : volts at the charger's input, None when unknown.
    """

    charger: Charger
    supply: Supply | None
    source: Source | None
    input_v: float | None

    @property
    def efficiency_from_source(self) -> float:
        """Part of what leaves the source that reaches the packs."""
        return self.charger.efficiency * (self.supply.efficiency if self.supply else 1.0)

    @property
    def supply_power_w(self) -> float | None:
        """Most the supply lets through, W at the packs; None without a supply."""
        return self.supply.max_power_w * self.charger.efficiency if self.supply else None

    @property
    def source_power_w(self) -> float | None:
        """Most the source lets through, W at the packs; None without a limit."""
        limit_w = self.source.power_limit_w if self.source else None
        return None if limit_w is None else limit_w * self.efficiency_from_source

    @property
    def charger_input_power_w(self) -> float | None:
        """Most the charger takes in at these input volts, W at the packs; None when no such limit is known.

        The table of watts by input volts speaks of charging watts; its input amps are before its losses.
        """
        if self.input_v is None:
            return None
        limits = []
        derated_w = self.charger.power_at(self.input_v)
        if derated_w is not None:
            limits.append(derated_w)
        if self.charger.max_input_current_a is not None:
            limits.append(self.charger.max_input_current_a * self.input_v * self.charger.efficiency)
        return min(limits, default=None)

    def input_fault(self) -> Reason | None:
        """Why the charger cannot run on these input volts, or None when it can."""
        low_v, high_v = self.charger.input_min_v, self.charger.input_max_v
        if self.input_v is None:
            return None
        if low_v is not None and self.input_v < low_v:
            return reason("input_too_low", charger=self.charger.id, input_v=self.input_v, limit_v=low_v)
        if high_v is not None and self.input_v > high_v:
            return reason("input_too_high", charger=self.charger.id, input_v=self.input_v, limit_v=high_v)
        return None


def feed_of(charger: Charger, kit: Kit) -> Feed:
    """The chain behind a charger. Ids that name nothing were refused when the kit was read."""
    supply = find(kit.supplies, charger.fed_by)
    source = find(kit.sources, supply.fed_by if supply else charger.fed_by)
    fed_at_v = source.voltage_v if source else None
    return Feed(charger, supply, source, supply.output_v if supply else fed_at_v)
