"""What a source still holds: what it held when it was filled, less every charge since.

Kept as entries, so that each can be looked at. A source that was seen at its stop volts under load is empty, whatever
the sum says.
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from iterum.core.things.kit import Source


class EntryKind(StrEnum):
    """What an entry says: filled again, a charge took so much, so much is taken in all, at its stop volts."""

    FILLED = "filled"
    CHARGE = "charge"
    TOLD = "told"
    EMPTY = "empty"


@dataclass(frozen=True)
class Entry:
    """One entry of the ledger. wh : taken by a charge, or in all where somebody told so; at the source, W h."""

    source: str
    at: datetime
    kind: EntryKind
    wh: float = 0.0
    run_key: int | None = None
    note: str | None = None
    key: int | None = None


def held(source: Source, entries: Iterable[Entry]) -> Source:
    """The source with what was taken from it by its ledger, entries in the order of time.

    One without a known budget stays so, until it is seen at its stop volts: then it has nothing left.
    """
    taken_wh, empty = source.taken_wh, False
    for entry in entries:
        if entry.source != source.id:
            continue
        if entry.kind is EntryKind.FILLED:
            taken_wh, empty = 0.0, False
        elif entry.kind is EntryKind.CHARGE:
            taken_wh += entry.wh
        elif entry.kind is EntryKind.TOLD:
            taken_wh, empty = entry.wh, False
        else:
            empty = True
    if empty:
        whole_wh = 0.0 if source.energy_wh is None else source.energy_wh
        return replace(source, energy_wh=whole_wh, taken_wh=whole_wh)
    return replace(source, taken_wh=taken_wh)
