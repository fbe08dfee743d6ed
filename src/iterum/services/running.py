"""Batches in hand: each act in one transaction, readings kept with time and origin, findings, incidents, the log."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.charging import charge
from iterum.core.feed import feed_of
from iterum.core.health import ChargeRecord, ran_low
from iterum.core.kit import CHAIN, find
from iterum.core.packs import Condition, Pack, Reading, judge_pack
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.rules import JoinOrder
from iterum.core.run import BEFORE_CHARGE, LIVE, ON_BOARD, OPEN, Act, Shown, State, after, read_back
from iterum.core.session import Session
from iterum.core.sizing import Setup, dial_card, minutes_at, size
from iterum.core.watching import Alarm, Expected, Finding, Observation, Outlook, expect, findings, outlook
from iterum.devices.driver import ChannelReading, LinkLost, Refused, Settings, Status
from iterum.services.desk import Desk
from iterum.services.links import Links
from iterum.store.database import Store
from iterum.store.repository import AFTER, Repository
from iterum.store.runs import Incident, KeptEvent, KeptFinding, KeptObservation, KeptRun
from iterum.wording import sentence

PERSON, CHARGER, ITERUM = "you", "the charger", "Iterum"
TYPED, READ, FILE = "typed", "charger", "file"
AS_PLANNED = (Act.START, Act.PAUSE, Act.RESUME, Act.FINISH)
"""Acts that follow a plan: it stays up to date."""
KEEP_EVERY_S = 5.0
"""A charger is read every second and its readings kept this often, or when something changes."""
SERIOUS = frozenset({"smoke", "swelling"})
"""What is seen of a pack that is never charged again until somebody says otherwise."""


class Changed(RuntimeError):
    """Somebody else, or the charger, has brought the batch on meanwhile. Carries it as it is now."""

    def __init__(self, run: KeptRun) -> None:
        super().__init__(f"the batch is {run.state.value} by now")
        self.run = run


@dataclass(frozen=True)
class RunLook:
    """Everything about one run at one moment."""

    run: KeptRun
    minute: float
    outlook: Outlook | None
    seen: tuple[KeptObservation, ...]
    findings: tuple[KeptFinding, ...]
    events: tuple[KeptEvent, ...]
    latest: ChannelReading | None
    heard: bool


@dataclass(frozen=True)
class After:
    """What was read of one pack after its charge."""

    cell_v: tuple[float, ...] = ()
    resistance_mohm: tuple[float, ...] = ()


class RunDesk:
    """The runs of one pilot."""

    def __init__(self, store: Store, desk: Desk, links: Links) -> None:
        self._store, self._desk, self.links = store, desk, links

    # ------------------------------------------------------------------ looking

    def open(self) -> tuple[KeptRun, ...]:
        """Runs in which somebody still has something to do, oldest first."""
        with self._store.reading() as repository:
            return repository.runs.in_states(OPEN)

    def latest(self, count: int = 50, since: datetime | None = None) -> tuple[KeptRun, ...]:
        """The newest runs first."""
        with self._store.reading() as repository:
            return repository.runs.latest(count, since)

    def since(self, moment: datetime, now: datetime) -> list[tuple[KeptRun, float]]:
        """Runs begun from a moment on, oldest first, each with the minutes it still takes."""
        found = []
        for run in reversed(self.latest(200, moment)):
            left_min = run.card.timer_min
            if run.expected is not None:
                ahead = self.look(run.key, now).outlook
                left_min = ahead.left_min + run.expected.balance_min if ahead else left_min
            found.append((run, left_min))
        return found

    def look(self, key: int, now: datetime) -> RunLook:
        """A run with its readings, findings and outlook. Raises KeyError."""
        with self._store.reading() as repository:
            run = repository.runs.get(key)
            seen = repository.runs.observations(key)
            wrong = repository.runs.findings(key)
            events = repository.runs.events(key)
        minute = run.minute(now)
        shown = self.links.latest.get(run.channel)
        ahead = outlook(run.expected, [item.seen for item in seen], minute) if run.expected else None
        heard = run.driven and shown is not None and (now - shown[1]).total_seconds() < KEEP_EVERY_S * 4
        return RunLook(run, minute, ahead, seen, wrong, events, shown[0] if shown else None, heard)

    def findings(self) -> tuple[KeptFinding, ...]:
        """Everything wrong now in batches that are live, the newest first."""
        with self._store.reading() as repository:
            live = {run.key for run in repository.runs.in_states(LIVE)}
            return tuple(item for item in repository.runs.findings() if item.run_key in live)

    # ------------------------------------------------------------------ beginning

    def begin(
        self, packs: Sequence[str], board: str | None, channel: str, current_a: float | None, now: datetime
    ) -> int:
        """Take a batch in hand. Raises Unsafe with every reason against it, KeyError for what is not there."""
        session = self._desk.session()
        by_id = {pack.id: pack for pack in session.packs}
        members = [by_id[tag] for tag in packs]
        setup = _setup(session, board, channel)
        against = [*self._busy(packs, setup), *_unfit(members, session)]
        if against:
            raise Unsafe(tuple(against))
        sizing = size(members, setup, session.rules)
        amps = sizing.current_a if current_a is None else current_a
        if amps > sizing.current_a + 1e-9:
            raise Unsafe((reason("run_amps_over", current_a=amps, limit_a=sizing.current_a),))
        minutes = minutes_at(members, amps, setup, session.rules)
        values = {
            "begun_at": now,
            "packs": tuple(packs),
            "family": members[0].family,
            "board": setup.board.id if setup.board else None,
            "channel": channel,
            "current_a": amps,
            "rate_c": amps / sum(pack.capacity_ah for pack in members),
            "card": dial_card(members, amps, minutes, setup, session.rules),
            "before_v": {pack.id: _volts(pack) for pack in members},
            "driven": self.links.place(channel) is not None,
        }
        with self._store.writing(changes_session=False) as repository:
            still = self._conflicts(repository.runs.in_states(OPEN), packs, setup)
            if still:
                raise Unsafe(tuple(still))
            return repository.runs.add(values)

    def _busy(self, packs: Sequence[str], setup: Setup) -> list[Reason]:
        return self._conflicts(self.open(), packs, setup)

    @staticmethod
    def _conflicts(runs: Sequence[KeptRun], packs: Sequence[str], setup: Setup) -> list[Reason]:
        """Batches in hand that hold these packs, this channel or this board."""
        found: list[Reason] = []
        parts = set(setup.board.id.split(CHAIN)) if setup.board else set()
        for run in runs:
            found += [reason("pack_busy", id=tag) for tag in packs if tag in run.packs]
            if run.channel == setup.channel.id:
                found.append(reason("channel_busy", channel=run.channel, packs=", ".join(run.packs)))
            if run.board and parts & set(run.board.split(CHAIN)):
                found.append(reason("board_busy", board=run.board, packs=", ".join(run.packs)))
        return found

    # ------------------------------------------------------------------ acting

    def act(
        self,
        key: int,
        act: Act,
        expected: State,
        now: datetime,
        by: str = PERSON,
        note: str | None = None,
        skipped: bool = False,
        write: Callable[[Repository], None] | None = None,
    ) -> KeptRun:
        """Bring a batch on. What the charger must do is done first; then state and act are written in one go.

        expected : the state that whoever acts has seen. Raises Changed where it is another by now, Unsafe where the
        act is not allowed, LinkLost and Refused from the charger. write : what is to be kept in the same transaction.
        """
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        if run.state is not expected:
            self._note(run, now, by, act, note)
            raise Changed(run)
        state = after(run.state, act, skipped)
        values: dict[str, object] = {"state": state.value, "state_at": now}
        if act is Act.START:
            prediction = self._predict(run)
            values |= {"charging_at": now, "expected": prediction}
        if act is Act.RESUME:
            values["paused_min"] = run.paused_min + (now - run.state_at).total_seconds() / 60
        if act in (Act.STOP, Act.FINISH):
            pause_min = (now - run.state_at).total_seconds() / 60 if run.state is State.PAUSED else 0.0
            values |= {"ended_at": now, "paused_min": run.paused_min + pause_min}
        if by in (PERSON, ITERUM):
            self._tell_charger(run, act, skipped)
        # Volts read before say nothing once a pack was charged, or joined to others and taken off again.
        taken_off = act is Act.DROP and run.state in ON_BOARD and len(run.packs) > 1
        moved = run.state in LIVE or state in LIVE or taken_off
        with self._store.writing(write is not None or moved, as_planned=act in AS_PLANNED) as repository:
            if not repository.runs.change(key, run.state, values):
                raise Changed(repository.runs.get(key))
            if moved:
                repository.on_charger(run.packs, now)
            repository.runs.add_event(KeptEvent(key, now, act.value, state, skipped, by, note))
            if write is not None:
                write(repository)
            return repository.runs.get(key)

    def _note(self, run: KeptRun, now: datetime, by: str, act: Act, note: str | None) -> None:
        """What somebody entered is kept, although the act itself came too late."""
        if note:
            with self._store.writing(changes_session=False) as repository:
                repository.runs.add_event(KeptEvent(run.key, now, f"note to {act.value}", run.state, False, by, note))

    def _tell_charger(self, run: KeptRun, act: Act, skipped: bool) -> None:
        place = self.links.place(run.channel) if run.driven else None
        if place is None:
            return
        if act is Act.PLUG_IN and place.hands:
            place.driver.plug(place.channel, run.packs)
        elif act is Act.EVEN_OUT or (act is Act.READ_BACK and skipped):
            place.driver.dial(place.channel, _settings(run))
        elif act in (Act.START, Act.RESUME):
            place.driver.start(place.channel)
        elif act in (Act.PAUSE, Act.STOP):
            place.driver.stop(place.channel)
        elif act in (Act.CHECK, Act.DROP) and place.hands:
            place.driver.plug(place.channel, ())

    def _take_off(self, run: KeptRun) -> None:
        """Unplug what a simulated bench holds of a batch that is given up; a real one is unplugged by hand."""
        with suppress(LinkLost, Refused):
            self._tell_charger(run, Act.DROP, skipped=False)

    def _predict(self, run: KeptRun) -> Expected | None:
        """What the electrical model expects, from the packs as they went on."""
        session = self._desk.session()
        by_id = {pack.id: pack for pack in session.packs}
        members = [_as_it_went_on(by_id[tag], run) for tag in run.packs if tag in by_id]
        if len(members) < len(run.packs) or members[0].chemistry.table is None:
            return None
        setup = _setup(session, run.board, run.channel)
        settles = session.rules.join_order is JoinOrder.SETTLE_THEN_BALANCE
        result = charge(members, setup, session.rules, run.current_a, settle_first=settles)
        end_v = session.rules.full_v(members[0].chemistry)
        stop_v, spread_v = setup.feed.charger.input_min_v, _spread(members)
        return expect(result, members[0].cells, end_v, run.card.timer_min, stop_v, spread_v)

    def read_back(self, key: int, shown: Shown, expected: State, now: datetime, note: str | None = None) -> KeptRun:
        """Compare what the charger shows with the card, and go on where they agree. Raises Unsafe with each cause."""
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        if run.state is expected:
            read_back(run.card, shown)
        figures = f"{shown.cells} cells, {shown.pack_v} V, {shown.current_a} A"
        return self.act(key, Act.READ_BACK, expected, now, note=f"{figures}. {note}" if note else figures)

    def shown_by_charger(self, run: KeptRun) -> Shown | None:
        """What the charger's driver reads back; None without one, or while it is silent."""
        place = self.links.place(run.channel) if run.driven else None
        if place is None:
            return None
        try:
            reading = place.driver.read(place.channel)
        except (LinkLost, Refused):
            return None
        return Shown(reading.cells, reading.pack_v, reading.set_a, reading.set_end_v)

    def check_after(
        self,
        key: int,
        expected: State,
        now: datetime,
        packs: Mapping[str, After],
        charge_mah: float | None,
        note: str | None = None,
        skipped: bool = False,
    ) -> tuple[KeptRun, tuple[str, ...]]:
        """Log the charge of each pack with what was read of it. Returns the run and packs that had been run too low."""
        look = self.look(key, now)
        put_in = [item.seen.charge_mah for item in look.seen if item.seen.charge_mah is not None]
        total_mah = charge_mah if charge_mah is not None else put_in[-1] if put_in else None
        by_id = {pack.id: pack for pack in self._desk.session().packs}
        members = [by_id[tag] for tag in look.run.packs if tag in by_id]
        shares = _shares(members, look.run, total_mah)
        low: list[str] = []

        def write(repository: Repository) -> None:
            for pack in members:
                read = packs.get(pack.id, After())
                if read.cell_v:
                    repository.add_reading(pack.id, Reading.of_cells(read.cell_v, now), AFTER, now)
                if read.resistance_mohm:
                    repository.save_pack(replace(pack, resistance_mohm=read.resistance_mohm), pack.id)
                record = ChargeRecord(
                    at=now, charge_mah=shares.get(pack.id), minutes=look.minute or None, rate_c=look.run.rate_c,
                    before_v=look.run.before_v.get(pack.id, ()), after_v=read.cell_v,
                    resistance_mohm=read.resistance_mohm, note=note,
                )  # fmt: skip
                repository.log_charge(pack.id, key, "run", record)
                low.extend([pack.id] if ran_low(pack, record) else [])

        run = self.act(key, Act.CHECK, expected, now, note=note, skipped=skipped, write=write)
        return run, tuple(low)

    # ------------------------------------------------------------------ watching

    def observe(self, key: int, origin: str, seen: Observation, now: datetime) -> int:
        """Keep a reading; its minute is that of the charge at `now`, unless a file says another. Raises KeyError."""
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
        self.links.read_all(now)
        new: list[Finding] = []
        for run in self.open():
            shown = self.links.latest.get(run.channel) if run.driven else None
            if shown is not None and shown[1] == now:
                run = self._follow(run, shown[0], now)  # noqa: PLW2901
            if run.state in LIVE:
                new += self._judge(run, now)
        return tuple(new)

    def _follow(self, run: KeptRun, reading: ChannelReading, now: datetime) -> KeptRun:
        """Keep what a charger shows, and bring the run to what it did by itself."""
        if run.state in LIVE:
            self._keep_reading(run, reading, now)
        acts = {
            (State.CHARGING, Status.DONE): Act.FINISH,
            (State.CHARGING, Status.STOPPED): Act.STOP,
            (State.CHARGING, Status.FAULT): Act.STOP,
            (State.CHARGING, Status.IDLE): Act.STOP,
            (State.PAUSED, Status.CHARGING): Act.RESUME,
            (State.READ_BACK, Status.CHARGING): Act.START,
        }
        act = acts.get((run.state, reading.status))
        if act is None:
            return run
        try:
            return self.act(
                run.key, act, run.state, now, by=CHARGER, note=reading.why or f"it shows {reading.status.value}"
            )
        except Changed as changed:
            return changed.run

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

    def _judge(self, run: KeptRun, now: datetime) -> tuple[Finding, ...]:
        """Findings of a live run; what must stop is stopped where Iterum can."""
        if run.expected is None:
            return ()
        with self._store.reading() as repository:
            seen = [item.seen for item in repository.runs.observations(run.key)]
            heard_at = repository.runs.get(run.key).heard_at
        heard_min = run.minute(heard_at) if run.driven and heard_at is not None else None
        if run.driven and heard_min is None:
            heard_min = 0.0
        found = findings(run.expected, seen, run.minute(now), run.state is State.PAUSED, heard_min)
        with self._store.writing(changes_session=False) as repository:
            new = repository.runs.keep_findings(run.key, found, now)
        worst = next((item for item in new if item.alarm is Alarm.STOP), None)
        if worst is not None and run.driven and run.state is State.CHARGING:
            with suppress(LinkLost, Refused, Changed):  # the finding stands and sounds until somebody stops it by hand
                self.act(run.key, Act.STOP, run.state, now, by=ITERUM, note=sentence(worst.what))
        return new

    # ------------------------------------------------------------------ something is wrong

    def incident(
        self, kind: str, run_keys: Sequence[int], pack_ids: Sequence[str], note: str | None, now: datetime
    ) -> Incident:
        """Stop these batches where Iterum can, keep hurt packs apart, and write it down; all of it at once."""
        stopped: list[str] = []
        with self._store.reading() as repository:
            runs = [repository.runs.get(key) for key in run_keys]
        for run in runs:
            place = self.links.place(run.channel) if run.driven and run.state in LIVE else None
            if place is not None:
                try:
                    place.driver.stop(place.channel)
                    stopped.append(run.channel)
                except (LinkLost, Refused):
                    continue
            elif run.state in BEFORE_CHARGE:
                self._take_off(run)
        hurt = tuple(pack_ids) if kind in SERIOUS else ()
        incident = Incident(now, kind, tuple(pack_ids), tuple(run_keys), tuple(stopped), note)
        with self._store.writing() as repository:
            for run in runs:
                now_run = repository.runs.get(run.key)
                act = Act.STOP if now_run.state in LIVE else Act.DROP
                if now_run.state not in OPEN or now_run.state in (State.DONE, State.STOPPED):
                    continue
                state = after(now_run.state, act)
                values = {"state": state.value, "state_at": now, "ended_at": now}
                if repository.runs.change(run.key, now_run.state, values):
                    repository.runs.add_event(
                        KeptEvent(run.key, now, act.value, state, False, PERSON, f"incident: {kind}")
                    )
            for pack in repository.packs():
                if pack.id in hurt:
                    repository.save_pack(replace(pack, condition=Condition.DAMAGED), pack.id)
                    repository.drop_hand_move(pack.id)
            repository.runs.add_incident(incident)
        return incident


def _setup(session: Session, board: str | None, channel_id: str) -> Setup:
    """Board, channel and feed of the kit. Raises KeyError for a channel that is not there."""
    for charger, channel in session.kit.channels():
        if channel.id == channel_id:
            return Setup(find(session.kit.all_boards(), board or None), channel, feed_of(charger, session.kit))
    raise KeyError(channel_id)


def _unfit(members: Sequence[Pack], session: Session) -> list[Reason]:
    found: list[Reason] = []
    for pack in members:
        verdict = judge_pack(pack, session.rules)
        if not verdict.charges or verdict.full:
            why = " ".join(sentence(item) for item in verdict.reasons[:1])
            found.append(reason("pack_unfit", id=pack.id, why=why))
    return found


def _volts(pack: Pack) -> tuple[float, ...]:
    if pack.reading is None:
        return ()
    return pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) * pack.cells


def _as_it_went_on(pack: Pack, run: KeptRun) -> Pack:
    volts = run.before_v.get(pack.id, ())
    return replace(pack, reading=Reading.of_cells(volts), charged_at=None) if volts else pack


def _spread(members: Sequence[Pack]) -> float:
    """Volts between the cells of a board as it starts: balance leads join cell 1 with cell 1."""
    cells = [_volts(pack) for pack in members]
    means = [sum(column) / len(column) for column in zip(*cells, strict=False)]
    return max(means) - min(means) if means else 0.0


def _settings(run: KeptRun) -> Settings:
    card = run.card
    return Settings(card.cells, card.current_a, card.end_v, card.capacity_mah, card.timer_min)


def _shares(members: Sequence[Pack], run: KeptRun, total_mah: float | None) -> dict[str, float]:
    """mAh into each pack: a joined board shows only the sum, which is split by what each one lacked."""
    if total_mah is None:
        return {}
    lacked = {}
    for pack in members:
        volts = run.before_v.get(pack.id, ())
        table = pack.chemistry.table
        missing = 1 - table.soc(sum(volts) / len(volts)) if table is not None and volts else 1.0
        lacked[pack.id] = max(missing, 0.0) * pack.capacity_ah
    whole = sum(lacked.values())
    return {tag: total_mah * part / whole for tag, part in lacked.items()} if whole else {}
