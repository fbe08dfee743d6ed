"""The log in and out of the tables: incidents, charges, and what the columns of files mean."""

from collections.abc import Mapping, Sequence
from dataclasses import fields
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, insert, select, update

from iterum.core.season.health import ChargeRecord
from iterum.core.season.records import Incident, KeptFlight, LoggedCharge
from iterum.store import tables
from iterum.store.rows import Rows


class LogRepository(Rows):
    """What happened, for good."""

    def add_incident(self, incident: Incident) -> None:
        """Write an incident down."""
        self._connection.execute(
            insert(tables.incidents).values({name: list(value) if isinstance(value, tuple) else value
                                             for name, value in vars(incident).items()})
        )  # fmt: skip

    def incidents(self, since: datetime | None = None) -> tuple[Incident, ...]:
        """Incidents, the newest first."""
        table = tables.incidents
        statement = select(table).order_by(table.c.key.desc())
        if since is not None:
            statement = statement.where(table.c.at >= since)
        return tuple(
            Incident(row.at, row.kind, tuple(row.packs), tuple(row.runs), tuple(row.stopped), row.note)
            for row in self._rows(statement)
        )

    def add_flight(self, flight: KeptFlight) -> None:
        """Write down who flew in a heat; what was said of the same heat before gives way."""
        table = tables.flights
        same = (table.c.heat_at == flight.heat_at) & (table.c.family == flight.family)
        named = table.c.name.is_(None) if flight.name is None else table.c.name == flight.name
        theirs = table.c.pilot.is_(None) if flight.pilot is None else table.c.pilot == flight.pilot
        self._connection.execute(delete(table).where(same & named & theirs))
        self._connection.execute(insert(table).values(vars(flight) | {"packs": list(flight.packs)}))

    def flights(self, since: datetime | None = None) -> tuple[KeptFlight, ...]:
        """Who flew in heats, the newest first."""
        table = tables.flights
        statement = select(table).order_by(table.c.heat_at.desc(), table.c.key.desc())
        if since is not None:
            statement = statement.where(table.c.heat_at >= since)
        return tuple(
            KeptFlight(row.at, row.heat_at, row.family, row.name, tuple(row.packs), row.pilot)
            for row in self._rows(statement)
        )

    # ------------------------------------------------------------------ the charge log

    def log_charge(self, pack_key: int, run_key: int | None, origin: str, record: ChargeRecord) -> int:
        """Write one charge of one pack down. Returns its key."""
        values = {name: list(value) if isinstance(value, tuple) else value for name, value in vars(record).items()}
        table = tables.charges
        row = {**values, "pack_key": pack_key, "run_key": run_key, "origin": origin}
        return int(self._connection.execute(insert(table).values(row).returning(table.c.key)).scalar_one())

    def fill_charge(self, key: int, values: Mapping[str, Any]) -> None:
        """Write into a charge what it lacked."""
        table = tables.charges
        plain = {name: list(value) if isinstance(value, tuple) else value for name, value in values.items()}
        self._connection.execute(update(table).where(table.c.key == key).values(plain))

    def charges(
        self,
        pack_id: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        count: int | None = None,
        run_key: int | None = None,
        offset: int = 0,
    ) -> tuple[LoggedCharge, ...]:
        """Logged charges, the newest first."""
        table, packs = tables.charges, tables.packs
        statement = select(table, packs.c.id).join(packs, table.c.pack_key == packs.c.key)
        conditions = [
            packs.c.id == pack_id if pack_id is not None else None,
            table.c.at >= since if since is not None else None,
            table.c.at < until if until is not None else None,
            table.c.run_key == run_key if run_key is not None else None,
        ]
        statement = statement.where(*(item for item in conditions if item is not None))
        statement = statement.order_by(table.c.at.desc(), table.c.key.desc())
        if count is not None:
            statement = statement.limit(count).offset(offset)
        names = [field.name for field in fields(ChargeRecord)]
        charges = []
        for row in self._rows(statement):
            stored = {name: row._mapping[name] for name in names}
            plain: dict[str, Any] = {n: tuple(v) if isinstance(v, list) else v for n, v in stored.items()}
            record = ChargeRecord(**plain)
            charges.append(LoggedCharge(row.key, row.id, row.run_key, row.origin, record))
        return tuple(charges)

    def charge_counts(self) -> dict[str, int]:
        """Logged charges by pack."""
        table, packs = tables.charges, tables.packs
        statement = (
            select(packs.c.id, func.count().label("charged"))
            .join(packs, table.c.pack_key == packs.c.key)
            .group_by(packs.c.id)
        )
        return {row.id: int(row.charged) for row in self._rows(statement)}

    def column_meaning(self, headings: Sequence[str]) -> dict[str, str] | None:
        """What the pilot said these headings mean; None where they were never seen."""
        for row in self._rows(select(tables.column_maps).order_by(tables.column_maps.c.key.desc())):
            if list(row.headings) == list(headings):
                return dict(row.meaning)
        return None

    def keep_column_meaning(self, headings: Sequence[str], meaning: Mapping[str, str]) -> None:
        """Remember what headings mean."""
        self._connection.execute(insert(tables.column_maps).values(headings=list(headings), meaning=dict(meaning)))
