"""A pack from its label, in whichever words and order: "6 x 650 3S 60C XT30", "14.8 V 1500", "2,200 mAh 4S LiPo"."""

import re
from collections.abc import Sequence
from itertools import product

from iterum.core.reading.tokens import Kind
from iterum.core.reading.told import Choice, Line, Told
from iterum.core.reading.words import MOST_ALIKE, chemistry_in, count_in, damage_in
from iterum.core.say import say
from iterum.core.things.chemistry import CHEMISTRIES, MAX_CELLS

LABEL_V = {"li-ion": (3.6, 3.7), "life": (3.2, 3.3), "lihv": (3.8, 3.85)}
"""Volts a cell that labels use, where they use several. Common practice, no source."""
LIKELY_CHARGE_C = 5.0
"""A charge C above this is nearly always the discharge C, read off the wrong line. Common practice, no source."""
LEAST_MAH, MOST_MAH = 30.0, 60_000.0
CHARGE, DISCHARGE = (
    ("charge*", "charging", "chg", "chrg"),
    ("discharge*", "dis", "disch*", "dchg", "burst", "cont*", "peak", "pulse"),
)
_NO_USE = {
    "g": "weight",
    "mm": "size",
    "awg": "wire",
    "cycles": "cycles",
    "years": "age",
    "%": "part",
    "hz": "frequency",
    "deg": "temperature",
    "mv": "millivolts",
    "min": "time",
    "h": "time",
}


def read_pack(text: str) -> Told:
    """What the label of a pack says; what it leaves open is asked, above all its chemistry.

    text : as it was typed.
    """
    line = Line(text)
    chemistry = chemistry_in(line)
    count = count_in(line, "packs")
    cells = _cells(line)
    capacity_mah = _capacity(line)
    if count is None:
        count = _bare_count(line)
    count = count or 1
    if not 1 <= count <= MOST_ALIKE:
        line.fault("label_count", count=count, most=MOST_ALIKE)
        count = 1
    cells = _volts(line, chemistry, cells)
    _name(line, chemistry)
    if cells is not None:
        line.fields["cells"] = cells
        nominal_v = CHEMISTRIES[chemistry].nominal_v * cells if chemistry in CHEMISTRIES else None
        line.mean("means_cells", cells=cells, nominal_v=nominal_v)
    elif not any(asked.code in ("cells", "volts") for asked in line.questions):
        line.ask("cells", field="cells")
    if capacity_mah is not None:
        line.fields["capacity_mah"] = capacity_mah
        line.mean("means_capacity", capacity_mah=capacity_mah)
        _currents(line, capacity_mah)
    _energy(line, chemistry, cells, capacity_mah)
    _plug(line)
    damage_in(line, count)
    _no_use(line)
    if count > 1:
        line.mean("means_count", count=count)
        _together(line, count)
    return line.told("pack", count)


def _together(line: Line, count: int) -> None:
    """What several alike hold together, and the amps that they take on one board."""
    told = line.fields
    if not {"chemistry", "cells", "capacity_mah"} <= set(told):
        return
    ah = told["capacity_mah"] / 1000
    each_a = ah * told.get("max_charge_c", 1.0)
    wh = ah * told["cells"] * CHEMISTRIES[told["chemistry"]].nominal_v
    line.mean("means_together", energy_wh=wh * count, each_a=each_a, all_a=each_a * count)


def _name(line: Line, chemistry: str | None) -> None:
    if chemistry in ("nicd", "pb"):
        line.fault("label_not_charged", chemistry={"nicd": "NiCd", "pb": "lead"}[chemistry])
    elif chemistry is not None:
        line.fields["chemistry"] = chemistry
        line.mean("means_chemistry", chemistry=CHEMISTRIES[chemistry].label)
    elif not any(asked.code == "volts" for asked in line.questions):
        line.take(*line.words("lithium"))
        line.ask("chemistry", [Choice(name, item.label, {"chemistry": name}) for name, item in CHEMISTRIES.items()])


def _cells(line: Line) -> int | None:
    places = line.numbers("s")
    told = {int(line.tokens[place].value) for place in places if line.tokens[place].low is None}
    if len(told) > 1:
        line.ask("cells", [Choice(str(one), f"{one}S", {"cells": one}) for one in sorted(told)], at=places)
        return None
    if not told:
        return None
    line.take(*places)
    (cells,) = told
    if not 1 <= cells <= MAX_CELLS:
        line.fault("label_cells", cells=cells, most=MAX_CELLS)
        return None
    return cells


def _capacity(line: Line) -> float | None:
    """mAh: a figure with its unit, else the one bare figure that can be a capacity."""
    _resistances(line)
    _years(line)
    named = {
        place: line.value(place) * (1000 if line.tokens[place].unit == "ah" else 1)
        for place in line.numbers("mah", "ah")
    }
    if not named:
        named = {place: mah for place in line.numbers("") if (mah := _bare_mah(line, place)) is not None}
    amounts = sorted({round(value, 1) for value in named.values()})
    if len(amounts) > 1:
        line.ask(
            "capacity", [Choice(f"{one:g}", f"{one:g} mAh", {"capacity_mah": one}) for one in amounts], at=list(named)
        )
        return None
    if not amounts:
        line.ask("capacity", field="capacity_mah")
        return None
    line.take(*named)
    (mah,) = amounts
    place = next(iter(named))
    if (parted := _count_or_thousands(line, place)) is not None:
        packs, each = parted
        whole = packs * 1000 + each
        one = Choice(f"{whole:g}", f"{whole:g} mAh", {"capacity_mah": float(whole)})
        many = Choice(
            f"{each:g}",
            say("{packs} of {each:g} mAh", packs=packs, each=each),
            {"capacity_mah": float(each), "count": packs},
        )
        line.ask("thousands", [one, many], at=[place], text=line.tokens[place].text)
        return None
    if not LEAST_MAH <= mah <= MOST_MAH:
        line.fault("label_capacity", text=line.tokens[place].text, capacity_mah=mah)
        return None
    token = line.tokens[place]
    if token.thousands is not None:
        line.mean("means_thousands", place, text=token.text.split()[0], value=mah)
    return mah


def _resistances(line: Line) -> None:
    """Milliohms per cell: the figures before the unit belong to it too, as in 6.1 6.0 6.3 6.1 mohm."""
    for place in line.numbers("mohm"):
        places = [place]
        while line.is_free(places[0] - 1) and _is_bare(line, places[0] - 1):
            places.insert(0, places[0] - 1)
        values = [line.tokens[one].value for one in places]
        line.take(*places, *line.words("ir", "resistance", "internal"))
        if all(0.1 <= value <= 1000 for value in values):
            line.fields["resistance_mohm"] = values
            line.mean("means_resistance", *places, values=tuple(values))


def _is_bare(line: Line, place: int) -> bool:
    token = line.tokens[place]
    return token.kind is Kind.NUMBER and token.unit == "" and token.low is None and token.value < 100


def _years(line: Line) -> None:
    """A year is no capacity, where a word says that it is one."""
    for place in line.numbers(""):
        word = line.beside(place, "bought", "since", "from", "year", "made", "dated", "new", "built")
        if word is not None and 2000 <= line.tokens[place].value <= 2060:
            line.take(place, word)
            line.mean("means_no_use", place, text=line.tokens[place].text, what="year")


def _count_or_thousands(line: Line, place: int) -> tuple[int, int] | None:
    """(packs, mAh) where a blank may part a count from a capacity, as in "6 650 mAh"; None where it cannot."""
    before = place - 1
    spaced = re.match(r"([0-9]{1,2})[\u00a0\u202f ]([1-9][0-9]{2})(?![0-9])", line.tokens[place].text)
    if spaced and int(spaced[1]) <= MOST_ALIKE:
        return int(spaced[1]), int(spaced[2])
    first = line.tokens[before] if line.is_free(before) else None
    bare = first is not None and first.kind is Kind.NUMBER and first.unit == "" and not first.decimals
    if first is not None and bare and 1 <= first.value <= MOST_ALIKE and 100 <= line.value(place, "mah") <= 999:
        line.take(before)
        return int(first.value), int(line.value(place, "mah"))
    return None


def _bare_mah(line: Line, place: int) -> float | None:
    """mAh of a figure without a unit, where it can be one: 650, 2,200, or 3.3 for 3300."""
    token = line.tokens[place]
    if token.low is not None:
        return None
    value = line.value(place, "mah")
    if token.decimals and token.thousands is None:
        return value * 1000 if 0.1 <= value <= 30 else None
    return value if 100 <= value <= 30_000 else None


def _bare_count(line: Line) -> int | None:
    """How many: a small bare figure at the very beginning, as in "6 650 3S"."""
    if (
        line.is_free(0)
        and line.tokens[0].kind is Kind.NUMBER
        and line.tokens[0].unit == ""
        and not line.tokens[0].decimals
    ):
        value = line.tokens[0].value
        if 2 <= value <= MOST_ALIKE:
            line.take(0)
            return int(value)
    return None


def _volts(line: Line, chemistry: str | None, cells: int | None) -> int | None:
    """The cells, from the volts of the label where it does not say them; asked where they disagree."""
    places = line.numbers("v")
    if not places:
        return cells
    for place in places:
        full = line.beside(place, "full", "charged", "max*", "peak")
        line.take(place, *([full] if full is not None and line.says(full, "full", "charged") else ()))
        volts = line.value(place)
        fits = _by_volts(volts, chemistry, cells, full is not None)
        if not fits and chemistry in CHEMISTRIES and cells is None:
            line.ask("cells", field="cells", at=[place], volts=volts)
            return None
        if not fits:
            likely = _by_volts(volts, chemistry, None, full is not None)
            if chemistry in CHEMISTRIES:
                could = sorted({*(count for _, count in likely), *([] if cells is None else [cells])})
                choices = [Choice(f"{count}", f"{count}S", {"cells": count}) for count in could]
            else:
                choices = _choices(likely)
            label = CHEMISTRIES[chemistry].label if chemistry in CHEMISTRIES else None
            line.ask("volts", choices, at=[place], volts=volts, cells=cells, chemistry=label)
            return None
        counts = {count for _, count in fits}
        if cells is None and len(counts) == 1 and (chemistry is not None or len(fits) == 1):
            (cells,) = counts
        elif cells is None:
            line.ask("volts", _choices(fits), at=[place], volts=volts, cells=None, chemistry=None)
            return None
    return cells


def _choices(fits: Sequence[tuple[str, int]]) -> list[Choice]:
    return [
        Choice(f"{name} {count}", f"{count}S {CHEMISTRIES[name].label}", {"chemistry": name, "cells": count})
        for name, count in fits
    ]


def _by_volts(volts: float, chemistry: str | None, cells: int | None, full: bool) -> list[tuple[str, int]]:
    """(chemistry, cells) whose label, or whose full pack, would say these volts."""
    fits = []
    for item in CHEMISTRIES.values():
        ones = [item.brim_v, item.full_v] if full else [*LABEL_V.get(item.name, (item.nominal_v,))]
        ones += [item.full_v] if chemistry is not None and item.joins and not full else []
        for count in range(1, MAX_CELLS + 1):
            near = any(abs(volts - one * count) <= 0.051 for one in ones)
            if near and chemistry in (None, item.name) and cells in (None, count):
                fits.append((item.name, count))
    return fits


def _currents(line: Line, capacity_mah: float) -> None:
    """Charge C and discharge C, by the words around them and by what each can be."""
    capacity_ah = capacity_mah / 1000
    rates = line.numbers("c")
    amps = [place for place in line.numbers("a") if line.beside(place, *CHARGE, *DISCHARGE)]
    places = sorted([*rates, *amps])
    if not places:
        loose = line.numbers("a")
        if loose:
            line.ask(
                "amps",
                [
                    Choice(
                        "discharge",
                        "it gives so many amps",
                        {"discharge_c": round(line.value(loose[0]) / capacity_ah, 2)},
                    ),
                    Choice("out", "leave it out"),
                ],
                at=loose,
                amps_a=line.value(loose[0]),
            )
        line.mean("means_no_charge_c", assumed=True, current_a=capacity_ah)
        return
    told = {place: line.value(place) / (capacity_ah if line.tokens[place].unit == "a" else 1) for place in places}
    words = [
        (place, line.says(place, *CHARGE)) for place in range(len(line.tokens)) if line.says(place, *CHARGE, *DISCHARGE)
    ]
    line.take(*places, *(place for place, _ in words))
    several = _several_charges(places, told, words)
    if several:
        choices = [Choice(f"{rate:g}", f"{rate:g}C", {"max_charge_c": rate}) for rate in several]
        line.ask("charge_which", choices, at=places)
        return
    charge, discharge, doubt = _roles(places, told, words)
    if doubt is not None:
        value = told[doubt]
        line.ask(
            "rate",
            [
                Choice("discharge", say("discharge {value:g}C", value=value), {"discharge_c": value}),
                *(
                    [Choice("charge", say("charge {value:g}C", value=value), {"max_charge_c": value})]
                    if value <= 20
                    else []
                ),
                Choice("out", "leave it out"),
            ],
            at=[doubt],
            rate_c=value,
        )
    if charge is not None and doubt is None and told[charge] > LIKELY_CHARGE_C:
        value = told[charge]
        line.ask(
            "charge_rate",
            [
                Choice("discharge", say("it is the discharge C: {value:g}C", value=value), {"discharge_c": value}),
                *(
                    [Choice("charge", say("the label says charge {value:g}C", value=value), {"max_charge_c": value})]
                    if value <= 20
                    else []
                ),
                Choice("out", "leave it out"),
            ],
            at=[charge],
            rate_c=value,
            current_a=value * capacity_ah,
        )
    elif charge is not None and doubt is None:
        line.fields["max_charge_c"] = round(told[charge], 3)
        line.mean("means_charge_c", charge, rate_c=told[charge], current_a=told[charge] * capacity_ah)
    elif doubt is None:
        line.mean("means_no_charge_c", assumed=True, current_a=capacity_ah)
    lasting = [_least(line, place, told[place]) for place in discharge]
    if lasting and doubt is None:
        line.fields["discharge_c"] = round(min(lasting), 3)  # the one for long, not the burst
        line.mean("means_discharge_c", *discharge, rate_c=min(lasting), current_a=min(lasting) * capacity_ah)


def _least(line: Line, place: int, value: float) -> float:
    """The low end of a range of discharge C: 20-40C lasts at 20C."""
    low = line.tokens[place].low
    return value if low is None or line.tokens[place].unit == "a" else min(low, value)


def _several_charges(places: Sequence[int], told: dict[int, float], words: Sequence[tuple[int, bool]]) -> list[float]:
    """The charge rates of a line that names two of them, as "recommended charge 1C, max charge 3C"; empty for one."""
    charges = [at for at, charge in words if charge]
    if len(charges) < 2:
        return []
    rates = sorted({told[place] for place in places if told[place] <= LIKELY_CHARGE_C})
    return rates if len(rates) > 1 else []


def _roles(
    places: Sequence[int], told: dict[int, float], words: Sequence[tuple[int, bool]]
) -> tuple[int | None, list[int], int | None]:
    """(the figure of the charge, those of the discharge, one in doubt) by the words beside them.

    A word belongs to the figure behind it or before it. Of the ways to share them out those count in which a charge C
    is no more than 5 and less than the discharge C; where they differ in what they say, the line is in doubt.
    """
    if not words:
        return None, list(places), None
    options: list[list[int | None]] = []
    for at, _ in words:
        before = max((place for place in places if place < at), default=None)
        after = min((place for place in places if place > at), default=None)
        near = [
            place
            for place in (after, before)
            if place is not None and not any(min(place, at) < other < max(place, at) for other, _ in words)
        ]
        options.append([*near] or [None])
    ways: dict[tuple[int | None, tuple[int, ...]], int] = {}
    for shared in product(*options):
        used = [place for place in shared if place is not None]
        charges = [place for place, (_, charge) in zip(shared, words, strict=True) if charge and place is not None]
        downs = {place for place, (_, charge) in zip(shared, words, strict=True) if not charge and place is not None}
        if len(set(charges)) > 1 or downs & set(charges):
            continue
        charge = charges[0] if charges else None
        discharge = tuple(place for place in places if place != charge)
        after = sum(place > at for place, (at, _) in zip(shared, words, strict=True) if place is not None)
        uniform = after in (0, len(used))
        likely = charge is None or (
            told[charge] <= LIKELY_CHARGE_C and all(told[one] >= told[charge] for one in discharge)
        )
        key = (charge, discharge)
        ways[key] = max(ways.get(key, 0), 2 * likely + uniform)
    best = max(ways.values(), default=0)
    top = [way for way, score in ways.items() if score == best]
    if len(top) != 1:
        charges_in = {charge for charge, _ in top}
        at = next((charge for charge in charges_in if charge is not None), places[0])
        return None, [place for place in places if place != at], at
    return top[0][0], list(top[0][1]), None


def _energy(line: Line, chemistry: str | None, cells: int | None, capacity_mah: float | None) -> None:
    """Wh on the label: checked against the volts and the mAh."""
    for place in line.numbers("wh"):
        wh = line.value(place)
        line.take(place)
        if chemistry in CHEMISTRIES and cells and capacity_mah:
            own_wh = CHEMISTRIES[chemistry].nominal_v * cells * capacity_mah / 1000
            if abs(wh - own_wh) > 0.1 * own_wh:
                line.ask(
                    "energy", [Choice("label", say("the mAh and cells are right"))], at=[place], wh=wh, own_wh=own_wh
                )
                continue
        line.mean("means_energy_agrees", place, wh=wh)


def _plug(line: Line) -> None:
    for place in line.free():
        token = line.tokens[place]
        if token.kind is Kind.PLUG:
            line.take(place)
            name = token.text.upper().replace(" ", "")
            line.fields["connector"] = name.replace("-", "", 1) if name[:2] in ("XT", "EC", "IC", "AS") else name
            line.mean("means_connector", place, connector=line.fields["connector"])
            return


def _no_use(line: Line) -> None:
    """Figures of a label that Iterum has no use for, as a weight is: they are told, not dropped."""
    for place in line.numbers(*_NO_USE):
        line.take(place)
        line.mean("means_no_use", place, text=line.tokens[place].text, what=_NO_USE[line.tokens[place].unit])
