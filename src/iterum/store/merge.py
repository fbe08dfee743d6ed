"""An archive taken in: on an empty bench the same as it was, on another what is new there; nothing doubles.

Whether a row is here already is told by what it is of (`OF`), never by its key.
"""

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Connection, Row, Table, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from iterum.core.fields import BadInput, Fault
from iterum.core.say import say
from iterum.core.season.run import OPEN
from iterum.store import tables
from iterum.store.archive import KEPT, MOST_FAULTS, Line, key_of, references

OF: dict[str, tuple[str, ...]] = {
    "pilots": ("id",),
    "packs": ("id",), "boards": ("id",), "chargers": ("id",), "channels": ("id",), "supplies": ("id",),
    "sources": ("id",), "readings": ("pack_key", "entered_at", "pack_v", "cell_v", "origin"),
    "runs": ("begun_at", "channel", "packs"), "run_events": ("run_key", "at", "act", "state"),
    "observations": ("run_key", "at", "at_min", "origin", "pack_id"), "found_wrong": ("run_key", "code", "since"),
    "incidents": ("at", "kind"), "flights": ("heat_at", "family", "name", "pilot"), "charges": ("pack_key", "at"),
    "ledger": ("source", "at", "kind"),
    "devices": ("kind", "address"), "column_maps": ("headings",),
}  # fmt: skip
"""What tells a row from others of its table."""
IN_FORCE = ("house_rules", "wishes", "hand_moves", "plans")
"""Tables of what holds today, not of what happened: taken where this bench has none of it."""
_KIT = ("boards", "chargers", "channels", "supplies", "sources")


@dataclass
class Taken:
    """What came of taking an archive in: rows by table that are new, that were here already, that were left out.

    lines : where each new row stands in the file, with its table and its key here.
    """

    new: dict[str, int] = field(default_factory=dict)
    here: dict[str, int] = field(default_factory=dict)
    left_out: dict[str, int] = field(default_factory=dict)
    lines: list[tuple[int, str, int]] = field(default_factory=list)


class Merge:
    """One archive on its way in, inside a transaction."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self.taken = Taken()
        self._keys: dict[tuple[str, int], int] = {}
        self._left: set[tuple[str, int]] = set()
        self._mine: set[int] = set()
        self._later = 0
        self._here = {table.name: self._identities(table) for table in KEPT if table.name in OF}
        counted = {table.name: connection.scalar(select(func.count()).select_from(table)) for table in KEPT}
        self._has = {name for name, count in counted.items() if count}
        self._fresh = not self._has & {"packs", "runs", *_KIT}

    def _identities(self, table: Table) -> dict[str, list[int]]:
        """Keys of the rows that are here, by what they are of; several where they are alike."""
        identities: dict[str, list[int]] = {}
        for row in self._connection.execute(select(table).order_by(table.c[key_of(table)])):
            identities.setdefault(self._identity(table, dict(row._mapping)), []).append(row._mapping[key_of(table)])
        return identities

    @staticmethod
    def _identity(table: Table, values: Mapping[str, Any]) -> str:
        return json.dumps([values.get(name) for name in OF[table.name]], default=_plain_utc, sort_keys=True)

    def take(self, rows: list[Line]) -> Taken:
        """All rows, or none: raises BadInput with every clash of tags."""
        faults = list(self._clashes(rows))
        if faults:
            raise BadInput(faults[:MOST_FAULTS])
        for line, table, values in rows:
            self._take(line, table, values)
        if self._later:
            plans = tables.plans
            self._connection.execute(update(plans).values(revision=plans.c.revision + self._later))
        return self.taken

    def _clashes(self, rows: list[Line]) -> Iterator[Fault]:
        """The same tag for what is not the same."""
        packs = {row.id: dict(row._mapping) for row in self._connection.execute(select(tables.packs))}
        kit = {
            row.id: name for name in _KIT for row in self._connection.execute(select(tables.metadata.tables[name].c.id))
        }
        for line, table, values in rows:
            tag = values.get("id")
            if table is tables.packs and tag in packs and _label(values) != _label(packs[tag]):
                mend = say(
                    "{tag} here is {label}, in the file {label2}; rename one of them",
                    tag=tag,
                    label=_label(packs[tag]),
                    label2=_label(values),
                )
                yield Fault(say("line {line}", line=line), mend)
            elif table is tables.packs and tag in packs and packs[tag]["pilot"] not in (None, values.get("pilot")):
                theirs = values.get("pilot") or "nobody"
                mend = say(
                    "{tag} is {packs}’s here, and {theirs}’s in the file; rename one of them",
                    tag=tag,
                    packs=packs[tag]["pilot"],
                    theirs=theirs,
                )
                yield Fault(say("line {line}", line=line), mend)
            elif table.name in _KIT and kit.get(str(tag), table.name) != table.name:
                yield Fault(
                    say("line {line}", line=line),
                    say(
                        "{tag} is among {kit} here, {table} in the file; rename one",
                        tag=tag,
                        kit=kit[str(tag)],
                        table=table.name,
                    ),
                )

    def _take(self, line: int, table: Table, values: dict[str, Any]) -> None:
        name, old_key = table.name, values[key_of(table)]
        refers = [(other, values[column]) for column, other in references(table) if values.get(column) is not None]
        if name == "meeting":
            self._take_meeting(values)
            return
        of_the_day = name in IN_FORCE and name in self._has
        in_hand = name == "runs" and not self._fresh and values["state"] in OPEN
        if of_the_day or in_hand or self._left.intersection(refers):
            self._left.add((name, old_key))
            self._count(self.taken.left_out, name)
            return
        row = dict(values)
        for column, other in references(table):
            if row.get(column) is not None:
                row[column] = self._keys[other, row[column]]
        if table is tables.incidents:
            row["runs"] = [self._keys.get(("runs", key), key) for key in row["runs"] if isinstance(key, int)]
        same = self._here[name].get(self._identity(table, row)) if name in OF else None
        if same:
            self._keys[name, old_key] = same.pop(0)
            if table is tables.chargers:
                self._mine.add(self._keys[name, old_key])
            if table is tables.packs:
                self._merge_pack(self._keys[name, old_key], row)
            self._count(self.taken.here, name)
            return
        if name == "channels" and row["charger_key"] in self._mine:  # a charger that is here has the channels it has
            self._left.add((name, old_key))
            self._count(self.taken.left_out, name)
            return
        self._keys[name, old_key] = key = self._insert(line, table, row)
        self._count(self.taken.new, name)
        self.taken.lines.append((line, name, key))

    def _insert(self, line: int, table: Table, row: dict[str, Any]) -> int:
        """A new row, under the key it had where that is free."""
        key = key_of(table)
        primary = table.c[key]
        if not primary.foreign_keys:
            taken = self._connection.scalar(select(primary).where(primary == row[key]))
            if taken is not None or row[key] < 1:
                del row[key]
        try:
            return int(self._connection.execute(insert(table).values(row).returning(primary)).scalar_one())
        except IntegrityError as error:
            raise BadInput(
                [Fault(say("line {line}", line=line), say("cannot be kept: {orig}", orig=error.orig))]
            ) from error

    def _merge_pack(self, key: int, row: Mapping[str, Any]) -> None:
        """A pack that is here keeps what is said of it here, but for what would make it less safe."""
        table = tables.packs
        mine: Row[Any] = self._connection.execute(select(table).where(table.c.key == key)).one()
        values: dict[str, Any] = {}
        if row.get("condition") == "damaged":
            values["condition"] = "damaged"
        charged_at = row.get("charged_at")
        if charged_at is not None and (mine.charged_at is None or charged_at > mine.charged_at):
            values |= {"charged_at": charged_at, "charged_full": row.get("charged_full", False)}
        if values:
            self._connection.execute(update(table).where(table.c.key == key).values(values))

    def _take_meeting(self, values: Mapping[str, Any]) -> None:
        """The meeting as it was where nothing is here, else of its name and note what nobody has said.

        The revision never falls, and plans that were up to date stay so.
        """
        table = tables.meeting
        mine = self._connection.execute(select(table)).first()
        if not self._fresh:
            empty = {
                name: values[name] for name in ("name", "note") if values.get(name) and getattr(mine, name) is None
            }
            if empty:
                self._connection.execute(update(table).values(empty))
            return
        was, here = int(values.get("revision", 0)), int(mine.revision) if mine is not None else 0
        if mine is None:
            self._connection.execute(insert(table).values(key=1, revision=0))
        self._connection.execute(update(table).values({**values, "key": 1, "revision": max(was, here)}))
        self._later = max(was, here) - was + 1  # one more for this very change

    @staticmethod
    def _count(where: dict[str, int], name: str) -> None:
        where[name] = where.get(name, 0) + 1


def _plain_utc(value: Any) -> Any:
    return value.astimezone(UTC).isoformat() if isinstance(value, datetime) else str(value)


def _label(values: Mapping[str, Any]) -> str:
    return f"{values['chemistry_name']} {values['cells']}S {values['capacity_mah']:g} mAh"
