"""Paired devices in and out of their table."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Row, select, update

from iterum.store import tables
from iterum.store.rows import Rows


@dataclass(frozen=True)
class Phone:
    """A device that was paired. kind : of its browser. gone_at : when it was forgotten, and why."""

    key: int
    name: str
    role: str
    pilot: str | None
    kind: str
    address: str
    paired_at: datetime
    seen_at: datetime
    gone_at: datetime | None
    gone_why: str | None


class PhoneRepository(Rows):
    """Paired devices, within one transaction."""

    def add(
        self, name: str, role: str, token_hash: str, kind: str, address: str, at: datetime, pilot: str | None = None
    ) -> int:
        """Keep a device. Returns its key. pilot : whose it is, where it is a pilot's."""
        values = {"name": name, "role": role, "token_hash": token_hash, "kind": kind, "address": address}
        return self._insert(tables.phones, {**values, "pilot": pilot, "paired_at": at, "seen_at": at})

    def by_token(self, token_hash: str) -> Phone | None:
        """The device with this token, forgotten or not."""
        row = self._connection.execute(select(tables.phones).where(tables.phones.c.token_hash == token_hash)).first()
        return None if row is None else _phone(row)

    def all(self) -> tuple[Phone, ...]:
        """Every device, the latest first."""
        return tuple(_phone(row) for row in self._rows(select(tables.phones).order_by(tables.phones.c.key.desc())))

    def seen(self, key: int, address: str, at: datetime) -> None:
        """Note when and where a device was seen."""
        table = tables.phones
        self._connection.execute(update(table).where(table.c.key == key).values(seen_at=at, address=address))

    def forget(self, key: int, at: datetime, why: str) -> None:
        """Let a device in no more."""
        table = tables.phones
        mine = (table.c.key == key, table.c.gone_at.is_(None))
        self._connection.execute(update(table).where(*mine).values(gone_at=at, gone_why=why))


def _phone(row: Row[tuple[object, ...]]) -> Phone:
    return Phone(**{name: value for name, value in row._mapping.items() if name != "token_hash"})
