"""Batches in hand: each act in one transaction, readings kept with time and origin, findings, incidents, the log."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.bench.bench import Bench, Running
from iterum.core.bench.choice import Choice
from iterum.core.bench.ledger import Entry, EntryKind
from iterum.core.bench.packs import Condition, Pack, Reading
from iterum.core.bench.rules import HouseRules
from iterum.core.bench.setup import Setup, total_ah
from iterum.core.electrical.charging import Charge, charge_packs
from iterum.core.electrical.joining import joining
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.season.health import MOST_AGAIN, ChargeRecord, nickel_again, ran_low
from iterum.core.season.outlook import Expected, Observation, Outlook, expect, outlook
from iterum.core.season.read_back import Shown, read_back
from iterum.core.season.run import BEFORE_CHARGE, LIVE, ON_BOARD, OPEN, Act, State, after
from iterum.core.season.watching import Alarm, Finding, findings
from iterum.core.sizing.dial import DialCard
from iterum.core.sizing.size import Sizing, hookup, size
from iterum.devices.driver import ChannelReading, LinkLost, Refused, Settings, Status
from iterum.services.desk import Desk
from iterum.services.in_hand import put_in_mah, running_of, taken_wh
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
NICKEL_END_V = 1.6
"""V per cell that a driver is given for a charge that ends by a drop: above what a nickel cell reaches."""
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
    pack_v: float | None = None
    """Of a pack that is only read in all."""

    @property
    def is_read(self) -> bool:
        """Whether anything was read of it."""
        return bool(self.cell_v) or self.pack_v is not None

    def reading(self, at: datetime) -> Reading:
        """What was read, as a reading."""
        return Reading.of_cells(self.cell_v, at) if self.cell_v else Reading(self.pack_v or 0.0, (), at)


@dataclass(frozen=True)
class Logged:
    """What a logged charge says of its packs.

    low : run too low before it. again : of packs that end by a drop in volts and were not full, the how-manieth time in
    a row.
    """

    low: tuple[str, ...]
    again: Mapping[str, int]


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

    def since(self, moment: datetime, now: datetime) -> list[tuple[KeptRun, Running]]:
        """Runs begun from a moment on, oldest first, each with what it still takes."""
        with self._store.reading() as repository:
            runs = repository.runs.latest(200, moment)
            return [(run, running_of(repository, run, now)) for run in reversed(runs)]

    def look(self, key: int, now: datetime) -> RunLook:
        """A run with its readings, findings and outlook. Raises NotThere."""
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

    def begin(self, choice: Choice, now: datetime) -> int:
        """Take a batch in hand. Raises Unsafe with every reason against it, NotThere for what is not there.

        What is begun is the choice as the bench answers to it now; of a group that may only be joined in another order,
        that order is kept.
        """
        offer = self.offer(choice, now)
        values = self._values(offer, now)
        with self._store.writing(changes_session=False) as repository:
            # What somebody else took in hand meanwhile is seen here, before anything is written.
            parts = set(offer.setup.board.part_ids) if offer.setup.board else set()
            for run in repository.runs.in_states(OPEN):
                board = offer.setup.board and self._desk.session().kit.board(run.board)
                taken = set(run.packs) & set(choice.packs) or run.channel == offer.setup.channel.id
                if taken or (board and parts & set(board.part_ids)):
                    raise Unsafe(self._desk.bench(now).conflicts(choice.packs, choice.board, offer.setup.channel.id))
            return repository.runs.add(values)

    def offer(self, choice: Choice, now: datetime) -> Sizing:
        """What the bench answers to a choice, where it may be begun. Raises Unsafe with every reason, NotThere."""
        found = size(self._desk.bench(now), choice)
        if not found.joining.passes:
            raise Unsafe(found.joining.reasons)
        return found

    def _values(self, offer: Sizing, now: datetime) -> dict[str, object]:
        """What is kept of a batch that is begun."""
        order = {tag: place for place, tag in enumerate(offer.joining.order)}
        packs = tuple(sorted((pack.id for pack in offer.packs), key=lambda tag: order[tag]))
        source = offer.setup.feed.source
        return {
            "begun_at": now,
            "packs": packs,
            "family": offer.packs[0].family,
            "board": offer.setup.board.id if offer.setup.board else None,
            "channel": offer.setup.channel.id,
            "current_a": offer.current_a,
            "rate_c": offer.rate_c,
            "card": offer.dial,
            "expected": _expected(offer.packs, offer.setup, offer.rules, offer.charge, offer.dial),
            "before_v": {pack.id: _volts(pack) for pack in offer.packs},
            "driven": self.links.place(offer.setup.channel.id) is not None,
            "choice": replace(offer.settled, packs=packs),
            "source": source.id if source else None,
            "source_part": offer.setup.feed.efficiency_from_source,
        }

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
        state = after(run.state, act, skipped, run.card.wait_min > 0)
        values: dict[str, object] = {"state": state.value, "state_at": now}
        if act is Act.START:
            prediction = self._predict(run)
            values |= {"charging_at": now, "expected": prediction}
        if act is Act.RESUME:
            values["paused_min"] = run.paused_min + (now - run.state_at).total_seconds() / 60
        if act in (Act.STOP, Act.FINISH):
            pause_min = (now - run.state_at).total_seconds() / 60 if run.state is State.PAUSED else 0.0
            values |= {"ended_at": now, "paused_min": run.paused_min + pause_min, "stopped": act is Act.STOP}
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
            if act in (Act.STOP, Act.FINISH):
                self._book(repository, repository.runs.get(key), put_in_mah(repository, run, now), now)
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
        if act is Act.PLUG_IN:
            if place.hands:
                place.driver.plug(place.channel, run.packs)
            if not run.card.wait_min:  # nothing is evened out: what it is to do is set at once
                place.driver.dial(place.channel, _settings(run))
        elif act is Act.EVEN_OUT or (act is Act.READ_BACK and skipped):
            place.driver.dial(place.channel, _settings(run))
        elif act in (Act.START, Act.RESUME):
            place.driver.start(place.channel)
        elif act in (Act.PAUSE, Act.STOP):
            place.driver.stop(place.channel)
        elif act in (Act.CHECK, Act.DROP) and place.hands:
            place.driver.plug(place.channel, ())

    @staticmethod
    def _book(repository: Repository, run: KeptRun, charge_mah: float, at: datetime) -> None:
        """Write down what a charge took from its source."""
        if run.source is not None:
            repository.add_entry(Entry(run.source, at, EntryKind.CHARGE, taken_wh(run, charge_mah), run.key))

    def _take_off(self, run: KeptRun) -> None:
        """Unplug what a simulated bench holds of a batch that is given up; a real one is unplugged by hand."""
        with suppress(LinkLost, Refused):
            self._tell_charger(run, Act.DROP, skipped=False)

    def _predict(self, run: KeptRun) -> Expected | None:
        """What the electrical model expects, from the packs as they went on and the choice as it was made."""
        session = self._desk.session()
        bench = Bench(tuple(_as_it_went_on(pack, run) for pack in session.packs), session.kit, session.rules)
        try:
            found = hookup(bench, replace(run.choice, current_a=run.current_a))
        except NotThere:  # a pack or the channel was taken out of use meanwhile
            return None
        rate_c = run.current_a / total_ah(found.packs)
        joined = joining(found.packs, found.rules, found.setup.lead_mohm, rate_c, with_ways=False)
        start = joined.start_of(found.packs)
        result = charge_packs(found.packs, found.setup, found.rules, run.current_a, joined.wait_min, start)
        return _expected(found.packs, found.setup, found.rules, result, run.card)

    def read_back(self, key: int, shown: Shown, expected: State, now: datetime, note: str | None = None) -> KeptRun:
        """Compare what the charger shows with the card, and go on where they agree. Raises Unsafe with each cause.

        Gentler amps than those of the card are what it charges with then.
        """
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        write: Callable[[Repository], None] | None = None
        if run.state is expected:
            current_a = read_back(run.card, shown, asks_balance=run.card.cells > 1 and run.card.end_v is not None)
            if current_a < run.current_a:
                rate_c = run.rate_c * current_a / run.current_a

                def write(repository: Repository) -> None:
                    repository.runs.set_current(key, current_a, rate_c)

        figures = f"{shown.cells} cells, {shown.pack_v} V, {shown.current_a} A"
        note = f"{figures}. {note}" if note else figures
        return self.act(key, Act.READ_BACK, expected, now, note=note, write=write)

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
        ended_warm: bool | None = None,
    ) -> tuple[KeptRun, Logged]:
        """Log the charge of each pack with what was read of it.

        ended_warm : of packs that end by a drop in volts, whether they were warm then. Returns the run, and what is to
        be known of its packs.
        """
        look = self.look(key, now)
        put_in = [item.seen.charge_mah for item in look.seen if item.seen.charge_mah is not None]
        total_mah = charge_mah if charge_mah is not None else put_in[-1] if put_in else None
        by_id = {pack.id: pack for pack in self._desk.session().packs}
        members = [by_id[tag] for tag in look.run.packs if tag in by_id]
        shares = _shares(members, look.run, total_mah)
        low: list[str] = []
        again: dict[str, int] = {}

        def write(repository: Repository) -> None:
            for pack in members:
                read = packs.get(pack.id, After())
                if read.is_read:
                    repository.add_reading(pack.id, read.reading(now), AFTER, now)
                if read.resistance_mohm:
                    repository.save_pack(replace(pack, resistance_mohm=read.resistance_mohm), pack.id)
                record = ChargeRecord(
                    at=now, charge_mah=shares.get(pack.id), minutes=look.minute or None, rate_c=look.run.rate_c,
                    before_v=look.run.before_v.get(pack.id, ()), after_v=read.cell_v,
                    resistance_mohm=read.resistance_mohm, note=note,
                )  # fmt: skip
                if not pack.chemistry.joins and not skipped:
                    before = [item.record for item in repository.runs.charges(pack.id, count=MOST_AGAIN)]
                    count = nickel_again(pack, replace(record, ended_warm=ended_warm), before)
                    record = replace(record, ended_warm=ended_warm, again=count)
                    repository.set_charged_full([pack.id], count == 0)
                    again.update({pack.id: count} if count else {})
                repository.log_charge(pack.id, key, "run", record)
                low.extend([pack.id] if ran_low(pack, record) else [])
            if total_mah is not None:
                self._book(repository, look.run, total_mah, look.run.ended_at or now)

        run = self.act(key, Act.CHECK, expected, now, note=note, skipped=skipped, write=write)
        return run, Logged(tuple(low), again)

    # ------------------------------------------------------------------ watching

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
            low = any(item.what.code == "watch_source_low" for item in new)
        if low and run.source is not None and self._feeds_directly(run):
            with self._store.writing() as repository:
                repository.add_entry(Entry(run.source, now, EntryKind.EMPTY, 0.0, run.key))
        worst = next((item for item in new if item.alarm is Alarm.STOP), None)
        if worst is not None and run.driven and run.state is State.CHARGING:
            with suppress(LinkLost, Refused, Changed):  # the finding stands and sounds until somebody stops it by hand
                self.act(run.key, Act.STOP, run.state, now, by=ITERUM, note=sentence(worst.what))
        return new

    def _feeds_directly(self, run: KeptRun) -> bool:
        """Whether the volts at a run's charger are those of its source, with no supply between."""
        place = self._desk.session().kit.channel(run.channel)
        return place is not None and run.source in (run.choice.fed_by, place[0].fed_by)

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
                values = {"state": state.value, "state_at": now, "ended_at": now, "stopped": act is Act.STOP}
                if repository.runs.change(run.key, now_run.state, values):
                    if act is Act.STOP:
                        self._book(repository, now_run, put_in_mah(repository, now_run, now), now)
                    repository.runs.add_event(
                        KeptEvent(run.key, now, act.value, state, False, PERSON, f"incident: {kind}")
                    )
            for pack in repository.packs():
                if pack.id in hurt:
                    repository.save_pack(replace(pack, condition=Condition.DAMAGED), pack.id)
                    repository.drop_hand_move(pack.id)
            repository.runs.add_incident(incident)
        return incident


def _volts(pack: Pack) -> tuple[float, ...]:
    if pack.reading is None:
        return ()
    return pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) * pack.cells


def _as_it_went_on(pack: Pack, run: KeptRun) -> Pack:
    volts = run.before_v.get(pack.id, ())
    if not volts:
        return pack
    if not pack.chemistry.joins:
        return replace(pack, reading=Reading(round(sum(volts), 9)), charged_at=None)
    return replace(pack, reading=Reading.of_cells(volts), charged_at=None)


def _expected(packs: Sequence[Pack], setup: Setup, rules: HouseRules, charge: Charge, card: DialCard) -> Expected:
    """What a charge is to be measured against."""
    end_v = rules.full_v(packs[0].chemistry) if packs[0].chemistry.joins else None
    return expect(charge, packs[0].cells, end_v, card.timer_min, setup.feed.charger.input_min_v, _spread(packs))


def _spread(members: Sequence[Pack]) -> float:
    """Volts between the cells of a board as it starts: balance leads join cell 1 with cell 1."""
    cells = [_volts(pack) for pack in members]
    means = [sum(column) / len(column) for column in zip(*cells, strict=False)]
    return max(means) - min(means) if means else 0.0


def _settings(run: KeptRun) -> Settings:
    card = run.card
    end_v = card.end_v if card.end_v is not None else NICKEL_END_V
    return Settings(card.cells, card.current_a, end_v, card.stop_mah or card.capacity_mah, card.timer_min)


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
