"""The session: packs, kit, rules and wishes of one evening."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cached_property
from typing import Annotated

from annotated_types import Ge, Gt, Le, Len

from iterum.core.fields import Checked, Name, Named, Says
from iterum.core.things.bench import Bench, Running
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Kit
from iterum.core.things.packs import Pack
from iterum.core.things.pilots import NO_TERMS, Pilot, terms_of
from iterum.core.things.rules import HouseRules

REST_MIN = 15.0
"""Minutes a flown pack rests and cools before its volts mean anything. Common practice, no source: 10-15."""
SPARE_WORTH = 0.25
"""What a spare is worth against a pack that flies. Our choice."""
MOST_AHEAD_MIN = 1100 * 24 * 60.0
"""Three years: whatever is wanted later is a slip, and only costs time to plan."""
LEFT_FRACTION = 0.2
"""What a pack must still hold after a flight that it was not filled for. Common practice: the 80 % rule."""
USED_FRACTION = 0.8
"""Part of its capacity that a pack comes back without: the 80% rule's limit, so its charge is rather too long."""


@dataclass(frozen=True)
class Wish(Checked):
    """So many packs of a class, full, by a minute counted from the session's start.

    fly_min : how long they are away; given, the wish is a heat: its packs come back low and go round again, and
    nobody is at the bench meanwhile. rest_min, used_fraction : how they come back. value : what one pack of it is
    worth against one of another, where not all can be had.
    """

    count: Annotated[int, Ge(1), Le(500), Says("Packs")]
    family: Annotated[str, Len(0, 20), Says("Class", help="A class such as lipo-4S.")]
    at_min: Annotated[float, Le(MOST_AHEAD_MIN), Says("Minutes from now", "min")]
    name: Name = None
    fly_min: Annotated[
        float | None,
        Gt(0),
        Le(600),
        Says("Away", "min", help="Given, this is a heat: its packs are flown for so long and come back low."),
    ] = None
    rest_min: Annotated[
        float,
        Ge(0),
        Le(600),
        Says("Rest after", "min", help="Minutes a flown pack rests and cools before it is measured again."),
    ] = REST_MIN
    used_fraction: Annotated[
        float, Gt(0), Le(1), Says("Used in a flight", help="Part of its capacity that a pack comes back without.")
    ] = USED_FRACTION
    value: Annotated[
        float,
        Gt(0),
        Le(1000),
        Says("Worth", help="What a pack of it is worth against others, where not all can be had."),
    ] = 1.0

    need_fraction: Annotated[
        float | None,
        Gt(0),
        Le(1),
        Says(
            "Needed for the flight",
            help="How full a pack must be; empty: full. At least what the flight uses and 0.2 more.",
        ),
    ] = None

    pilot: Annotated[Named, Says("Pilot", help="Who flies it, with packs of their own.")] = None
    final: Annotated[bool, Says("Final", help="Comes first where the rule of the table says so.")] = False
    spare: Annotated[
        int | None, Ge(0), Le(100), Says("Spares", help="Spare packs of the class, full by then, that do not fly.")
    ] = None

    @property
    def with_spares(self) -> tuple["Wish", ...]:
        """The wish, and its spares as a wish of their own that is worth less."""
        if not self.spare:
            return (self,)
        called = f"{self.name}, spare" if self.name else "Spare"
        spares = replace(self, count=self.spare, name=called, fly_min=None, value=SPARE_WORTH * self.value, spare=None)
        return replace(self, spare=None), spares

    @property
    def need(self) -> float:
        """How full a pack must be for it, 0..1."""
        return 1.0 if self.need_fraction is None else self.need_fraction

    @property
    def is_heat(self) -> bool:
        """Whether its packs are flown and come back."""
        return self.fly_min is not None

    @property
    def over_min(self) -> float:
        """When it is over: they have landed, or, for packs that only wait, the moment itself."""
        return self.at_min + (self.fly_min or 0.0)


@dataclass(frozen=True)
class Session:
    """Everything one session file says. starts_at : the time of day of minute 0, where it is known. air_c : degrees
    of the air today, None where nobody said.

    running : what is in hand now; its packs, board, channel, watts and watt-hours are taken.
    """

    packs: tuple[Pack, ...] = ()
    kit: Kit = field(default_factory=Kit)
    rules: HouseRules = field(default_factory=HouseRules)
    wanted: tuple[Wish, ...] = ()
    pilots: tuple[Pilot, ...] = ()
    group: Choice | None = None
    running: tuple[Running, ...] = ()
    name: str | None = None
    note: str | None = None
    starts_at: datetime | None = None
    air_c: float | None = None
    had_wh: Mapping[tuple[str, str], float] = field(default_factory=dict, hash=False)
    """By source and pilot, Wh that were taken today for packs of theirs."""

    def in_air(self, air_c: float | None) -> "Session":
        """The same session with its packs in this air.

        air_c : degrees Celsius, None where nobody said.
        """
        if air_c is None:
            return self
        return replace(self, air_c=air_c, packs=tuple(replace(pack, air_c=air_c) for pack in self.packs))

    def at_table(self) -> "Session":
        """The same session, each pack on the terms of its pilot."""
        terms = terms_of(self.pilots, self.rules.table)
        on_terms = ((pack, terms.get(pack.pilot or "", NO_TERMS)) for pack in self.packs)
        packs = tuple(pack if pack.terms == told else replace(pack, terms=told) for pack, told in on_terms)
        return self if packs == self.packs else replace(self, packs=packs)

    @property
    def here(self) -> tuple[Pilot, ...]:
        """Pilots who have not gone home."""
        return tuple(pilot for pilot in self.pilots if not pilot.gone)

    def at(self, now: datetime) -> "Session":
        """The same session with its readings judged by their age.

        now : the present.
        """
        packs = tuple(pack.at(now) for pack in self.packs)
        return self if packs == self.packs else replace(self, packs=packs)

    @cached_property
    def bench(self) -> Bench:
        """The bench as this session says it is."""
        return Bench(self.packs, self.kit, self.rules, self.running)

    def without(self, batches: Sequence[Running]) -> "Session":
        """The same session without what is in hand in these, their boards included: nothing else can be on them yet."""
        kit = self.kit
        boards = {part for batch in batches for board in [kit.board(batch.board)] if board for part in board.part_ids}
        kept = tuple(board for board in kit.boards if board.id not in boards)
        tags = {tag for batch in batches for tag in batch.packs}
        return replace(
            self,
            packs=tuple(pack for pack in self.packs if pack.id not in tags),
            kit=replace(kit, boards=kept),
            running=tuple(batch for batch in self.running if batch not in batches),
        )

    def seen_from(self, moment: datetime) -> "Session":
        """The same session with its minutes counted from another moment; what is over by then is left out."""
        if self.starts_at is None:
            return replace(self, starts_at=moment)
        return self.later((moment - self.starts_at) / timedelta(minutes=1))

    def counted_from(self, moment: datetime) -> "Session":
        """The same session with the minutes of its wishes counted from another moment; nothing is left out.

        moment : with its zone. Without a moment of its own the session begins then.
        """
        passed_min = 0.0 if self.starts_at is None else (moment - self.starts_at) / timedelta(minutes=1)
        wanted = tuple(replace(wish, at_min=wish.at_min - passed_min) for wish in self.wanted)
        return replace(self, starts_at=moment, wanted=wanted)

    def later(self, passed_min: float) -> "Session":
        """The same session when so many minutes have passed; wishes that are over by then are left out.

        passed_min : minutes, 0 or more.
        """
        wanted = (replace(wish, at_min=wish.at_min - passed_min) for wish in self.wanted)
        starts_at = self.starts_at and self.starts_at + timedelta(minutes=passed_min)
        gone = [min(passed_min / batch.minutes_left, 1.0) if batch.minutes_left > 0 else 1.0 for batch in self.running]
        running = (
            replace(
                batch, minutes_left=batch.minutes_left - passed_min, energy_left_wh=batch.energy_left_wh * (1 - part)
            )
            for batch, part in zip(self.running, gone, strict=True)
        )
        return replace(
            self,
            starts_at=starts_at,
            kit=self.bench.kit_after(passed_min),
            wanted=tuple(wish for wish in wanted if wish.over_min > 0),
            running=tuple(batch for batch in running if batch.minutes_left > 0),
        )
