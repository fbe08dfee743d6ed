"""What the page of a rehearsed day shows: how far it has come, what has happened, what can be done, and the account."""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.planning.plan import WishOutcome
from iterum.core.planning.record import KeptPlan
from iterum.core.planning.rehearsed import Cost, Disturbance, RehearsedDay, Trouble, costs, drawn, played
from iterum.core.planning.score import Prefer
from iterum.core.things.session import Session
from iterum.web.pictures import day_strip
from iterum.web.plan.views import named_of
from iterum.web.words import few_tags

GO_ON, ANEW = "g", "a"
"""The decisions as an address holds them, a letter each."""
CHOICES = {
    Trouble.SLIP: "a heat slips",
    Trouble.HANDS: "slow hands",
    Trouble.BACKS_OFF: "a charger gives fewer amps",
    Trouble.LINK: "a charge stands still unseen",
    Trouble.SWOLLEN: "a pack comes back swollen",
    Trouble.SOURCE: "a source is weaker than thought",
}


@dataclass(frozen=True)
class Happened:
    """One disturbance in words, when it is known, the decision at it, and at the end what both cost."""

    at: datetime
    words: str
    decision: str
    cost: tuple[str, str] | None = None


@dataclass(frozen=True)
class DayPage:
    """The day up to where it stands. ahead : what has just happened and waits for a decision; None at its end."""

    seed: int
    acts: str
    kinds: tuple[str, ...]
    day: RehearsedDay
    heats: tuple[tuple[str, int, int, bool, datetime], ...]
    picture: day_strip.DayStrip | None
    small: day_strip.DayStrip | None
    from_x: float | None
    now: datetime | None
    happened: tuple[Happened, ...]
    ahead: Happened | None
    as_planned: bool


def day_page(kept: KeptPlan, session: Session, seed: int, kinds: Collection[Trouble], acts: str,
             remember: Callable[[Callable[[], tuple[tuple[Cost, Cost], ...]]], tuple[tuple[Cost, Cost], ...]],
             ) -> DayPage:  # fmt: skip
    """Everything the page shows. acts : the decisions so far. remember : keeps what took long between two looks."""
    plan, heats = kept.plan, kept.plan.heats
    batches, prefer = plan.batches, Prefer(kept.prefer)
    happens = drawn(session, batches, heats, seed, kinds)
    acts = "".join(letter for letter in acts if letter in (GO_ON, ANEW))[: len(happens)]
    anew = frozenset(place for place, letter in enumerate(acts) if letter == ANEW)
    known = happens[: len(acts) + 1]
    day = played(session, batches, heats, known, anew, prefer)
    ends = len(acts) == len(happens)
    told = remember(lambda: costs(session, batches, heats, happens, anew, prefer)) if ends and happens else ()
    names = [item.heat.name or f"heat {number}" for number, item in enumerate(heats, 1)]
    words = _Words(kept, session, names)
    happened = tuple(
        Happened(kept.moment(item.at_min), words.of(item), "planned anew" if place in anew else "went on",
                 words.costs(told[place], place in anew) if told else None)
        for place, item in enumerate(happens[: len(acts)])
    )  # fmt: skip
    ahead = None if ends else Happened(kept.moment(known[-1].at_min), words.of(known[-1]), "")
    now_min = plan.makespan_min + 1 if ends else known[-1].at_min
    shown = replace(plan, batches=day.batches, wanted=_as_flown(plan.wanted, day), reasons=())
    named = named_of(session)
    pictures = [
        day_strip.draw(shown, kept.made_at, named, now_min, shape) for shape in (day_strip.WIDE, day_strip.NARROW)
    ]
    before_min = known[len(acts) - 1].at_min if acts and not ends else 0.0
    wide = pictures[0]
    from_x = None
    if wide is not None and wide.now_x is not None:
        from_x = wide.now_x - (now_min - before_min) * wide.px_a_min
    return DayPage(
        seed=seed,
        acts=acts,
        kinds=tuple(kind.value for kind in kinds),
        day=day,
        heats=tuple((name, heat.have, heat.wish.count, heat.whole, kept.moment(heat.at_min))
                    for name, heat in zip(names, day.heats, strict=True)),
        picture=wide,
        small=pictures[1],
        from_x=from_x,
        now=None if ends else kept.moment(now_min),
        happened=happened,
        ahead=ahead,
        as_planned=not happens,
    )  # fmt: skip


def _as_flown(wanted: tuple[WishOutcome, ...], day: RehearsedDay) -> tuple[WishOutcome, ...]:
    """What became of the wishes, the heats as they went."""
    went = iter(day.heats)
    flown = []
    for item in wanted:
        heat = next(went) if item.wish.is_heat else None
        flown.append(replace(item, wish=heat.wish, met=heat.whole, have=heat.have) if heat else item)
    return tuple(flown)


class _Words:
    """What happened and what it cost, in words."""

    def __init__(self, kept: KeptPlan, session: Session, names: list[str]) -> None:
        self.kept, self.names = kept, names
        self.sources = {source.id: source.name or source.id for source in session.kit.sources}

    def of(self, item: Disturbance) -> str:
        """One disturbance."""
        tags = few_tags(item.packs)
        source = self.sources.get(item.source, item.source)
        if item.trouble is Trouble.SLIP and item.heat is not None:
            return f"{self.names[item.heat]} starts {item.minutes:.0f} min later."
        return {
            Trouble.HANDS: f"Setting up {tags} takes {item.minutes:.0f} min longer.",
            Trouble.BACKS_OFF: f"The charger gives {tags} fewer amps: {item.minutes:.0f} min longer.",
            Trouble.LINK: f"The charge of {tags} stood still, unseen for {item.minutes:.0f} min.",
            Trouble.SWOLLEN: f"{tags} comes back swollen: outside, apart, not charged and not flown again.",
            Trouble.SOURCE: f"{source} holds {item.source_wh:.0f} Wh less than thought.",
        }[item.trouble]

    def costs(self, told: tuple[Cost, Cost], anew: bool) -> tuple[str, str]:
        """What a disturbance cost, and what the decision at it did."""
        itself, decision = told
        without = f"It cost {self._heats(itself.lost)}." if itself.lost else "It cost no heat."
        chose, other = ("Planning anew", "going on") if anew else ("Going on", "planning anew")
        if decision.won and not decision.lost:
            return without, f"{chose} kept {self._heats(decision.won)}."
        if decision.lost and not decision.won:
            return without, f"{chose} cost {self._heats(decision.lost)}: {other} would have kept it."
        if decision.lost:
            return without, f"{chose} kept {self._heats(decision.won)} and cost {self._heats(decision.lost)}."
        packs = round(abs(decision.worth), 1)
        if packs:
            return without, f"{chose} was {'worse' if decision.worth > 0 else 'better'}: {other} flies other packs."
        return without, f"{chose} or {other}: the same heats."

    def _heats(self, places: Collection[int]) -> str:
        return ", ".join(self.names[place] for place in sorted(places))
