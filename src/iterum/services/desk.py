"""What lies on the bench: the stored session, its matching, and the changes a pilot makes to it."""

from collections.abc import Callable, Container, Hashable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any, TypeVar, cast

from iterum.core.fields import BadInput, Fault
from iterum.core.groups.matching import Matching, match_packs
from iterum.core.planning.record import KeptPlan, Offer
from iterum.core.reasons import NotThere, Unsafe, reason
from iterum.core.say import LANGUAGE, say
from iterum.core.season.learning import learn, with_like
from iterum.core.season.records import KeptReading
from iterum.core.season.run import OPEN
from iterum.core.season.storage import PutAway, plan_storage
from iterum.core.sizing.arrange import Placed, match, move_by_hand, place_groups
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.kit import CHAIN, Channel, Charger, Kit, Source, Supply
from iterum.core.things.ledger import Entry, EntryKind, held
from iterum.core.things.packs import Condition, Pack, Reading
from iterum.core.things.pilots import Pilot
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.exchange.heats import Heat
from iterum.exchange.session import part_from, rules_document
from iterum.services.in_hand import as_it_runs, running_of, taken_while_charging
from iterum.services.table import had_today
from iterum.store.database import Store
from iterum.store.kit import KitItem
from iterum.store.repository import HandMove, Repository
from iterum.store.undo import Done, Undone

TYPED, FILE, FORM = "typed", "file", "form"
"""Where a reading comes from."""

_Result = TypeVar("_Result")


class Desk:
    """One pilot's stored session. What is computed from it is kept until something changes."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._kept: dict[str, tuple[Hashable, Any]] = {}
        self._packs: dict[tuple[object, ...], Pack] = {}

    def _once(self, key: str, seen: Hashable, compute: Callable[[], _Result]) -> _Result:
        """`compute`, or what it gave before if `seen`, what it rests on, is still the same."""
        kept = self._kept.get(key)
        if kept is None or kept[0] != seen:
            kept = self._kept[key] = (seen, compute())
        return cast(_Result, kept[1])

    # ------------------------------------------------------------------ looking

    def session(self, now: datetime | None = None) -> Session:
        """Everything in use: packs with their readings in force, kit, rules, wishes; sources with what they still hold.

        now : also what is in hand at that moment, with its watts and watt-hours; without it nothing is.
        """
        with self._store.reading() as repository:
            session = self._once("session", repository.revision(), lambda: self._unchanged(read_session(repository)))
            if now is None:
                return session
            kit, running = as_it_runs(repository, session.kit, now)
            air_c = air_on(repository, now)
        aged = session.at(now)

        def seen() -> Session:
            return self._unchanged(replace(aged, kit=kit, running=running).in_air(air_c))

        return self._once("as it runs", (session, _aged(aged), kit, running, air_c), seen)

    def _unchanged(self, session: Session) -> Session:
        """The same with the very packs of before where nothing about them changed, and so with what they know."""
        known = ((pack, self._packs.get(_key(pack))) for pack in session.packs)
        packs = tuple(before if before == pack else pack for pack, before in known)
        self._packs |= {_key(pack): pack for pack in packs}
        return replace(session, packs=packs)

    def air_c(self, now: datetime) -> float | None:
        """Degrees of the air as they were said today; None where they have to be asked."""
        with self._store.reading() as repository:
            return air_on(repository, now)

    def set_air(self, air_c: float, now: datetime) -> None:
        """Keep what the air is today, degrees Celsius."""
        with self._store.writing() as repository:
            repository.set_air(air_c, now)

    def forget_learned(self, pack_id: str, now: datetime) -> None:
        """Forget what its charges taught of a pack; only those from now on count. Raises NotThere."""
        with self._store.writing() as repository:
            repository.readings(pack_id)
            repository.forget_learned(pack_id, now)

    def bench(self, now: datetime) -> Bench:
        """The bench as it is at this moment."""
        return self.session(now).bench

    def matching(self, now: datetime) -> tuple[Matching, tuple[HandMove, ...]]:
        """Groups and left-out packs, with the moves made by hand that still apply."""
        with self._store.reading() as repository:
            revision, moves = repository.revision(), repository.hand_moves()
        bench = self.bench(now)
        return self._once("matching", (revision, _held(bench)), lambda: _arranged(bench, moves))

    def placed(self, now: datetime, family: str | None = None) -> tuple[Placed, ...]:
        """Each group with the board and channel suggested for it; of one class, as if it were charged before others."""
        bench, revision = self.bench(now), self.revision()
        groups = [group for group in self.matching(now)[0].groups if family in (None, group.family)]
        return self._once(f"placed {family}", (revision, _held(bench)), lambda: place_groups(groups, bench))

    def remember(self, key: str, now: datetime, compute: Callable[[], _Result]) -> _Result:
        """`compute`, done once in a language until something stored, or in hand, changes."""
        return self._once(_in_its_language(key), (self.revision(), _held(self.bench(now))), compute)

    def remembered(self, key: str, now: datetime) -> Any | None:
        """What `remember` kept, where that still holds."""
        kept = self._kept.get(_in_its_language(key))
        return kept[1] if kept and kept[0] == (self.revision(), _held(self.bench(now))) else None

    def matching_under(self, rules: HouseRules, now: datetime) -> Matching:
        """What today's packs would give under other rules, moves by hand and the places of fixes left aside."""
        bench = self.bench(now)
        return match_packs(bench.free_packs, rules, bench.kit.ports_for)

    def retired(self) -> tuple[tuple[Pack, ...], Kit]:
        """Packs and kit that were taken out of use, to be brought back."""
        with self._store.reading() as repository:
            return repository.packs(retired=True), repository.kit(retired=True)

    def removed_channels(self) -> tuple[tuple[str, str], ...]:
        """(charger, channel) of channels that were taken off their charger."""
        with self._store.reading() as repository:
            return repository.removed_channels()

    def put_channel_back(self, channel_id: str) -> None:
        """Put a removed channel back on its charger. Raises NotThere."""
        with self._store.writing() as repository:
            repository.put_channel_back(channel_id)

    def readings(self, pack_id: str) -> tuple[KeptReading, ...]:
        """Every reading of a pack, newest first. Raises NotThere."""
        with self._store.reading() as repository:
            return repository.readings(pack_id)

    def rules_can_go_back(self) -> bool:
        """Whether the house rules were changed before."""
        with self._store.reading() as repository:
            return repository.previous_rules_values() is not None

    # ------------------------------------------------------------------ changing

    def record_reading(self, pack_id: str, reading: Reading, now: datetime, corrects: int | None = None) -> int:
        """Write a reading down. Raises NotThere for a pack that is not there."""
        with self._store.writing() as repository:
            pack = next((pack for pack in repository.packs() if pack.id == pack_id), None)
            if pack is None or not _came_late(pack, reading):
                repository.drop_hand_move(pack_id)  # where it was put rested on the old volts
                repository.set_charged_full([pack_id], False)  # whoever measures it again means to charge it
            return repository.add_reading(pack_id, reading, TYPED, now, corrects)

    def set_condition(self, pack_id: str, condition: Condition) -> None:
        """Mark a pack as damaged, or as fit again. Raises NotThere."""
        with self._store.writing() as repository:
            pack = next((pack for pack in repository.packs() if pack.id == pack_id), None)
            if pack is None:
                raise NotThere("pack", pack_id)
            repository.save_pack(replace(pack, condition=condition), known_as=pack_id)

    def save_pack(self, pack: Pack, known_as: str | None, now: datetime) -> None:
        """Add a pack or change one; a reading that came with it is written down. Raises TagTaken, NotThere.

        One that a batch has in hand keeps its tag: raises Unsafe.
        """
        self.save_packs([pack], known_as, now)

    def save_packs(self, packs: Sequence[Pack], known_as: str | None, now: datetime) -> None:
        """Add several, all or none; with `known_as` the one that is changed. Raises as `save_pack` does."""
        with self._store.writing() as repository:
            for pack in packs:
                if known_as not in (None, pack.id):
                    _refuse_in_hand(repository, known_as)
                repository.save_pack(pack, known_as)
                if pack.reading is not None:
                    repository.add_reading(pack.id, pack.reading, FORM, now)

    def save_pilot(self, pilot: Pilot, known_as: str | None) -> None:
        """Add a pilot, or change one. Raises TagTaken, NotThere, BadInput for a mark that another has."""
        with self._store.writing() as repository:
            for other in repository.pilots():
                if other.id != known_as and (other.mark.lower(), other.shape) == (pilot.mark.lower(), pilot.shape):
                    raise BadInput(
                        [Fault("mark", say("is that of {other}; take other letters or another shape", other=other.id))]
                    )
            repository.save_pilot(pilot, known_as)

    def drop_pilot(self, pilot_id: str) -> None:
        """Take a pilot off the table. Raises NotThere, and Unsafe where something there is theirs."""
        with self._store.writing() as repository:
            session = read_session(repository)
            theirs = [item.id for item in (*session.packs, *kit_items(session.kit)) if _pilot_of(item) == pilot_id]
            theirs += [wish.name or "a heat" for wish in session.wanted if wish.pilot == pilot_id]
            if theirs:
                raise Unsafe((reason("pilot_has", pilot=pilot_id, things=tuple(theirs[:3]), more=len(theirs[3:])),))
            repository.drop_pilot(pilot_id)

    def save_kit_item(self, item: KitItem, known_as: str | None) -> None:
        """Add a piece of kit or change one. Raises TagTaken, NotThere, Unsafe for a tag that a batch in hand needs."""
        with self._store.writing() as repository:
            if known_as is not None:
                before = {one.id for one in _parts(repository.kit(), known_as)}
                for tag in before - {one.id for one in (item, *_channels(item))}:
                    _refuse_in_hand(repository, tag)
            repository.save_kit_item(item, known_as)

    def retire(self, kind: type, item_id: str, at: datetime | None) -> None:
        """Take something out of use, or bring it back (`at` None). Raises NotThere, and Unsafe while a batch has it."""
        with self._store.writing() as repository:
            if at is not None:
                for tag in {item_id, *(one.id for one in _parts(repository.kit(), item_id))}:
                    _refuse_in_hand(repository, tag)
            if kind is Pack:
                repository.drop_hand_move(item_id)
            repository.retire(kind, item_id, at)

    def move(self, pack_id: str, with_pack_id: str | None, now: datetime) -> None:
        """Move a pack by hand. Raises Unsafe or NotThere, as `move_by_hand` does."""
        session = self.session()
        move_by_hand(self.matching(now)[0], pack_id, with_pack_id, session.kit, session.rules)
        with self._store.writing() as repository:
            repository.set_hand_move(HandMove(pack_id, with_pack_id), now)

    def move_back(self, pack_id: str | None) -> None:
        """Forget a move by hand, or all of them."""
        with self._store.writing() as repository:
            repository.drop_hand_move(pack_id)

    def set_rules(self, rules: HouseRules, now: datetime) -> None:
        """Put new house rules in force."""
        with self._store.writing() as repository:
            repository.set_rules_values(rules_document(rules), now)

    def rules_back(self, now: datetime) -> None:
        """Put the rules back in force that were before the last change."""
        with self._store.writing() as repository:
            values = repository.previous_rules_values()
            if values is not None:
                repository.set_rules_values(values, now)

    # ------------------------------------------------------------------ taking back

    def acts(self) -> tuple[Done, ...]:
        """Acts that can be taken back, or were, the latest first."""
        with self._store.reading() as repository:
            return repository.acts()

    def undo(self, key: int, now: datetime) -> Undone:
        """Take an act back, but for what was used since. Raises NotThere, and Unsafe while a batch has a part of it."""
        with self._store.writing() as repository:
            brought = repository.runs_in_act(key)
            for tag in repository.tags_in_act(key):
                _refuse_in_hand(repository, tag, brought)
            return repository.undo(key, now)

    def session_at(self, moment: datetime, now: datetime) -> Session:
        """The session with its minutes counted from this moment, in this machine's local time.

        Of what is in hand only what fills nothing is there: what charges is a batch of the plan.
        """
        passed_min = (now - moment) / timedelta(minutes=1)
        with self._store.reading() as repository:
            aside = [run for run in repository.runs.in_states(OPEN) if run.kind is not Kind.CHARGE]
            running = [running_of(repository, run, now) for run in aside]
            had_wh = had_today(repository, self.session().packs, now) if self.session().pilots else {}
        since = tuple(replace(batch, minutes_left=batch.minutes_left + passed_min) for batch in running)
        return replace(self.session(), running=since, had_wh=had_wh).seen_from(moment.astimezone())

    # ------------------------------------------------------------------ what sources still hold

    def ledger(self, source_id: str) -> tuple[Entry, ...]:
        """Entries of one source, the newest first."""
        with self._store.reading() as repository:
            return tuple(reversed(repository.ledger(source_id)))

    def note_source(self, entry: Entry) -> None:
        """Say that a source was filled again, how much is taken from it, or that it stood at its stop volts."""
        with self._store.writing() as repository:
            if all(source.id != entry.source for source in repository.kit().sources):
                raise NotThere("source", entry.source)
            repository.add_entry(entry)

    def heats(self) -> tuple[Heat, ...]:
        """Heats and requests with their moments, the earliest first."""
        session = self.session()
        heats = [
            Heat(session.starts_at + timedelta(minutes=wish.at_min), wish)
            for wish in session.wanted
            if session.starts_at is not None
        ]
        return tuple(sorted(heats, key=lambda heat: heat.at))

    def set_heats(self, heats: Sequence[Heat], now: datetime) -> None:
        """Replace heats and wishes. Their minutes count from now, or from the first of them if that is past."""
        starts_at = min([now, *(heat.at for heat in heats)])
        wishes = [replace(heat.wish, at_min=(heat.at - starts_at) / timedelta(minutes=1)) for heat in heats]
        with self._store.writing() as repository:
            repository.set_wishes(wishes)
            repository.set_starts_at(starts_at)

    def keep_plan(self, plan: KeptPlan) -> None:
        """Keep a plan that was made. What it was made from does not change by it."""
        with self._store.writing(changes_session=False) as repository:
            repository.add_plan(plan)

    def take_offer(self, kept: KeptPlan, offer: Offer, now: datetime) -> None:
        """Put the plan of an offer in force, and write what it asks for into the heats."""
        assert offer.plan is not None  # only such are offered to be taken
        if offer.wanted is not None:
            begun = [heat for heat in self.heats() if heat.at <= kept.made_at]
            self.set_heats([*begun, *(Heat(kept.moment(wish.at_min), wish) for wish in offer.wanted)], now)
        self.keep_plan(KeptPlan(kept.made_at, kept.prefer, offer.plan, self.revision()))

    def latest_plans(self) -> tuple[KeptPlan, ...]:
        """The plan taken last, then those made at the same moment by other preferences."""
        with self._store.reading() as repository:
            return repository.latest_plans()

    def is_called_off(self, now: datetime) -> bool:
        """Whether the day was called off, and no heat was named since."""
        kept = self.latest_plan()
        ahead = any(heat.at > now for heat in self.heats())
        return kept is not None and kept.plan.called_off and not ahead

    def to_storage(self, now: datetime) -> PutAway:
        """How every pack gets to its storage volts, begun now."""
        return self.remember("storage", now, lambda: plan_storage(self.bench(now)))

    def latest_plan(self) -> KeptPlan | None:
        """The plan taken last."""
        return next(iter(self.latest_plans()), None)

    def choose_group(self, choice: Choice) -> None:
        """Keep which group was last put on which board and channel."""
        with self._store.writing() as repository:
            name, note, _ = repository.meeting()
            repository.set_meeting(name, note, choice)

    def write(self, session: Session, now: datetime, expected_revision: int | None = None) -> bool:
        """Take a whole session in, all or nothing; what it does not name stays.

        False, and nothing is changed, when `expected_revision` is given and something changed since.
        Raises BadInput for a pack that is another pilot's here.
        """
        with self._store.writing() as repository:
            if expected_revision is not None and repository.revision() != expected_revision:
                return False
            write_session(repository, session, now)
        return True

    def close(self) -> None:
        """Let go of the database."""
        self._store.close()

    def revision(self) -> int:
        """A number that rises with every change."""
        with self._store.reading() as repository:
            return repository.revision()


def _came_late(pack: Pack, reading: Reading) -> bool:
    """Whether a reading is of before what is known of its pack: it is kept as what it was."""
    read_at = pack.reading.taken_at if pack.reading is not None else None
    known = [moment for moment in (pack.charged_at, read_at) if moment is not None]
    return reading.taken_at is not None and any(reading.taken_at < moment for moment in known)


def _in_its_language(key: str) -> str:
    """What is kept may hold words."""
    return f"{key} ({LANGUAGE.get().code})"


def _held(bench: Bench) -> Hashable:
    """What is in hand, what sources hold to a watt-hour, and how old readings are: what answers rest on beside the
    stored session.
    """
    running = tuple((item.packs, item.board, item.channel, item.power_w) for item in bench.running)
    left = tuple(
        (source.id, source.usable_wh and int(source.usable_wh - bench.reserved_wh(source.id)))
        for source in bench.kit.sources
    )
    return running, left, tuple(map(_key, bench.packs))


def _channels(item: KitItem) -> tuple[Channel, ...]:
    return item.channels if isinstance(item, Charger) else ()


def _parts(kit: Kit, item_id: str) -> tuple[Any, ...]:
    """A piece of kit, and the channels that go with it."""
    items = [item for item in kit_items(kit) if item.id == item_id]
    return tuple(one for item in items for one in (item, *_channels(item)))


def _refuse_in_hand(repository: Repository, tag: str, but: Container[int] = ()) -> None:
    """Raises Unsafe for what a batch in hand is made of: it cannot go, or get another tag, before that is over.

    but : keys of batches that go with it.
    """
    for run in repository.runs.in_states(OPEN):
        if run.key in but:
            continue
        if tag in (*run.packs, run.channel, run.source) or tag in (run.board or "").split(CHAIN):
            raise Unsafe((reason("held_in_hand", id=tag, packs=run.packs),))


def _arranged(bench: Bench, moves: Sequence[HandMove]) -> tuple[Matching, tuple[HandMove, ...]]:
    matching = match(bench)
    applied = []
    for move in moves:
        try:
            matching = move_by_hand(matching, move.pack_id, move.with_pack_id, bench.kit, bench.rules)
        except (NotThere, Unsafe):
            continue  # its pack is gone, unfit or in hand by now, so the move says nothing any more
        applied.append(move)
    return matching, tuple(applied)


def _key(pack: Pack) -> tuple[object, ...]:
    """By what the pack of before is found: its tag, and what the moment makes of it."""
    return pack.id, pack.air_c, pack.stale, pack.stale_temperature


def _aged(session: Session) -> tuple[str, ...]:
    """Tags of packs whose readings have become too old for something."""
    return tuple(f"{pack.id} {pack.stale}" for pack in session.packs if pack.stale or pack.stale_temperature)


def read_session(repository: Repository) -> Session:
    """The stored session as one core object, its sources with what they still hold."""
    name, note, choice = repository.meeting()
    values = repository.rules_values()
    packs, kit = with_like(repository.packs()), repository.kit()
    entries = repository.ledger()
    kit = replace(kit, sources=tuple(held(source, entries) for source in kit.sources))
    return Session(
        packs=packs,
        kit=kit,
        rules=part_from("rules", values) if values is not None else HouseRules(),
        wanted=repository.wishes(),
        group=_still_there(choice, packs, kit),
        name=name,
        note=note,
        starts_at=repository.starts_at(),
        pilots=repository.pilots(),
    ).at_table()


def air_on(repository: Repository, now: datetime) -> float | None:
    """Degrees of the air that were said on the day of a moment."""
    told = repository.air()
    return told[0] if told and told[1].astimezone().date() == now.astimezone().date() else None


def relearn(repository: Repository, pack_id: str) -> None:
    """What the log teaches of a pack now, kept with it. Raises NotThere."""
    since = repository.learns_from(pack_id)
    charges = repository.runs.charges(pack_id, since=since)
    pack = next(item for retired in (False, True) for item in repository.packs(retired) if item.id == pack_id)
    repository.set_learned(pack_id, learn(pack, [item.record for item in reversed(charges)]).learned)


def _still_there(choice: Choice | None, packs: Sequence[Pack], kit: Kit) -> Choice | None:
    """The last choice, unless a pack, board or channel of it is out of use by now."""
    if choice is None:
        return None
    known = {pack.id for pack in packs}
    board_there = choice.board is None or kit.board(choice.board) is not None
    channel_there = choice.channel is None or kit.channel(choice.channel) is not None
    return choice if set(choice.packs) <= known and board_there and channel_there else None


SAME_WH = 0.05
"""Closer than this, two figures for what is gone from a source are one."""


def write_session(repository: Repository, session: Session, now: datetime) -> None:
    """Save a whole session inside one transaction."""
    present = {pack.id: pack for retired in (False, True) for pack in repository.packs(retired)}
    _refuse_others(present, session.packs)
    for pack in session.packs:
        before = present.get(pack.id)
        repository.save_pack(pack, known_as=pack.id if before else None)
        repository.retire(Pack, pack.id, None)
        if not pack.chemistry.joins:
            repository.set_charged_full([pack.id], pack.charged_full)
        if pack.learned is not None and (before is None or before.learned is None):
            repository.set_learned(pack.id, pack.learned)
        if pack.reading is not None and (before is None or not _same_reading(pack.reading, before.reading)):
            # A file that holds the volts from before a charge brings nothing new.
            charged = before is not None and before.charged_at is not None
            if not charged or all(kept.reading != pack.reading for kept in repository.readings(pack.id)):
                repository.add_reading(pack.id, pack.reading, FILE, now)
    _write_pilots(repository, session.pilots)
    known = {item.id for retired in (False, True) for item in kit_items(repository.kit(retired))}
    as_it_is = {source.id: source.taken_wh for source in read_session(repository).kit.sources}
    charging = taken_while_charging(repository, now)
    for item in kit_items(session.kit):
        repository.save_kit_item(item, known_as=item.id if item.id in known else None)
        repository.retire(type(item), item.id, None)
        if isinstance(item, Source):
            # What batches in hand have taken so far is booked when they end. A file that tells nothing, or what is
            # known already, changes nothing: only "filled again" says that a source is full.
            told_wh = max(item.taken_wh - charging.get(item.id, 0.0), 0.0)
            if item.taken_wh and abs(told_wh - as_it_is.get(item.id, 0.0)) > SAME_WH:
                repository.add_entry(Entry(item.id, now, EntryKind.TOLD, told_wh, note="from a file"))
    repository.set_rules_values(rules_document(session.rules), now)
    if session.air_c is not None:
        repository.set_air(session.air_c, now)
    if session.wanted:
        repository.set_wishes(session.wanted)
        repository.set_starts_at(session.starts_at or now)
    name, note, choice = repository.meeting()
    repository.set_meeting(session.name or name, session.note or note, session.group or choice)


def _refuse_others(here: Mapping[str, Pack], packs: Sequence[Pack]) -> None:
    """Raises BadInput for packs that are another pilot's here: a tag is one pack."""
    known = ((here[pack.id].pilot, pack) for pack in packs if pack.id in here)
    others = [Fault(f"packs {pack.id}", say("is {pilot}’s here; give one of the two another tag", pilot=pilot))
              for pilot, pack in known if pilot not in (None, pack.pilot)]  # fmt: skip
    if others:
        raise BadInput(others)


def _write_pilots(repository: Repository, pilots: Sequence[Pilot]) -> None:
    at_table = {pilot.id for pilot in repository.pilots()}
    for pilot in pilots:
        repository.save_pilot(pilot, pilot.id if pilot.id in at_table else None)


def _same_reading(told: Reading, known: Reading | None) -> bool:
    """Whether a file brings nothing new; one without a time of its own says nothing of when it was read."""
    if known is None or told.taken_at is not None:
        return told == known
    return told == replace(known, taken_at=None)


def kit_items(kit: Kit) -> tuple[KitItem, ...]:
    """Every piece of kit, sources before what they feed."""
    return (*kit.sources, *kit.supplies, *kit.chargers, *kit.boards)


def _pilot_of(item: Pack | KitItem) -> str | None:
    return None if isinstance(item, Supply) else item.pilot


def by_id(items: Sequence[Any]) -> Mapping[str, Any]:
    """Things by their tag."""
    return {item.id: item for item in items}
