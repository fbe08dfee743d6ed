"""Putting away: which packs go up or down to storage volts, by how much, where, how long, and done by when.

A charger discharges slowly, so a pack that must come down blocks a channel for hours; flying it, or charging another
pack from it, is often sooner. Times are worked out from energy.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from iterum.core.feed import feed_of
from iterum.core.kit import Channel, Charger, Kit
from iterum.core.packs import Pack, judge_pack
from iterum.core.reasons import Reason, reason
from iterum.core.rules import HouseRules
from iterum.core.sizing import Setup, minutes_at

LOSS = 0.85
"""Of the Wh that leave a pack, what reaches another through a charger. Common practice, no source: 80-90 %."""


LEAST_PAIR_WH = 1.0
"""Less than this is not worth the plugging."""


class Way(StrEnum):
    """Which way a pack must go."""

    UP = "up"
    DOWN = "down"
    THERE = "there"


@dataclass(frozen=True)
class Gap:
    """How far a pack is from storage volts. move_mah, move_wh : positive both ways. target_v : per cell."""

    pack: Pack
    way: Way
    target_v: float
    move_mah: float
    move_wh: float


@dataclass(frozen=True)
class Task:
    """One pack on one channel. current_a, power_w : what to set; minutes counted from now."""

    gap: Gap
    channel: str
    current_a: float
    power_w: float
    start_min: float
    end_min: float


@dataclass(frozen=True)
class Pair:
    """A pack that must come down could charge one that must go up, through a charger that takes its volts."""

    giver: Pack
    taker: Pack
    charger: str
    move_wh: float


@dataclass(frozen=True)
class PutAway:
    """The whole plan. unplaced : packs no channel can bring there, with the reason."""

    gaps: tuple[Gap, ...]
    tasks: tuple[Task, ...]
    pairs: tuple[Pair, ...]
    unplaced: tuple[tuple[Gap, Reason], ...]

    @property
    def done_min(self) -> float:
        """When the last one is there."""
        return max((task.end_min for task in self.tasks), default=0.0)


def gap_of(pack: Pack) -> Gap | None:
    """How far a measured pack is from storage; None where volts do not tell or there is no reading."""
    chemistry, table = pack.chemistry, pack.chemistry.table
    if table is None or pack.cell_v is None:
        return None
    volts = round(pack.cell_v, 3)
    target_v = min(max(volts, chemistry.storage_low_v), chemistry.storage_high_v)
    way = Way.THERE if target_v == volts else Way.DOWN if volts > target_v else Way.UP
    if way is not Way.THERE:  # to the middle, so that it is still there next week
        target_v = (chemistry.storage_low_v + chemistry.storage_high_v) / 2
    moved = abs(table.soc(target_v) - table.soc(volts))
    steps = 20
    low, high = sorted((table.soc(target_v), table.soc(volts)))
    mean_v = sum(table.rest_v(low + (high - low) * (step + 0.5) / steps) for step in range(steps)) / steps
    ah = moved * pack.capacity_ah
    return Gap(pack, way, target_v, 1000 * ah, ah * mean_v * pack.cells)


def plan_storage(packs: Sequence[Pack], kit: Kit, rules: HouseRules) -> PutAway:
    """A task for each pack that is not there, the longest first, each on the channel that has it done soonest.

    A person sets up one at a time, as in any plan.
    """
    gaps = tuple(gap for pack in packs if judge_pack(pack, rules).charges or _may_come_down(pack, rules)
                 if (gap := gap_of(pack)) is not None)  # fmt: skip
    todo = [gap for gap in gaps if gap.way is not Way.THERE]
    channels = list(kit.channels())
    free_min = {channel.id: 0.0 for _, channel in channels}
    hands_min = 0.0
    tasks: list[Task] = []
    unplaced: list[tuple[Gap, Reason]] = []
    for gap in sorted(todo, key=lambda item: (-item.move_wh, item.pack.id)):
        places = [(charger, channel, *setting) for charger, channel in channels
                  if (setting := _setting(gap, charger, channel, kit, rules)) is not None]  # fmt: skip
        if not places:
            code = "storage_no_discharge" if gap.way is Way.DOWN else "no_channel"
            unplaced.append((gap, reason(code, id=gap.pack.id)))
            continue

        def ends(place: tuple[Charger, Channel, float, float, float]) -> float:
            return max(free_min[place[1].id], hands_min) + rules.setup_min + place[4]  # noqa: B023

        _, channel, current_a, power_w, minutes = min(places, key=ends)
        start_min = max(free_min[channel.id], hands_min)
        hands_min = start_min + rules.setup_min
        tasks.append(Task(gap, channel.id, current_a, power_w, start_min, hands_min + minutes))
        free_min[channel.id] = hands_min + minutes
    tasks.sort(key=lambda task: (task.start_min, task.channel))
    return PutAway(gaps, tuple(tasks), _pairs(todo, kit), tuple(unplaced))


def _may_come_down(pack: Pack, rules: HouseRules) -> bool:
    """A full pack is not charged, but it may be brought down."""
    verdict = judge_pack(pack, rules)
    return verdict.full and not any(item.code in ("damaged", "over_full") for item in verdict.reasons)


def _setting(
    gap: Gap, charger: Charger, channel: Channel, kit: Kit, rules: HouseRules
) -> tuple[float, float, float] | None:
    """(amps, watts, minutes) for a pack on a channel; None where it cannot."""
    pack, feed = gap.pack, feed_of(charger, kit)
    if not channel.takes(pack.cells) or feed.input_fault() is not None:
        return None
    pack_v = gap.target_v * pack.cells
    if gap.way is Way.DOWN:
        if not channel.discharge_power_w:
            return None
        current_a = min(channel.discharge_power_w / (pack.cell_v or 1.0) / pack.cells, channel.max_current_a)
        power_w = min(channel.discharge_power_w, current_a * (pack.cell_v or 0.0) * pack.cells)
        return _down(current_a, channel), power_w, 60 * gap.move_wh / power_w
    wanted_a = min(pack.charge_c, rules.wanted_rate_c(pack.chemistry)) * pack.capacity_ah
    current_a = min(wanted_a, channel.max_current_a, channel.max_power_w / pack_v)
    current_a = _down(current_a, channel)
    if current_a < channel.min_current_a:
        return None
    whole_min = minutes_at([pack], current_a, Setup(None, channel, feed), rules)
    return current_a, current_a * pack_v, min(60 * gap.move_mah / 1000 / current_a, whole_min)


def _down(current_a: float, channel: Channel) -> float:
    steps = int(current_a / channel.current_step_a + 1e-9)
    return round(max(steps, 1) * channel.current_step_a, 6)


def _pairs(todo: Sequence[Gap], kit: Kit) -> tuple[Pair, ...]:
    """Who could charge whom: each giver and taker once, the largest first, through a charger that takes the volts."""
    givers = sorted((gap for gap in todo if gap.way is Way.DOWN), key=lambda gap: -gap.move_wh)
    takers = sorted((gap for gap in todo if gap.way is Way.UP), key=lambda gap: -gap.move_wh)
    found: list[Pair] = []
    for taker in takers:
        for giver in givers:
            charger = _runs_from(giver, taker, kit)
            if charger and giver.move_wh * LOSS >= taker.move_wh >= LEAST_PAIR_WH:
                found.append(Pair(giver.pack, taker.pack, charger.id, taker.move_wh / LOSS))
                givers.remove(giver)
                break
    return tuple(found)


def _runs_from(giver: Gap, taker: Gap, kit: Kit) -> Charger | None:
    """A charger whose input takes the giver's volts, at both ends, and one of whose channels takes the taker."""
    for charger in kit.chargers:
        low_v, high_v = charger.input_min_v, charger.input_max_v
        volts = [volt * giver.pack.cells for volt in (giver.target_v, giver.pack.cell_v or 0.0)]
        if low_v is None or min(volts) < low_v or (high_v is not None and max(volts) > high_v):
            continue
        if any(channel.takes(taker.pack.cells) for channel in charger.channels):
            return charger
    return None
