"""What a plan does for each pilot at the table: their heats with their chances, and the energy that goes each way."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.plan import WishOutcome
from iterum.core.things.session import Session


@dataclass(frozen=True)
class PilotShare:
    """One pilot in a plan. asked, met : heats. expected : heats that are met in the mean, by their chances.

    by_source : (source, Wh from it into packs of theirs); None stands for mains. gave_wh : Wh from sources of theirs
    into packs of others.
    """

    pilot: str
    asked: int
    met: int
    expected: float
    by_source: tuple[tuple[str | None, float], ...]
    gave_wh: float

    @property
    def got_wh(self) -> float:
        """Wh for packs of theirs, from everywhere."""
        return sum(wh for _, wh in self.by_source)

    @property
    def part(self) -> float:
        """The part of their heats that is met in the mean, 0..1; 1 where they ask for none."""
        return self.expected / self.asked if self.asked else 1.0


def shares_of(
    session: Session, wanted: Sequence[WishOutcome], batches: Sequence[PlannedBatch]
) -> tuple[PilotShare, ...]:
    """What a plan does for each pilot who is here, in the order of the table.

    wanted : what becomes of every heat. batches : of the plan.
    """
    owners = {pack.id: pack.pilot for pack in session.packs}
    of_source = {source.id: source.pilot for source in session.kit.sources}
    got: dict[tuple[str, str | None], float] = {}
    gave: dict[str, float] = {}
    capacity_wh = {pack.id: pack.rated_energy_wh for pack in session.packs}
    for batch in batches:
        whole_wh = sum(capacity_wh.get(tag, 1.0) for tag in batch.packs)
        for tag in batch.packs:
            pilot, lender = owners.get(tag), of_source.get(batch.source or "")
            wh = batch.energy_in_wh * capacity_wh.get(tag, 1.0) / whole_wh
            if pilot is not None:
                got[pilot, batch.source] = got.get((pilot, batch.source), 0.0) + wh
            if lender is not None and lender != pilot:
                gave[lender] = gave.get(lender, 0.0) + wh
    told = []
    for pilot_here in session.here:
        tag = pilot_here.id
        mine = [item for item in wanted if item.wish.is_heat and item.wish.pilot == tag]
        expected = sum(item.odds.met / item.odds.of if item.odds else float(item.met) for item in mine)
        by_source = tuple((source, round(wh, 1)) for (pilot, source), wh in got.items() if pilot == tag)
        told.append(PilotShare(tag, len(mine), sum(item.met for item in mine), round(expected, 3), by_source,
                               round(gave.get(tag, 0.0), 1)))  # fmt: skip
    return tuple(told)
