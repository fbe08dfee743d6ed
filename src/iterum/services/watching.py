"""Watching batches in hand: readings kept with time and origin, what the charger did followed, findings, the stop."""

from dataclasses import replace
from datetime import datetime

from iterum.core.bench.ledger import Entry, EntryKind
from iterum.core.reasons import Reason, reason
from iterum.core.season.figures import not_true
from iterum.core.season.outlook import Observation
from iterum.core.season.records import KeptObservation, KeptRun
from iterum.core.season.run import CHARGER_DID, LIVE, Act, State, Status
from iterum.core.season.watching import Alarm, Finding, findings
from iterum.devices.driver import ChannelReading, LinkLost, Refused
from iterum.services.desk import Desk
from iterum.services.running import CHARGER, ITERUM, KEEP_EVERY_S, Changed, RunDesk
from iterum.store.database import Store
from iterum.store.repository import Repository
from iterum.wording import sentence

TYPED, READ, FILE = "typed", "charger", "file"
"""Where a reading comes from."""


class Watcher:
    """Eyes on every batch in hand."""

    def __init__(self, store: Store, desk: Desk, runs: RunDesk) -> None:
        self._store, self._desk, self._runs, self._links = store, desk, runs, runs.links
        self._kept: dict[int, list[KeptObservation]] = {}
        """Readings of the live runs: a look each second does not read a whole charge again."""
        self._followed: dict[int, datetime] = {}
        """By run, the moment of the charger's figures that were followed last."""

    def observe(self, key: int, origin: str, seen: Observation, now: datetime) -> int:
        """Keep a reading; its minute is that of the charge at `now`, unless a file says another. Raises NotThere."""
        with self._store.writing(changes_session=False) as repository:
            run = repository.runs.get(key)
            minute = seen.at_min if origin == FILE else run.minute(now)
            return repository.runs.observe(key, now, origin, replace(seen, at_min=minute))

    def mark_seen(self, key: int, now: datetime) -> None:
        """Somebody has seen what is wrong."""
        with self._store.writing(changes_session=False) as repository:
            repository.runs.mark_seen(key, now)

    def watch(self, now: datetime) -> tuple[Finding, ...]:
        """One look at everything: read the chargers, follow what they did, find what is wrong. Returns what is new."""
        self._links.read_all(now)
        new: list[Finding] = []
        in_hand = self._runs.open()
        self._kept = {run.key: self._kept[run.key] for run in in_hand if run.key in self._kept}
        for run in in_hand:
            shown = self._links.latest.get(run.channel) if run.driven else None
            fresh, why = None, None
            # What was asked before the last act tells of what was before it: idle then is not stopped now.
            if shown is not None and shown[1] >= run.state_at and self._followed.get(run.key) != shown[1]:
                self._followed[run.key] = shown[1]
                why = self._not_true(run, shown[0])
                if why is None:
                    run = self._follow(run, shown[0], shown[1])  # noqa: PLW2901
                    fresh = self._observed(run, shown[0], shown[1])
            if run.state in LIVE:
                new += self._judge(run, now, fresh, why)
        return tuple(new)

    def has_live(self) -> bool:
        """Whether anything charges, or is held by a charger, that has to be looked at."""
        return any(run.state in LIVE for run in self._runs.open())

    def judge(self, key: int, now: datetime) -> tuple[Finding, ...]:
        """Judge a batch at once, by what is kept of it: a reading that just came waits for no look. Raises NotThere."""
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        return self._judge(run, now) if run.state in LIVE else ()

    @staticmethod
    def _not_true(run: KeptRun, shown: ChannelReading) -> Reason | None:
        """Why what a charger shows cannot be true of this batch; None where it can."""
        cells = run.card.cells if shown.status is Status.CHARGING else shown.cells
        return not_true(cells, shown.pack_v, shown.current_a, shown.charge_mah, shown.cell_v, shown.temperature_c,
                        shown.input_v, shown.minutes)  # fmt: skip

    @staticmethod
    def _observed(run: KeptRun, shown: ChannelReading, at: datetime) -> Observation | None:
        if shown.status is not Status.CHARGING:
            return None
        return Observation(
            run.minute(at), shown.pack_v, shown.current_a, shown.charge_mah, shown.cell_v, shown.temperature_c,
            shown.input_v,
        )  # fmt: skip

    def _follow(self, run: KeptRun, reading: ChannelReading, now: datetime) -> KeptRun:
        """Keep what a charger shows, and bring the run to what it did by itself."""
        if reading.status is not Status.CHARGING and self._is_of_before(run):
            with self._store.writing(changes_session=False) as repository:
                repository.runs.heard(run.key, now)
            return run
        if run.state in LIVE:
            self._keep_reading(run, reading, now)
        act = CHARGER_DID.get((run.state, reading.status))
        if act is None:
            return run
        try:
            return self._runs.act(
                run.key, act, run.state, now, by=CHARGER, note=reading.why or f"it shows {reading.status.value}"
            )
        except Changed as changed:
            return changed.run

    def _is_of_before(self, run: KeptRun) -> bool:
        """Whether a charger that only tells what it does still tells of the charge before: no amps of this one came."""
        place = self._links.place(run.channel)
        if place is None or place.identity is None or place.identity.commands:
            return False
        with self._store.reading() as repository:
            return not any(item.seen.current_a for item in repository.runs.observations(run.key) if item.origin == READ)

    def _keep_reading(self, run: KeptRun, reading: ChannelReading, now: datetime) -> None:
        with self._store.writing(changes_session=False) as repository:
            last = repository.runs.last_observation(run.key, READ)
            repository.runs.heard(run.key, now)
            ended = reading.status is not Status.CHARGING
            if last is not None and not ended and (now - last.at).total_seconds() < KEEP_EVERY_S:
                return
            if reading.status is Status.CHARGING or reading.status is Status.DONE:
                seen = Observation(
                    run.minute(now), reading.pack_v, reading.current_a, reading.charge_mah, reading.cell_v,
                    reading.temperature_c, reading.input_v,
                )  # fmt: skip
                repository.runs.observe(run.key, now, READ, seen)

    def _judge(
        self, run: KeptRun, now: datetime, fresh: Observation | None = None, untrue: Reason | None = None
    ) -> tuple[Finding, ...]:
        """Findings of a live run; what must stop is stopped first, where Iterum can, and at every look until it is.

        fresh : what the charger shows just now, kept or not. untrue : why what it shows cannot be true.
        """
        if run.expected is None:
            return ()
        with self._store.reading() as repository:
            seen = self._seen(repository, run.key)
            heard_at = repository.runs.get(run.key).heard_at
        heard_min = run.minute(heard_at) if run.driven and heard_at is not None else None
        if run.driven and heard_min is None:
            heard_min = 0.0
        if fresh is not None and (not seen or fresh.at_min > seen[-1].at_min):
            seen.append(fresh)
        signs = list(findings(run.expected, seen, run.minute(now), run.state is State.PAUSED, heard_min))
        if untrue is not None:
            signs.append(Finding(Alarm.CARE, untrue, reason("do_look_at_charger")))
        worst = next((item for item in signs if item.alarm is Alarm.STOP), None)
        if worst is not None and run.driven and run.state is State.CHARGING:
            signs = [*self._stopped(run, worst, now), *signs]
        with self._store.writing(changes_session=False) as repository:
            new = repository.runs.keep_findings(run.key, signs, now)
            low = any(item.what.code == "watch_source_low" for item in new)
        if low and run.source is not None and self._feeds_directly(run):
            with self._store.writing() as repository:
                repository.add_entry(Entry(run.source, now, EntryKind.EMPTY, 0.0, run.key))
        return new

    def _seen(self, repository: Repository, key: int) -> list[Observation]:
        """Every reading of a run in the order of time; only those that are new are asked for."""
        kept = self._kept.get(key, [])
        kept = kept + list(repository.runs.observations(key, max((item.key for item in kept), default=0)))
        if len(kept) != repository.runs.observed(key):  # some were taken back
            kept = list(repository.runs.observations(key))
        kept.sort(key=lambda item: (item.seen.at_min, item.key))
        self._kept[key] = kept
        return [item.seen for item in kept]

    def _stopped(self, run: KeptRun, worst: Finding, now: datetime) -> list[Finding]:
        """Stop a channel; where it does not stop, what has to be done by hand, loudly, until somebody has."""
        try:
            place = self._links.place(run.channel)
            if place is not None and place.commands:
                self._runs.act(run.key, Act.STOP, run.state, now, by=ITERUM, note=sentence(worst.what))
        except (LinkLost, Refused) as error:
            what = reason("watch_not_stopped", channel=run.channel, why=str(error))
            return [Finding(Alarm.STOP, what, reason("do_pull_plug"))]
        except Changed:
            pass  # somebody was quicker
        return []

    def _feeds_directly(self, run: KeptRun) -> bool:
        """Whether the volts at a run's charger are those of its source, with no supply between."""
        place = self._desk.session().kit.channel(run.channel)
        return place is not None and run.source in (run.choice.fed_by, place[0].fed_by)
