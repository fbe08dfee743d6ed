"""Importing a session file: what it would change, before anything is changed."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from iterum.core.say import say
from iterum.core.things.kit import Source
from iterum.core.things.session import Session
from iterum.exchange.session import rules_document
from iterum.exchange.shape import in_file
from iterum.services.desk import by_id, kit_items


@dataclass(frozen=True)
class Change:
    """One thing an import would add or change. `details` are (field, before, after) as texts."""

    kind: str
    id: str
    added: bool
    details: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True)
class ImportPreview:
    """What an import would do. `same` counts what it would leave as it is."""

    changes: tuple[Change, ...]
    same: int


def _text(value: Any) -> str:
    if value is None or value in ((), ""):
        return "–"
    if isinstance(value, tuple):
        return ", ".join(_text(item) for item in value)
    return f"{value:g}" if isinstance(value, float) else str(value)


def _flat(item: Any) -> dict[str, Any]:
    """Fields of a core object for comparing, a reading spread out, a charger's channels one by one."""
    kind: Any = type(item)
    flat = {name: getattr(item, name) for name in in_file(kind)}
    reading = getattr(item, "reading", None)
    if reading is not None:
        flat |= {"rest volts": reading.cell_v or (reading.pack_v,), "measured at": reading.taken_at}
    for channel in flat.pop("channels", ()):
        flat |= {f"{channel.id} {name}": value for name, value in _flat(channel).items()}
    return flat


def _compare(kind: str, before: Sequence[Any], after: Sequence[Any]) -> tuple[list[Change], int]:
    known = by_id(before)
    changes, same = [], 0
    for item in after:
        old = known.get(item.id)
        was, now = _flat(old) if old else {}, _flat(item)
        if was == now:
            same += 1
            continue
        details = tuple(
            (name.replace("_", " "), _text(was.get(name)), _text(now.get(name)))
            for name in dict.fromkeys((*was, *now))
            if was.get(name) != now.get(name) and (old is not None or now[name] not in (None, ()))
        )
        changes.append(Change(kind, item.id, old is None, details))
    return changes, same


def preview_import(current: Session, imported: Session) -> ImportPreview:
    """What taking `imported` in would change in `current`. What the file does not name stays as it is."""
    changes, same = _compare("pilot", current.pilots, imported.pilots)
    more, unchanged = _compare("pack", current.packs, [_kept_reading(current, pack) for pack in imported.packs])
    changes, same = changes + more, same + unchanged
    for item in kit_items(imported.kit):
        kind = type(item).__name__.lower()
        more, unchanged = _compare(kind, kit_items(current.kit), [_kept_ledger(current, item)])
        changes += more
        same += unchanged
    was, now = rules_document(current.rules), rules_document(imported.rules)
    details = tuple(
        (name.replace("_", " "), _text(was.get(name)), _text(now.get(name)))
        for name in dict.fromkeys((*was, *now))
        if was.get(name) != now.get(name)
    )
    if details:
        changes.append(Change("house rules", "", False, details))
    if imported.wanted and imported.wanted != current.wanted:
        wishes = "; ".join(
            say("{count} × {family} by {at_min:g} min", count=wish.count, family=wish.family, at_min=wish.at_min)
            for wish in imported.wanted
        )
        changes.append(Change("wishes", "", not current.wanted, (("wanted", "–", wishes),)))
    in_hand = {batch.packs for batch in current.running}
    elsewhere = [batch for batch in imported.running if batch.packs not in in_hand]
    if elsewhere:
        packs = "; ".join(", ".join(batch.packs) for batch in elsewhere)
        changes.append(Change("charging", "", False, ((say("not taken over, each bench has its own"), packs, "–"),)))
    if imported.name and imported.name != current.name:
        changes.append(Change("meeting", "", False, (("name", _text(current.name), imported.name),)))
    return ImportPreview(tuple(changes), same)


def _kept_reading(current: Session, pack: Any) -> Any:
    """A pack of the file without volts keeps the reading it has."""
    old = by_id(current.packs).get(pack.id)
    return replace(pack, reading=old.reading) if old and pack.reading is None else pack


def _kept_ledger(current: Session, item: Any) -> Any:
    """A source of the file that tells of nothing taken keeps what is known to be gone."""
    old = by_id(current.kit.sources).get(item.id) if isinstance(item, Source) else None
    return replace(item, taken_wh=old.taken_wh) if old and not item.taken_wh else item
