"""What may be done with a pack now: one answer for every act, from each of its cells, its age and the air.

Match, size, plan, joining, charging, bringing down, storage, the run and the watch ask this and nothing else, so that
no two of them can disagree. A permit carries its reasons with the cell that they are about. The limits are common
practice, no source, except where a comment names one.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum
from functools import lru_cache

from iterum.core.permit.facts import FACTS, RANK, WEAK_RATE_C, Act, Level
from iterum.core.permit.identity import METER_OVER_V, Identity, identities, identity_facts
from iterum.core.quantities import at_most, difference, spread
from iterum.core.reasons import Reason, reason
from iterum.core.things.bench import Bench
from iterum.core.things.curve import StateOfCharge
from iterum.core.things.packs import READING_LASTS, TEMPERATURE_LASTS, Condition, Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.volts import DOWN_LEAST_V, NEARLY_FLAT_V, OVER_FULL_V, SPREAD_LOOK_V, SPREAD_WEAK_V, THERE_V

WORN_PART, SPENT_PART = 0.80, 0.60
"""A pack that holds less than these parts of its label is worn, and to be retired."""
FULL = ("full", "full_by_charge")
"""Facts of a pack that needs no charge."""
FULL_UNDER_V = 0.01
"""A cell of a full pack may stand this much under full: meters read to 0.01 V."""
LIKELY_CHARGE_C = 5.0
"""A charge C above this is nearly always the discharge C, read off the wrong line of a label."""
COLDEST_CHARGE_C, HOTTEST_CHARGE_C = 0.0, 45.0
"""Cell temperature, degrees Celsius, outside which charging is not advised. Usual data-sheet limits."""
COOL_CHARGE_C = 10.0
"""Cells colder than this are charged slowly. Common practice, no source."""
DOWN_C = 1.0
"""The most C out of a pack on purpose."""
UP_C = 1.0
"""The most C into a pack on its way to storage voltage: nobody is in a hurry then."""


@dataclass(frozen=True)
class Allowance:
    """What a permit says of one act.

    max_rate_c : the most C, into the pack or out of it; None where it is not allowed. until : when its reading stops
    counting for it, None where it does not. reasons : facts that forbid it or limit it, the worst first.
    """

    act: Act
    allowed: bool
    max_rate_c: float | None
    until: datetime | None
    reasons: tuple[Reason, ...]


@dataclass(frozen=True)
class Permit:
    """Everything that may be done with one pack now.

    acts : each act with what is allowed of it. max_rate_c : the most C that a weak or cold pack may take, None for
    others. full : whether it needs no charge. spread_v : V between its highest and lowest cell, None unless every cell
    was read. odd_cell : number of the cell furthest from the others (from 1), None unless the spread is over the look
    limit. identities : what it may be by its volts.
    """

    pack: Pack
    level: Level
    reasons: tuple[Reason, ...]
    acts: Mapping[Act, Allowance]
    max_rate_c: float | None
    full: bool
    soc: StateOfCharge | None
    lowest_v: float | None
    spread_v: float | None
    odd_cell: int | None
    identities: tuple[Identity, ...]

    def may(self, act: Act) -> bool:
        """Whether an act is allowed."""
        return self.acts[act].allowed

    @property
    def joins(self) -> bool:
        """Whether it may share a board."""
        return self.may(Act.JOIN)

    @property
    def charges(self) -> bool:
        """Whether it may be charged at all."""
        return self.may(Act.CHARGE)

    @property
    def alone(self) -> bool:
        """Whether it may only be charged alone."""
        return self.charges and not self.joins

    @property
    def weak(self) -> bool:
        """Whether it is charged gently, balanced and watched, whatever else."""
        return any(item.code in ("cells_apart_weak", "nearly_flat") for item in self.reasons)

    @property
    def held_energy_wh(self) -> float | None:
        """Wh it holds now, about: capacity times state of charge times nominal volts; None where unknown."""
        if self.soc is None or self.soc.value is None:
            return None
        return self.pack.cells * self.pack.chemistry.nominal_v * self.pack.capacity_ah * self.soc.value

    @property
    def fullness(self) -> tuple[Reason, ...]:
        """Why it needs no charge; empty where it does."""
        return tuple(item for item in self.reasons if item.code in FULL)

    def against(self, act: Act) -> tuple[Reason, ...]:
        """Reasons for which an act is forbidden; empty where it is allowed."""
        return tuple(item for item in self.reasons if act in FACTS[item.code].forbids)


# ---------------------------------------------------------------------------------------- facts


def _temperature_facts(pack: Pack, reading: Reading) -> list[Reason]:
    """Whether its cells are, or may be, outside the temperatures at which charging is advised.

    An old temperature allows nothing any more, but what it forbids it goes on forbidding until it is read again.
    """
    told = [] if reading.temperature_c is None else _of_temperature(reading.temperature_c, of_air=False)
    if reading.temperature_c is not None and not pack.stale_temperature:
        return told
    of_air = [] if pack.air_c is None else _of_temperature(pack.air_c, of_air=True)
    return told if any(item.code != "cold" for item in told) else of_air or told


def _of_temperature(temperature_c: float, of_air: bool) -> list[Reason]:
    cold, hot = not at_most(COLDEST_CHARGE_C, temperature_c), not at_most(temperature_c, HOTTEST_CHARGE_C)
    if of_air and (cold or hot):
        return [reason("air_outside", air_c=temperature_c, low_c=COLDEST_CHARGE_C, high_c=HOTTEST_CHARGE_C)]
    if cold:
        return [reason("too_cold", temperature_c=temperature_c, limit_c=COLDEST_CHARGE_C)]
    if hot:
        return [reason("too_hot", temperature_c=temperature_c, limit_c=HOTTEST_CHARGE_C)]
    if not at_most(COOL_CHARGE_C, temperature_c):
        numbers = {"temperature_c": temperature_c, "limit_c": COOL_CHARGE_C, "of_air": of_air}
        return [reason("cold", rate_c=WEAK_RATE_C, **numbers)]
    return []


def _volts_facts(pack: Pack, reading: Reading, rules: HouseRules) -> list[Reason]:
    """Facts that come from the volts of a chemistry whose volts tell: too low, too high, full."""
    chemistry = pack.chemistry
    average_v = reading.pack_v / pack.cells
    volts = reading.cell_v or (average_v,)
    lowest_v, highest_v = min(volts), max(volts)
    low = {"lowest_v": lowest_v, "cell": _number_of(reading, lowest_v)}
    high = {"highest_v": highest_v, "limit_v": chemistry.brim_v, "cell": _number_of(reading, highest_v)}
    facts: list[Reason] = []
    if not at_most(chemistry.refuse_v, lowest_v):
        facts.append(reason("below_refuse", limit_v=chemistry.refuse_v, **low))
    elif at_most(lowest_v, chemistry.refuse_v + NEARLY_FLAT_V):
        facts.append(reason("nearly_flat", refuse_v=chemistry.refuse_v, rate_c=WEAK_RATE_C, **low))
    elif not at_most(chemistry.hard_v, lowest_v):
        facts.append(reason("run_low", limit_v=chemistry.hard_v, **low))
    over_v, full_v = difference(highest_v, chemistry.brim_v), rules.rests_full_v(chemistry)
    if at_most(OVER_FULL_V, over_v):
        facts.append(reason("over_full", **high))
    elif not at_most(over_v, METER_OVER_V):
        facts.append(reason("above_full", **high))
    elif at_most(full_v, average_v) and at_most(full_v - FULL_UNDER_V, lowest_v):
        facts.append(reason("full", cell_v=average_v, limit_v=full_v))
    return facts


def _number_of(reading: Reading, volts: float) -> int | None:
    """The number of the cell with these volts; None where only the total was read."""
    return reading.cell_v.index(volts) + 1 if reading.cell_v else None


def _spread_facts(pack: Pack, reading: Reading) -> tuple[list[Reason], float | None, int | None]:
    """Facts from cells that disagree, with the spread in V and the odd cell's number."""
    if not reading.cell_v:
        return ([reason("cells_not_read", cells=pack.cells)] if pack.cells > 1 else []), None, None
    apart_v = spread(reading.cell_v)
    if at_most(apart_v, SPREAD_LOOK_V):
        return [], apart_v, None
    ordered = sorted(reading.cell_v)
    median_v = ordered[len(ordered) // 2] if len(ordered) > 2 else ordered[-1]
    odd = max(range(pack.cells), key=lambda index: abs(reading.cell_v[index] - median_v))
    low = reading.cell_v[odd] < median_v
    weak = not at_most(apart_v, SPREAD_WEAK_V)
    wide = reason(
        "cells_apart_weak" if weak else "cells_apart_look",
        spread_v=apart_v,
        limit_v=SPREAD_WEAK_V if weak else SPREAD_LOOK_V,
        cell=odd + 1,
        side="low" if low else "high",
        rate_c=WEAK_RATE_C,
    )
    return [wide], apart_v, odd + 1


def _label_facts(pack: Pack) -> list[Reason]:
    """What its label and its age say, whatever its volts."""
    facts = []
    if pack.condition is Condition.DAMAGED:
        facts.append(reason("damaged"))
    if pack.terms.gone:
        facts.append(reason("went_home", pilot=pack.pilot))
    part = pack.capacity_ah * 1000 / pack.capacity_mah
    if not at_most(WORN_PART, part):
        code = "worn" if at_most(SPENT_PART, part) else "spent"
        facts.append(reason(code, now_mah=pack.capacity_ah * 1000, label_mah=pack.capacity_mah))
    if pack.max_charge_c is not None and not at_most(pack.max_charge_c, LIKELY_CHARGE_C):
        facts.append(reason("charge_c_unlikely", charge_c=pack.max_charge_c, limit_c=LIKELY_CHARGE_C))
    return facts


def _reading_facts(pack: Pack, reading: Reading, rules: HouseRules) -> tuple[list[Reason], float | None, int | None]:
    """Facts from what was read, with the spread in V and the odd cell's number."""
    facts = _temperature_facts(pack, reading) + identity_facts(pack, reading)
    if pack.stale:
        hours = READING_LASTS / timedelta(hours=1)
        facts.append(reason("stale", hours=hours, at=reading.taken_at))
    apart_v: float | None = None
    odd_cell: int | None = None
    if pack.chemistry.joins:
        spread_facts, apart_v, odd_cell = _spread_facts(pack, reading)
        facts += _volts_facts(pack, reading, rules) + spread_facts
        if pack.charged_full and pack.chemistry.flat and pack.soc is not None and pack.soc.value is None:
            facts.append(reason("full_by_charge"))
        return facts, apart_v, odd_cell
    average_v = reading.pack_v / pack.cells
    if not at_most(pack.chemistry.refuse_v, average_v):
        facts.append(reason("below_refuse", lowest_v=average_v, limit_v=pack.chemistry.refuse_v, cell=None))
    if pack.charged_full:
        facts.append(reason("full_by_charge"))
    return facts, apart_v, odd_cell


# ---------------------------------------------------------------------------------------- acts


@lru_cache(maxsize=8192)
def permit_of(pack: Pack, rules: HouseRules) -> Permit:
    """What may be done with one pack under these house rules, with every reason, worst first."""
    facts = _label_facts(pack)
    apart_v: float | None = None
    odd_cell: int | None = None
    soc: StateOfCharge | None = None
    lowest_v: float | None = None
    if not pack.chemistry.joins:
        facts.append(reason("ends_by_drop", chemistry=pack.chemistry.label))
    if pack.reading is None:
        unread = "flown_since" if pack.flown_at else "charged_since" if pack.charged_at else "not_measured"
        facts.append(reason(unread))
    else:
        told, apart_v, odd_cell = _reading_facts(pack, pack.reading, rules)
        facts += told
        soc = pack.soc
        lowest_v = min(pack.reading.cell_v, default=difference(pack.reading.pack_v / pack.cells, 0))
    if not facts:
        agree = reason("cells_agree", spread_v=apart_v, limit_v=SPREAD_LOOK_V)
        facts.append(reason("nothing_wrong") if apart_v is None else agree)
    facts.sort(key=lambda item: RANK[item.code])
    rows = [FACTS[item.code] for item in facts]
    levels = list(Level)
    reasons = tuple(facts)
    slow_c = min((row.max_rate_c for row in rows if row.max_rate_c is not None), default=None)
    return Permit(
        pack=pack,
        level=max((row.level for row in rows), key=levels.index),
        reasons=reasons,
        acts={act: _allowance(act, pack, rules, reasons, slow_c) for act in Act},
        max_rate_c=slow_c,
        full=any(item.code in FULL for item in facts),
        soc=soc,
        lowest_v=lowest_v,
        spread_v=apart_v,
        odd_cell=odd_cell,
        identities=identities(pack),
    )


def _allowance(act: Act, pack: Pack, rules: HouseRules, facts: tuple[Reason, ...], slow_c: float | None) -> Allowance:
    if act is Act.STORE:
        return _store(pack, rules, facts, slow_c)
    most_c = {
        Act.JOIN: rules.join_peak_c,
        Act.CHARGE: pack.charge_c,
        Act.DISCHARGE: DOWN_C,
        Act.BALANCE: WEAK_RATE_C,
    }[act]
    told = tuple(item for item in facts if act in FACTS[item.code].forbids or _limits(item, act))
    allowed = not any(act in FACTS[item.code].forbids for item in facts)
    if not allowed:
        return Allowance(act, False, None, None, told)
    if act is not Act.JOIN and slow_c is not None and most_c is not None:
        most_c = min(most_c, slow_c)
    return Allowance(act, True, most_c, _until(act, pack), told)


def _limits(fact: Reason, act: Act) -> bool:
    """Whether a fact limits how fast an act may be."""
    return act is not Act.JOIN and FACTS[fact.code].max_rate_c is not None


def _until(act: Act, pack: Pack) -> datetime | None:
    """When the reading stops counting for an act; None where it does not."""
    reading = pack.reading
    if reading is None or reading.taken_at is None:
        return None
    ends = [reading.taken_at + READING_LASTS] if act is Act.JOIN and pack.chemistry.joins else []
    air_c = pack.air_c
    cool = air_c is not None and not (COOL_CHARGE_C <= air_c <= HOTTEST_CHARGE_C)
    if reading.temperature_c is not None and not pack.stale_temperature and cool:  # only its own temperature allows it
        ends.append(reading.taken_at + TEMPERATURE_LASTS)
    return min(ends, default=None)


# ---------------------------------------------------------------------------------------- storage


class Way(StrEnum):
    """Which way a pack goes to storage voltage; `ANY` for one that has none."""

    UP = "up"
    DOWN = "down"
    BALANCE = "balance"
    THERE = "there"
    ANY = "any"


def storage_way(pack: Pack, rules: HouseRules) -> Way | None:
    """Which way a measured pack goes to storage voltage, judged by each of its cells.

    Down only until its lowest cell is there; where that one is there or below and another above, it is only balanced.
    None before it is measured.
    """
    if not pack.chemistry.joins:
        return Way.ANY
    if pack.reading is None:
        return None
    target_v = rules.storage_of(pack.chemistry)
    volts = pack.reading.cell_v or (pack.reading.pack_v / pack.cells,)
    low = not at_most(difference(target_v, min(volts)), THERE_V)
    high = not at_most(difference(max(volts), target_v), THERE_V)
    nothing_to_give = not at_most(target_v + DOWN_LEAST_V, min(volts))
    if high and (low or nothing_to_give):
        return Way.BALANCE
    return Way.UP if low else Way.DOWN if high else Way.THERE


_STORED_BY = {Way.UP: Act.CHARGE, Way.DOWN: Act.DISCHARGE, Way.BALANCE: Act.BALANCE}


def _store(pack: Pack, rules: HouseRules, facts: tuple[Reason, ...], slow_c: float | None) -> Allowance:
    """Storing is charging, discharging or balancing, whichever its cells need; else nothing is done at all."""
    way = storage_way(pack, rules)
    by = _STORED_BY.get(way) if way is not None else None
    target_v = rules.storage_of(pack.chemistry)
    if by is None:
        against = tuple(item for item in facts if Act.STORE in FACTS[item.code].forbids)
        nothing = (
            reason("store_any", chemistry=pack.chemistry.label)
            if way is Way.ANY
            else reason("store_there", target_v=target_v)
        )
        return Allowance(Act.STORE, not against, None, None, against or (nothing,))
    told = _allowance(by, pack, rules, facts, slow_c)
    if not told.allowed:
        return replace(told, act=Act.STORE)
    lowest_v = pack.cell_v if pack.reading is None or not pack.reading.cell_v else min(pack.reading.cell_v)
    cell = None if pack.reading is None else _number_of(pack.reading, lowest_v or 0.0)
    how = reason(f"store_{way}", target_v=target_v, lowest_v=lowest_v, cell=cell)
    most_c = min(told.max_rate_c or UP_C, UP_C)
    return Allowance(Act.STORE, True, most_c, told.until, (*told.reasons, how))


def permits(bench: Bench) -> dict[str, Permit]:
    """The permit of every pack of a bench, by its tag."""
    return {pack.id: permit_of(pack, bench.rules) for pack in bench.packs}
