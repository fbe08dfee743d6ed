"""Core objects in and out of the tables. Every method runs inside the transaction it was given."""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, delete, func, insert, select, update

from iterum.core.planning.record import KeptPlan, PlanRecord
from iterum.core.reasons import NotThere
from iterum.core.season.health import ChargeRecord
from iterum.core.season.records import KeptReading
from iterum.core.things.choice import Choice
from iterum.core.things.curve import Learned
from iterum.core.things.packs import Pack, Reading, charged_since
from iterum.core.things.pilots import Pilot
from iterum.core.things.session import Wish
from iterum.store import tables
from iterum.store.archive import Line, lines_of, lines_of_pilot
from iterum.store.columns import kept_by_log, made, values_of
from iterum.store.documents import from_document, to_document
from iterum.store.kit import KIT_TABLES, KitRepository
from iterum.store.merge import Merge, Taken
from iterum.store.phones import PhoneRepository
from iterum.store.remembered import remembered
from iterum.store.runs import RunRepository
from iterum.store.undo import Done, Undone, acts, brought, tags_in, undo

AFTER = "after charge"
"""Origin of a reading that was taken when a batch came off."""


_OF_PILOTS = (
    *((table, "pilot") for table in (tables.packs, tables.wishes, tables.boards, tables.chargers, tables.sources,
                                     tables.phones, tables.flights)),
    (tables.runs, "tended_by"),
)  # fmt: skip
"""Where a pilot is named."""


@dataclass(frozen=True)
class HandMove:
    """A pack moved by hand: into the group of another pack, or out (None)."""

    pack_id: str
    with_pack_id: str | None


class Repository(KitRepository):
    """Everything that is kept, within one transaction."""

    def __init__(self, connection: Connection, known: dict[Hashable, Any] | None = None) -> None:
        super().__init__(connection, known)
        self.runs = RunRepository(connection, known)
        self.phones = PhoneRepository(connection, known)

    # ------------------------------------------------------------------ packs and readings

    def _latest_readings(self) -> dict[int, Row[Any]]:
        """The reading in force of each pack: the latest by time that no other corrects."""
        readings = tables.readings
        corrected = select(readings.c.corrects_key).where(readings.c.corrects_key.is_not(None))
        ranked = (
            select(
                readings,
                func.row_number()
                .over(
                    partition_by=readings.c.pack_key,
                    order_by=(func.coalesce(readings.c.taken_at, readings.c.entered_at).desc(), readings.c.key.desc()),
                )
                .label("rank"),
            )
            .where(readings.c.key.not_in(corrected))
            .subquery()
        )
        chosen = select(ranked).where(ranked.c.rank == 1)
        return {row.pack_key: row for row in self._rows(chosen)}

    def packs(self, retired: bool = False) -> tuple[Pack, ...]:
        """Packs in use (or the retired ones), in the order of their tags, each with its reading in force."""
        packs = tables.packs
        rule = packs.c.retired_at.is_not(None) if retired else packs.c.retired_at.is_(None)
        rows = self._rows(select(packs).where(rule).order_by(packs.c.id))
        latest = self._latest_readings() if rows else {}
        flown = self._flown_at() if rows else {}
        return tuple(_pack(row, latest.get(row.key), flown.get(row.id)) for row in rows)

    def _flown_at(self) -> dict[str, datetime]:
        """By tag, when each pack flew last."""
        table = tables.flights
        rows = self._rows(select(table.c.heat_at, table.c.packs).order_by(table.c.heat_at))
        return {tag: row.heat_at for row in rows for tag in row.packs}

    def key_of(self, pack_id: str) -> int:
        """The row of a pack. Raises NotThere when there is none."""
        key = self._connection.scalar(select(tables.packs.c.key).where(tables.packs.c.id == pack_id))
        if key is None:
            raise NotThere("pack", pack_id)
        return int(key)

    def save_pack(self, pack: Pack, known_as: str | None = None) -> None:
        """Add a pack, or change the one `known_as` that tag. Its reading is not touched. Raises TagTaken, NotThere."""
        values, by_log = values_of(pack, tables.packs), kept_by_log(Pack)
        label = {name: value for name, value in values.items() if name not in by_log}
        self._save(tables.packs, label, known_as)

    def on_charger(self, pack_ids: Sequence[str], at: datetime) -> None:
        """Note that packs are, or were just now, on a charger."""
        self._connection.execute(update(tables.packs).where(tables.packs.c.id.in_(pack_ids)).values(charged_at=at))
        self.set_charged_full(pack_ids, False)

    def set_charged_full(self, pack_ids: Sequence[str], full: bool) -> None:
        """Note whether the last charge of packs ended as a full one does."""
        table = tables.packs
        self._connection.execute(update(table).where(table.c.id.in_(pack_ids)).values(charged_full=full))

    def balanced(self, pack_id: str, balanced: bool) -> None:
        """Count a charge that did not balance a pack, or begin again where it did."""
        table = tables.packs
        count = 0 if balanced else table.c.since_balance + 1
        self._connection.execute(update(table).where(table.c.id == pack_id).values(since_balance=count))

    def set_learned(self, pack_id: str, learned: Learned | None) -> None:
        """Keep what its charges taught of a pack."""
        table = tables.packs
        values = {"learned": to_document(learned) if learned else None}
        self._connection.execute(update(table).where(table.c.id == pack_id).values(values))

    def learns_from(self, pack_id: str) -> datetime | None:
        """Since when its charges count; None: all."""
        table = tables.packs
        since: datetime | None = self._connection.scalar(select(table.c.learns_from).where(table.c.id == pack_id))
        return since

    def forget_learned(self, pack_id: str, at: datetime) -> None:
        """Forget what was learned; only charges from now on count."""
        table = tables.packs
        values = {"learned": None, "learns_from": at}
        self._connection.execute(update(table).where(table.c.id == pack_id).values(values))

    @remembered
    def air(self) -> tuple[float, datetime] | None:
        """Degrees of the air and when that was said; None where nobody said."""
        row = self._connection.execute(select(tables.meeting.c.air_c, tables.meeting.c.air_at)).first()
        return None if row is None or row.air_c is None or row.air_at is None else (row.air_c, row.air_at)

    def set_air(self, air_c: float, at: datetime) -> None:
        """Keep the degrees of the air."""
        self._meeting_row()
        self._connection.execute(update(tables.meeting).values(air_c=air_c, air_at=at))

    def add_reading(
        self, pack_id: str, reading: Reading, origin: str, entered_at: datetime, corrects: int | None = None
    ) -> int:
        """Write a reading down; `corrects` is the key of the one it replaces, which is kept. Returns its key.

        A correction is of the same moment as what it corrects.
        """
        readings = tables.readings
        was = self._connection.execute(select(readings).where(readings.c.key == corrects)).first()
        row = {
            "pack_key": self.key_of(pack_id),
            "taken_at": reading.taken_at if was is None else was.taken_at or was.entered_at,
            "entered_at": entered_at,
            "pack_v": reading.pack_v,
            "cell_v": list(reading.cell_v),
            "temperature_c": reading.temperature_c,
            "origin": origin,
            "corrects_key": corrects,
        }
        return self._insert(tables.readings, row)

    def readings(self, pack_id: str) -> tuple[KeptReading, ...]:
        """Every reading of a pack, newest first, corrected ones included."""
        mine = tables.readings.c.pack_key == self.key_of(pack_id)
        return self._kept(select(tables.readings).where(mine).order_by(tables.readings.c.key.desc()))

    def measured(
        self, pack_id: str | None, since: datetime | None, until: datetime | None, count: int | None, offset: int
    ) -> tuple[KeptReading, ...]:
        """Readings of all packs or of one, newest first."""
        table = tables.readings
        statement = select(table).order_by(table.c.key.desc())
        if pack_id is not None:
            statement = statement.where(table.c.pack_key == self.key_of(pack_id))
        if since is not None:
            statement = statement.where(table.c.entered_at >= since)
        if until is not None:
            statement = statement.where(table.c.entered_at < until)
        return self._kept(statement if count is None else statement.limit(count).offset(offset))

    @remembered
    def _tags(self) -> dict[int, str]:
        """The tag of every pack, in use or retired, by its key."""
        return {row.key: row.id for row in self._rows(select(tables.packs.c.key, tables.packs.c.id))}

    def _kept(self, statement: Any) -> tuple[KeptReading, ...]:
        """Rows of readings, each with the tag of its pack and the key of what corrected it."""
        rows = self._rows(statement)
        readings = tables.readings
        keys = [row.key for row in rows]
        corrected = self._rows(select(readings.c.key, readings.c.corrects_key).where(readings.c.corrects_key.in_(keys)))
        replaced = {row.corrects_key: row.key for row in corrected}
        tags = self._tags()
        return tuple(
            KeptReading(
                row.key, tags[row.pack_key], _reading(row), row.entered_at, row.origin, row.corrects_key,
                replaced.get(row.key),
            )
            for row in rows
        )  # fmt: skip

    def log_charge(self, pack_id: str, run_key: int | None, origin: str, record: ChargeRecord) -> int:
        """Write one charge of one pack down, in use or retired. Returns its key. Raises NotThere."""
        return self.runs.log_charge(self.key_of(pack_id), run_key, origin, record)

    # ------------------------------------------------------------------ acts that can be taken back

    def take_once(self, key: str, at: datetime) -> bool:
        """Note an id; False for one that was noted before."""
        table = tables.kept_ids
        if self._connection.scalar(select(table.c.id).where(table.c.id == key)) is not None:
            return False
        self._connection.execute(insert(table).values(id=key, at=at))
        return True

    def acts(self) -> tuple[Done, ...]:
        """What can be taken back, or was, the latest first."""
        return acts(self._connection)

    def tags_in_act(self, key: int) -> set[str]:
        """Tags of packs and kit that taking an act back would change."""
        return tags_in(self._connection, key)

    def runs_in_act(self, key: int) -> set[int]:
        """Batches that an act brought, and that nobody has touched since."""
        return brought(self._connection, key, tables.runs)

    def undo(self, key: int, at: datetime) -> Undone:
        """Take an act back, but for what was used since. Raises NotThere."""
        return undo(self._connection, key, at)

    # ------------------------------------------------------------------ everything, out and in

    def archive(self, now: datetime, pilot: str | None = None) -> Iterator[str]:
        """Every row as a line of an archive; with a pilot, only their packs with what happened to them."""
        return lines_of(self._connection, now) if pilot is None else lines_of_pilot(self._connection, pilot, now)

    def merge(self, rows: list[Line]) -> Taken:
        """Take the rows of an archive in. Raises BadInput where tags clash."""
        return Merge(self._connection).take(rows)

    # ------------------------------------------------------------------ retiring, and back

    def retire(self, kind: type, item_id: str, at: datetime | None) -> None:
        """Take a pack or a piece of kit out of use, or back into it (`at` None). Raises NotThere."""
        table = tables.packs if kind is Pack else KIT_TABLES[kind]
        changed = self._connection.execute(
            update(table).where(table.c.id == item_id).values(retired_at=at).returning(table.c.key)
        )
        if changed.first() is None:
            raise NotThere(table.name, item_id)

    # ------------------------------------------------------------------ rules, wishes, moves, the meeting

    def rules_values(self) -> dict[str, Any] | None:
        """The house rules in force, as plain values; None when none were ever set."""
        rules = tables.house_rules
        values = self._connection.scalar(select(rules.c["values"]).order_by(rules.c.key.desc()).limit(1))
        return None if values is None else dict(values)

    def set_rules_values(self, values: Mapping[str, Any], at: datetime) -> None:
        """Put new house rules in force; the earlier ones are kept."""
        self._connection.execute(insert(tables.house_rules).values(set_at=at, values=dict(values)))

    def previous_rules_values(self) -> dict[str, Any] | None:
        """The house rules that were in force before the last change; None before any change."""
        rules = tables.house_rules
        values = self._connection.scalar(select(rules.c["values"]).order_by(rules.c.key.desc()).limit(1).offset(1))
        return None if values is None else dict(values)

    def pilots(self) -> tuple[Pilot, ...]:
        """The pilots at the table, in the order in which they came."""
        table = tables.pilots
        rows = self._rows(select(table).where(table.c.retired_at.is_(None)).order_by(table.c.key))
        return tuple(made(Pilot, row) for row in rows)

    def save_pilot(self, pilot: Pilot, known_as: str | None) -> None:
        """Add a pilot, or change the one `known_as` that. What is theirs follows. Raises TagTaken, NotThere."""
        self._save(tables.pilots, values_of(pilot, tables.pilots) | {"retired_at": None}, known_as)
        if known_as in (None, pilot.id):
            return
        for table, name in _OF_PILOTS:
            column = table.c[name]
            self._connection.execute(update(table).where(column == known_as).values({name: pilot.id}))
        self._say_instead(str(known_as), pilot.id)

    def _say_instead(self, was: str, now: str | None) -> None:
        """Let those who share boards with a pilot name them otherwise, or not at all."""
        for other in self.pilots():
            if was in other.shares_with:
                named = (now if tag == was else tag for tag in other.shares_with)
                with_whom = [tag for tag in named if tag is not None]
                self._save(tables.pilots, {"shares_with": with_whom, "id": other.id}, other.id)

    def drop_pilot(self, pilot_id: str) -> None:
        """Take a pilot off the table who has nothing there. Raises NotThere."""
        table = tables.pilots
        gone = self._connection.execute(delete(table).where(table.c.id == pilot_id).returning(table.c.key)).first()
        if gone is None:
            raise NotThere("pilot", pilot_id)
        self._say_instead(pilot_id, None)

    def wishes(self) -> tuple[Wish, ...]:
        """What is wanted full, by when."""
        rows = self._rows(select(tables.wishes).order_by(tables.wishes.c.key))
        return tuple(made(Wish, row) for row in rows)

    def set_wishes(self, wishes: Sequence[Wish]) -> None:
        """Replace what is wanted."""
        self._connection.execute(delete(tables.wishes))
        for wish in wishes:
            self._connection.execute(insert(tables.wishes).values(values_of(wish, tables.wishes)))

    def starts_at(self) -> datetime | None:
        """The moment from which the minutes of wishes count."""
        return self._connection.scalar(select(tables.meeting.c.starts_at))

    def set_starts_at(self, moment: datetime) -> None:
        """Count the minutes of wishes from another moment."""
        self._meeting_row()
        self._connection.execute(update(tables.meeting).values(starts_at=moment))

    def add_plan(self, plan: KeptPlan) -> None:
        """Keep a plan; earlier ones stay."""
        self._connection.execute(
            insert(tables.plans).values(
                made_at=plan.made_at, prefer=plan.prefer, revision=plan.revision, document=to_document(plan.plan)
            )
        )

    @remembered
    def latest_plans(self) -> tuple[KeptPlan, ...]:
        """The plan taken last, then those made at the same moment by other preferences, to compare it with."""
        plans = tables.plans
        last = select(plans.c.made_at).order_by(plans.c.key.desc()).limit(1).scalar_subquery()
        rows = self._rows(select(plans).where(plans.c.made_at == last).order_by(plans.c.key.desc()))
        latest: dict[str, KeptPlan] = {}
        for row in rows:
            plan = from_document(PlanRecord, row.document)
            latest.setdefault(row.prefer, KeptPlan(row.made_at, row.prefer, plan, row.revision))
        return tuple(latest.values())

    @remembered
    def hand_moves(self) -> tuple[HandMove, ...]:
        """Packs moved by hand, oldest first."""
        moves, packs = tables.hand_moves, tables.packs
        other = packs.alias()
        rows = self._rows(
            select(packs.c.id, other.c.id.label("with_id"))
            .select_from(moves.join(packs, moves.c.pack_key == packs.c.key))
            .outerjoin(other, moves.c.with_pack_key == other.c.key)
            .order_by(moves.c.moved_at)
        )
        return tuple(HandMove(row.id, row.with_id) for row in rows)

    def set_hand_move(self, move: HandMove, at: datetime) -> None:
        """Note a move by hand; a later one of the same pack replaces it."""
        self.drop_hand_move(move.pack_id)
        values = {
            "pack_key": self.key_of(move.pack_id),
            "with_pack_key": None if move.with_pack_id is None else self.key_of(move.with_pack_id),
            "moved_at": at,
        }
        self._connection.execute(insert(tables.hand_moves).values(values))

    def drop_hand_move(self, pack_id: str | None = None) -> None:
        """Forget the move of one pack, or of all."""
        statement = delete(tables.hand_moves)
        if pack_id is not None:
            statement = statement.where(tables.hand_moves.c.pack_key == self.key_of(pack_id))
        self._connection.execute(statement)

    def meeting(self) -> tuple[str | None, str | None, Choice | None]:
        """The meeting's name and note, and the group last chosen for a channel."""
        row = self._connection.execute(select(tables.meeting)).first()
        if row is None:
            return None, None, None
        choice = row.group_choice
        return row.name, row.note, from_document(Choice, choice) if choice else None

    def set_meeting(self, name: str | None, note: str | None, choice: Choice | None) -> None:
        """Name the meeting and keep the group last chosen."""
        values = {
            "name": name,
            "note": note,
            "group_choice": to_document(choice) if choice else None,
        }
        self._meeting_row()
        self._connection.execute(update(tables.meeting).values(values))

    def _meeting_row(self) -> None:
        if self._connection.scalar(select(tables.meeting.c.key)) is None:
            self._connection.execute(insert(tables.meeting).values(key=1, revision=0))

    @remembered
    def revision(self) -> int:
        """A number that rises with every change."""
        return int(self._connection.scalar(select(tables.meeting.c.revision)) or 0)

    def bump_revision(self, as_planned: bool = False) -> None:
        """Say that something changed. as_planned : plans that were up to date stay so."""
        self._meeting_row()
        if as_planned:
            plans, now = tables.plans, self.revision()
            self._connection.execute(update(plans).where(plans.c.revision == now).values(revision=now + 1))
        self._connection.execute(update(tables.meeting).values(revision=tables.meeting.c.revision + 1))


def _reading(row: Row[Any]) -> Reading:
    return Reading(row.pack_v, tuple(row.cell_v), row.taken_at, row.temperature_c)


def _pack(row: Row[Any], read: Row[Any] | None, flown_at: datetime | None) -> Pack:
    """A pack with its reading, unless it was charged or flown since."""
    read_at = None if read is None else read.taken_at or read.entered_at
    since = charged_since(row.charged_at, read_at, read is not None and read.origin == AFTER)
    known = [moment for moment in (read_at, row.charged_at) if moment is not None]
    flew = flown_at is not None and all(moment < flown_at for moment in known)
    return made(
        Pack,
        row,
        reading=None if since or flew or read is None else replace(_reading(read), taken_at=read_at),
        charged_at=row.charged_at if since and not flew else None,
        flown_at=flown_at if flew else None,
    )
