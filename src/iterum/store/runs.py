"""Runs and the log in and out of the tables. Every method runs inside the transaction it was given."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Row, func, insert, select, update

from iterum.core.reasons import NotThere, Reason
from iterum.core.season.outlook import Expected, Observation
from iterum.core.season.records import KeptEvent, KeptFinding, KeptObservation, KeptRun
from iterum.core.season.run import State
from iterum.core.season.watching import Alarm, Finding
from iterum.core.sizing.dial import DialCard
from iterum.core.things.choice import Choice, Kind
from iterum.devices.driver import Identity
from iterum.store import tables
from iterum.store.documents import from_document, to_document
from iterum.store.log import LogRepository
from iterum.store.remembered import remembered


@dataclass(frozen=True)
class Device:
    """A charger or checker to talk to, at an address that says which driver does.

    channels : channel of the kit -> channel as the device calls it, as a person confirmed it at `confirmed_at`.
    identity : what it said of itself when it was met.
    """

    kind: str
    address: str
    name: str | None
    channels: Mapping[str, str]
    key: int = 0
    identity: Identity | None = None
    confirmed_at: datetime | None = None


class RunRepository(LogRepository):
    """Runs, readings, findings, incidents, the charge log and devices, within one transaction."""

    # ------------------------------------------------------------------ runs

    def add(self, values: Mapping[str, Any]) -> int:
        """Keep a new run; its card and volts as core objects. Returns its key."""
        row = {**values, "packs": list(values["packs"]), "state": State.PLANNED.value}
        row |= {name: to_document(values[name]) for name in ("card", "choice", "expected") if values[name] is not None}
        row["before_v"] = {tag: list(volts) for tag, volts in values["before_v"].items()}
        row["state_at"] = values["begun_at"]
        return int(self._connection.execute(insert(tables.runs).values(row).returning(tables.runs.c.key)).scalar_one())

    def set_tender(self, key: int, pilot: str) -> None:
        """Say which pilot sees to a batch."""
        table = tables.runs
        self._connection.execute(update(table).where(table.c.key == key).values(tended_by=pilot))

    def get(self, key: int) -> KeptRun:
        """A run. Raises NotThere."""
        row = self._connection.execute(select(tables.runs).where(tables.runs.c.key == key)).first()
        if row is None:
            raise NotThere("batch", key)
        return _run(row)

    @remembered
    def in_states(self, states: tuple[State, ...]) -> tuple[KeptRun, ...]:
        """Runs in these states, oldest first."""
        chosen = tables.runs.c.state.in_([state.value for state in states])
        return tuple(_run(row) for row in self._rows(select(tables.runs).where(chosen).order_by(tables.runs.c.key)))

    @remembered
    def latest(self, count: int, since: datetime | None = None) -> tuple[KeptRun, ...]:
        """The newest runs first."""
        statement = select(tables.runs).order_by(tables.runs.c.key.desc()).limit(count)
        if since is not None:
            statement = statement.where(tables.runs.c.begun_at >= since)
        return tuple(_run(row) for row in self._rows(statement))

    def change(self, key: int, from_state: State, values: Mapping[str, Any]) -> bool:
        """Change a run that is still in `from_state`; False, and nothing is changed, where it is not."""
        table = tables.runs
        plain = {
            name: to_document(value) if isinstance(value, (Expected, DialCard)) else value
            for name, value in values.items()
        }
        changed = self._connection.execute(
            update(table)
            .where(table.c.key == key, table.c.state == from_state.value)
            .values(plain)
            .returning(table.c.key)
        )
        return changed.first() is not None

    def set_current(self, key: int, current_a: float, rate_c: float) -> None:
        """Note the amps that a run charges with, where they are others than those of its card."""
        table = tables.runs
        self._connection.execute(update(table).where(table.c.key == key).values(current_a=current_a, rate_c=rate_c))

    def heard(self, key: int, at: datetime) -> None:
        """Note that a run's charger was heard."""
        self._connection.execute(update(tables.runs).where(tables.runs.c.key == key).values(heard_at=at))

    def add_event(self, event: KeptEvent) -> None:
        """Write an act down."""
        values = {**vars(event), "state": event.state.value}
        self._connection.execute(insert(tables.run_events).values(values))

    @remembered
    def events(self, run_key: int) -> tuple[KeptEvent, ...]:
        """Every act of a run, in order."""
        table = tables.run_events
        rows = self._rows(select(table).where(table.c.run_key == run_key).order_by(table.c.key))
        return tuple(
            KeptEvent(row.run_key, row.at, row.act, State(row.state), row.skipped, row.by, row.note) for row in rows
        )

    # ------------------------------------------------------------------ readings

    def observe(self, run_key: int, at: datetime, origin: str, seen: Observation) -> int:
        """Write a reading down. Returns its key."""
        names = (
            "at_min",
            "pack_v",
            "current_a",
            "charge_mah",
            "temperature_c",
            "input_v",
            "pack_id",
            "by_hand",
            "touch",
        )
        values = {name: getattr(seen, name) for name in names}
        values |= {"run_key": run_key, "at": at, "origin": origin, "cell_v": list(seen.cell_v) or None}
        table = tables.observations
        return int(self._connection.execute(insert(table).values(values).returning(table.c.key)).scalar_one())

    @remembered
    def observed(self, run_key: int, origin: str) -> int:
        """How many readings of one origin there are of a run."""
        table = tables.observations
        mine = (table.c.run_key == run_key, table.c.origin == origin)
        return int(self._connection.scalar(select(func.count()).where(*mine)) or 0)

    @remembered
    def observations(self, run_key: int, after_key: int = 0) -> tuple[KeptObservation, ...]:
        """Every reading of a run, in the order of time. after_key : only those that were written after that one."""
        table = tables.observations
        mine = (table.c.run_key == run_key, table.c.key > after_key)
        rows = self._rows(select(table).where(*mine).order_by(table.c.at_min, table.c.key))
        return tuple(KeptObservation(row.key, row.run_key, row.at, row.origin, _observation(row)) for row in rows)

    @remembered
    def last_charge_mah(self, run_key: int) -> float | None:
        """The mAh that were read last; None where nobody read them."""
        table = tables.observations
        mine = (table.c.run_key == run_key, table.c.charge_mah.is_not(None))
        query = select(table.c.charge_mah).where(*mine).order_by(table.c.at_min.desc(), table.c.key.desc()).limit(1)
        return self._connection.scalar(query)

    def last_observation(self, run_key: int, origin: str) -> KeptObservation | None:
        """The latest reading of one origin."""
        table = tables.observations
        chosen = select(table).where(table.c.run_key == run_key, table.c.origin == origin)
        row = self._connection.execute(chosen.order_by(table.c.key.desc()).limit(1)).first()
        return None if row is None else KeptObservation(row.key, row.run_key, row.at, row.origin, _observation(row))

    def readings(
        self, run_key: int | None, since: datetime | None, until: datetime | None, count: int | None, offset: int
    ) -> tuple[KeptObservation, ...]:
        """Readings of all runs or of one, the newest first."""
        table = tables.observations
        statement = _between(select(table), table, since, until).order_by(table.c.key.desc())
        if run_key is not None:
            statement = statement.where(table.c.run_key == run_key)
        if count is not None:
            statement = statement.limit(count).offset(offset)
        return tuple(
            KeptObservation(row.key, row.run_key, row.at, row.origin, _observation(row))
            for row in self._rows(statement)
        )

    def all_events(
        self,
        run_key: int | None,
        since: datetime | None,
        until: datetime | None,
        skipped: bool,
        count: int | None,
        offset: int,
    ) -> list[tuple[KeptEvent, tuple[str, ...]]]:
        """Acts of all runs or of one with the packs of their run, the newest first."""
        table, runs = tables.run_events, tables.runs
        statement = select(table, runs.c.packs).join(runs, table.c.run_key == runs.c.key)
        statement = _between(statement, table, since, until).order_by(table.c.key.desc())
        if run_key is not None:
            statement = statement.where(table.c.run_key == run_key)
        if skipped:
            statement = statement.where(table.c.skipped)
        if count is not None:
            statement = statement.limit(count).offset(offset)
        return [
            (KeptEvent(row.run_key, row.at, row.act, State(row.state), row.skipped, row.by, row.note), tuple(row.packs))
            for row in self._rows(statement)
        ]

    # ------------------------------------------------------------------ findings and incidents

    def keep_findings(self, run_key: int, findings: Sequence[Finding], now: datetime) -> tuple[Finding, ...]:
        """Bring the kept findings of a run to what holds now. Returns those that are new, or worse than before.

        Two packs may have the same finding at once: each is kept by itself.
        """
        table = tables.found_wrong
        rows = self._rows(select(table).where(table.c.run_key == run_key, table.c.gone_at.is_(None)))
        holding = {(row.code, (row.numbers or {}).get("id")): row for row in rows}
        new = []
        order = list(Alarm)
        for item in findings:
            row = holding.pop((item.what.code, item.what.numbers.get("id")), None)
            values: dict[str, Any] = {
                "alarm": item.alarm.value,
                "numbers": dict(item.what.numbers),
                "do": item.do.code,
                "last": now,
            }
            if row is None:
                self._connection.execute(
                    insert(table).values(run_key=run_key, code=item.what.code, since=now, **values)
                )
                new.append(item)
                continue
            if order.index(item.alarm) > order.index(Alarm(row.alarm)):
                values["seen_at"] = None
                new.append(item)
            self._connection.execute(update(table).where(table.c.key == row.key).values(values))
        for row in holding.values():
            self._connection.execute(update(table).where(table.c.key == row.key).values(gone_at=now))
        return tuple(new)

    @remembered
    def findings(self, run_key: int | None = None, holding: bool = True) -> tuple[KeptFinding, ...]:
        """Findings of a run, or of all, the newest first."""
        table = tables.found_wrong
        statement = select(table).order_by(table.c.key.desc())
        if run_key is not None:
            statement = statement.where(table.c.run_key == run_key)
        if holding:
            statement = statement.where(table.c.gone_at.is_(None))
        return tuple(
            KeptFinding(row.key, row.run_key, _finding(row), row.since, row.last,
                        row.gone_at, row.seen_at)
            for row in self._rows(statement)
        )  # fmt: skip

    def mark_seen(self, run_key: int, at: datetime) -> None:
        """Somebody has seen what is wrong with a run."""
        table = tables.found_wrong
        mine = (table.c.run_key == run_key, table.c.seen_at.is_(None))
        self._connection.execute(update(table).where(*mine).values(seen_at=at))

    # ------------------------------------------------------------------ devices and remembered columns

    def devices(self) -> tuple[Device, ...]:
        """Chargers and checkers to talk to."""
        rows = self._rows(select(tables.devices).order_by(tables.devices.c.key))
        return tuple(
            Device(row.kind, row.address, row.name, dict(row.channels), row.key,
                   None if row.identity is None else from_document(Identity, row.identity), row.confirmed_at)
            for row in rows
        )  # fmt: skip

    def save_device(self, device: Device) -> None:
        """Keep a device; what was kept of the one at the same address is replaced."""
        table = tables.devices
        values = {name: value for name, value in vars(device).items() if name != "key"}
        values |= {"channels": dict(device.channels)}
        values |= {"identity": None if device.identity is None else to_document(device.identity)}
        same = (table.c.address == device.address, table.c.kind == device.kind)
        changed = self._connection.execute(update(table).where(*same).values(values).returning(table.c.key))
        if changed.first() is None:
            self._connection.execute(insert(table).values(values))

    def drop_device(self, key: int) -> None:
        """Talk to a device no more."""
        self._connection.execute(tables.devices.delete().where(tables.devices.c.key == key))


def _between(statement: Any, table: Any, since: datetime | None, until: datetime | None) -> Any:
    if since is not None:
        statement = statement.where(table.c.at >= since)
    return statement if until is None else statement.where(table.c.at < until)


def _run(row: Row[Any]) -> KeptRun:
    expected = None if row.expected is None else from_document(Expected, row.expected)
    return KeptRun(
        key=row.key,
        begun_at=row.begun_at,
        packs=tuple(row.packs),
        family=row.family,
        board=row.board,
        channel=row.channel,
        current_a=row.current_a,
        rate_c=row.rate_c,
        card=from_document(DialCard, row.card),
        expected=expected,
        before_v={tag: tuple(volts) for tag, volts in row.before_v.items()},
        state=State(row.state),
        state_at=row.state_at,
        charging_at=row.charging_at,
        paused_min=row.paused_min,
        ended_at=row.ended_at,
        driven=row.driven,
        heard_at=row.heard_at,
        choice=_choice(row),
        source=row.source,
        source_part=row.source_part or 1.0,
        stopped=row.stopped,
        kind=Kind(row.kind),
        tended_by=row.tended_by,
    )


def _choice(row: Row[Any]) -> Choice:
    """The choice of a run; of one from before choices were kept, what its columns say."""
    if row.choice is None:
        return Choice(tuple(row.packs), row.board, row.channel, current_a=row.current_a)
    return from_document(Choice, row.choice)


def _observation(row: Row[Any]) -> Observation:
    return Observation(
        at_min=row.at_min,
        pack_v=row.pack_v,
        current_a=row.current_a,
        charge_mah=row.charge_mah,
        cell_v=tuple(row.cell_v or ()),
        temperature_c=row.temperature_c,
        input_v=row.input_v,
        pack_id=row.pack_id,
        by_hand=row.by_hand,
        touch=row.touch,
    )


def _finding(row: Row[Any]) -> Finding:
    return Finding(Alarm(row.alarm), Reason(row.code, row.numbers), Reason(row.do))
