"""A day of a plan, played: it goes as planned until something happens; then the pilot goes on, or plans again.

What happens is chosen, or drawn by a seed from how the house rules say that days differ; the same seed gives the same
day. Played without anything it is the plan, to the minute. At its end it says what held, what did not, and which
disturbance and which decision cost what, each by playing the day again without it.
"""

import random
from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import islice
from math import inf

from iterum.core.planning.batches import PlannedBatch, later
from iterum.core.planning.history import Flown
from iterum.core.planning.replan import Replanner
from iterum.core.planning.rounds import ChargeKey
from iterum.core.planning.score import Prefer
from iterum.core.quantities import at_most
from iterum.core.things.packs import Condition
from iterum.core.things.session import Session, Wish

CHUNKS = 6
"""Of the search for a plan made again: counted, not timed, so that the day is the same on every machine."""
MOST = 4
"""Disturbances of one day: more than that nobody learns from."""
SLOW_HANDS, CHARGER, SWOLLEN, WEAK_SOURCE = 0.15, 0.12, 0.5, 0.3
"""Chances of a set-up that takes much longer, of a charger that backs off or falls silent, of a pack that comes back
swollen, of a source weaker than thought."""
WORSE = 3.0
"""Up to so many times what the house rules say that days differ by: a day to practise on is a bad one."""
WEAKER_PART = 0.2
"""Part of a source that is not there then. Our choice, like the chances: what is practised need not be frequent."""
KNOWN_BEFORE_MIN = 10.0
"""A heat that slips is known so long before."""


class Trouble(StrEnum):
    """What may happen on a day."""

    SLIP = "slip"
    HANDS = "hands"
    BACKS_OFF = "backs off"
    LINK = "link"
    SWOLLEN = "swollen"
    SOURCE = "source"


@dataclass(frozen=True)
class Disturbance:
    """One thing that happens. at_min : when it is known, minutes of the plan. minutes : how much later it makes a heat,
    a set-up or a charge. heat : the place of a heat in the plan; charges : of a batch, or of the one that is swollen.
    source_wh : what a source has less.
    """

    trouble: Trouble
    at_min: float
    minutes: float = 0.0
    heat: int | None = None
    charges: tuple[ChargeKey, ...] = ()
    source: str = ""
    source_wh: float = 0.0

    @property
    def packs(self) -> tuple[str, ...]:
        """The tags of its packs."""
        return tuple(charge.tag for charge in self.charges)


@dataclass(frozen=True)
class HeatAsFlown:
    """A heat as it went: when it began, and how many were full by then."""

    wish: Wish
    at_min: float
    have: int

    @property
    def whole(self) -> bool:
        """Whether all that it asked for flew."""
        return self.have >= self.wish.count


@dataclass(frozen=True)
class RehearsedDay:
    """How it went: batches with their real times, those that were never charged, and the heats."""

    batches: tuple[PlannedBatch, ...]
    dropped: tuple[PlannedBatch, ...]
    heats: tuple[HeatAsFlown, ...]

    @property
    def worth(self) -> float:
        """Worth of all that flew."""
        return sum(heat.wish.value * heat.have for heat in self.heats)

    def whole(self) -> frozenset[int]:
        """Places of the heats that flew whole."""
        return frozenset(place for place, heat in enumerate(self.heats) if heat.whole)


@dataclass(frozen=True)
class Cost:
    """What one disturbance, or the decision at it, made of the day. lost, won : places of heats that flew whole only
    without it, and only with it; worth : what flew less without it (below 0: more).
    """

    lost: frozenset[int]
    won: frozenset[int]
    worth: float


# ---------------------------------------------------------------------------------------- what happens


def drawn(
    session: Session, batches: Sequence[PlannedBatch], flown: Sequence[Flown], seed: int,
    kinds: Collection[Trouble] = tuple(Trouble),
) -> tuple[Disturbance, ...]:  # fmt: skip
    """What happens on one day, in the order of time: drawn by the house rules' spreads, at least one, at most `MOST`.

    batches, flown : of a plan, in its minutes. seed : of the chance. kinds : those that may happen.
    """
    rng, days = random.Random(seed), session.rules.days
    disturbances: list[Disturbance] = []
    for place, item in enumerate(flown):
        late_min = float(rng.randint(5, max(int(WORSE * days.slip_min), 5)))
        again = {tag for other in flown[place + 1 :] for tag in other.packs} & set(item.packs)
        if rng.random() < days.slips:
            disturbances.append(_slip(flown, place, late_min))
        if again and rng.random() < SWOLLEN / len(flown):
            disturbances.append(
                Disturbance(Trouble.SWOLLEN, item.heat.over_min, charges=(ChargeKey(rng.choice(sorted(again))),))
            )
    for batch in (batch for batch in batches if batch.lead_min > 0):
        charge_min, worse = batch.full_min - batch.lead_min, rng.uniform(1.0, WORSE)
        middle_min = round(batch.lead_min + charge_min * rng.uniform(0.2, 0.8), 1)
        if rng.random() < SLOW_HANDS:
            slow_min = round(session.rules.setup_min * worse, 1)
            disturbances.append(Disturbance(Trouble.HANDS, batch.start_min, slow_min, charges=batch.charges))
        if rng.random() < CHARGER:
            longer_min = round(charge_min * days.back_off_part * worse, 1)
            unseen_min = round(days.unnoticed_min * worse, 1)
            what = (Trouble.BACKS_OFF, longer_min) if rng.random() < 0.5 else (Trouble.LINK, unseen_min)
            disturbances.append(Disturbance(what[0], middle_min, what[1], charges=batch.charges))
    sources = [source for source in session.kit.sources if source.usable_wh is not None]
    for source in sources:
        if rng.random() < WEAK_SOURCE / len(sources):
            at_min = round(max((batch.end_min for batch in batches), default=0.0) / 3, 1)
            less_wh = round(WEAKER_PART * (source.usable_wh or 0.0), 1)
            disturbances.append(Disturbance(Trouble.SOURCE, at_min, source=source.id, source_wh=less_wh))
    disturbances = [item for item in disturbances if item.trouble in kinds]
    if not disturbances and flown and Trouble.SLIP in kinds:
        disturbances = [_slip(flown, rng.randrange(len(flown)), max(float(int(days.slip_min)), 5.0))]
    chosen = sorted(
        rng.sample(disturbances, min(MOST, len(disturbances))), key=lambda item: (item.at_min, item.trouble)
    )
    return tuple(chosen)


def _slip(flown: Sequence[Flown], place: int, late_min: float) -> Disturbance:
    known_min = max(flown[place].heat.at_min - KNOWN_BEFORE_MIN, 0.0)
    return Disturbance(Trouble.SLIP, known_min, late_min, heat=place)


# ---------------------------------------------------------------------------------------- how it goes


@dataclass
class _Day:
    """A day on its way. begun : batches that were begun before a plan was made again, with their real times; what comes
    after them is `ahead`. late : minutes that set-up and charge of a batch take longer.
    """

    session: Session
    flown: list[Flown]
    begun: list[PlannedBatch]
    ahead: list[PlannedBatch]
    slipped: dict[int, float]
    late: dict[tuple[ChargeKey, ...], tuple[float, float]]
    hurt: dict[str, float]
    less_wh: dict[str, float]

    def take(self, item: Disturbance) -> None:
        """Something has happened."""
        if item.trouble is Trouble.SLIP and item.heat is not None:
            self.slipped[item.heat] = self.slipped.get(item.heat, 0.0) + item.minutes
        elif item.trouble is Trouble.SWOLLEN:
            self.hurt[item.packs[0]] = item.at_min
        elif item.trouble is Trouble.SOURCE:
            self.less_wh[item.source] = self.less_wh.get(item.source, 0.0) + item.source_wh
        else:
            setup_min, charge_min = self.late.get(item.charges, (0.0, 0.0))
            by_hand = item.trouble is Trouble.HANDS
            self.late[item.charges] = (
                (setup_min + item.minutes, charge_min) if by_hand else (setup_min, charge_min + item.minutes)
            )

    def heats(self) -> list[Flown]:
        """The heats at their real times, in the places they have in the plan."""
        return [
            Flown(replace(item.heat, at_min=item.heat.at_min + self.slipped.get(place, 0.0)), item.packs)
            for place, item in enumerate(self.flown)
        ]

    def goes(self) -> RehearsedDay:
        """How it goes when nothing else happens and nobody plans again."""
        free: dict[tuple[str, str], float] = {}
        used_wh: dict[str, float] = defaultdict(float)
        usable = {source.id: source.usable_wh for source in self.session.kit.sources}
        hands_min, heats = 0.0, self.heats()
        went, dropped = list(self.begun), []
        for batch in went:
            _hold(free, batch)
            used_wh[batch.source or ""] += batch.energy_in_wh
        for batch in sorted(self.ahead, key=lambda item: item.start_min):
            mine = self._sound(batch)
            left_wh = usable.get(batch.source or "")
            short = left_wh is not None and not at_most(
                used_wh[batch.source or ""] + batch.energy_in_wh, left_wh - self.less_wh.get(batch.source or "", 0.0)
            )
            if mine is None or short:
                dropped.append(batch)
                continue
            late_min = self.late.get(batch.charges, (0.0, 0.0))
            real = _timed(mine, late_min, free, max(hands_min, _back(mine, heats)))
            hands_min = max(hands_min, real.lead_min)
            used_wh[batch.source or ""] += batch.energy_in_wh
            _hold(free, real)
            went.append(real)
        return RehearsedDay(tuple(went), tuple(dropped), tuple(as_flown(heats, [*went, *never(dropped)], self.hurt)))

    def _sound(self, batch: PlannedBatch) -> PlannedBatch | None:
        """The batch without packs that are hurt by then; None where nothing is left of it."""
        if batch.lead_min <= 0:
            return batch
        sound = tuple(key for key in batch.charges if self.hurt.get(key.tag, batch.start_min) >= batch.start_min)
        return replace(batch, charges=sound) if sound else None

    def plan_anew(self, now_min: float, prefer: Prefer) -> None:
        """Leave what has begun, and plan what is to come from what is true now."""
        went = self.goes().batches
        hurt = {tag for tag, at_min in self.hurt.items() if at_min <= now_min}
        packs = tuple(
            replace(pack, condition=Condition.DAMAGED) if pack.id in hurt else pack for pack in self.session.packs
        )
        sources = tuple(
            replace(source, taken_wh=source.taken_wh + self.less_wh.get(source.id, 0.0))
            for source in self.session.kit.sources
        )
        heats = self.heats()
        wanted = tuple(item.heat for item in heats)
        others = tuple(wish for wish in self.session.wanted if not wish.is_heat)
        session = replace(
            self.session, packs=packs, kit=replace(self.session.kit, sources=sources), wanted=(*wanted, *others)
        )
        planner = Replanner(session, went, now_min, prefer, flown=heats)
        for _ in islice(planner.improve(), CHUNKS):
            pass
        plan = planner.plan()
        self.begun = [batch for batch in went if batch.lead_min <= now_min]
        self.ahead = [later(batch, now_min) for batch in plan.batches if batch.lead_min > 0]
        told = {(item.wish.family, item.wish.name, round(item.wish.at_min + now_min, 3)): item.packs
                for item in plan.wanted if item.wish.is_heat}  # fmt: skip
        self.flown = [
            Flown(item.heat, told.get((real.heat.family, real.heat.name, round(real.heat.at_min, 3)), item.packs))
            if real.heat.at_min > now_min else item
            for item, real in zip(self.flown, heats, strict=True)
        ]  # fmt: skip
        self.late = {key: value for key, value in self.late.items() if any(b.charges == key for b in self.ahead)}


def _timed(
    batch: PlannedBatch, late_min: tuple[float, float], free: Mapping[tuple[str, str], float], from_min: float
) -> PlannedBatch:
    """The batch as it goes: as soon as all that it needs is there, its set-up and charge so much longer."""
    if batch.lead_min <= 0:  # it charges already
        return batch
    setup_min, charge_min = late_min
    waits = (free.get(("channel", batch.channel), 0.0), free.get(("board", batch.board or ""), 0.0))
    moved = later(batch, max(batch.start_min, from_min, *waits) - batch.start_min)
    return replace(moved, lead_min=moved.lead_min + setup_min, full_min=moved.full_min + setup_min + charge_min,
                   end_min=moved.end_min + setup_min + charge_min)  # fmt: skip


def _hold(free: dict[tuple[str, str], float], batch: PlannedBatch) -> None:
    free["channel", batch.channel] = max(free.get(("channel", batch.channel), 0.0), batch.end_min)
    if batch.board is not None:
        free["board", batch.board] = max(free.get(("board", batch.board), 0.0), batch.end_min)


def _back(batch: PlannedBatch, heats: Sequence[Flown]) -> float:
    """When the packs of a batch that have flown before it are back and rested."""
    back_min = 0.0
    for tag, number in batch.charges:
        before = [item.heat for item in heats if tag in item.packs][: number - 1]
        if before:
            back_min = max(back_min, before[-1].over_min + before[-1].rest_min)
    return back_min


def never(batches: Iterable[PlannedBatch]) -> list[PlannedBatch]:
    """Batches whose packs do not get full: they were stopped, or never begun, and hold and take nothing any more."""
    return [replace(batch, lead_min=-inf, full_min=inf, end_min=-inf, energy_in_wh=0.0) for batch in batches]


def as_flown(heats: Sequence[Flown], went: Sequence[PlannedBatch], hurt: Mapping[str, float]) -> list[HeatAsFlown]:
    """Who was full in time, heat by heat. went : batches as they really went. hurt : minutes, by tag."""
    full_min = {key: batch.full_min for batch in went for key in batch.charges}
    times: Counter[str] = Counter()
    flown = []
    for item in heats:
        have = 0
        for tag in item.packs:
            times[tag] += 1
            key = ChargeKey(tag, times[tag])
            ends = [full_min[key]] if key in full_min else []
            sound = hurt.get(tag, item.heat.at_min) >= item.heat.at_min
            have += sound and all(at_most(at, item.heat.at_min) for at in ends) and (times[tag] == 1 or bool(ends))
        flown.append(HeatAsFlown(item.heat, item.heat.at_min, have))
    return flown


def played(
    session: Session, batches: Sequence[PlannedBatch], flown: Sequence[Flown], happens: Sequence[Disturbance],
    anew: Collection[int] = (), prefer: Prefer = Prefer.SOONEST,
) -> RehearsedDay:  # fmt: skip
    """The day as it goes with all that happens.

    session : as it was when the plan was made, its minutes those of the plan. anew : places in `happens` at which the
    pilot plans anew; at the others he goes on.
    """
    day = _Day(session, list(flown), [], list(batches), {}, {}, {}, {})
    for place, item in enumerate(happens):
        day.take(item)
        if place in anew:
            day.plan_anew(item.at_min, prefer)
    return day.goes()


def goes_on(
    session: Session, begun: Sequence[PlannedBatch], ahead: Sequence[PlannedBatch], flown: Sequence[Flown],
    hurt: Mapping[str, float],
) -> RehearsedDay:  # fmt: skip
    """How a day that is on its way goes if nothing else happens and nobody plans again.

    begun : batches with their real times, those that never get full at no end. ahead : those to come. flown : all heats
    of the day. hurt : minutes at which packs were found hurt, by tag. All in minutes from now.
    """
    return _Day(session, list(flown), list(begun), list(ahead), {}, {}, dict(hurt), {}).goes()


def costs(
    session: Session, batches: Sequence[PlannedBatch], flown: Sequence[Flown], happens: Sequence[Disturbance],
    anew: Collection[int] = (), prefer: Prefer = Prefer.SOONEST,
) -> tuple[tuple[Cost, Cost], ...]:  # fmt: skip
    """For each disturbance what it cost, and what the decision at it cost against the other one.

    anew : places in `happens` at which the pilot planned anew.
    """
    day = played(session, batches, flown, happens, anew, prefer)
    accounts = []
    for place in range(len(happens)):
        others = [item for at, item in enumerate(happens) if at != place]
        moved = {at - (at > place) for at in anew if at != place}
        without = played(session, batches, flown, others, moved, prefer)
        other = played(session, batches, flown, happens, set(anew) ^ {place}, prefer)
        accounts.append((_cost(day, without), _cost(day, other)))
    return tuple(accounts)


def _cost(day: RehearsedDay, other: RehearsedDay) -> Cost:
    return Cost(other.whole() - day.whole(), day.whole() - other.whole(), other.worth - day.worth)
