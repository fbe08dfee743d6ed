"""Putting away: which packs go up or down to storage voltage, on which board and channel, how long, and done by when.

Each cell is judged. A pack is discharged until its lowest cell is there; one whose cells are on both sides is balanced.

A plan like any other: the same chain, watts, minimum currents, boards, hands and running batches hold. Up goes on
boards, at 1C or less. Down takes no watts from the chain, but its amps are few, so a pack that must come down blocks a
channel for hours; flying it, or charging another pack from it, is often sooner.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from itertools import islice

from iterum.core.amps.limits import setup_faults, smallest_a
from iterum.core.groups.group import figures
from iterum.core.permit.facts import Act
from iterum.core.permit.permit import Way, permits, storage_way
from iterum.core.planning.batches import Costs, PlannedBatch
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, reason
from iterum.core.season.records import KeptReading
from iterum.core.season.upkeep import BALANCE_A, down_amps, down_limits
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.kit import Charger
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.core.things.setup import total_ah

EFFICIENCY = 0.85
"""Of the Wh that leave a pack, what reaches another through a charger. Common practice, no source: 80-90 %."""
LEAST_PAIR_WH = 1.0
"""Less than this is not worth the plugging."""
UP_RATE_C = 1.0
"""Nobody is in a hurry to put away."""
SEARCH_CHUNKS = 4


@dataclass(frozen=True)
class Gap:
    """How far a pack is from storage volts. move_mah, move_wh : positive both ways. target_v : per cell."""

    pack: Pack
    way: Way
    target_v: float
    move_mah: float
    move_wh: float


@dataclass(frozen=True)
class StorageBatch:
    """Packs that go one way together. choice : what to take in hand, as a charge or to be brought down."""

    way: Way
    target_v: float
    gaps: tuple[Gap, ...]
    batch: PlannedBatch
    choice: Choice

    @property
    def kind(self) -> Kind:
        """What it is taken in hand as."""
        return {Way.UP: Kind.CHARGE, Way.DOWN: Kind.DOWN}.get(self.way, Kind.BALANCE)


@dataclass(frozen=True)
class Pair:
    """A pack that must come down could charge one that must go up, through a charger that takes its volts."""

    giver: Pack
    taker: Pack
    charger: str
    move_wh: float


@dataclass(frozen=True)
class PutAway:
    """The whole plan. unplaced : packs that nothing can bring there, with the reason."""

    gaps: tuple[Gap, ...]
    batches: tuple[StorageBatch, ...]
    pairs: tuple[Pair, ...]
    unplaced: tuple[tuple[Gap, Reason], ...]

    @property
    def done_min(self) -> float:
        """When the last one is there."""
        return max((item.batch.full_min for item in self.batches), default=0.0)


def gap_of(pack: Pack, rules: HouseRules) -> Gap | None:
    """How far a measured pack is from storage; None where volts do not tell or there is no reading."""
    table, reading, way = pack.table, pack.reading, storage_way(pack, rules)
    if table is None or reading is None or way is None:
        return None
    target_v = rules.storage_of(pack.chemistry)
    cells_v = reading.cell_v or (reading.pack_v / pack.cells,)
    ends_v = {  # down as far as the lowest cell allows; balanced until the highest is where the lowest is
        Way.UP: (sum(cells_v) / len(cells_v), target_v),
        Way.DOWN: (target_v, max(min(cells_v), target_v)),
        Way.BALANCE: (min(cells_v), max(cells_v)),
    }.get(way, (target_v, target_v))
    low, high = sorted(map(table.soc, ends_v))
    steps = 20
    mean_v = sum(table.rest_v(low + (high - low) * (step + 0.5) / steps) for step in range(steps)) / steps
    ah = (high - low) * pack.capacity_ah
    return Gap(pack, way, target_v, 1000 * ah, ah * mean_v * pack.cells)


class StorageProblem(Problem):
    """What is to be moved to storage volts as a plan's problem: packs that go up, and packs that come down."""

    def __init__(self, session: Session, todo: Sequence[Gap]) -> None:
        super().__init__(session)
        self.gaps = {gap.pack.id: gap for gap in todo}

    @cached_property
    def packs(self) -> tuple[Pack, ...]:
        """Those that must move, by way, family and rising volts."""
        return tuple(
            gap.pack
            for gap in sorted(self.gaps.values(), key=lambda gap: (gap.way, gap.pack.family, figures(gap.pack)))
        )

    def _way(self, index: int) -> Way:
        return self.gaps[self.packs[index].id].way

    @cached_property
    def families(self) -> dict[str, tuple[int, ...]]:
        """Indices of `packs` by family and way: one never shares a board with one that goes the other way."""
        families: dict[str, list[int]] = {}
        for index, pack in enumerate(self.packs):
            families.setdefault(f"{pack.family} {self._way(index)}", []).append(index)
        return {name: tuple(members) for name, members in families.items()}

    def _judge(self, key: tuple[int, ...]) -> bool:
        ways = {self._way(index) for index in key}
        return len(ways) == 1 and (len(key) == 1 or Way.BALANCE not in ways) and super()._judge(key)

    def _reckon(self, members: tuple[int, ...], machine: int, board: int, part: int) -> Costs | None:
        if self._way(members[0]) is Way.UP:
            return super()._reckon(members, machine, board, part)
        if part:
            return None
        if self._way(members[0]) is Way.BALANCE:
            return self._balance(members, machine, board)
        return self._down(members, machine, board)

    def _balance(self, members: tuple[int, ...], machine: int, board: int) -> Costs | None:
        """Balancing one pack alone: the few tenths of an amp that balance leads pass."""
        pack = self.packs[members[0]]
        if setup_faults([pack], self.setup(machine, board)):
            return None
        minutes = 60 * self.gaps[pack.id].move_mah / 1000 / BALANCE_A
        return Costs(BALANCE_A, BALANCE_A / pack.capacity_ah, 0.0, minutes, minutes, 0.0, 0.0)

    def _down(self, members: tuple[int, ...], machine: int, board: int) -> Costs | None:
        """Bringing packs down together: amps by the charger's label, or 1 A and 1C at most, and by its watts."""
        packs = [self.packs[index] for index in members]
        setup = self.setup(machine, board)
        channel = setup.channel
        if not channel.discharge_power_w or setup_faults(packs, setup):
            return None
        current_a = down_amps(down_limits(packs, setup, self.rules), channel)
        if not current_a:
            return None
        minutes = 60 * sum(self.gaps[pack.id].move_mah for pack in packs) / 1000 / current_a
        return Costs(current_a, current_a / total_ah(packs), 0.0, minutes, minutes, 0.0, 0.0)

    def balance_of(self, members: Sequence[int]) -> float:
        """The balancing allowance of a batch, min; nothing is balanced on the way down.

        members : indices into the packs of the problem.
        """
        return super().balance_of(members) if self._way(members[0]) is Way.UP else 0.0

    def refine(self, members: tuple[int, ...], machine: int, board: int, part: int) -> bool:
        """The full model's minutes for packs that are charged.

        members : indices into the packs of the problem. machine : index of a channel of the problem. board : index of
        a board of the problem, -1 for none. part : index into the rates to be tried.
        """
        return self._way(members[0]) is Way.UP and super().refine(members, machine, board, part)


def plan_storage(bench: Bench) -> PutAway:
    """Batches for each pack that is not there, on boards where they may join, soonest done; what runs is left alone."""
    gaps = tuple(
        gap
        for verdict in permits(bench).values()
        if verdict.pack.id not in bench.in_hand and (gap := gap_of(verdict.pack, bench.rules)) is not None
        and verdict.may(Act.STORE)
    )  # fmt: skip
    todo = [gap for gap in gaps if gap.way is not Way.THERE]
    storage_v = {gap.pack.chemistry_name: gap.target_v for gap in gaps}
    rates_c = [bench.rules.wanted_rate_c(gap.pack.chemistry) for gap in todo]
    rules = replace(bench.rules, end_v=storage_v, rate_c=min([UP_RATE_C, *rates_c]))
    session = Session(tuple(gap.pack for gap in todo), bench.kit, rules)
    problem = StorageProblem(replace(session, packs=bench.packs, running=bench.running), todo)
    batches: list[StorageBatch] = []
    if problem.packs and problem.machines:
        planner = Planner(problem.session, problem=problem)
        for _ in islice(planner.search, SEARCH_CHUNKS):
            pass
        batches = [_batch(problem, item) for item in planner.plan().batches]
    placed = {tag for item in batches for tag in item.batch.packs}
    unplaced = tuple((gap, _why_not(gap, problem)) for gap in todo if gap.pack.id not in placed)
    return PutAway(gaps, tuple(batches), _pairs(todo, bench), unplaced)


def _batch(problem: StorageProblem, batch: PlannedBatch) -> StorageBatch:
    gaps = tuple(problem.gaps[tag] for tag in batch.packs)
    way, target_v = gaps[0].way, gaps[0].target_v
    choice = Choice(batch.packs, batch.board, batch.channel)
    if way is not Way.BALANCE:
        choice = replace(choice, current_a=batch.current_a, end_v=target_v)
    return StorageBatch(way, target_v, gaps, batch, choice)


def _why_not(gap: Gap, problem: StorageProblem) -> Reason:
    """Nothing discharges it, nothing charges or balances it, or the energy is gone."""
    index = problem.packs.index(gap.pack)
    if any(problem.costs((index,), machine, -1, 0) for machine in range(len(problem.machines))):
        return reason("storage_no_energy", id=gap.pack.id, need_wh=gap.move_wh)
    return reason("storage_no_discharge" if gap.way is Way.DOWN else "no_channel", id=gap.pack.id)


def _pairs(todo: Sequence[Gap], bench: Bench) -> tuple[Pair, ...]:
    """Who could charge whom: each giver and taker once, the largest first, through a charger that takes the volts."""
    givers = sorted((gap for gap in todo if gap.way is Way.DOWN), key=lambda gap: -gap.move_wh)
    takers = sorted((gap for gap in todo if gap.way is Way.UP), key=lambda gap: -gap.move_wh)
    pairs: list[Pair] = []
    for taker in takers:
        for giver in givers:
            charger = _runs_from(giver, taker, bench)
            if charger and giver.move_wh * EFFICIENCY >= taker.move_wh >= LEAST_PAIR_WH:
                pairs.append(Pair(giver.pack, taker.pack, charger.id, taker.move_wh / EFFICIENCY))
                givers.remove(giver)
                break
    return tuple(pairs)


def _runs_from(giver: Gap, taker: Gap, bench: Bench) -> Charger | None:
    """A free charger whose input takes the giver's volts, at both ends, and one of whose channels takes the taker."""
    busy = {batch.channel for batch in bench.running}
    for charger in bench.kit.chargers:
        low_v, high_v = charger.input_min_v, charger.input_max_v
        volts = [volt * giver.pack.cells for volt in (giver.target_v, giver.pack.cell_v or 0.0)]
        if charger.failed or low_v is None or min(volts) < low_v or (high_v is not None and max(volts) > high_v):
            continue
        if any(channel.id in busy for channel in charger.channels):
            continue
        if any(
            channel.takes(taker.pack.cells) and at_most(smallest_a(channel), taker.pack.max_charge_a)
            for channel in charger.channels
        ):
            return charger
    return None


# ---------------------------------------------------------------------------------------- full since when


def full_since(
    packs: Sequence[Pack], readings: Mapping[str, Sequence[KeptReading]], charging: Collection[str]
) -> dict[str, datetime]:
    """Packs whose volts say full, with the first of the readings in a row that said so.

    readings : of each pack, the newest first. charging : tags of packs that charge now. A pack that was charged and not
    read since counts as full from then on; one that charges does not yet.
    """
    since = {pack.id: pack.charged_at for pack in packs if pack.charged_at and pack.id not in charging}
    for pack in packs:
        if pack.reading is None or (pack.cell_v or 0.0) < pack.chemistry.full_rest_v or not pack.chemistry.joins:
            continue
        moment = None
        for kept in readings.get(pack.id, ()):
            if kept.corrected_by is not None:
                continue
            if kept.reading.pack_v / pack.cells < pack.chemistry.full_rest_v:
                break
            moment = kept.read_at
        if moment is not None:
            since[pack.id] = moment
    return since
