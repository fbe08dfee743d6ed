"""The log: charges, readings, acts and skips, incidents; filtered, exported, imported, and told as a report."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from iterum.core.planning.parts import Charged, PartGain, part_gains
from iterum.core.season.health import ChargeRecord, Health, health
from iterum.core.season.learning import learn
from iterum.core.season.outlook import Observation
from iterum.core.season.records import (
    Incident,
    KeptEvent,
    KeptFlight,
    KeptObservation,
    KeptReading,
    KeptRun,
    LoggedCharge,
)
from iterum.core.season.run import LIVE, OPEN
from iterum.core.season.storage import full_since
from iterum.core.things.choice import Kind
from iterum.core.things.packs import Pack
from iterum.services.desk import Desk, relearn
from iterum.services.watching import FILE
from iterum.services.work import Work
from iterum.store.database import Store
from iterum.wording import family_label

PAGE = 24
"""Entries of one page of the log: as many as stand in two folds of a laptop's window."""

CHARGES_SEEN = 400
"""The latest charges in which busy days are looked for."""


@dataclass(frozen=True)
class Query:
    """Which entries are asked for. until : the moment after the last."""

    kind: str = "charges"
    pack_id: str | None = None
    since: datetime | None = None
    until: datetime | None = None
    run_key: int | None = None
    skipped: bool = False


@dataclass
class Brought:
    """Charges of a file: new, here already but filled with what they lacked, here already as they are."""

    new: int = 0
    filled: int = 0
    here: int = 0


@dataclass(frozen=True)
class Report:
    """One day on paper: what was charged, how, what went wrong."""

    begins: datetime
    runs: tuple[tuple[KeptRun, tuple[KeptEvent, ...], tuple[KeptObservation, ...]], ...]
    charges: tuple[LoggedCharge, ...]
    incidents: tuple[Incident, ...]


class LogBook:
    """The log of one pilot."""

    def __init__(self, store: Store, desk: Desk) -> None:
        self._store, self._desk = store, desk

    def entries(self, query: Query, count: int | None = PAGE, offset: int = 0) -> list[dict[str, Any]]:
        """Rows of one kind, the newest first, as a table and a CSV hold them."""
        with self._store.reading() as repository:
            runs = repository.runs
            if query.kind == "charges":
                charges = runs.charges(query.pack_id, query.since, query.until, count, query.run_key, offset)
                return [_charge_row(item) for item in charges]
            if query.kind == "readings":
                return [
                    _reading_row(item) for item in runs.readings(query.run_key, query.since, query.until, count, offset)
                ]
            if query.kind == "measured":
                measured = repository.measured(query.pack_id, query.since, query.until, count, offset)
                return [_measured_row(item) for item in measured]
            if query.kind == "acts":
                return [_event_row(event, packs) for event, packs in
                        runs.all_events(query.run_key, query.since, query.until, query.skipped, count, offset)
                        if query.pack_id is None or query.pack_id in packs]  # fmt: skip
            if query.kind == "flights":
                flights = [item for item in runs.flights(query.since)
                           if (query.until is None or item.heat_at < query.until)
                           and (query.pack_id is None or query.pack_id in item.packs)]  # fmt: skip
                return [_flight_row(item) for item in flights[offset:][:count]]
            return [_incident_row(item) for item in runs.incidents(query.since)
                    if (query.until is None or item.at < query.until)
                    and (query.pack_id is None or query.pack_id in item.packs)]  # fmt: skip

    def weeks(self, now: datetime, count: int, pack_id: str | None = None) -> tuple[tuple[datetime, int], ...]:
        """So many weeks up to this one, each with its first moment and how many charges were logged in it."""
        today = now.astimezone().replace(hour=0, minute=0, second=0, microsecond=0)
        first = today - timedelta(days=today.weekday() + 7 * (count - 1))
        with self._store.reading() as repository:
            charges = repository.runs.charges(pack_id, first)
        counts = Counter((item.record.at - first).days // 7 for item in charges)
        return tuple((first + timedelta(days=7 * week), counts[week]) for week in range(count))

    def health_of(self, pack: Pack, now: datetime) -> tuple[Health, tuple[LoggedCharge, ...]]:
        """A pack's health by its log, and the log itself, newest first."""
        with self._store.reading() as repository:
            charges = repository.runs.charges(pack.id)
        records = [item.record for item in reversed(charges)]
        return health(pack, records, now.astimezone().date(), learn(pack, records).jumped), charges

    def all_health(self, now: datetime) -> dict[str, Health]:
        """The health of every pack in use."""
        with self._store.reading() as repository:
            charges = repository.runs.charges(since=now - timedelta(days=800))
        by_pack: dict[str, list[ChargeRecord]] = {}
        for item in reversed(charges):
            by_pack.setdefault(item.pack_id, []).append(item.record)
        today = now.astimezone().date()
        healths = {}
        for pack in self._desk.session().packs:
            records = by_pack.get(pack.id, [])
            healths[pack.id] = health(pack, records, today, learn(pack, records).jumped)
        return healths

    def part_gains(self, work: Work) -> tuple[PartGain, ...] | None:
        """What each part more would have saved on the latest busy days of the log; None while it is worked out."""
        session = self._desk.session()
        by_id = {pack.id: pack for pack in session.packs}
        with self._store.reading() as repository:
            charges = [item for item in repository.runs.charges(count=CHARGES_SEEN) if item.pack_id in by_id]
        charged = [Charged(by_id[item.pack_id], item.record.at, tuple(item.record.before_v)) for item in charges]
        return work.done("parts", self._desk.revision(), part_gains, session, charged)

    def full_since(self) -> dict[str, datetime]:
        """Packs that lie full, with the moment since when by what was read of them."""
        packs = self._desk.session().packs
        with self._store.reading() as repository:
            in_hand = repository.runs.in_states(OPEN)
            charging = {tag for run in in_hand if run.state in LIVE or run.kind is not Kind.CHARGE for tag in run.packs}
            may_be_full = [pack for pack in packs if (pack.cell_v or 0.0) >= pack.chemistry.full_rest_v]
            readings = {pack.id: repository.readings(pack.id) for pack in may_be_full}
        return full_since(packs, readings, charging)

    def report(self, begins: datetime, ends: datetime) -> Report:
        """Everything of one day."""
        with self._store.reading() as repository:
            runs = [run for run in reversed(repository.runs.latest(500, begins)) if run.begun_at < ends]
            told = tuple((run, repository.runs.events(run.key), repository.runs.observations(run.key)) for run in runs)
            charges = tuple(reversed(repository.runs.charges(since=begins, until=ends)))
            incidents = tuple(item for item in reversed(repository.runs.incidents(begins)) if item.at < ends)
        return Report(begins, told, charges, incidents)

    # ------------------------------------------------------------------ bringing in

    def meaning(self, headings: Sequence[str]) -> dict[str, str] | None:
        """What the pilot said before that these headings mean."""
        with self._store.reading() as repository:
            return repository.runs.column_meaning(headings)

    def take_charges(
        self, charges: Sequence[tuple[str, ChargeRecord]], headings: Sequence[str], meaning: Mapping[str, str]
    ) -> Brought:
        """Write charges of a file down; one that is here already is filled where it lacks what the file says."""
        with self._store.writing() as repository:
            if headings:
                repository.runs.keep_column_meaning(headings, meaning)
            known = {(item.pack_id, item.record.at): item for item in repository.runs.charges()}
            brought, taught = Brought(), set()
            for tag, record in charges:
                here = known.get((tag, record.at))
                more = _lacking(here.record, record) if here is not None else {}
                if here is None:
                    key = repository.log_charge(tag, None, FILE, record)
                    known[tag, record.at] = LoggedCharge(key, tag, None, FILE, record)
                    brought.new += 1
                elif more:
                    repository.runs.fill_charge(here.key, more)
                    brought.filled += 1
                else:
                    brought.here += 1
                if here is None or more:
                    taught.add(tag)
            for tag in taught:
                relearn(repository, tag)
        return brought

    def take_readings(
        self, run_key: int, readings: Sequence[Observation], headings: Sequence[str], meaning: Mapping[str, str],
        now: datetime,
    ) -> int:  # fmt: skip
        """Write readings of a file down with a run. Raises NotThere."""
        with self._store.writing(changes_session=False) as repository:
            repository.runs.get(run_key)
            repository.runs.keep_column_meaning(headings, meaning)
            for seen in readings:
                repository.runs.observe(run_key, now, FILE, seen)
        return len(readings)


def _lacking(here: ChargeRecord, told: ChargeRecord) -> dict[str, Any]:
    """What a file tells of a charge that nothing was known of yet."""
    return {name: value for name, value in vars(told).items()
            if value not in (None, ()) and getattr(here, name) in (None, ())}  # fmt: skip


def _charge_row(item: LoggedCharge) -> dict[str, Any]:
    record = item.record
    return {
        "at": record.at, "pack": item.pack_id, "run": item.run_key, "charge_mah": record.charge_mah,
        "minutes": record.minutes, "rate_c": record.rate_c, "before_v": list(record.before_v),
        "after_v": list(record.after_v), "resistance_mohm": list(record.resistance_mohm), "note": record.note,
        "origin": item.origin,
    }  # fmt: skip


def _reading_row(item: KeptObservation) -> dict[str, Any]:
    seen = item.seen
    return {
        "at": item.at, "run": item.run_key, "at_min": seen.at_min, "pack": seen.pack_id, "pack_v": seen.pack_v,
        "current_a": seen.current_a, "charge_mah": seen.charge_mah, "cell_v": list(seen.cell_v),
        "temperature_c": seen.temperature_c, "input_v": seen.input_v, "origin": item.origin, "by_hand": seen.by_hand,
    }  # fmt: skip


def _measured_row(item: KeptReading) -> dict[str, Any]:
    reading = item.reading
    return {"at": item.read_at, "pack": item.pack_id, "pack_v": reading.pack_v, "cell_v": list(reading.cell_v),
            "temperature_c": reading.temperature_c, "origin": item.origin,
            "corrected": item.corrected_by is not None}  # fmt: skip


def _event_row(event: KeptEvent, packs: Sequence[str]) -> dict[str, Any]:
    return {"at": event.at, "run": event.run_key, "packs": list(packs), "act": event.act, "state": event.state.value,
            "skipped": event.skipped, "by": event.by, "note": event.note}  # fmt: skip


def _flight_row(item: KeptFlight) -> dict[str, Any]:
    return {"at": item.heat_at, "heat": item.name, "class": family_label(item.family), "packs": list(item.packs)}


def _incident_row(item: Incident) -> dict[str, Any]:
    return {"at": item.at, "kind": item.kind, "packs": list(item.packs), "runs": [str(key) for key in item.runs],
            "stopped": list(item.stopped), "note": item.note}  # fmt: skip
