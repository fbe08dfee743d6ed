"""What a plan is made of: channels as machines, what a batch costs there, and batches with their times."""

from dataclasses import dataclass, replace
from functools import cached_property

from iterum.core.planning.rounds import ChargeKey
from iterum.core.things.bench import Running
from iterum.core.things.choice import Choice
from iterum.core.things.feed import Feed
from iterum.core.things.kit import Channel
from iterum.core.things.session import Session
from iterum.core.things.setup import total_ah


@dataclass(frozen=True)
class Machine:
    """One channel with what feeds it. `uses` are (resource, W of it for each W at the packs)."""

    index: int
    channel: Channel
    feed: Feed
    uses: tuple[tuple[str, float], ...]

    @cached_property
    def source_id(self) -> str | None:
        """The source behind it, None for mains without end."""
        return self.feed.source.id if self.feed.source else None

    @cached_property
    def from_source(self) -> float:
        """The part of what its source gives that reaches the packs."""
        return self.feed.efficiency_from_source


ESTIMATED_PART = 0.95
"""Part of a day that an estimated charge may take: the full model must not find that it takes more than all of it."""


@dataclass(frozen=True)
class Costs:
    """What one set of packs costs on one board and channel at one rate.

    wait_min : evening out before charging. full_min : from the start of charging until full; minutes : the balancing
    allowance included. power_w : the most at the packs. energy_wh : into the packs. low_min, high_min : the band of
    `full_min`, and ways_min it in every way that the packs may be, rising, where the full model was asked.
    """

    current_a: float
    rate_c: float
    wait_min: float
    full_min: float
    minutes: float
    power_w: float
    energy_wh: float
    low_min: float | None = None
    high_min: float | None = None
    ways_min: tuple[float, ...] = ()


@dataclass(frozen=True)
class PlannedBatch:
    """One batch of a plan. `charges` in the order to plug their packs in; times in minutes from now.

    start_min : the person begins to set it up. lead_min : charging begins, the packs having evened out. full_min : the
    amps have fallen to a tenth. end_min : balanced as well, or taken off for a heat. power_w : the most at the packs.
    energy_in_wh, power_in_w : at the source.
    """

    charges: tuple[ChargeKey, ...]
    family: str
    board: str | None
    channel: str
    source: str | None
    current_a: float
    rate_c: float
    start_min: float
    lead_min: float
    full_min: float
    end_min: float
    power_w: float
    energy_in_wh: float
    power_in_w: float
    locked: bool = False
    """Kept where it is by the pilot, whatever is planned again."""
    until_fraction: float = 1.0
    end_v: float | None = None
    """How full its packs are to be, and the V per cell at which its charge ends where that is less than full."""
    charge_mah: float | None = None
    """mAh that go in, the likeliest; None in a plan from before that was kept."""
    early_min: float | None = None
    late_min: float | None = None
    """When it may be full at the soonest and at the latest: no more than one way in twenty is outside at either end."""
    ways_min: tuple[float, ...] = ()
    """Minutes of its charge in every way that its packs may be, rising; none where the full model was not asked."""

    @property
    def choice(self) -> Choice:
        """What a pilot chooses who follows the plan: its packs, place, amps and end volts."""
        return Choice(self.packs, self.board, self.channel, current_a=self.current_a, end_v=self.end_v)

    @property
    def packs(self) -> tuple[str, ...]:
        """The tags of its packs in the order to plug them in, whichever round they are in."""
        return tuple([charge.tag for charge in self.charges])

    @property
    def rounds(self) -> tuple[int, ...]:
        """The round of each pack: 1 for its first charge of the day."""
        return tuple([charge.round for charge in self.charges])


def later(batch: PlannedBatch, by_min: float) -> PlannedBatch:
    """The same batch so many minutes later.

    by_min : minutes, negative for sooner.
    """
    return replace(
        batch,
        start_min=batch.start_min + by_min,
        lead_min=batch.lead_min + by_min,
        full_min=batch.full_min + by_min,
        end_min=batch.end_min + by_min,
        early_min=None if batch.early_min is None else batch.early_min + by_min,
        late_min=None if batch.late_min is None else batch.late_min + by_min,
    )


def batch_in_hand(running: Running, session: Session) -> PlannedBatch:
    """A batch that is charging as a plan sees it: begun, and taking what it takes until its end."""
    bench = session.bench
    setup = bench.setup(running.board, running.channel)
    part = setup.feed.efficiency_from_source
    packs = bench.members(running.packs)
    left_min = max(running.minutes_left, EPSILON_MIN)
    return PlannedBatch(
        charges=tuple(map(ChargeKey, running.packs)),
        family=packs[0].family,
        board=running.board,
        channel=running.channel,
        source=setup.feed.source.id if setup.feed.source else None,
        current_a=running.current_a,
        rate_c=running.current_a / total_ah(packs),
        start_min=-2 * EPSILON_MIN,
        lead_min=-EPSILON_MIN,
        full_min=left_min,
        end_min=left_min,
        power_w=running.power_w,
        energy_in_wh=running.energy_left_wh / part,
        power_in_w=running.power_w / part,
    )


EPSILON_MIN = 0.01
"""A moment ago."""
