"""Watching a charge against what was expected of it: what is wrong, how bad, and what to do now.

Readings come from a person, a charger or a file; nothing here asks which. Each finding carries its numbers. The
thresholds are common practice, no source, unless one is named beside them.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from math import inf

import numpy as np

from iterum.core.quantities import at_most, difference
from iterum.core.reasons import Reason, reason
from iterum.core.season.outlook import HOT, NO_AMPS_A, WARM, Expected, Observation, outlook
from iterum.core.things.choice import Kind
from iterum.core.things.volts import SPREAD_LOOK_V, SPREAD_WEAK_V

CHECK_EVERY_MIN = 10.0
"""Touch every pack about every ten minutes."""
BAND_V = 0.04
"""V per cell that a reading may stand off the expected curve."""
WIDENS_V = 0.02
"""A pack that went on with its cells apart, to be balanced alone, may not get this much wider."""
OVER_STOP = 1.2
"""mAh in, as a part of what was missing at the cautious end; above that end itself it is a look."""
WHOLE_PART = 1.05
"""A whole pack holds up to so much of its label. Common practice, no source."""
FALLS_V = 0.03
"""V per cell by which volts may not fall below their highest while the amps stand: a charger's step is 0.01."""
FALLS_AT = 0.95
"""Volts are held against those at amps that were no higher than by this: fewer amps lower them by themselves."""
BOARD_NEAR_MIN = 3.0
"""A pack read by hand is held against what the charger showed of its board within so many minutes."""
LATE_CARE = 1.15
"""Minutes, as a part of the longest expected; the safety timer is the stop."""
HOT_CARE_C, HOT_STOP_C = 45.0, 50.0
"""Cell temperature: data sheets charge up to 45; the charger's cut-off stands at 50 (120 °F)."""
WARMER_C = 8.0
"""Lithium stays near air temperature; this much above it is a sign."""
STANDS_MIN, STANDS_V = 10.0, 0.003
"""Volts per cell that must rise in so many minutes of constant current, where at least three times that is expected."""
FALLS_MIN, FALLS_PART = 12.0, 0.92
"""At full volts the amps must have fallen to this part after so many minutes."""
NO_AMPS_MIN, NEARLY_FULL_V = 1.0, 0.03
"""No amps for so long, further than this from full volts."""
FELL_BACK_V = 6.0
"""A bank that dropped its fast-charge volts gives 5 V: it is not empty, it has to be plugged in again."""
SAG_CARE = 1.03
"""Input volts within this of the source's stop volts."""
SILENT_S = 5.0
"""A charger that was read and says nothing for so long: two answers may be late, a third one is missing."""
GROWN_LOOK_V, GROWN_STOP_V = 0.03, 0.10
"""Volts by which the cells of a board or a pack have come further apart since they went on."""
OVER_FULL_V = 0.03
"""V per cell above full at which a charge must end, whoever read it."""
FLAT_AFTER_MIN = 5.0
"""Minutes of charging after which no cell may be under its chemistry's refuse voltage any more."""


class Alarm(StrEnum):
    """How bad a finding is."""

    NOTE = "note"
    CARE = "care"
    STOP = "stop"


@dataclass(frozen=True)
class Finding:
    """One thing that is wrong: how bad, what, and what to do now."""

    alarm: Alarm
    what: Reason
    do: Reason


WHEN_STOPPED = {
    "do_stop_and_measure": "do_measure_all",
    "do_stop_hands_off": "do_hands_off",
    "do_stop_to_cool": "do_cool",
    "do_stop_for_source": "do_other_source",
    "do_plug_source_again": "do_plug_source_again",
    "do_pull_plug": "do_measure_all",
}
"""What to do instead where the channel is stopped already."""


def to_do(finding: Finding, stopped: bool) -> Reason:
    """What to do now about a finding. stopped : whether its channel charges no more."""
    return reason(WHEN_STOPPED.get(finding.do.code, finding.do.code)) if stopped else finding.do


# ---------------------------------------------------------------------------------------- findings


def findings(
    expected: Expected,
    seen: Sequence[Observation],
    now_min: float,
    paused: bool = False,
    last_heard_min: float | None = None,
) -> tuple[Finding, ...]:
    """Everything that is wrong now, the worst first. seen : in the order of time.

    last_heard_min : the minute when the charger was last read, where it is read at all.
    now_min : minutes since charging began. paused : whether it is paused.
    """
    signs = [
        *at_any_time(expected, seen),
        *_packs(expected, seen),
        *_flat(expected, seen),
        *_volts(expected, seen),
        *_charge(expected, seen),
        *_under(expected, seen),
        *_time(expected, seen, now_min),
        *_tail(expected, seen),
        *_stands(expected, seen),
        *_falls(expected, seen),
        *_no_amps(expected, seen, paused),
        *_input(expected, seen),
        *_check(seen, now_min),
    ]
    if last_heard_min is not None and not paused and (now_min - last_heard_min) * 60 > SILENT_S:
        signs.append(_finding(Alarm.CARE, "silent", "do_look_at_charger", minutes=now_min - last_heard_min))
    return worst_first(signs)


def at_any_time(expected: Expected, seen: Sequence[Observation]) -> list[Finding]:
    """What is wrong whether or not amps flow: heat, cells apart, cells over full. seen : in the order of time."""
    return [*_cells(expected, seen), *_over_full(expected, seen), *_heat(expected, seen), *touched(seen)]


def worst_first(signs: Sequence[Finding]) -> tuple[Finding, ...]:
    """Findings in the order in which they are told."""
    order = list(Alarm)
    return tuple(sorted(signs, key=lambda item: -order.index(item.alarm)))


def _finding(alarm: Alarm, what: str, do: str, **numbers: object) -> Finding:
    return Finding(alarm, reason(what, **numbers), reason(do))


def _last(seen: Sequence[Observation], name: str) -> Observation | None:
    return next((item for item in reversed(seen) if getattr(item, name) not in (None, ())), None)


def _cells(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A cell that lags behind the others of its board or pack, more than it did as it went on.

    Cells that a person typed count like those that the charger reads.
    """
    latest = {item.pack_id: item for item in seen if len(item.cell_v) > 1}
    for pack_id, item in latest.items():
        yield from _apart(item, expected.spread_of(pack_id))


def _apart(item: Observation, began_v: float) -> Iterator[Finding]:
    """A reading whose cells are too far apart, or came further apart. began_v : V between them as they went on."""
    low_v, high_v = min(item.cell_v), max(item.cell_v)
    spread_v = round(high_v - low_v, 4)
    grown_v = difference(spread_v, began_v)
    middle_v = sorted(item.cell_v)[len(item.cell_v) // 2]
    lags = middle_v - low_v >= high_v - middle_v
    cell = item.cell_v.index(low_v if lags else high_v) + 1
    code = "watch_cell_lags" if lags else "watch_cell_leads"
    stop_v, look_v = (max(limit, began_v + WIDENS_V) for limit in (SPREAD_WEAK_V, SPREAD_LOOK_V))
    numbers = {"id": item.pack_id, "cell": cell, "spread_v": spread_v}
    if not at_most(spread_v, stop_v) or at_most(GROWN_STOP_V, grown_v):
        yield _finding(Alarm.STOP, code, "do_stop_and_measure", limit_v=stop_v, **numbers)
    elif not at_most(spread_v, look_v) or at_most(GROWN_LOOK_V, grown_v):
        yield _finding(Alarm.CARE, code, "do_watch_cell", limit_v=look_v, **numbers)


def _packs(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A pack whose volts, read by hand, stand off what its board should have then."""
    latest = {item.pack_id: item for item in seen if item.pack_id is not None and item.pack_v is not None}
    if expected.end_v is None:
        return
    for pack_id, item in latest.items():
        cell_v = (item.pack_v or 0.0) / expected.cells
        due_v = _due_v(expected, seen, item)
        off_v = round(cell_v - due_v, 4)
        if not at_most(abs(off_v), BAND_V):
            code = "watch_pack_lags" if off_v < 0 else "watch_pack_leads"
            yield _finding(Alarm.CARE, code, "do_check_plug", id=pack_id, off_v=abs(off_v), limit_v=BAND_V)


def _due_v(expected: Expected, seen: Sequence[Observation], item: Observation) -> float:
    """V per cell that a pack of a board should show: what the charger read of the board then, else what is expected."""
    board = [one for one in _until(seen, item) if one.pack_v is not None and item.at_min - one.at_min <= BOARD_NEAR_MIN]
    if board:
        return (board[-1].pack_v or 0.0) / expected.cells
    progress_min = outlook(expected, _until(seen, item), item.at_min).progress_min
    return float(np.interp(progress_min, expected.t_min, expected.cell_v))


def _until(seen: Sequence[Observation], item: Observation) -> list[Observation]:
    """What a board showed up to a moment, single packs left aside."""
    return [one for one in seen if one.pack_id is None and one.at_min <= item.at_min]


def _over_full(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A cell, or the average of a board or a pack, over the volts at which its charge ends."""
    if expected.end_v is None:
        return
    latest = {item.pack_id: item for item in seen if item.pack_v is not None}
    for pack_id, item in latest.items():
        highest_v = max([(item.pack_v or 0.0) / expected.cells, *item.cell_v])
        if not at_most(highest_v, expected.end_v + OVER_FULL_V):
            yield _finding(Alarm.STOP, "watch_over_full", "do_stop_and_measure", id=pack_id, cell_v=highest_v,
                           end_v=expected.end_v)  # fmt: skip


def _flat(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A cell that is still under its chemistry's refuse voltage after some minutes of charging."""
    if expected.refuse_v is None or expected.kind is not Kind.CHARGE:
        return
    latest = {item.pack_id: item for item in seen if item.pack_v is not None}
    for pack_id, item in latest.items():
        lowest_v = min([(item.pack_v or 0.0) / expected.cells, *item.cell_v])
        if item.at_min >= FLAT_AFTER_MIN and not at_most(expected.refuse_v, lowest_v):
            yield _finding(Alarm.STOP, "watch_cell_flat", "do_stop_and_measure", id=pack_id, cell_v=lowest_v,
                           refuse_v=expected.refuse_v, minutes=item.at_min)  # fmt: skip


def _volts(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """Volts off the curve, as a note."""
    item = _last([one for one in seen if one.pack_id is None], "pack_v")
    if item is None or item.pack_v is None or expected.end_v is None:
        return
    cell_v = item.pack_v / expected.cells
    at_min = min(item.at_min, expected.minutes)
    due_v = float(np.interp(at_min, expected.t_min, expected.cell_v))
    if not at_most(abs(cell_v - due_v), BAND_V):
        code = "watch_volts_low" if cell_v < due_v else "watch_volts_high"
        yield _finding(Alarm.NOTE, code, "do_compare_card", off_v=round(abs(cell_v - due_v), 4), limit_v=BAND_V)


def _charge(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """mAh past what was missing."""
    item = _last(seen, "charge_mah")
    if item is None or item.charge_mah is None:
        return
    most_mah = max(expected.missing_high_mah or 0.0, expected.missing_mah)
    stop_mah = min(OVER_STOP * most_mah, max(WHOLE_PART * expected.whole_mah if expected.whole_mah else inf, most_mah))
    code = "watch_mah_over" if expected.kind is Kind.CHARGE else "watch_mah_out"
    numbers = {"charge_mah": item.charge_mah, "missing_mah": most_mah}
    if not at_most(item.charge_mah, stop_mah):
        yield _finding(Alarm.STOP, code, "do_stop_and_measure", **numbers)
    elif not at_most(item.charge_mah, most_mah):
        yield _finding(Alarm.CARE, code, "do_feel_packs", **numbers)


def _under(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A cell under the volts at which bringing down has to stop, in the board or in a pack read by hand."""
    if expected.least_v is None:
        return
    latest = {item.pack_id: item for item in seen if item.pack_v is not None}
    for pack_id, item in latest.items():
        lowest_v = min([*item.cell_v, (item.pack_v or 0.0) / expected.cells])
        if not at_most(expected.least_v, lowest_v):
            yield _finding(Alarm.STOP, "watch_cell_under", "do_stop_and_measure", id=pack_id, cell_v=lowest_v,
                           least_v=expected.least_v)  # fmt: skip


def _time(expected: Expected, seen: Sequence[Observation], now_min: float) -> Iterator[Finding]:
    """Time past the timer, or well past what was expected while amps still flow."""
    if now_min > expected.timer_min:
        yield _finding(Alarm.STOP, "watch_timer", "do_stop_and_measure", minutes=now_min, timer_min=expected.timer_min)
        return
    latest_min = max(expected.high_min, expected.minutes) + expected.balance_min
    last = _last(seen, "current_a")
    late = expected.kind is Kind.CHARGE and now_min > latest_min * LATE_CARE
    if late and (last is None or (last.current_a or 0.0) > 0):
        yield _finding(Alarm.CARE, "watch_late", "do_feel_packs", minutes=now_min, latest_min=latest_min)


def _tail(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """Amps that do not fall although full volts were reached."""
    end_v = expected.end_v
    at_full = [
        item for item in seen if end_v is not None
        and item.pack_v is not None and item.current_a is not None and item.pack_id is None
        and item.pack_v / expected.cells >= end_v - 0.01
    ]  # fmt: skip
    if not at_full:
        return
    first, last = at_full[0], at_full[-1]
    minutes = last.at_min - first.at_min
    first_a, last_a = first.current_a or 0.0, last.current_a or 0.0
    if minutes >= FALLS_MIN and last_a > FALLS_PART * first_a and last_a > 0.15 * expected.dialled_a:
        yield _finding(Alarm.CARE, "watch_amps_stand", "do_feel_packs", minutes=minutes, current_a=last_a)


def _stands(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """Volts that stand still where they should rise."""
    volts = [item for item in seen if item.pack_v is not None and item.pack_id is None]
    if not volts or expected.end_v is None:
        return
    last = volts[-1]
    before = [item for item in volts if item.at_min <= last.at_min - STANDS_MIN]
    if not before:
        return
    first = before[-1]
    rise_v = ((last.pack_v or 0.0) - (first.pack_v or 0.0)) / expected.cells
    due_v = [float(np.interp(item.at_min, expected.t_min, expected.cell_v)) for item in (first, last)]
    if (last.pack_v or 0.0) / expected.cells >= expected.end_v - 0.02:
        return
    if rise_v < STANDS_V and due_v[1] - due_v[0] >= 3 * STANDS_V:
        yield _finding(Alarm.CARE, "watch_volts_stand", "do_feel_packs", minutes=last.at_min - first.at_min,
                       rise_v=rise_v, due_v=due_v[1] - due_v[0])  # fmt: skip


def _falls(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """Volts that fall while the amps stand: a cell is giving way."""
    read = [item for item in seen if item.pack_v is not None and item.current_a is not None and item.pack_id is None]
    if not read or expected.end_v is None:
        return
    last = read[-1]
    before = [item for item in read if (last.current_a or 0.0) >= FALLS_AT * (item.current_a or 0.0)]
    highest_v = max((item.pack_v or 0.0 for item in before), default=0.0) / expected.cells
    cell_v = (last.pack_v or 0.0) / expected.cells
    if (last.current_a or 0.0) > 0 and not at_most(difference(highest_v, cell_v), FALLS_V):
        yield _finding(Alarm.STOP, "watch_volts_fall", "do_stop_and_measure", cell_v=cell_v, highest_v=highest_v)


def _heat(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A hot pack."""
    item = _last(seen, "temperature_c")
    if item is None or item.temperature_c is None:
        return
    numbers = {"temperature_c": item.temperature_c, "id": item.pack_id}
    if item.temperature_c >= HOT_STOP_C:
        yield _finding(Alarm.STOP, "watch_hot", "do_stop_hands_off", limit_c=HOT_STOP_C, **numbers)
    elif item.temperature_c >= HOT_CARE_C:
        yield _finding(Alarm.CARE, "watch_hot", "do_stop_to_cool", limit_c=HOT_CARE_C, **numbers)
    elif expected.air_c is not None and item.temperature_c > expected.air_c + WARMER_C:
        yield _finding(Alarm.CARE, "watch_warm", "do_feel_packs", air_c=expected.air_c, **numbers)


def touched(seen: Sequence[Observation]) -> Iterator[Finding]:
    """A pack that felt warm or hot when somebody last said how it feels; what else is typed does not change that."""
    last = {item.pack_id: item for item in seen if item.touch is not None and item.pack_id is not None}
    for pack_id, item in last.items():
        if item.touch == HOT:
            yield _finding(Alarm.STOP, "watch_hot_hand", "do_stop_hands_off", id=pack_id)
        elif item.touch == WARM:
            yield _finding(Alarm.CARE, "watch_warm_hand", "do_half_amps", id=pack_id)


def _no_amps(expected: Expected, seen: Sequence[Observation], paused: bool) -> Iterator[Finding]:
    """No amps although it is not full: its minutes do not go on, whatever the clock says."""
    read = [item for item in seen if item.current_a is not None and item.pack_id is None]
    if not read or paused or expected.end_v is None:
        return
    last = read[-1]
    full = last.pack_v is not None and last.pack_v / expected.cells >= expected.end_v - NEARLY_FULL_V
    if full or (last.current_a or 0.0) > NO_AMPS_A:
        return
    flowed = [item for item in read if (item.current_a or 0.0) > NO_AMPS_A]
    since_min = last.at_min - (flowed[-1].at_min if flowed else 0.0)
    if last.by_hand or since_min >= NO_AMPS_MIN:
        yield _finding(Alarm.CARE, "watch_no_amps", "do_look_why_no_amps", minutes=since_min)


def _input(expected: Expected, seen: Sequence[Observation]) -> Iterator[Finding]:
    """A source that sags to its stop volts."""
    item = _last(seen, "input_v")
    stop_v = expected.stop_input_v
    if item is None or item.input_v is None or stop_v is None:
        return
    if item.input_v < FELL_BACK_V < stop_v:
        yield _finding(Alarm.STOP, "watch_source_fell", "do_plug_source_again", input_v=item.input_v)
    elif item.input_v < stop_v:
        yield _finding(Alarm.STOP, "watch_source_low", "do_stop_for_source", input_v=item.input_v, stop_v=stop_v)
    elif item.input_v < stop_v * SAG_CARE:
        yield _finding(Alarm.CARE, "watch_source_sags", "do_fewer_amps", input_v=item.input_v, stop_v=stop_v)


def _check(seen: Sequence[Observation], now_min: float) -> Iterator[Finding]:
    """A hand check that is overdue."""
    last_min = max((item.at_min for item in seen if item.by_hand), default=0.0)
    if now_min - last_min > CHECK_EVERY_MIN:
        yield _finding(Alarm.CARE, "watch_check_due", "do_touch_packs", late_min=now_min - last_min - CHECK_EVERY_MIN,
                       since_min=now_min - last_min)  # fmt: skip


def next_check_min(seen: Sequence[Observation]) -> float:
    """When the next hand check is due, in minutes of the charge."""
    return max((item.at_min for item in seen if item.by_hand), default=0.0) + CHECK_EVERY_MIN
