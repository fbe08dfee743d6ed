"""What a charge is expected to do, and when it will be full by what was read of it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from iterum.core.electrical.charging import Charge
from iterum.core.sizing.dial import DialCard
from iterum.core.sizing.size import Hookup
from iterum.core.things.choice import Kind
from iterum.core.things.packs import Pack

POINTS = 80
"""Moments at which an expected charge is kept."""


COOL, WARM, HOT = "cool", "warm", "hot"
"""How a pack may feel to the hand that touches it; nobody has a thermometer on each."""


@dataclass(frozen=True)
class Observation:
    """What was read at one moment of a charge.

    at_min : since charging began. pack_v : whole pack or board. cell_v : V of each cell. charge_mah : put in so far.
    pack_id : for a reading of one pack by hand. by_hand : a person touched and looked; touch : how the
    pack felt, COOL, WARM or HOT; None where nobody said. input_v : at the charger.
    """

    at_min: float
    pack_v: float | None = None
    current_a: float | None = None
    charge_mah: float | None = None
    cell_v: tuple[float, ...] = ()
    temperature_c: float | None = None
    input_v: float | None = None
    pack_id: str | None = None
    by_hand: bool = False
    live: bool = False
    touch: str | None = None


@dataclass(frozen=True)
class Expected:
    """The prediction for one charge, as the watch needs it.

    t_min, cell_v, current_a, charge_mah : along the curve. cc_min : until the end volts are reached. low_min,
    high_min : when it may be full by what its volts left open. end_v : full volts per cell, None where volts do not
    end it. timer_min : the safety timer.
    missing_high_mah : what may have been missing at most. whole_mah : the packs' whole capacity, as the charger is set.
    stop_input_v : under it the source must not go. kind : what it is there for. least_v : V of a cell under which it
    is not brought down. air_c : air temperature, where it was read. spread_v : between the
    cells as they went on, known already; spread_by_pack : the same of each pack, by tag. refuse_v : V of a cell under
    which its chemistry is not charged.
    """

    cells: int
    t_min: tuple[float, ...]
    cell_v: tuple[float, ...]
    current_a: tuple[float, ...]
    charge_mah: tuple[float, ...]
    low_min: float
    high_min: float
    balance_min: float
    end_v: float | None
    timer_min: float
    dialled_a: float
    stop_input_v: float | None = None
    air_c: float | None = None
    spread_v: float = 0.0
    missing_high_mah: float | None = None
    whole_mah: float | None = None
    cc_min: float | None = None
    least_v: float | None = None
    kind: Kind = Kind.CHARGE
    refuse_v: float | None = None
    spread_by_pack: Mapping[str, float] = field(default_factory=dict)

    def spread_of(self, pack_id: str | None) -> float:
        """V between the cells of one pack as it went on.

        pack_id : its tag; None for the board.
        """
        return self.spread_v if pack_id is None else self.spread_by_pack.get(pack_id, 0.0)

    @property
    def minutes(self) -> float:
        """When it is expected to be full, balancing not included."""
        return self.t_min[-1]

    @property
    def missing_mah(self) -> float:
        """What should go in."""
        return self.charge_mah[-1]

    def charge_at(self, minute: float) -> float:
        """mAh that should be in by a minute of the charge."""
        return float(np.interp(minute, self.t_min, self.charge_mah))

    def amps_at(self, minute: float) -> float:
        """Amps that should flow at a minute of the charge."""
        return float(np.interp(minute, self.t_min, self.current_a))


def expect(
    result: Charge,
    cells: int,
    end_v: float | None,
    timer_min: float,
    stop_input_v: float | None = None,
    spread_v: float = 0.0,
    air_c: float | None = None,
    whole_mah: float | None = None,
) -> Expected:
    """The prediction of `charge` as the watch needs it, thinned to `POINTS`. end_v per cell.

    cells : in series, 1 to 14. timer_min : the safety timer, minutes. stop_input_v : V at the charger under which the
    source must not go; None where not known. spread_v : V between cells as they go on. air_c : of the
    air, degrees Celsius.
    whole_mah : mAh that the charger is set to stop at.
    """
    trace = result.trace
    charge_mah = np.concatenate(
        [[0.0], np.cumsum(np.diff(trace.t_s) * (trace.feed_a[1:] + trace.feed_a[:-1]) / 2) / 3.6]
    )
    t_s = np.linspace(0.0, float(trace.t_s[-1]), POINTS)

    def along(values: "np.typing.NDArray[np.float64]", digits: int) -> tuple[float, ...]:
        return tuple(round(float(value), digits) for value in np.interp(t_s, trace.t_s, values))

    return Expected(
        cells=cells,
        t_min=tuple(round(float(value) / 60, 3) for value in t_s),
        cell_v=along(trace.node_v / cells, 4),
        current_a=along(trace.feed_a, 3),
        charge_mah=along(charge_mah, 1),
        cc_min=result.cc_minutes,
        missing_high_mah=result.charge_high_mah,
        whole_mah=whole_mah,
        low_min=result.minutes_low,
        high_min=result.minutes_high,
        balance_min=result.balance_min,
        end_v=end_v,
        timer_min=timer_min,
        dialled_a=result.current_a,
        stop_input_v=stop_input_v,
        spread_v=spread_v,
        air_c=air_c,
    )


def expected_of(sized: Hookup, charge: Charge, card: DialCard) -> Expected:
    """What the charge of these packs, at the place and under the rules of their hookup, is to be measured against."""
    first, rules = sized.packs[0], sized.rules
    end_v = rules.full_v(first.chemistry) if first.chemistry.joins else None
    stop_v = sized.setup.feed.stop_input_v
    expected = expect(charge, first.cells, end_v, card.timer_min, stop_v, _spread_v(sized.packs), first.air_c,
                      card.capacity_mah)  # fmt: skip
    by_pack = {pack.id: _spread_v([pack]) for pack in sized.packs}
    refuse_v = first.chemistry.refuse_v if first.chemistry.joins else None
    return replace(expected, refuse_v=refuse_v, spread_by_pack=by_pack)


def _spread_v(packs: Sequence[Pack]) -> float:
    """Volts between the cells of a board as it starts: balance leads join cell 1 with cell 1."""
    cells = [pack.reading.cell_v or (pack.reading.pack_v / pack.cells,) * pack.cells for pack in packs if pack.reading]
    means = [sum(column) / len(column) for column in zip(*cells, strict=False)]
    return max(means) - min(means) if means else 0.0


def energy_wh(expected: Expected, charge_mah: float) -> float:
    """Wh into the packs with the first so many mAh of an expected charge; past its end at its last volts.

    charge_mah : mAh, 0 or more.
    """
    put_in = np.array(expected.charge_mah)
    volts = np.array(expected.cell_v) * expected.cells
    along = np.concatenate([[0.0], np.cumsum(np.diff(put_in) * (volts[1:] + volts[:-1]) / 2)]) / 1000
    over_mah = max(charge_mah - float(put_in[-1]), 0.0)
    return float(np.interp(charge_mah, put_in, along)) + over_mah / 1000 * float(volts[-1])


# ---------------------------------------------------------------------------------------- adapting


@dataclass(frozen=True)
class Outlook:
    """What is expected from here on, in minutes of the charge.

    left_min, full_at_min : until its packs are full, balancing not included. progress_min : the minute of the expected
    curve that the charge has come to. full : whether it has: what flows now only balances. low_min, high_min : the
    range of `left_min`. now_v, now_a : expected now.
    """

    left_min: float
    full_at_min: float
    progress_min: float
    now_v: float
    now_a: float
    full: bool = False
    low_min: float = 0.0
    high_min: float = 0.0


NO_AMPS_A = 0.02
"""Amps that count as none."""
STANDS_PART = 0.97
"""Amps from this part of those dialled on stand at the dial; under it they fall."""
VOLTS_DOUBT_V = 0.06
"""How far a cell's volts under charge lie beside the curve expected of it: another cell, another resistance."""
SLOPE_OVER_MIN, SLOPE_DOUBT = 8.0, 0.35
"""Volts that rise tell when they will be at the end once they were seen so long; a curve bends by that part of it."""


def outlook(expected: Expected, seen: Sequence[Observation], now_min: float) -> Outlook:
    """Time left from the amps, volts and mAh so far: how far along the expected curve the charge has come.

    While amps stand at the dial and volts are below the end, the whole falling part is still to come, whatever was
    expected. Up to there volts, mAh and the slope of the volts each tell how far it is; each counts by how sure it is.
    What is still to come is stretched by the amps that flow against those expected there, half to double at most; while
    none flow, it does not come nearer.
    now_min : minutes since charging began.
    """
    latest = [
        item for item in seen if item.pack_id is None and (item.charge_mah is not None or item.pack_v is not None)
    ]
    if not latest:
        return _at(expected, min(now_min, expected.minutes), now_min, 1.0)
    last = latest[-1]
    if _falling(expected, last):
        return _from_falling(expected, last, now_min)
    come_min = _come_to(expected, latest)
    stretch = 1.0
    flows_a = last.current_a
    expected_a = expected.amps_at(come_min)
    if flows_a is not None and flows_a > 0.02 * expected.dialled_a and expected_a > 0:
        stretch = min(max(expected_a / flows_a, 0.5), 2.0)
    since = 0.0 if flows_a is not None and flows_a <= NO_AMPS_A else max(now_min - last.at_min, 0.0)
    return _at(expected, min(come_min + since / stretch, expected.minutes), now_min, stretch)


def _come_to(expected: Expected, seen: Sequence[Observation]) -> float:
    """The minute of the expected curve that a charge has come to, before its amps fall.

    seen : of the board, in the order of time, at least one.
    """
    last = seen[-1]
    stands = _stands_at_dial(expected, last)
    cc_min = expected.cc_min if expected.cc_min is not None and stands else expected.minutes
    told: list[tuple[float, float]] = []
    if last.pack_v is not None and expected.end_v is not None:
        told += [_by_volts(expected, last.pack_v / expected.cells, cc_min), *_by_slope(expected, seen, cc_min)]
    if last.charge_mah is not None:
        by_mah_min = float(np.interp(last.charge_mah, expected.charge_mah, expected.t_min))
        if not told or by_mah_min < cc_min:  # amps that still stand there prove that more was missing
            told.append((by_mah_min, max((expected.high_min - expected.low_min) / 2, 1.0)))
    if not told:
        if expected.kind is not Kind.CHARGE:
            return min(last.at_min, expected.minutes)
        volts = np.maximum.accumulate(np.array(expected.cell_v))
        return float(np.interp((last.pack_v or 0.0) / expected.cells, volts, expected.t_min))
    weights = [1 / doubt_min**2 for _, doubt_min in told]
    come_min = sum(weight * minute for weight, (minute, _) in zip(weights, told, strict=True)) / sum(weights)
    return min(come_min, cc_min)


def _stands_at_dial(expected: Expected, item: Observation) -> bool:
    """Whether a reading shows the amps dialled, with volts below the end."""
    if expected.end_v is None or item.pack_v is None or item.current_a is None:
        return False
    below = item.pack_v / expected.cells < expected.end_v - AT_END_V
    return below and item.current_a >= STANDS_PART * expected.dialled_a


def _by_volts(expected: Expected, cell_v: float, cc_min: float) -> tuple[float, float]:
    """The minute of the expected curve with these volts, and its doubt in minutes: a flat part tells little, and how
    much of the charge is left may be off as its whole was."""
    minutes, volts = np.array(expected.t_min), np.maximum.accumulate(np.array(expected.cell_v))
    low, here, high = (float(np.interp(cell_v + off, volts, minutes)) for off in (-VOLTS_DOUBT_V, 0.0, VOLTS_DOUBT_V))
    of_whole_min = (expected.high_min - expected.low_min) / 2 * max(1 - here / max(cc_min, 1.0), 0.0)
    return here, max((high - low) / 2, of_whole_min, 1.0)


def _by_slope(expected: Expected, seen: Sequence[Observation], cc_min: float) -> list[tuple[float, float]]:
    """The same from how fast the volts rise at steady amps; nothing before they were seen for a while."""
    last = seen[-1]
    steady = [item for item in seen if item.pack_v is not None and item.current_a is not None
              and abs(item.current_a - (last.current_a or 0.0)) <= 0.03 * expected.dialled_a
              and last.at_min - 2 * SLOPE_OVER_MIN <= item.at_min]  # fmt: skip
    if last.current_a is None or not steady or last.at_min - steady[0].at_min < SLOPE_OVER_MIN:
        return []
    first = steady[0]
    rise_v = ((last.pack_v or 0.0) - (first.pack_v or 0.0)) / expected.cells / (last.at_min - first.at_min)
    if rise_v <= 1e-4:
        return []
    left_v = max((expected.end_v or 0.0) - (last.pack_v or 0.0) / expected.cells, 0.0)
    pace = min((last.current_a or 0.0) / expected.dialled_a, 1.0)  # minutes of the expected curve in one of now
    left_min = pace * left_v / rise_v * _bend(expected, pace * (last.at_min - first.at_min), left_v, cc_min)
    return [(cc_min - left_min, max(SLOPE_DOUBT * left_min, 1.0))]


def _bend(expected: Expected, over_min: float, left_v: float, cc_min: float) -> float:
    """How the expected curve runs from there to its end against a straight line from its own last minutes."""
    volts = np.maximum.accumulate(np.array(expected.cell_v))
    here_min = float(np.interp((expected.end_v or 0.0) - left_v, volts, expected.t_min))
    now_v, before_v = (float(np.interp(max(at, 0.0), expected.t_min, volts)) for at in (here_min, here_min - over_min))
    rise_v = (now_v - before_v) / min(over_min, max(here_min, 1.0))
    straight_min = left_v / rise_v if rise_v > 1e-4 else 0.0
    return min(max((cc_min - here_min) / straight_min, 0.25), 2.0) if straight_min else 1.0


AT_END_V = 0.015
"""Within this of the end volts the charger holds them, and the amps fall."""


def _falling(expected: Expected, item: Observation) -> bool:
    """Whether a reading shows the end volts with amps that have begun to fall."""
    if expected.end_v is None or item.pack_v is None or item.current_a is None:
        return False
    at_end = item.pack_v / expected.cells >= expected.end_v - AT_END_V
    return at_end and item.current_a < STANDS_PART * expected.dialled_a


def _from_falling(expected: Expected, item: Observation, now_min: float) -> Outlook:
    """In the falling part the amps say how far it is, whatever the mAh or the clock say."""
    amps = np.array(expected.current_a)
    peak = len(amps) - 1 - int(np.argmax(amps[::-1] >= STANDS_PART * amps.max()))
    come_min = float(np.interp(-(item.current_a or 0.0), -amps[peak:], np.array(expected.t_min)[peak:]))
    progress_min = min(come_min + max(now_min - item.at_min, 0.0), expected.minutes)
    end = _at(expected, progress_min, now_min, 1.0)
    full = progress_min >= expected.minutes
    left_min = end.left_min  # by the amps themselves: what was not known at the start does not matter any more
    return replace(end, now_a=min(end.now_a, item.current_a or 0.0), full=full, low_min=left_min, high_min=left_min)


def _at(expected: Expected, progress_min: float, now_min: float, stretch: float) -> Outlook:
    left_min = (expected.minutes - progress_min) * stretch
    volts, amps = (
        float(np.interp(progress_min, expected.t_min, line)) for line in (expected.cell_v, expected.current_a)
    )
    low, high = (left_min * end_min / expected.minutes for end_min in (expected.low_min, expected.high_min))
    return Outlook(left_min, now_min + left_min, progress_min, volts, amps, low_min=low, high_min=high)
