"""What a charge is expected to do, and when it will be full by what was read of it."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from iterum.core.bench.packs import Pack
from iterum.core.electrical.charging import Charge
from iterum.core.sizing.dial import DialCard
from iterum.core.sizing.size import Hookup


@dataclass(frozen=True)
class Observation:
    """What was read at one moment of a charge.

    at_min : since charging began. pack_v : whole pack or board. cell_v : V of each cell. charge_mah : put in so far.
    pack_id : for a reading of one pack by hand. by_hand : a person touched and looked. input_v : at the charger.
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


@dataclass(frozen=True)
class Expected:
    """The prediction for one charge, as the watch needs it.

    t_min, cell_v, current_a, charge_mah : along the curve. low_min, high_min : when it may be full by what the meter
    left open. end_v : full volts per cell, None where volts do not end it. timer_min : the safety timer.
    stop_input_v : under it the source must not go. air_c : air temperature, where it was read. spread_v : between the
    cells as they went on, known already.
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


def expect(
    result: Charge,
    cells: int,
    end_v: float | None,
    timer_min: float,
    stop_input_v: float | None = None,
    spread_v: float = 0.0,
    points: int = 80,
) -> Expected:
    """The prediction of `charge` as the watch needs it, thinned to about so many points. end_v per cell.

    cells : in series, 1 to 14. timer_min : the safety timer, minutes. stop_input_v : V at the charger under which the
    source must not go; None where not known. spread_v : V between cells as they go on.
    """
    trace = result.trace
    charge_mah = np.concatenate(
        [[0.0], np.cumsum(np.diff(trace.t_s) * (trace.feed_a[1:] + trace.feed_a[:-1]) / 2) / 3.6]
    )
    t_s = np.linspace(0.0, float(trace.t_s[-1]), points)

    def along(values: "np.typing.NDArray[np.float64]", digits: int) -> tuple[float, ...]:
        return tuple(round(float(value), digits) for value in np.interp(t_s, trace.t_s, values))

    return Expected(
        cells=cells,
        t_min=tuple(round(float(value) / 60, 3) for value in t_s),
        cell_v=along(trace.node_v / cells, 4),
        current_a=along(trace.feed_a, 3),
        charge_mah=along(charge_mah, 1),
        low_min=result.minutes_low,
        high_min=result.minutes_high,
        balance_min=result.balance_min,
        end_v=end_v,
        timer_min=timer_min,
        dialled_a=result.current_a,
        stop_input_v=stop_input_v,
        spread_v=spread_v,
    )


def expected_of(sized: Hookup, charge: Charge, card: DialCard) -> Expected:
    """What the charge of these packs, at the place and under the rules of their hookup, is to be measured against."""
    first, rules = sized.packs[0], sized.rules
    end_v = rules.full_v(first.chemistry) if first.chemistry.joins else None
    stop_v = sized.setup.feed.charger.input_min_v
    return expect(charge, first.cells, end_v, card.timer_min, stop_v, _spread_v(sized.packs))


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
    curve that the charge has come to. full : whether it has: what flows now only balances. now_v, now_a : expected now.
    """

    left_min: float
    full_at_min: float
    progress_min: float
    now_v: float
    now_a: float
    full: bool = False


def outlook(expected: Expected, seen: Sequence[Observation], now_min: float) -> Outlook:
    """Time left from the amps and volts so far: how far along the expected curve the mAh, or the volts, have come.

    What is still to come is stretched by the amps that flow against those expected there, half to double at most.
    now_min : minutes since charging began.
    """
    latest = [item for item in seen if item.charge_mah is not None or item.pack_v is not None]
    if not latest:
        return _at(expected, min(now_min, expected.minutes), now_min, 1.0)
    last = latest[-1]
    if _falling(expected, last):
        return _from_falling(expected, last, now_min)
    if last.charge_mah is not None:
        come_min = float(np.interp(last.charge_mah, expected.charge_mah, expected.t_min))
    else:
        volts = np.maximum.accumulate(np.array(expected.cell_v))
        come_min = float(np.interp((last.pack_v or 0.0) / expected.cells, volts, expected.t_min))
    stretch = 1.0
    flows_a = last.current_a
    expected_a = float(np.interp(come_min, expected.t_min, expected.current_a))
    if flows_a is not None and flows_a > 0.02 * expected.dialled_a and expected_a > 0:
        stretch = min(max(expected_a / flows_a, 0.5), 2.0)
    since = max(now_min - last.at_min, 0.0)
    return _at(expected, min(come_min + since / stretch, expected.minutes), now_min, stretch)


AT_END_V = 0.015
"""Within this of the end volts the charger holds them, and the amps fall."""


def _falling(expected: Expected, item: Observation) -> bool:
    """Whether a reading shows the end volts with amps that have begun to fall."""
    if expected.end_v is None or item.pack_v is None or item.current_a is None:
        return False
    at_end = item.pack_v / expected.cells >= expected.end_v - AT_END_V
    return at_end and item.current_a < 0.97 * expected.dialled_a


def _from_falling(expected: Expected, item: Observation, now_min: float) -> Outlook:
    """In the falling part the amps say how far it is, whatever the mAh or the clock say."""
    amps = np.array(expected.current_a)
    peak = len(amps) - 1 - int(np.argmax(amps[::-1] >= 0.97 * amps.max()))
    come_min = float(np.interp(-(item.current_a or 0.0), -amps[peak:], np.array(expected.t_min)[peak:]))
    progress_min = min(come_min + max(now_min - item.at_min, 0.0), expected.minutes)
    found = _at(expected, progress_min, now_min, 1.0)
    full = progress_min >= expected.minutes
    return replace(found, now_a=min(found.now_a, item.current_a or 0.0), full=full)


def _at(expected: Expected, progress_min: float, now_min: float, stretch: float) -> Outlook:
    left_min = (expected.minutes - progress_min) * stretch
    volts, amps = (
        float(np.interp(progress_min, expected.t_min, line)) for line in (expected.cell_v, expected.current_a)
    )
    return Outlook(left_min, now_min + left_min, progress_min, volts, amps)
