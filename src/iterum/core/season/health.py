"""How a pack ages: capacity from what goes in, resistance, spread, cycles, age, and what to do with it.

The limits are common practice, no source: under 80 % of the label's capacity, puffing, creeping resistance: retire;
200 to 500 cycles, 2 to 5 years. Each stands below with its name.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from enum import StrEnum
from statistics import median

from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, reason
from iterum.core.things.packs import Condition, Pack
from iterum.core.things.volts import SPREAD_LOOK_V, SPREAD_WEAK_V

RETIRE_PART, DEMOTE_PART = 0.80, 0.88
"""Capacity now as a part of the label's."""
RETIRE_TIMES, DEMOTE_TIMES, WATCH_TIMES = 2.0, 1.5, 1.25
"""Cell resistance now against the first measured."""
WATCH_CYCLES, DEMOTE_CYCLES = 200, 500
WATCH_YEARS, DEMOTE_YEARS = 2.0, 5.0
RUN_LOW_PART = 0.80
"""The 80 % rule: a recharge that puts back more says that the pack was run too low."""
LEAST_SOC_MOVED = 0.3
"""A charge tells the capacity only when it moved the state of charge by this much: a meter reads 0.01 V."""
_DAYS_A_YEAR = 365.25


class Advice(StrEnum):
    """What to do with a pack, the worst last."""

    KEEP = "keep"
    WATCH = "watch"
    DEMOTE = "demote to practice"
    RETIRE = "retire"


@dataclass(frozen=True)
class ChargeRecord:
    """One logged charge of one pack. before_v, after_v : rest volts per cell; resistance_mohm : per cell.

    ended_warm, again : of a pack that ends by a drop in volts: whether it was warm then, and which time in a
    row it was not full and had to be charged again; 0 where it was. alone : whether no other pack shared its board.
    full : whether the charger ended it. step_mohm : per cell, from the step in volts when the amps started or fell.
    """

    at: datetime
    charge_mah: float | None = None
    minutes: float | None = None
    rate_c: float | None = None
    before_v: tuple[float, ...] = ()
    after_v: tuple[float, ...] = ()
    resistance_mohm: tuple[float, ...] = ()
    note: str | None = None
    ended_warm: bool | None = None
    again: int | None = None
    alone: bool | None = None
    full: bool | None = None
    step_mohm: float | None = None


@dataclass(frozen=True)
class Health:
    """Figures and advice, each reason with its numbers. capacity_mah : estimate, None where no charge tells it."""

    advice: Advice
    reasons: tuple[Reason, ...]
    capacity_mah: float | None
    capacity_part: float | None
    resistance_times: float | None
    spread_v: float | None
    cycles: int
    age_years: float | None


def capacity_told(pack: Pack, record: ChargeRecord) -> float | None:
    """mAh that a pack holds, from what one charge put in between two rest readings; None where it cannot tell."""
    table = pack.chemistry.table
    if table is None or not record.charge_mah or not record.before_v or not record.after_v:
        return None
    before, after = (table.soc(sum(volts) / len(volts)) for volts in (record.before_v, record.after_v))
    return record.charge_mah / (after - before) if after - before >= LEAST_SOC_MOVED else None


def ran_low(pack: Pack, record: ChargeRecord) -> bool:
    """Whether a charge put back more than 80 % of the capacity."""
    return record.charge_mah is not None and record.charge_mah > RUN_LOW_PART * pack.capacity_ah * 1000


MOST_AGAIN = 8
"""So often a nickel pack that is not full is charged again after a long rest. Common practice, no source: 2 to 8."""
FEW_MAH_PART = 0.5
"""Less than this part of its capacity is far too little for a charge that is to have filled a nickel pack."""


def nickel_again(pack: Pack, record: ChargeRecord, before: Sequence[ChargeRecord]) -> int:
    """Which time in a row it is that a pack that ends by a drop was not full; 0 where it is.

    It is full when it was warm at its end, unless far too few mAh went in: then it ended early. before : its charges,
    the newest first.
    """
    few = record.charge_mah is not None and record.charge_mah < FEW_MAH_PART * pack.rated_ah * 1000
    if record.ended_warm and not few:
        return 0
    last = before[0].again if before else 0
    return min((last or 0) + 1, MOST_AGAIN)


def health(pack: Pack, records: Sequence[ChargeRecord], today: date, jumped: ChargeRecord | None = None) -> Health:
    """The state of a pack by its log, in the order of time.

    jumped : the charge since when it is another pack than its earlier charges told, None where it never was.
    """
    told = [mah for record in records if (mah := capacity_told(pack, record)) is not None][-5:]
    capacity_mah = pack.capacity_now_mah if not told else median(told)
    part = capacity_mah / pack.capacity_mah if capacity_mah else None
    measured = [record.resistance_mohm for record in records if record.resistance_mohm]
    times = max(measured[-1]) / max(measured[0]) if len(measured) > 1 and max(measured[0]) > 0 else None
    spread_v = _spread(pack, records)
    cycles = (pack.cycles or 0) + len(records)
    years = (today - date.fromisoformat(pack.bought_on)).days / _DAYS_A_YEAR if pack.bought_on else None
    signs = [
        *_condition(pack),
        *_graded("capacity", part, ((Advice.RETIRE, RETIRE_PART), (Advice.DEMOTE, DEMOTE_PART)), below=True),
        *_graded("resistance", times, ((Advice.RETIRE, RETIRE_TIMES), (Advice.DEMOTE, DEMOTE_TIMES),
                                       (Advice.WATCH, WATCH_TIMES))),
        *_graded("spread", spread_v, ((Advice.DEMOTE, SPREAD_WEAK_V), (Advice.WATCH, SPREAD_LOOK_V))),
        *_graded("cycles", float(cycles), ((Advice.DEMOTE, DEMOTE_CYCLES), (Advice.WATCH, WATCH_CYCLES))),
        *_graded("age", years, ((Advice.DEMOTE, DEMOTE_YEARS), (Advice.WATCH, WATCH_YEARS))),
    ]  # fmt: skip
    if jumped is not None:
        signs.append((Advice.WATCH, reason("health_jumped", at=jumped.at, charge_mah=jumped.charge_mah)))
    low = [record for record in records[-5:] if ran_low(pack, record)]
    if len(low) >= 2:
        signs.append((Advice.WATCH, reason("health_run_low", count=len(low), of=len(records[-5:]))))
    order = list(Advice)
    advice = max((grade for grade, _ in signs), key=order.index, default=Advice.KEEP)
    signs.sort(key=lambda item: -order.index(item[0]))
    reasons = tuple(why for _, why in signs) or (reason("health_fine", count=len(records)),)
    return Health(advice, reasons, capacity_mah, part, times, spread_v, cycles, years)


def _spread(pack: Pack, records: Sequence[ChargeRecord]) -> float | None:
    """Volts between highest and lowest cell, at the last time all were read at rest."""
    volts = next((record.after_v for record in reversed(records) if len(record.after_v) > 1), ())
    if pack.reading is not None and len(pack.reading.cell_v) > 1:
        volts = pack.reading.cell_v
    return round(max(volts) - min(volts), 4) if volts else None


def _condition(pack: Pack) -> list[tuple[Advice, Reason]]:
    return [(Advice.RETIRE, reason("health_damaged"))] if pack.condition is Condition.DAMAGED else []


def _graded(
    what: str, value: float | None, limits: Sequence[tuple[Advice, float]], below: bool = False
) -> list[tuple[Advice, Reason]]:
    """The worst grade whose limit the value has passed."""
    for grade, limit in limits:
        if value is not None and not (at_most(limit, value) if below else at_most(value, limit)):
            return [(grade, reason(f"health_{what}", value=value, limit=limit))]
    return []


DISPOSAL = ("disposal_discharge", "disposal_tape", "disposal_point", "disposal_no_salt", "disposal_local")
"""Steps for a pack that is retired or hurt; they defer to local rules."""
