"""What a source still holds: what it held when it was filled, less every charge since.

Kept as entries, so that each can be looked at. A source that was seen at its stop volts under load is empty, whatever
the sum says.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.kit import Source
from iterum.core.things.pack_label import COUNTED, without_sizes


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


# ---------------------------------------------------------------------------------------- as its label says

_NUMBER = r"(\d{1,3}(?:[ ,']\d{3})+|\d+)(?:\.(\d+))?"
_WH = re.compile(rf"{_NUMBER}\s*(k?)wh\b")
_MAH = re.compile(rf"{_NUMBER}\s*m\s*ah\b")
_AH = re.compile(rf"{_NUMBER}\s*ah\b")
_VOLTS = re.compile(rf"{_NUMBER}\s*v\b")
_CELLS = re.compile(r"\b(\d{1,2})\s*s\b")
_BARE = re.compile(r"\b(\d{3,6})\b")
_BARE_ANY = re.compile(r"(?<![\d.])(\d{3,6})\b(?!\s*[a-z])")
"""Also behind a count, as in 8x2200; nothing that has a unit."""
BANK_CELL_V, BANK_GIVES = 3.65, 0.85
"""A power bank's mAh are at the volts of its cells, 3.6 to 3.7, and its converter gives 80 to 90 % of it. Common
practice, no source."""
LEAD_ACID_PART = 0.5
"""Lead-acid is half used at most. Common practice, no source."""
_LITHIUM_WORDS = ("life", "lifepo", "lithium", "li-ion", "lipo", "lfp")


@dataclass(frozen=True)
class Labelled:
    """What a label says a source holds. voltage_v : None where it does not say. how : the sum, in words.

    usable_fraction : the part that may be taken of its kind, None where the label does not tell the kind.
    """

    energy_wh: float
    voltage_v: float | None
    how: str
    usable_fraction: float | None = None


def _figure(hit: "re.Match[str]") -> float:
    whole = re.sub(r"\D", "", hit.group(1))
    return float(f"{whole}.{hit.group(2) or 0}")


_AMPS = re.compile(r"(\d+(?:[.,]\d+)?)\s*a(?:mps?)?(?![a-z])")
_WATTS = re.compile(r"(\d+(?:[.,]\d+)?)\s*w(?:atts?)?(?![a-z])")


def limits_of_label(text: str) -> tuple[float | None, float | None]:
    """The most amps and the most watts that a source says it gives, beside its Wh; None where it does not say.

    text : as it was typed.
    """
    said = text.lower()
    amps, watts = (pattern.search(said) for pattern in (_AMPS, _WATTS))
    return _told(amps), _told(watts)


def _told(hit: "re.Match[str] | None") -> float | None:
    return float(hit[1].replace(",", ".")) if hit else None


def energy_of_label(text: str) -> Labelled:
    """Wh from what is written on a source: "500 Wh", "10,000 mAh" (a bank), "3S 5200", "100 Ah 12 V".

    Raises ValueError, with the mend, where it says something else.
    text : as it was typed.
    """
    said = without_sizes(text.strip().lower().replace(" ", " ").replace(" ", " "))
    said = re.sub(r"(\d),(\d{1,2})(?!\d)", r"\1.\2", said)  # a decimal comma
    counted = COUNTED.match(said)
    if counted and int(counted[1]) != 1:
        raise ValueError("say one source at a time, or what all of them hold, as in 2400 Wh")
    watt_hours, volts, cells = _WH.search(said), _VOLTS.search(said), _CELLS.search(said)
    volts_v = _figure(volts) if volts else None
    if watt_hours:
        wh = round(_figure(watt_hours) * (1000 if watt_hours.group(3) else 1), 1)
        return Labelled(wh, volts_v, f"{wh:g} Wh")
    milli, amp_hours = _MAH.search(said), _AH.search(said)
    told_ah = {_figure(hit) / 1000 for hit in _MAH.finditer(said)} | {_figure(hit) for hit in _AH.finditer(said)}
    if cells:
        told_ah |= {float(hit[1]) / 1000 for hit in _BARE_ANY.finditer(said)}
    if len(told_ah) > 1:
        raise ValueError(f"{' or '.join(f'{ah:g} Ah' for ah in sorted(told_ah))}? Say one source at a time")
    if milli:
        ah = _figure(milli) / 1000
    elif amp_hours:
        ah = _figure(amp_hours)
    elif cells and (bare := _BARE.search(said)):
        ah = float(bare.group(1)) / 1000
    else:
        raise ValueError('say it as its label does: "500 Wh", "10,000 mAh", "3S 5200" or "100 Ah 12 V"')
    if cells:
        chemistry = next((item for item in CHEMISTRIES.values() if item.name in said), CHEMISTRIES["lipo"])
        volts_v = int(cells.group(1)) * chemistry.nominal_v
    if volts_v is not None:
        volts_v = round(volts_v, 2)
        lead_acid = not cells and not milli and not any(word in said for word in _LITHIUM_WORDS)
        part = LEAD_ACID_PART if lead_acid else None
        return Labelled(round(ah * volts_v, 1), volts_v, f"{ah:g} Ah × {volts_v:g} V", part)
    if milli:
        how = f"{ah:g} Ah × {BANK_CELL_V:g} V, the volts of its cells"
        return Labelled(round(ah * BANK_CELL_V, 1), None, how, BANK_GIVES)
    raise ValueError("say its volts as well, as in 100 Ah 12 V")
