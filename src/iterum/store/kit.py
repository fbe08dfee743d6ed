"""Kit, and what its sources still hold, in and out of the tables."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Row, Table, delete, insert, select, update

from iterum.core.reasons import NotThere
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.ledger import Entry, EntryKind
from iterum.store import tables
from iterum.store.columns import made, values_of
from iterum.store.rows import Rows, TagTaken

KitItem = Board | Charger | Supply | Source

KIT_TABLES: dict[type, Table] = {
    Board: tables.boards,
    Charger: tables.chargers,
    Supply: tables.supplies,
    Source: tables.sources,
}


class KitRepository(Rows):
    """Boards, chargers with their channels, supplies, sources and their ledger."""

    def kit(self, retired: bool = False) -> Kit:
        """Everything to charge with that is in use (or that is retired)."""
        channels: dict[int, list[Channel]] = {}
        mounted = select(tables.channels).where(tables.channels.c.removed.is_(False))
        for row in self._rows(mounted.order_by(tables.channels.c.position)):
            channels.setdefault(row.charger_key, []).append(made(Channel, row))
        return Kit(
            boards=tuple(made(Board, row) for row in self._kit_rows(tables.boards, retired)),
            chargers=tuple(
                made(Charger, row, channels=tuple(channels.get(row.key, ())))
                for row in self._kit_rows(tables.chargers, retired)
            ),
            supplies=tuple(made(Supply, row) for row in self._kit_rows(tables.supplies, retired)),
            sources=tuple(made(Source, row) for row in self._kit_rows(tables.sources, retired)),
        )

    def _kit_rows(self, table: Table, retired: bool) -> Sequence[Row[Any]]:
        rule = table.c.retired_at.is_not(None) if retired else table.c.retired_at.is_(None)
        return self._rows(select(table).where(rule).order_by(table.c.key))

    def save_kit_item(self, item: KitItem, known_as: str | None = None) -> None:
        """Add a piece of kit, or change the one `known_as` that tag. Raises TagTaken, NotThere.

        Whoever was fed by it follows when its tag changes.
        """
        table = KIT_TABLES[type(item)]
        channels = item.channels if isinstance(item, Charger) else ()
        self._refuse_taken({item.id, *(channel.id for channel in channels)}, table, known_as)
        values = values_of(item, table)
        key = self._save(table, values, known_as)
        if isinstance(item, Charger):
            self._save_channels(key, item.channels)
        elif isinstance(item, (Supply, Source)) and known_as not in (None, item.id):
            for fed in (tables.supplies, tables.chargers):
                self._connection.execute(update(fed).where(fed.c.fed_by == known_as).values(fed_by=item.id))
            if isinstance(item, Source):
                entries = tables.ledger
                self._connection.execute(update(entries).where(entries.c.source == known_as).values(source=item.id))

    def _refuse_taken(self, tags: set[str], table: Table, known_as: str | None) -> None:
        """Raises TagTaken where another piece of kit, in use or retired, has one of these tags: each stands once."""
        for other in (*KIT_TABLES.values(), tables.channels):
            statement = select(other.c.id).where(other.c.id.in_(tags))
            if other is table and known_as is not None:
                statement = statement.where(other.c.id != known_as)
            if other is tables.channels and table is tables.chargers:
                mine = select(tables.chargers.c.key).where(tables.chargers.c.id == known_as)
                statement = statement.where(other.c.charger_key.not_in(mine)) if known_as is not None else statement
            taken = self._connection.scalar(statement)
            if taken is not None:
                raise TagTaken(taken)

    def _save_channels(self, charger_key: int, channels: Sequence[Channel]) -> None:
        """Put these channels on a charger; those it had before and has no more are kept as removed."""
        table = tables.channels
        mine = table.c.charger_key == charger_key
        known = set(self._connection.scalars(select(table.c.id).where(mine)))
        self._connection.execute(update(table).where(mine).values(removed=True))
        for position, channel in enumerate(channels):
            values = values_of(channel, table) | {"charger_key": charger_key, "position": position, "removed": False}
            self._save(table, values, channel.id if channel.id in known else None)

    def removed_channels(self) -> tuple[tuple[str, str], ...]:
        """(charger, channel) of channels that were taken off a charger in use."""
        channels, chargers = tables.channels, tables.chargers
        rows = self._rows(
            select(chargers.c.id.label("charger_id"), channels.c.id)
            .join(channels, channels.c.charger_key == chargers.c.key)
            .where(channels.c.removed, chargers.c.retired_at.is_(None))
            .order_by(channels.c.key)
        )
        return tuple((row.charger_id, row.id) for row in rows)

    def put_channel_back(self, channel_id: str) -> None:
        """Put a removed channel back on its charger. Raises NotThere."""
        table = tables.channels
        changed = self._connection.execute(
            update(table).where(table.c.id == channel_id).values(removed=False).returning(table.c.key)
        )
        if changed.first() is None:
            raise NotThere("channel", channel_id)

    # ------------------------------------------------------------------ what sources still hold

    def ledger(self, source_id: str | None = None) -> tuple[Entry, ...]:
        """Entries of one source, or of all, in the order of time."""
        table = tables.ledger
        statement = select(table).order_by(table.c.at, table.c.key)
        if source_id is not None:
            statement = statement.where(table.c.source == source_id)
        return tuple(
            Entry(row.source, row.at, EntryKind(row.kind), row.wh, row.run_key, row.note, row.key)
            for row in self._rows(statement)
        )

    def add_entry(self, entry: Entry) -> None:
        """Write an entry down; one of the same charge is replaced."""
        table = tables.ledger
        if entry.run_key is not None:
            same = (table.c.run_key == entry.run_key, table.c.kind == entry.kind.value)
            self._connection.execute(delete(table).where(*same))
        values = {name: value for name, value in vars(entry).items() if name != "key"}
        self._connection.execute(insert(table).values({**values, "kind": entry.kind.value}))
