"""Where the energy comes from, by its label: "100 Ah 12 V", "500 Wh 300 W", "10,000 mAh 12 V 1.5 A"."""

from dataclasses import dataclass

from iterum.core.reading.tokens import Kind
from iterum.core.reading.told import Choice, Line, Told
from iterum.core.reading.words import chemistry_in, count_in
from iterum.core.say import say
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.kit import USABLE_PARTS

BANK_CELL_V, BANK_GIVES = 3.65, 0.85
"""A power bank's mAh are at the volts of its cells, 3.6 to 3.7, and its converter gives 80 to 90 % of it. Common
practice, no source."""
LEAD_CELL_V, LEAD_PART = 2.0, 0.5
"""Volts of a lead cell on labels, and the part of it that may be taken. Common practice, no source."""
USUAL_V = {"pb": 12.0, "life": 12.8}
"""Volts of a battery whose label gives its Ah alone. Common practice, no source."""
LITHIUM_PART = USABLE_PARTS["li-ion"]
DISAGREES = 0.15
"""Part by which Wh and Ah times volts may differ, for labels round."""
MOST_BATTERY_A = 200.0
"""More than this on a lead battery is its cranking amps, no limit. Common practice, no source."""
AC_V = 80.0
"""From here on volts are those of mains."""
USB_V = (5.0, 9.0, 12.0, 15.0, 20.0)
BANK = ("bank", "powerbank", "usb*", "usb-c", "pd", "qc")
MAINS = ("mains", "socket", "house", "wall", "grid")
LEAD_WORDS = ("car", "starter", "truck", "caravan")


def read_source(text: str) -> Told:
    """What a source holds and gives: mAh of a bank at the volts of its cells, Ah of a battery at its own.

    text : as it was typed.
    """
    line = Line(text)
    low_volts = [place for place in line.numbers("v") if line.value(place) < AC_V]
    if line.words(*MAINS) and not line.numbers("wh", "ah", "mah") and not low_volts:
        line.take(*line.words(*MAINS, "power", "outlet", "ac"), *line.numbers("v", "hz"))
        line.mean("means_mains")
        return line.told("mains")
    chemistry = chemistry_in(line)
    generator = line.words("generator*", "genset")
    bank = bool(line.words(*BANK))
    lead_words = line.words(*LEAD_WORDS)
    line.take(
        *generator,
        *line.words(*BANK),
        *lead_words,
        *line.words(
            "station",
            "leisure",
            "deep",
            "cycle",
            "marine",
            "solar",
            "portable",
            "power",
            "outlet",
            "socket",
            "cigarette",
            "lighter",
            "panel",
            "inverter",
            "dc",
            "ac",
            "petrol",
            "box",
        ),
    )
    if chemistry is None and lead_words:
        chemistry = "pb"
    series = line.words("series")
    parallel = line.words("parallel")
    line.take(*series, *parallel)
    cells = _one(line, "s")
    count = count_in(line, "packs") or 1
    _cranking(line, chemistry)
    volts = [line.value(place) for place in line.numbers("v")]
    amp_hours, wh = _stored(line, bank, cells)
    amps = [line.value(place) for place in line.numbers("a")]
    watts = [line.value(place) for place in line.numbers("w")]
    line.take(*line.numbers("v"), *line.numbers("a"), *line.numbers("w"))
    bank = bank or (
        amp_hours is not None
        and amp_hours[1] == "mah"
        and cells is None
        and chemistry in (None, "lipo", "li-ion")
        and (not volts or all(one in USB_V for one in volts))
    )
    each_v = max(volts, default=None)
    if bank:
        _bank(line, amp_hours[0] if amp_hours else None, wh, each_v, amps, watts, count)
        return line.told("source")
    ah = amp_hours[0] if amp_hours else None
    _battery(line, Battery(chemistry, cells, ah, wh, each_v, count), bool(series), bool(parallel))
    if generator:
        line.fields.pop("energy_wh", None)
        line.mean("means_generator")
    _limits(line, amps, watts, count, bool(parallel))
    if not line.questions and not {"energy_wh", "max_power_w", "max_current_a"} & set(line.fields):
        line.ask("source_watts", field="max_power_w")
    if "energy_wh" not in line.fields and not any(asked.field == "energy_wh" for asked in line.questions):
        line.mean("means_no_budget", assumed=True)
    return line.told("source")


def _one(line: Line, unit: str) -> int | None:
    places = line.numbers(unit)
    line.take(*places)
    return int(line.tokens[places[0]].value) if places else None


def _stored(line: Line, bank: bool, cells: int | None) -> tuple[tuple[float, str] | None, float | None]:
    """((Ah, the unit it was said in), Wh) of one device."""
    wh = None
    for place in line.numbers("wh"):
        value = line.value(place)
        wh = value if wh is None else min(wh, value)
        line.take(place)
    held: tuple[float, str] | None = None
    for place in line.numbers("mah", "ah"):
        unit = line.tokens[place].unit
        value = line.value(place) / (1000 if unit == "mah" else 1)
        if line.tokens[place].thousands is not None and unit == "mah":
            line.mean("means_thousands", place, text=line.tokens[place].text.split()[0], value=1000 * value)
        if held is not None and abs(held[0] - value) > 0.01 * value:
            line.fault("label_two_sources", one=held[0], other=value)
        held = held or (value, unit)
        line.take(place)
    if held is None and wh is None:
        for place in line.numbers(""):
            value = line.value(place, "mah")
            if (bank or cells is not None) and 500 <= value <= 200_000 and line.tokens[place].low is None:
                line.take(place)
                held = (value / 1000, "mah")
                break
    return held, wh


def _cranking(line: Line, chemistry: str | None) -> None:
    """Amps for cranking an engine are no limit."""
    norms = ("cca", "ca", "mca", "en", "sae", "cranking", "cold")
    for place in line.numbers(""):
        if line.says(place + 1, *norms) or line.says(place - 1, *norms):
            line.take(place, *line.words(*norms))
            line.mean("means_cranking", place, current_a=line.tokens[place].value)
    for place in line.numbers("a"):
        words = [
            there
            for there in (line.beside(place, "cca", "cranking", "cold", "start*", "en", "crank"),)
            if there is not None
        ]
        if words or (chemistry == "pb" and line.value(place) > MOST_BATTERY_A):
            line.take(place, *words, *line.words("cca", "cranking", "cold", "en"))
            line.mean("means_cranking", place, current_a=line.value(place))
        elif line.value(place) > MOST_BATTERY_A:
            line.ask(
                "cranking",
                [
                    Choice("cranking", "they start an engine"),
                    Choice("limit", "it may give so many for long", {"max_current_a": line.value(place)}),
                ],
                at=[place],
                current_a=line.value(place),
            )


def _bank(
    line: Line,
    ah: float | None,
    wh: float | None,
    volts: float | None,
    amps: list[float],
    watts: list[float],
    count: int,
) -> None:
    """A bank: what it holds is counted at its cells; it drops its volts when idle."""
    line.mean("means_bank")
    if wh is None and ah is not None:
        wh = round(ah * BANK_CELL_V, 1)
        line.mean(
            "means_bank_energy",
            capacity_mah=1000 * ah,
            cell_v=BANK_CELL_V,
            energy_wh=wh * count,
            usable_wh=wh * count * BANK_GIVES,
        )
    elif wh is not None:
        line.mean("means_energy", energy_wh=wh * count, usable_wh=wh * count * BANK_GIVES)
    if wh is not None:
        line.fields["energy_wh"] = round(wh * count, 1)
        line.fields["usable_fraction"] = BANK_GIVES
    else:
        line.mean("means_no_budget", assumed=True)
    line.fields["falls_back"] = True
    if volts is not None:
        line.fields["voltage_v"] = volts
    _limits(line, amps, watts, 1, parallel=False)
    if not amps and not watts:
        line.ask("source_watts", field="max_power_w")


@dataclass
class Battery:
    """What a label says of one battery, or of several alike. volts, ah, wh : of each."""

    chemistry: str | None
    cells: int | None
    ah: float | None
    wh: float | None
    volts: float | None
    count: int

    @property
    def cell_v(self) -> float | None:
        """Volts of a cell on labels of its kind; None where the kind is not known."""
        if self.chemistry == "pb":
            return LEAD_CELL_V
        return CHEMISTRIES[self.chemistry].nominal_v if self.chemistry in CHEMISTRIES else None

    @property
    def all_wh(self) -> float | None:
        """Wh of all of them."""
        return None if self.wh is None else self.wh * self.count


def _battery(line: Line, battery: Battery, series: bool, parallel: bool) -> None:
    """A battery or a station: Ah at its own volts, two in series double the volts, two in parallel the Ah."""
    _its_volts(line, battery)
    _its_energy(line, battery)
    if battery.count > 1:
        _joined(line, battery, series, parallel)
    if battery.volts is not None:
        line.fields["voltage_v"] = battery.volts
    _its_kind(line, battery)


def _its_volts(line: Line, battery: Battery) -> None:
    """Volts from cells, or cells from volts; the usual 12 V of a lead or LiFe battery that says none."""
    cell_v = battery.cell_v
    if battery.volts is None and battery.cells is not None:
        battery.volts = round((cell_v or 3.7) * battery.cells, 2)
        line.mean("means_source_cells", cells=battery.cells, voltage_v=battery.volts)
    elif battery.volts is None and battery.ah is not None and battery.chemistry in USUAL_V:
        battery.volts = USUAL_V[battery.chemistry]
        line.mean("means_volts_assumed", assumed=True, voltage_v=battery.volts)
    if battery.volts is None or battery.cells is not None or cell_v is None:
        return
    told = battery.volts / cell_v
    if battery.chemistry == "life" and abs(battery.volts - 12.0) < 0.5:  # called 12 V, and really 12.8
        battery.cells = 4
    elif round(told) and abs(told - round(told)) < 0.12 * max(told, 1):
        battery.cells = round(told)


def _its_energy(line: Line, battery: Battery) -> None:
    """Wh as said, or of its Ah at its volts; asked where the two disagree."""
    ah, volts, wh = battery.ah, battery.volts, battery.wh
    if wh is None and ah is not None and volts is None:
        line.ask("source_volts", field="voltage_v", ah=ah)
    elif wh is None and ah is not None and volts is not None:
        twelve = battery.chemistry == "life" and battery.cells and abs(volts - 12.0) < 0.5
        at_v = (battery.cells or 4) * (battery.cell_v or 3.2) if twelve else volts
        battery.wh = ah * at_v
        line.mean("means_battery_energy", ah=ah * battery.count, volts=at_v, energy_wh=battery.all_wh)
    elif wh is not None and ah is not None and volts is not None and abs(wh - ah * volts) > DISAGREES * wh:
        as_said = Choice("label", f"{wh:g} Wh", {"energy_wh": wh * battery.count})
        summed = Choice("sum", f"{ah * volts:g} Wh", {"energy_wh": ah * volts * battery.count})
        line.ask("source_energy", [as_said, summed], wh=wh, own_wh=ah * volts)
        battery.wh = None
    if battery.all_wh is not None:
        line.fields["energy_wh"] = round(battery.all_wh, 1)


def _joined(line: Line, battery: Battery, series: bool, parallel: bool) -> None:
    count, volts = battery.count, battery.volts
    if series and volts is not None:
        battery.volts = volts * count
        battery.cells = None if battery.cells is None else battery.cells * count
        line.mean("means_series", count=count, voltage_v=battery.volts)
    elif parallel or volts is None:
        line.mean("means_in_parallel", count=count)
    else:
        in_series = Choice("series", say("in series: {volts:g} V", volts=volts * count), {"voltage_v": volts * count})
        line.ask(
            "joined_how",
            [in_series, Choice("parallel", say("in parallel: {volts:g} V", volts=volts), {"voltage_v": volts})],
            count=count,
        )
        battery.volts = None


def _its_kind(line: Line, battery: Battery) -> None:
    """What part of it may be taken: by its kind, half until that is known."""
    lithium = line.words("lithium")
    line.take(*lithium)
    if battery.chemistry in USABLE_PARTS:
        line.fields["chemistry"] = battery.chemistry
        if battery.cells is not None:
            line.fields["cells"] = battery.cells
        part = USABLE_PARTS[battery.chemistry]
        named = "lead" if battery.chemistry == "pb" else CHEMISTRIES[battery.chemistry].label
        line.mean("means_usable", part=part, usable_wh=_part(battery, part), chemistry=named)
    elif battery.ah is not None and (lithium or battery.cells is not None):
        line.fields["usable_fraction"] = LITHIUM_PART
        line.mean("means_usable", part=LITHIUM_PART, usable_wh=_part(battery, LITHIUM_PART), chemistry="lithium")
    elif battery.ah is not None:
        lead = Choice("pb", say("lead: half of it"), {"chemistry": "pb"})
        life = Choice("life", "LiFe: 80 %", {"chemistry": "life"})
        line.ask(
            "source_kind", [lead, life, Choice("li-ion", say("other lithium: 80 %"), {"usable_fraction": LITHIUM_PART})]
        )
        line.mean("means_half_until_told", assumed=True, usable_wh=_part(battery, LEAD_PART))
    elif battery.all_wh is not None:
        line.mean("means_energy", energy_wh=battery.all_wh, usable_wh=battery.all_wh)


def _part(battery: Battery, part: float) -> float | None:
    return None if battery.all_wh is None else battery.all_wh * part


def _limits(line: Line, amps: list[float], watts: list[float], count: int, parallel: bool) -> None:
    times = count if parallel else 1
    volts = line.fields.get("voltage_v")
    if amps:
        line.fields["max_current_a"] = min(amps) * times
    if watts:
        line.fields["max_power_w"] = min(watts) * times
    if amps or watts:
        power_w = min([*watts, *([min(amps) * volts] if amps and volts else [])], default=None)
        line.mean(
            "means_gives",
            current_a=min(amps, default=None),
            power_w=None if power_w is None else power_w * times,
            volts=volts,
        )


def is_bank(line: Line) -> bool:
    """Whether a line of mAh has the volts of a USB output: 3.7 V cells behind a converter, no pack."""
    volts = [
        line.value(place) for place, token in enumerate(line.tokens) if token.kind is Kind.NUMBER and token.unit == "v"
    ]
    mah = [
        line.value(place)
        for place, token in enumerate(line.tokens)
        if token.kind is Kind.NUMBER and token.unit == "mah"
    ]
    return bool(mah) and bool(volts) and all(one in USB_V for one in volts)
