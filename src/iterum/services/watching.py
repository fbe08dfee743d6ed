"""What the guardian told, written down: readings with time and origin, what the charger did, what
is wrong.

The guardian judges and stops by itself. Here its notes go to the database, in their order; what
cannot be written waits with the guardian until it can.
"""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from time import monotonic

from iterum.core.reasons import NotThere, Unsafe
from iterum.core.run.guard import ARMED
from iterum.core.season.outlook import HOT, Observation
from iterum.core.season.records import KeptRun
from iterum.core.season.run import LIVE, Act
from iterum.core.season.watching import Finding
from iterum.core.things.ledger import Entry, EntryKind
from iterum.core.things.packs import Condition
from iterum.guardian.reports import ChannelReport, Note, Report
from iterum.services.desk import Desk
from iterum.services.running import Changed, RunDesk
from iterum.store.database import Store

TYPED, READ, FILE = "typed", "charger", "file"
"""Where a reading comes from."""
AS_TOLD = timedelta(seconds=5)
"""Findings that stay the same are written down again this often."""


class Watcher:
    """Writes down what the guardian tells, and tells it what a person did and typed."""

    def __init__(self, store: Store, desk: Desk, runs: RunDesk) -> None:
        self._store, self._desk, self._runs, self._links = store, desk, runs, runs.links
        self._life, self._written = "", 0
        self._kept: dict[int, tuple[tuple[Finding, ...], datetime]] = {}
        """By run, the findings that were written down last, and when."""
        self._typed: dict[int, int] = {}
        """By run, how many readings of a person the guardian was told."""
        self._started: set[int] = set()
        self.told: tuple[Report, float] | None = None
        """What the guardian told last, and when by a steady clock."""

    # ------------------------------------------------------------------ what a person tells

    def observe(self, key: int, origin: str, seen: Observation, now: datetime) -> int:
        """Take a reading as evidence, then keep it; its minute is that of the charge at `now`,
        unless a file says another.

        Raises NotThere, and StoreTrouble where it cannot be kept; the guardian has it then all
        the same.
        """
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        seen = seen if origin == FILE else replace(seen, at_min=run.minute(now))
        if origin == TYPED:
            self._links.guard.observe(key, seen)
        with self._store.writing(changes_session=seen.touch == HOT) as repository:
            kept = repository.runs.observe(key, now, origin, seen)
            if seen.touch == HOT and seen.pack_id is not None:  # kept apart until somebody judges it
                pack = next((one for one in repository.packs() if one.id == seen.pack_id), None)
                if pack is not None:
                    repository.save_pack(replace(pack, condition=Condition.DAMAGED), pack.id)
        self._typed[key] = self._typed.get(key, 0) + (origin == TYPED)
        return kept

    def mark_seen(self, key: int, now: datetime) -> None:
        """Somebody has seen what is wrong."""
        self._links.guard.has_seen(key)
        with self._store.writing(changes_session=False) as repository:
            repository.runs.mark_seen(key, now)

    # ------------------------------------------------------------------ looking

    def watch(self, now: datetime) -> tuple[Finding, ...]:
        """Look, where the guardian does not look by itself, and write down what it has to tell.

        Returns findings that are new. Raises as `keep` does.
        """
        if not self._life:
            self._heard()
        self._links.guard.look()
        return self.keep(now)

    def keep(self, now: datetime) -> tuple[Finding, ...]:
        """Write down what the guardian has to tell by now. Returns findings that are new.

        Raises StoreTrouble where nothing can be written: it is told again the next time.
        """
        report = self._heard()
        for note in report.notes:
            if note.number > self._written:
                self._write(note)
                self._written = note.number
        in_hand = self._runs.open()
        self._arm(report, in_hand)
        self._kept = {run.key: self._kept[run.key] for run in in_hand if run.key in self._kept}
        new: list[Finding] = []
        told = {item.run_key: item for item in report.channels if item.run_key is not None}
        for run in in_hand:
            if run.key in told:
                new += self._keep_findings(run, told[run.key], now)
        return tuple(new)

    def _heard(self) -> Report:
        """What the guardian has to tell. One that has just begun is armed before it reads anything:
        amps on a channel without a batch would be stopped.
        """
        report = self._links.guard.report(self._written)
        if report.life != self._life:
            self._life, self._written, self._typed = report.life, 0, {}
            self._arm(report, self._runs.open())
        self._links.link(report.life)
        self._links.report, self.told = report, (report, monotonic())
        return report

    def has_live(self) -> bool:
        """Whether anything charges, or is held by a charger, that has to be looked at."""
        return any(run.state in LIVE for run in self._runs.open())

    def _write(self, note: Note) -> None:
        try:
            if note.seen is not None:
                with self._store.writing(changes_session=False) as repository:
                    repository.runs.observe(note.run_key, note.at, READ, note.seen)
            if note.act is not None:
                run = self._runs.record(note.run_key, note.act, note.at, note.by, note.why)
                if note.act is Act.START:  # only now the prediction of its charge is made
                    self._started.add(run.key)
        except (NotThere, Changed, Unsafe):
            return  # the batch went another way meanwhile: a person was quicker

    def _arm(self, report: Report, in_hand: Sequence[KeptRun]) -> None:
        """Have the guardian guard exactly the batches whose packs hang on the bench."""
        armed = {item.run_key: item for item in report.channels if item.run_key is not None}
        for run in in_hand:
            if run.state not in ARMED:
                continue
            told = armed.pop(run.key, None)
            with self._store.reading() as repository:
                typed = repository.runs.observed(run.key, TYPED)
            as_here = told is not None and told.state is run.state
            if told is None or (not as_here and not report.notes) or (as_here and run.key in self._started):
                self._started.discard(run.key)
                self._links.guard.arm_as_kept(run, self._seen(run.key), told.state if told else None)
                self._typed[run.key] = typed
            elif typed != self._typed.setdefault(run.key, typed):  # some were taken back
                self._links.guard.forget(run.key, self._seen(run.key))
                self._typed[run.key] = typed
        for key in armed:
            if key is not None:
                self._links.guard.disarm(key)

    def _seen(self, key: int) -> list[Observation]:
        with self._store.reading() as repository:
            return [item.seen for item in repository.runs.observations(key) if item.origin != FILE]

    def _keep_findings(self, run: KeptRun, told: ChannelReport, now: datetime) -> tuple[Finding, ...]:
        before, signs = self._kept.get(run.key), told.findings
        if before is not None and before[0] == signs and now - before[1] < AS_TOLD:
            return ()
        with self._store.writing(changes_session=False) as repository:
            if told.read_at is not None:
                repository.runs.heard(run.key, told.read_at)
            new = repository.runs.keep_findings(run.key, signs, now)
            low = any(item.what.code == "watch_source_low" for item in new)
        self._kept[run.key] = signs, now
        if low and run.source is not None and self._feeds_directly(run):
            with self._store.writing() as repository:
                repository.add_entry(Entry(run.source, now, EntryKind.EMPTY, 0.0, run.key))
        return new

    def _feeds_directly(self, run: KeptRun) -> bool:
        """Whether the volts at a run's charger are those of its source, with no supply
        between.
        """
        place = self._desk.session().kit.channel(run.channel)
        return place is not None and run.source in (run.choice.fed_by, place[0].fed_by)
