"""A day that was rehearsed on the whole bench, set against the plan with which it began: heat by heat, turn by turn.

Nothing is played twice: before and after each act the rest of the day is worked out as it goes if nothing else happens,
so what a heat loses is the cost of what came in between, whether something happened, somebody acted, or nobody did.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from math import inf

from iterum.core.planning.batches import later
from iterum.core.planning.history import have_flown, shifted
from iterum.core.planning.record import KeptPlan
from iterum.core.planning.rehearsed import HeatAsFlown, goes_on, never
from iterum.core.reasons import Reason, reason
from iterum.core.season.as_it_went import InHand, begun_and_waiting
from iterum.core.things.session import Session, Wish

Name = tuple[str, str | None]
"""A heat is known by its class and its name: it may slip."""


@dataclass(frozen=True)
class Standing:
    """What a day comes to if nothing else happens. made_at : when the plan in force was made. heats : as they went, or
    will, by class and name, their minutes counted from `at`. due : packs of batches that should have begun by now.
    """

    at: datetime
    made_at: datetime
    heats: Mapping[Name, HeatAsFlown]
    due: tuple[tuple[str, ...], ...]


def standing(
    latest: KeptPlan, in_hand: Sequence[InHand], session: Session, now: datetime, hurt: Mapping[str, datetime]
) -> Standing:  # fmt: skip
    """What the day comes to from now on.

    latest : the plan in force now. in_hand : every run that was not over when it was made. session : its minutes those
    of the plan. hurt : when packs were found hurt, by tag.
    """
    now_min = latest.minute(now)
    begun, waiting = begun_and_waiting(latest, in_hand, session, now)
    # A batch in hand with a hurt pack does not charge as it is: the rest of it is begun again, if the plan wants it.
    stuck = [batch for batch in begun if batch.lead_min > now_min and not hurt.keys().isdisjoint(batch.packs)]
    begun = [batch for batch in begun if batch not in stuck]
    again = {batch.charges for batch in stuck}
    waiting += [batch for batch in latest.plan.batches if batch.charges in again]
    there = {charge for batch in (*begun, *waiting) for charge in batch.charges}
    gone = never(batch for batch in latest.plan.batches if not there & set(batch.charges))
    over = [later(batch, -now_min) for batch in (*begun, *gone)]
    # What should have begun begins now at the soonest.
    ahead = [later(batch, max(-now_min, -batch.start_min)) for batch in waiting]
    flown = shifted(have_flown(session.wanted, (*latest.plan.past.flown, *latest.plan.heats), inf), now_min)
    hurt_min = {tag: latest.minute(at) - now_min for tag, at in hurt.items()}
    day = goes_on(session, over, ahead, flown, hurt_min)
    due = tuple(batch.packs for batch in waiting if batch.start_min < now_min)
    return Standing(now, latest.made_at, {_name(heat.wish): heat for heat in day.heats}, due)


@dataclass(frozen=True)
class HeatTold:
    """One heat. promised : packs that the first plan gave it; have : that were full when it began, or will be.
    planned_at, at : when it was to begin then, and when it did or does now.
    """

    wish: Wish
    promised: int
    planned_at: datetime
    at: datetime
    have: int
    over: bool

    @property
    def held(self) -> bool:
        """Whether it gets what was promised."""
        return self.have >= min(self.promised, self.wish.count)


def heats_told(first: KeptPlan, latest: KeptPlan, stands: Standing) -> tuple[HeatTold, ...]:
    """Each heat of the first plan as it went or goes, in the order of time."""
    heats = []
    for item in (item for item in first.plan.wanted if item.wish.is_heat):
        goes = stands.heats.get(_name(item.wish))
        planned_at = first.moment(item.wish.at_min)
        at = latest.moment(latest.minute(stands.at) + goes.at_min) if goes else planned_at
        heats.append(HeatTold(item.wish, item.have, planned_at, at, goes.have if goes else 0, at <= stands.at))
    return tuple(sorted(heats, key=lambda item: item.at))


@dataclass(frozen=True)
class HeatTurned:
    """A heat for which other than before will be full. was, have : packs."""

    name: str
    was: int
    have: int
    count: int


@dataclass(frozen=True)
class Turn:
    """Something that happened, or was done, or left undone, and what it makes of the heats."""

    at: datetime
    why: Reason
    heats: tuple[HeatTurned, ...]


def turned(before: Standing, after: Standing, why: Reason | None) -> Turn:
    """What lies between two looks at a day. why : what was done or happened; None where time went by."""
    changes = []
    for name in before.heats.keys() & after.heats.keys():
        was, have = before.heats[name], after.heats[name]
        if was.have != have.have:
            changes.append((have.at_min, HeatTurned(str(name[1] or name[0]), was.have, have.have, have.wish.count)))
    if after.made_at != before.made_at:
        why = reason("turn_anew")
    elif why is None:
        why = reason("turn_due", packs=after.due[0]) if after.due else reason("turn_time")
    return Turn(after.at, why, tuple(item for _, item in sorted(changes, key=lambda change: change[0])))


OF_ITSELF = ("turn_due", "turn_time")
"""What comes while nobody does anything."""


def kept(turns: Sequence[Turn], turn: Turn) -> tuple[Turn, ...]:
    """The turns so far and one more, if it made anything another; what comes of itself for one reason is one turn."""
    last = turns[-1] if turns else None
    if last is not None and last.why == turn.why and turn.why.code in OF_ITSELF:
        was = {heat.name: heat.was for heat in reversed((*last.heats, *turn.heats))}
        now = {heat.name: heat for heat in (*last.heats, *turn.heats)}
        heats = (replace(heat, was=was[name]) for name, heat in now.items())
        turn = replace(turn, heats=tuple(heat for heat in heats if heat.was != heat.have))
        turns = turns[:-1]
    return (*turns, turn) if turn.heats or turn.why.code == "turn_happened" else tuple(turns)


def _name(wish: Wish) -> Name:
    return wish.family, wish.name
