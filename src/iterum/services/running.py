"""Batches in hand: taken, brought on act by act, each in one transaction, and read back."""

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from iterum.core.electrical.charging import charge_packs
from iterum.core.electrical.joining import joining
from iterum.core.reasons import Busy, NotThere, Unsafe, reason
from iterum.core.run.guard import ARMED, NICKEL_END_V, ChannelReading
from iterum.core.say import ENGLISH, Words, say, speaking
from iterum.core.season.after_charge import as_it_went_on, cell_volts
from iterum.core.season.agenda import BATCH_LONGEST, InHand, ToDo, agenda
from iterum.core.season.in_hand import taken_wh
from iterum.core.season.outlook import Expected, Outlook, expected_of, outlook
from iterum.core.season.read_back import Shown, read_back
from iterum.core.season.records import KeptEvent, KeptFinding, KeptObservation, KeptRun
from iterum.core.season.run import LIVE, ON_BOARD, OPEN, Act, State, after
from iterum.core.season.upkeep import upkeep
from iterum.core.season.watching import Alarm, next_check_min
from iterum.core.sizing.size import Sizing, hookup, size
from iterum.core.things.bench import Bench, Running
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.ledger import Entry, EntryKind
from iterum.core.things.setup import total_ah
from iterum.devices.driver import LinkLost, Refused, Settings
from iterum.services.desk import Desk
from iterum.services.in_hand import as_it_runs, put_in_mah, running_of
from iterum.services.links import Links
from iterum.store.database import Store
from iterum.store.repository import Repository
from iterum.store.troubles import StoreTrouble
from iterum.wording import sentence

PERSON = "you"
AT_THE_CHARGER = Words("you, at the charger itself")
AS_PLANNED = (Act.START, Act.PAUSE, Act.RESUME, Act.FINISH)
"""Acts that follow a plan: it stays up to date."""
CLOSING = (Act.CHECK, Act.DROP)
DONE = {
    Act.START: Words("the charge has started."),
    Act.RESUME: Words("the charge goes on."),
    Act.PAUSE: Words("the charge is paused: no current flows."),
    Act.STOP: Words("the charge has stopped: no current flows."),
}
"""What a charger has done by an act, in words: to be said even where it cannot be written
down.
"""
HEARD_S = 20.0
"""What a channel showed so long ago still stands on its page as what it shows."""


class Told(StoreTrouble):
    """The charger did what was asked, and only writing it down failed: says both."""


class Changed(Busy):
    """Somebody else, or the charger, has brought the batch on meanwhile. Carries it as it is
    now.
    """

    def __init__(self, run: KeptRun) -> None:
        super().__init__(say("the batch is {state} by now", state=run.state.value))
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
        """Charges begun from a moment on, oldest first, each with what it still takes."""
        with self._store.reading() as repository:
            runs = [run for run in repository.runs.latest(200, moment) if run.kind is Kind.CHARGE]
            return [(run, running_of(repository, run, now)) for run in reversed(runs)]

    def in_hand(self, now: datetime) -> tuple[InHand, ...]:
        """Batches in hand, the oldest first, each with when it ends and when its next hand check
        is due.
        """
        with self._store.reading() as repository:
            return tuple(self._in_hand(repository, run, now) for run in repository.runs.in_states(OPEN))

    @staticmethod
    def _in_hand(repository: Repository, run: KeptRun, now: datetime) -> InHand:
        if run.state not in LIVE:
            return InHand(run)
        due_min = next_check_min([item.seen for item in repository.runs.observations(run.key)])
        ends_at = now + timedelta(minutes=running_of(repository, run, now).minutes_left)
        return InHand(run, ends_at, now + timedelta(minutes=due_min - run.minute(now)))

    def agenda(self, now: datetime) -> tuple[ToDo, ...]:
        """Everything to be done at the bench, what comes next first."""
        kept, in_hand = self._desk.latest_plan(), self.in_hand(now)
        begun: list[frozenset[str]] = []
        if kept is not None:
            ran = self.since(kept.made_at - BATCH_LONGEST, now)
            begun = [frozenset(run.packs) for run, _ in ran if not run.over_by(kept.made_at)]
        heats = [(heat.at, heat.wish) for heat in self._desk.heats()]
        storage = self._desk.to_storage(now).batches if self._desk.is_called_off(now) else ()
        return agenda(in_hand, kept, begun, heats, now, storage)

    def look(self, key: int, now: datetime) -> RunLook:
        """A run with its readings, findings and outlook. Raises NotThere."""
        with self._store.reading() as repository:
            run = repository.runs.get(key)
            seen = repository.runs.observations(key)
            wrong = repository.runs.findings(key)
            events = repository.runs.events(key)
        minute = run.minute(now)
        shown = self.links.latest(run.channel)
        ahead = outlook(run.expected, [item.seen for item in seen], minute) if run.expected else None
        heard = run.driven and shown is not None and (now - shown[1]).total_seconds() < HEARD_S
        return RunLook(run, minute, ahead, seen, wrong, events, shown[0] if shown else None, heard)

    def findings(self) -> tuple[KeptFinding, ...]:
        """Everything wrong in batches that hang on the bench, the newest first; of those over,
        what must stop.
        """
        with self._store.reading() as repository:
            live = {run.key for run in repository.runs.in_states(LIVE)}
            hanging = {run.key for run in repository.runs.in_states(ARMED)}
            return tuple(
                item
                for item in repository.runs.findings()
                if item.run_key in live or (item.run_key in hanging and item.finding.alarm is Alarm.STOP)
            )

    def stopped(self) -> tuple[tuple[KeptRun, KeptEvent], ...]:
        """Batches that were stopped and not looked at yet, each with the act that stopped it."""
        with self._store.reading() as repository:
            runs = repository.runs.in_states((State.STOPPED,))
            acts = [
                (run, [item for item in repository.runs.events(run.key) if item.act == Act.STOP.value]) for run in runs
            ]
        return tuple((run, events[-1]) for run, events in acts if events)

    # ------------------------------------------------------------------ beginning

    def begin(self, choice: Choice, now: datetime) -> int:
        """Take a batch in hand. Raises Unsafe with every reason against it, NotThere for what is
        not there.

        What is begun is the choice as the bench answers to it now; of a group that may only be
        joined in another order, that order is kept.
        """
        offer = self.offer(choice, now)
        if self.links.in_doubt(offer.setup.channel.id):
            raise Unsafe((reason("binding_doubtful", channel=offer.setup.channel.id),))
        values = self._values(offer, now)
        with self._store.writing(changes_session=False) as repository:
            self._still_free(repository, offer.settled, now)
            key = repository.runs.add(values)
            for note in offer.notes:
                if note.code == "own_rate":  # it is logged with the charge
                    with speaking(ENGLISH):  # whoever reads the log is told it in another language
                        told = sentence(note)
                    repository.runs.add_event(KeptEvent(key, now, "own decision", State.PLANNED, False, PERSON, told))
            return key

    def _still_free(self, repository: Repository, settled: Choice, now: datetime) -> None:
        """See what somebody else took in hand meanwhile, before anything is written. Raises
        Unsafe.
        """
        session = self._desk.session()
        kit, running = as_it_runs(repository, session.kit, now)
        as_it_is = Bench(session.packs, kit, session.rules, running)
        broken = as_it_is.conflicts(settled.packs, settled.board, settled.channel or "")
        if broken:
            raise Unsafe(broken)

    def offer(self, choice: Choice, now: datetime) -> Sizing:
        """What the bench answers to a choice, where it may be begun. Raises Unsafe with every
        reason, NotThere.
        """
        sizing = size(self._desk.bench(now), choice)
        if not sizing.joining.passes:
            raise Unsafe(sizing.joining.reasons)
        return sizing

    def begin_upkeep(self, kind: Kind, choice: Choice, now: datetime) -> int:
        """Take a batch in hand that fills nothing. Raises Unsafe with every reason against it,
        NotThere.

        A person sets the charger for it: none is told to discharge or to balance, or asked what
        it did.
        """
        asked = upkeep(self._desk.bench(now), kind, choice)
        settled = asked.settled
        with self._store.writing(changes_session=False) as repository:
            self._still_free(repository, settled, now)
            return repository.runs.add({
                "begun_at": now, "packs": choice.packs, "family": asked.packs[0].family, "board": settled.board,
                "channel": settled.channel or "", "current_a": asked.current_a, "rate_c": asked.rate_c,
                "card": asked.card, "expected": asked.expected,
                "before_v": {pack.id: cell_volts(pack) for pack in asked.packs}, "driven": False, "choice": settled,
                "source": None, "source_part": None, "kind": kind.value,
            })  # fmt: skip

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
            "expected": expected_of(offer.hookup, offer.charge, offer.dial),
            "before_v": {pack.id: cell_volts(pack) for pack in offer.packs},
            "driven": self.links.place(offer.setup.channel.id) is not None,
            "choice": replace(offer.settled, packs=packs),
            "source": source.id if source else None,
            "source_part": offer.setup.feed.efficiency_from_source,
        }

    def set_tender(self, key: int, pilot: str) -> None:
        """Say which pilot sees to a batch that holds packs of several. Raises NotThere."""
        with self._store.writing(changes_session=False) as repository:
            repository.runs.get(key)
            if all(one.id != pilot for one in repository.pilots()):
                raise NotThere("pilot", pilot)
            repository.runs.set_tender(key, pilot)

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
        """Bring a batch on. What the charger must do is done first; then state and act are
        written in one go.

        expected : the state that whoever acts has seen. Raises Changed where it is another by
        now, Unsafe where the act is not allowed, LinkLost and Refused from the charger, Told
        where only writing it down failed. write : what is to be kept in the same transaction.
        by : AT_THE_CHARGER where a person did it there, so that it need not be told, nor answer.
        """
        try:
            with self._store.reading() as repository:
                run = repository.runs.get(key)
        except StoreTrouble as trouble:
            if act is Act.STOP and by == PERSON:
                self._stop_unwritten(key, note, trouble)
            raise
        if run.state is not expected:
            self._note(run, now, by, act, note)
            raise Changed(run)
        after(run.state, act, skipped, run.card.evens_out_min > 0, run.kind)
        done = by == PERSON and self._tell_charger(run, act, skipped)
        try:
            changed = self._bring_on(run, act, KeptEvent(key, now, act.value, run.state, skipped, by, note), write)
        except Changed as late:  # somebody else was quicker, by less than the time since the look above
            self._note(late.run, now, by, act, note)
            raise
        except (StoreTrouble, Busy) as trouble:
            if not done:
                raise
            self.links.guard.remember(key, act, by, note)
            raise Told(f"{run.place}: {say(DONE[act])} {trouble}") from trouble
        self._arm(changed)
        return changed

    def record(self, key: int, act: Act, now: datetime, by: str, note: str | None) -> KeptRun:
        """Write down an act that the guardian told: it is done. Raises as `act` does."""
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        return self._bring_on(run, act, KeptEvent(key, now, act.value, run.state, False, by, note), None)

    def _stop_unwritten(self, key: int, note: str | None, trouble: StoreTrouble) -> None:
        """Stop a batch of which the database tells nothing: the guardian knows its channel.
        Raises Told once it is off.
        """
        guard = self.links.guard
        channel = next((item for item in guard.channels() if item.run_key == key), None)
        if channel is None or not channel.linked:
            return
        guard.stop(channel.name, Act.STOP)
        guard.remember(key, Act.STOP, PERSON, note)
        raise Told(f"{channel.name}: {say(DONE[Act.STOP])} {trouble}") from trouble

    def _bring_on(
        self, run: KeptRun, act: Act, event: KeptEvent, write: Callable[[Repository], None] | None
    ) -> KeptRun:
        """State and act of a batch, in one transaction. Raises Unsafe, Changed, StoreTrouble."""
        now = event.at
        state = after(run.state, act, event.skipped, run.card.evens_out_min > 0, run.kind)
        values: dict[str, object] = {"state": state.value, "state_at": now}
        if act is Act.START:
            prediction = self._predict(run, now) if run.kind is Kind.CHARGE else run.expected
            values |= {"charging_at": now, "expected": prediction}
        if act is Act.RESUME:
            values["paused_min"] = run.paused_min + (now - run.state_at).total_seconds() / 60
        if act in (Act.STOP, Act.FINISH):
            pause_min = (now - run.state_at).total_seconds() / 60 if run.state is State.PAUSED else 0.0
            values |= {"ended_at": now, "paused_min": run.paused_min + pause_min, "stopped": act is Act.STOP}
        # Volts read before say nothing once a pack was charged, or joined to others and taken off again.
        ended = act is Act.DROP or (act is Act.CHECK and run.kind is Kind.EVEN_OUT)
        taken_off = ended and run.state in ON_BOARD and len(run.packs) > 1
        moved = run.state in LIVE or state in LIVE or taken_off
        with self._store.writing(write is not None or moved, as_planned=act in AS_PLANNED) as repository:
            if not repository.runs.change(run.key, run.state, values):
                raise Changed(repository.runs.get(run.key))
            if moved:
                repository.on_charger(run.packs, now)
            if act in (Act.STOP, Act.FINISH):
                self.book(repository, repository.runs.get(run.key), put_in_mah(repository, run, now), now)
            repository.runs.add_event(replace(event, state=state))
            if write is not None:
                write(repository)
            return repository.runs.get(run.key)

    def _arm(self, run: KeptRun) -> None:
        """Have the guardian guard a batch as it is now; where it is silent, the watch tells it as
        soon as it answers.
        """
        with suppress(LinkLost, Refused):
            self.links.guard.arm(run)

    def _note(self, run: KeptRun, now: datetime, by: str, act: Act, note: str | None) -> None:
        """What somebody entered is kept, although the act itself came too late."""
        if note:
            with self._store.writing(changes_session=False) as repository:
                repository.runs.add_event(KeptEvent(run.key, now, f"note to {act.value}", run.state, False, by, note))

    def _tell_charger(self, run: KeptRun, act: Act, skipped: bool) -> bool:
        """Have the charger do what an act asks of it; whether it started or stopped. Raises
        LinkLost, Refused.
        """
        guard, channel = self.links.guard, run.channel
        place = self.links.place(channel) if run.driven else None
        if place is None or (act not in CLOSING and not place.commands):
            return False
        if act is Act.PLUG_IN:
            if place.hands:
                guard.plug(channel, run.packs)
            if not run.card.evens_out_min:  # nothing has to equalise: what it is to do is set at once
                guard.dial(channel, _settings(run))
        elif act is Act.EVEN_OUT or (act is Act.READ_BACK and skipped):
            guard.dial(channel, _settings(run))
        elif act in (Act.START, Act.RESUME):
            self._arm(run)  # its limits are live before amps flow
            guard.start(channel, act)
        elif act in (Act.PAUSE, Act.STOP):
            guard.stop(channel, act)
        elif act in CLOSING:
            with suppress(LinkLost, Refused):  # a batch can be closed whatever its charger does
                if place.hands:
                    guard.plug(channel, ())
        return act in DONE

    @staticmethod
    def book(repository: Repository, run: KeptRun, charge_mah: float, at: datetime) -> None:
        """Write down what a charge took from its source."""
        if run.source is not None:
            repository.add_entry(Entry(run.source, at, EntryKind.CHARGE, taken_wh(run, charge_mah), run.key))

    def take_off(self, run: KeptRun) -> None:
        """Unplug what a simulated bench holds of a batch that is given up; a real one is
        unplugged by hand.
        """
        self._tell_charger(run, Act.DROP, skipped=False)

    def _predict(self, run: KeptRun, now: datetime) -> Expected | None:
        """What the electrical model expects, from the packs as they went on and the choice as it
        was made.
        """
        session = self._desk.session(now)
        bench = Bench(tuple(as_it_went_on(pack, run) for pack in session.packs), session.kit, session.rules)
        try:
            place = hookup(bench, replace(run.choice, current_a=run.current_a))
        except NotThere:  # a pack or the channel was taken out of use meanwhile
            return None
        rate_c = run.current_a / total_ah(place.packs)
        joined = joining(place.packs, place.rules, place.setup.port, rate_c, with_ways=False)
        result = charge_packs(place.packs, place.setup, place.rules, run.current_a, joined.start)
        return expected_of(place, result, run.card)

    def read_back(self, key: int, shown: Shown, expected: State, now: datetime, note: str | None = None) -> KeptRun:
        """Compare what the charger shows with the card, and go on where they agree. Raises Unsafe
        with each cause.

        Gentler amps than those of the card are what it charges with then.
        """
        with self._store.reading() as repository:
            run = repository.runs.get(key)
        write: Callable[[Repository], None] | None = None
        if run.state is expected:
            balances = run.card.cells > 1 and run.card.end_v is not None
            current_a = read_back(run.card, shown, balances, sets_amps=run.kind is not Kind.BALANCE)
            if current_a < run.current_a:
                rate_c = run.rate_c * current_a / run.current_a

                def write(repository: Repository) -> None:
                    repository.runs.set_current(key, current_a, rate_c)

        figures = say(
            "{cells} cells, {pack_v} V, {current_a} A",
            cells=shown.cells,
            pack_v=shown.pack_v,
            current_a=shown.current_a,
        )
        note = f"{figures}. {note}" if note else figures
        return self.act(key, Act.READ_BACK, expected, now, note=note, write=write)

    def shown_by_charger(self, run: KeptRun) -> Shown | None:
        """What the charger's driver reads back; None without one, or while it is silent."""
        place = self.links.place(run.channel) if run.driven else None
        if place is None or not place.commands:  # a meter does not show what is set
            return None
        try:
            reading = self.links.guard.read(run.channel)
        except (LinkLost, Refused):
            return None
        return Shown(reading.cells, reading.pack_v, reading.set_a, reading.set_end_v)


def _settings(run: KeptRun) -> Settings:
    card = run.card
    end_v = card.end_v if card.end_v is not None else NICKEL_END_V
    return Settings(card.cells, card.current_a, end_v, card.stop_mah or card.capacity_mah, card.timer_min)
