"""What the page of a rehearsed day shows: how far it has come, what has happened, what can be done, and the account."""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.planning.plan import WishOutcome
from iterum.core.planning.record import KeptPlan
from iterum.core.planning.rehearsed import Cost, Disturbance, RehearsedDay, Trouble, costs, drawn, played
from iterum.core.planning.score import Prefer
from iterum.core.say import Words, say
from iterum.core.things.session import Session
from iterum.web.pictures import day_strip
from iterum.web.plan.views import named_of
from iterum.web.words import few_tags

GO_ON, ANEW = "g", "a"
"""The decisions as an address holds them, a letter each."""
DECIDED = Words("You went on."), Words("You planned again.")
KEPT = Words("Going on kept {won}."), Words("Planning again kept {won}.")
COST = (
    Words("Going on cost {lost}: planning again would have kept it."),
    Words("Planning again cost {lost}: going on would have kept it."),
)
KEPT_AND_COST = Words("Going on kept {won} and cost {lost}."), Words("Planning again kept {won} and cost {lost}.")
WORSE = (
    Words("Going on was worse: planning again flies other packs."),
    Words("Planning again was worse: going on flies other packs."),
)
BETTER = (
    Words("Going on was better: planning again flies other packs."),
    Words("Planning again was better: going on flies other packs."),
)
ALL_ONE = Words("Going on or planning again: the same heats."), Words("Planning again or going on: the same heats.")
"""What is said of a decision: to go on, and to plan again."""
CHOICES = {
    Trouble.SLIP: Words("a heat slips"),
    Trouble.HANDS: Words("slow set-up"),
    Trouble.BACKS_OFF: Words("a charger gives fewer amps"),
    Trouble.LINK: Words("a charge stands still unseen"),
    Trouble.SWOLLEN: Words("a pack comes back swollen"),
    Trouble.SOURCE: Words("a source is weaker than thought"),
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
    names = [item.heat.name or say("heat {number}", number=number) for number, item in enumerate(heats, 1)]
    words = _Words(kept, session, names)
    happened = tuple(
        Happened(kept.moment(item.at_min), words.of(item), say(DECIDED[place in anew]),
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
            return say("{names} starts {minutes:.0f} min later.", names=self.names[item.heat], minutes=item.minutes)
        return {
            Trouble.HANDS: say("Setting up {tags} takes {minutes:.0f} min longer.", tags=tags, minutes=item.minutes),
            Trouble.BACKS_OFF: say(
                "The charger gives {tags} fewer amps: {minutes:.0f} min longer.", tags=tags, minutes=item.minutes
            ),
            Trouble.LINK: say(
                "The charge of {tags} stood still, unseen for {minutes:.0f} min.", tags=tags, minutes=item.minutes
            ),
            Trouble.SWOLLEN: say(
                "{tags} comes back swollen: outside, apart, not charged and not flown again.", tags=tags
            ),
            Trouble.SOURCE: say(
                "{source} holds {source_wh:.0f} Wh less than thought.", source=source, source_wh=item.source_wh
            ),
        }[item.trouble]

    def costs(self, told: tuple[Cost, Cost], anew: bool) -> tuple[str, str]:
        """What a disturbance cost, and what the decision at it did."""
        itself, decision = told
        without = say("It cost {heats}.", heats=self._heats(itself.lost)) if itself.lost else say("It cost no heat.")
        won, lost = self._heats(decision.won), self._heats(decision.lost)
        packs = round(decision.worth, 1)
        if won and lost:
            said = KEPT_AND_COST
        elif won or lost:
            said = KEPT if won else COST
        elif packs:
            said = WORSE if packs > 0 else BETTER
        else:
            said = ALL_ONE
        return without, say(said[anew], won=won, lost=lost)

    def _heats(self, places: Collection[int]) -> str:
        return ", ".join(self.names[place] for place in sorted(places))
