"""What a charge leaves behind: volts as packs went on, who got which mAh of a board, what is read of each after it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.season.outlook import AT_END_V, Observation
from iterum.core.season.records import KeptRun
from iterum.core.things.packs import Pack, Reading


@dataclass(frozen=True)
class After:
    """What was read of one pack after its charge."""

    cell_v: tuple[float, ...] = ()
    resistance_mohm: tuple[float, ...] = ()
    pack_v: float | None = None
    """Of a pack that is only read in all."""

    @property
    def is_read(self) -> bool:
        """Whether anything was read of it."""
        return bool(self.cell_v) or self.pack_v is not None

    def reading(self, at: datetime) -> Reading:
        """What was read, as a reading."""
        return Reading.of_cells(self.cell_v, at) if self.cell_v else Reading(self.pack_v or 0.0, (), at)


def cell_volts(pack: Pack) -> tuple[float, ...]:
    """Rest volts of each cell, the same for all where only the total was read; empty before a reading."""
    if pack.reading is None:
        return ()
    return pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) * pack.cells


def as_it_went_on(pack: Pack, run: KeptRun) -> Pack:
    """The pack with its volts from before this run, so that its charge can be worked out again."""
    volts = run.before_v.get(pack.id, ())
    if not volts:
        return pack
    if not pack.chemistry.joins:
        return replace(pack, reading=Reading(round(sum(volts), 9)), charged_at=None)
    return replace(pack, reading=Reading.of_cells(volts), charged_at=None)


ENDED_PART = 0.2
"""Amps that had fallen to this part of those dialled when last read: the charger was about to end it."""


def ended_full(run: KeptRun, seen: Sequence[Observation]) -> bool:
    """Whether the charger ended a charge at full volts, by what was read of it: a tenth of the amps, or near it.

    seen : in the order of time.
    """
    end_v = None if run.expected is None else run.expected.end_v
    read = [item for item in seen if item.pack_id is None and item.pack_v is not None and item.current_a is not None]
    if run.stopped or run.expected is None or end_v is None or not read:
        return False
    flowing = [item for item in read if (item.current_a or 0.0) > 0]
    last = flowing[-1] if flowing else read[-1]
    at_end = (last.pack_v or 0.0) / run.expected.cells >= end_v - AT_END_V
    return at_end and (last.current_a or 0.0) <= ENDED_PART * run.current_a


def shares_mah(
    packs: Sequence[Pack], before_v: Mapping[str, tuple[float, ...]], total_mah: float | None
) -> dict[str, float]:
    """mAh into each pack of a board, by tag: the charger shows only the sum, which is split by what each one lacked.

    before_v : V of each cell as it went on; a pack without counts as empty.
    total_mah : mAh into the board, None where nothing was read.
    """
    if total_mah is None:
        return {}
    lacked = {}
    for pack in packs:
        volts = before_v.get(pack.id, ())
        table = pack.table
        missing = 1 - table.soc(sum(volts) / len(volts)) if table is not None and volts else 1.0
        lacked[pack.id] = max(missing, 0.0) * pack.capacity_ah
    whole = sum(lacked.values())
    return {tag: total_mah * part / whole for tag, part in lacked.items()} if whole else {}
