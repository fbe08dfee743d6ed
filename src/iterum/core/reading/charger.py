"""A charger from its label: "dual 400 W, 250 W a channel, 12 A, 6S, 0.1 to 12 A"."""

from dataclasses import dataclass
from itertools import pairwise

from iterum.core.reading.tokens import NUMBER_WORDS, Kind
from iterum.core.reading.told import Choice, Line, Told
from iterum.core.reading.words import CHEMISTRY_WORDS
from iterum.core.say import say
from iterum.core.things.chemistry import MAX_CELLS

MOST_CHANNELS = 16
CHANNEL_WORDS = {
    "single": 1,
    "mono": 1,
    "dual": 2,
    "double": 2,
    "twin": 2,
    "duo": 2,
    "triple": 3,
    "quad": 4,
    "hexa": 6,
    "octa": 8,
}
EACH = ("each", "every", "per", "channel", "channels", "port", "ch")
USUAL_CELLS = 6
"""Cells that a charger takes whose label does not say it. Common practice, no source."""
STICK_A, STICK_W = 3.0, 20.0
"""A charger this small may have no dial: its amps flow as they are. Common practice, no source."""
FULL_V = 4.2
FIXED = ("stick", "fixed", "dongle", "undialled", "usb", "wall", "nonadjustable")
DISCHARGE = ("discharge*", "discharging", "dis", "disch*", "down")
AC, DC = ("ac", "mains", "grid"), ("dc",)
INPUT = ("input", "in", "supply", "from")
LEAST, STEP = ("min", "minimum", "least", "smallest", "lowest"), ("step", "steps")


def read_charger(text: str) -> Told:
    """What the label of a charger says: channels, watts, amps and cells, and what is assumed of the rest.

    text : as it was typed.
    """
    line = Line(text)
    if _names_packs(line):  # its cells would be taken for the charger's
        line.fault("label_names_packs")
    channels = _channels(line)
    low_cells, high_cells = _cells(line)
    channel: dict[str, object] = {**_discharge(line)}
    input_v = _input(line)
    watts = _watts(line, channels)
    low_a, high_a = _amps(line)
    fixed = line.words(*FIXED)
    line.take(*fixed, *line.words("charger", "chargers", "balance*", "dial", "charge*", "channel*", "max*", "input"))
    if high_cells is None:
        high_cells = USUAL_CELLS
        line.mean("means_cells_assumed", assumed=True, cells=high_cells)
    else:
        channel |= {"max_cells": high_cells} if low_cells is None else {"max_cells": high_cells, "min_cells": low_cells}
        line.mean("means_charger_cells", low=low_cells or 1, high=high_cells)
    _tell_amps(line, channel, low_a, high_a)
    power_w = _tell_channel_watts(line, channel, watts, channels, high_cells)
    small = high_a is not None and high_a <= STICK_A and power_w is not None and power_w <= STICK_W and channels == 1
    if fixed:
        channel["fixed_current"] = True
        line.mean("means_fixed", *fixed, current_a=high_a)
    elif small and low_a is None:
        no = Choice("yes", say("no, these amps always flow"), {"fixed_current": True})
        line.ask("fixed", [no, Choice("no", say("yes, it has a dial"), {"fixed_current": False})], current_a=high_a)
    line.fields["channels"] = [dict(channel) for _ in range(channels)]
    if channels > 1:
        line.mean("means_channels", channels=channels)
    _tell_whole_watts(line, watts, channels)
    if input_v is not None:
        line.fields |= {"input_min_v": input_v[0], "input_max_v": input_v[1]}
        line.mean("means_input", low_v=input_v[0], high_v=input_v[1])
    return line.told("charger")


def _names_packs(line: Line) -> bool:
    """Whether a line speaks of packs too: mAh, or a count before a bare figure, as in 8x2200."""
    counted = (place + 1 for place in line.free() if line.tokens[place].kind is Kind.COUNT)
    bare = [place for place in counted if place in line.numbers("") and line.tokens[place].value >= MOST_CHANNELS]
    return bool(bare or line.numbers("mah", "ah", "c"))


def _tell_amps(line: Line, channel: dict[str, object], low_a: float | None, high_a: float | None) -> None:
    step_a = line.fields.pop("current_step_a", None)
    if step_a is not None:
        channel["current_step_a"] = step_a
    if low_a is not None:
        channel["min_current_a"] = low_a
    if high_a is None:
        line.ask("charger_amps", field="max_current_a")
    else:
        channel["max_current_a"] = high_a
        line.mean("means_charger_amps", low_a=low_a, high_a=high_a)


def _tell_channel_watts(
    line: Line, channel: dict[str, object], watts: "Watts", channels: int, cells: int
) -> float | None:
    """Watts of one channel: as said, or its part of all, or what its amps and cells make."""
    high_a = channel.get("max_current_a")
    power_w = watts.each_w or (watts.whole_w / channels if watts.whole_w is not None else None)
    if any(asked.code == "watts" for asked in line.questions):
        return None
    if power_w is not None:
        shown = min(cells, 4)
        line.mean(
            "means_channel_watts",
            power_w=power_w,
            cells=shown,
            volts=shown * FULL_V,
            current_a=power_w / (shown * FULL_V),
        )
    elif isinstance(high_a, float):
        power_w = round(high_a * cells * FULL_V, 1)
        line.mean("means_watts_by_amps", assumed=True, power_w=power_w, current_a=high_a, cells=cells)
    else:
        line.ask("charger_watts", field="max_power_w")
    if power_w is not None:
        channel["max_power_w"] = power_w
    return power_w


def _tell_whole_watts(line: Line, watts: "Watts", channels: int) -> None:
    """Watts of all channels together, on mains, and at given input volts."""
    if watts.whole_w is not None and (channels > 1 or watts.each_w not in (None, watts.whole_w)):
        line.fields["total_power_w"] = watts.whole_w
        line.mean("means_total_watts", power_w=watts.whole_w, channels=channels)
    if watts.mains_w is not None:
        line.fields["mains_power_w"] = watts.mains_w
        line.mean("means_mains_watts", power_w=watts.mains_w)
    points = sorted(watts.by_input)
    if not points:
        return
    line.fields["power_by_input_v"] = [list(pair) for pair in points]
    for volts, power_w in points:
        line.mean("means_watts_at", volts=volts, power_w=power_w)
    if len(points) == 1:
        line.mean("means_half_watts", assumed=True, volts=points[0][0], power_w=points[0][1] / 2)
    for (low_v, low_w), (high_v, high_w) in pairwise(points):
        if high_w < low_w:  # read off the wrong way round, most likely
            yes = Choice("as read", say("yes, as the label says"))
            line.ask("watts_fall", [yes], low_v=low_v, low_w=low_w, high_v=high_v, high_w=high_w)


@dataclass
class Watts:
    """Watts of a label.

    by_input : (V at the input, W). total_w : of all channels. mains_w : on mains. each_w : of one.
    """

    by_input: list[tuple[float, float]]
    total_w: float | None = None
    mains_w: float | None = None
    each_w: float | None = None

    @property
    def whole_w(self) -> float | None:
        """Watts of all channels together, from whatever says them; None where nothing does."""
        return self.total_w or max((watts for _, watts in self.by_input), default=None) or self.mains_w


def _channels(line: Line) -> int:
    told = None
    for place in line.numbers("channels"):
        told = int(line.tokens[place].value)
        line.take(place)
    for place in line.numbers("ports"):
        told = told or int(line.tokens[place].value)
        line.take(place)
    for place in line.words(*CHANNEL_WORDS):
        told = told or CHANNEL_WORDS[line.tokens[place].word]
        line.take(place)
    for place in line.words(*NUMBER_WORDS):
        if line.says(place + 1, "channel*", "ch", "port*", "output*"):
            told = told or NUMBER_WORDS[line.tokens[place].word]
            line.take(place, place + 1)
    for place in line.free():  # "2 x 250 W": so many channels of so many watts
        if line.tokens[place].kind is Kind.COUNT:
            told = told or int(line.tokens[place].value)
            line.take(place)
    if told is not None and not 1 <= told <= MOST_CHANNELS:
        line.fault("label_channels", channels=told, most=MOST_CHANNELS)
        return 1
    return told or 1


def _cells(line: Line) -> tuple[int | None, int | None]:
    """The range of lithium cells; one for nickel beside it is told and not used."""
    of_nickel = [word for name, known in CHEMISTRY_WORDS if name in ("nimh", "nicd") for word in known]
    ranged = [place for place in line.numbers("s", "") if line.tokens[place].unit or line.tokens[place].low is not None]
    nickel = {
        place
        for place in ranged
        if line.says(place + 1, *of_nickel, "ni")
        or (line.says(place - 1, *of_nickel, "ni") and not line.says(place + 1, "lipo", "li-po", "lihv", "life", "li"))
    }
    lithium = [place for place in line.numbers("s") if place not in nickel]
    if not lithium and nickel:
        lithium, nickel = sorted(nickel), set()
    words = [word for name, known in CHEMISTRY_WORDS if name not in ("pb",) for word in known]
    line.take(*line.words(*words), *line.words("pb", "ni", "li", "lithium", "nickel"))
    for place in nickel:
        line.take(place)
        line.mean("means_nickel_cells", place, low=line.tokens[place].low or 1, high=line.tokens[place].value)
    lead = [place for place in lithium if line.beside(place, "pb", "lead", "v")]
    if not lithium:
        return None, None
    highs = {int(line.tokens[place].value) for place in lithium if place not in lead or len(lithium) == 1}
    line.take(*lithium)
    high = min(highs)
    low = (
        next((int(line.tokens[place].low or 0) for place in lithium if int(line.tokens[place].value) == high), 0)
        or None
    )
    if len(highs) > 1:
        line.mean("means_cells_smaller", assumed=True, cells=high)
    if not 1 <= high <= MAX_CELLS:
        line.mean("means_cells_smaller", assumed=True, cells=MAX_CELLS)
        high = min(max(high, 1), MAX_CELLS)
    return low, high


def _discharge(line: Line) -> dict[str, float]:
    """What goes out of a pack is never read as what goes in."""
    found: dict[str, float] = {}
    for place in line.words(*DISCHARGE):
        after = [there for there in range(place + 1, min(place + 6, len(line.tokens))) if _near(line, place, there)]
        before = _figures_before(line, place)
        for there in after or before:
            token = line.tokens[there]
            if token.kind is Kind.NUMBER and token.unit in ("w", "a") and line.is_free(there):
                name = "discharge_power_w" if token.unit == "w" else "discharge_current_a"
                if name not in found:
                    found[name] = line.value(there)
                    line.take(there)
        line.take(place)
    if found:
        line.mean("means_discharge", power_w=found.get("discharge_power_w"), current_a=found.get("discharge_current_a"))
    return found


def _figures_before(line: Line, place: int) -> list[int]:
    """The watts and amps that stand directly before a word: "1 A 20 W discharge"."""
    found = []
    for there in range(place - 1, -1, -1):
        token = line.tokens[there]
        if not (line.is_free(there) and token.kind is Kind.NUMBER and token.unit in ("w", "a")):
            break
        found.append(there)
    units = {line.tokens[there].unit for there in found[:2]}
    return found[: len(units)] if len(found) < 2 or len(units) == 2 else found[:1]


def _near(line: Line, place: int, there: int) -> bool:
    """Whether a figure behind the word "discharge" is still about it: no comma, and no other word, between."""
    between = line.tokens[place + 1 : there]
    words = ("with", "at", "up", "to", "and", "power", "current", "max", "watts")
    told = all(token.kind is Kind.NUMBER or token.word in (*words, "/", ":", "+", "&") for token in between)
    return told and line.is_free(there)


def _input(line: Line) -> tuple[float | None, float] | None:
    """The window of DC input volts; that of AC says nothing that matters here."""
    found = None
    for place in line.numbers("v"):
        token = line.tokens[place]
        if token.low is None:
            continue
        if line.says(place - 1, "pb", "lead") or line.says(
            place + 1, "pb", "lead"
        ):  # of lead batteries that it charges
            line.take(place)
            line.mean("means_no_use", place, text=token.text, what="lead")
            continue
        ac = line.beside(place, *AC)
        words = [
            there
            for there in (line.beside(place, *DC, reach=3), line.beside(place, *INPUT, reach=3), ac)
            if there is not None
        ]
        if ac is not None or token.value > 80:
            line.take(place, *words)
            line.mean("means_ac_input", place, low_v=token.low, high_v=token.value)
            continue
        line.take(place, *words)
        found = (token.low, token.value)
    return found


def _watts(line: Line, channels: int) -> Watts:
    places, volts = line.numbers("w"), line.numbers("v")
    found = Watts([])
    for watt, volt in _pairs(line, places, volts):
        found.by_input.append((line.value(volt), line.value(watt)))
        between = range(min(watt, volt), max(watt, volt))
        line.take(watt, volt, *(there for there in between if line.says(there, "at", "on", "from", "with", *INPUT)))
    loose: list[int] = []
    for place in (place for place in places if line.is_free(place)):
        ac, dc = _named(line, place, AC), _named(line, place, DC)
        if _each(line, place):
            found.each_w = line.value(place)
            line.take(place, *(there for there in range(place + 1, place + 4) if line.says(there, *EACH, "a")))
        elif ac is not None:
            found.mains_w = line.value(place)
            line.take(place, ac)
        elif dc is not None:
            found.total_w = line.value(place)
            line.take(place, dc)
        else:
            loose.append(place)
    if loose:
        _loose_watts(line, loose, channels, found)
    line.take(*loose, *line.words("ac", "dc", "total", "all"))
    return found


def _named(line: Line, place: int, words: tuple[str, ...]) -> int | None:
    """The word that says on what these watts are: all of a line stand behind their watts, or all before."""
    first_watts = next(at for at, token in enumerate(line.tokens) if token.unit == "w")
    first_word = next((at for at in range(len(line.tokens)) if line.says(at, *AC, *DC)), first_watts)
    alone = sum(line.says(at, *AC, *DC) for at in range(len(line.tokens))) == 1
    sides = (1, -1) if alone else (1,) if first_watts < first_word else (-1,)
    for side in sides:
        for there in (place + side, place + 2 * side):
            if line.says(there, *words):
                return there
            if not line.says(there, "on", "from", "at", "by", "input", "power", "max"):
                break
    return None


def _loose_watts(line: Line, loose: list[int], channels: int, found: Watts) -> None:
    """Watts without a word beside them: of a channel where a count stands before, else of all."""
    values = sorted({line.value(place) for place in loose})
    counted = any(line.tokens[place - 1].kind is Kind.COUNT for place in loose if place)
    if len(values) == 1 and counted and channels > 1 and found.each_w is None:
        found.each_w = values[0]
    elif len(values) == 1:
        found.total_w = found.total_w or values[0]
    elif channels > 1 and found.each_w is None:
        found.each_w, found.total_w = values[0], found.total_w or values[-1]
    elif found.each_w is not None and found.total_w is None:
        found.total_w = values[-1]
    else:
        line.ask("watts", [Choice(f"{one:g}", f"{one:g} W", {"max_power_w": one}) for one in values], at=loose)


def _each(line: Line, place: int) -> bool:
    after = [there for there in range(place + 1, place + 4) if there < len(line.tokens)]
    for there in after:
        if line.says(there, *EACH):
            return True
        if not line.says(there, "a", "per") and line.tokens[there].word != "/":
            return False
    return line.says(place - 1, "each") or (line.says(place - 1, "channel") and not line.says(place - 2, "per", "a"))


def _pairs(line: Line, watts: list[int], volts: list[int]) -> list[tuple[int, int]]:
    """Watts with the input volts they are given for: "500 W at 12 V, 1000 W at 23 V", "12 V 300 W", "24V:650W".

    All pairs of a line are read the same way round: each watts with the volts behind it, or each with those before it.
    """
    single = [volt for volt in volts if line.tokens[volt].low is None and line.is_free(volt)]
    joined = {"at", "on", "from", "with", "@", "input", "in", ":", "=", "/", "(", ")", "dc"}

    def linked(first: int, second: int) -> int:
        """2 where a word or mark joins them, 1 where they stand side by side, else 0."""
        between = [token.word for token in line.tokens[first + 1 : second]]
        if not between:
            return 1
        return 2 if all(word in joined for word in between) else 0

    behind = [(watt, volt, linked(watt, volt)) for watt in watts for volt in single if watt < volt]
    before = [(watt, volt, linked(volt, watt)) for watt in watts for volt in single if volt < watt]
    sure = [item for item in behind if item[2] == 2]
    chosen = sure if sure else max(([one for one in way if one[2]] for way in (behind, before)), key=len)
    used = {place for watt, volt, _ in chosen for place in (watt, volt)}
    chosen = [*chosen, *(one for one in before if one[2] and not used & {one[0], one[1]})]
    return [(watt, volt) for watt, volt, _ in chosen]


def _input_word(line: Line, place: int) -> int | None:
    """The word "input" before amps, or directly behind them: what it draws is never what it gives."""
    for there in range(place - 1, max(place - 4, -1), -1):
        if line.says(there, "input", "in", "draws"):
            return there
        if (
            not line.says(there, "current", "max", "maximum", "up", "to", "at", "most")
            and line.tokens[there].word != ":"
        ):
            break
    return place + 1 if line.says(place + 1, "input") else None


def _amps(line: Line) -> tuple[float | None, float | None]:
    """(fewest, most) amps of a channel; the step, and those at the input, are taken first."""
    low: float | None = None
    high: list[float] = []
    for place in line.numbers("a"):
        value = line.value(place)
        step, least = line.beside(place, *STEP), line.beside(place, *LEAST)
        into = _input_word(line, place)
        each = [there for there in range(place + 1, place + 4) if line.says(there, *EACH, "a", "max")]
        line.take(place, *each)
        if step is not None and value <= 2:
            line.take(step)
            line.fields.setdefault("_step", value)
        elif into is not None:
            line.take(into)
            line.fields["max_input_current_a"] = value
            line.mean("means_input_amps", place, current_a=value)
        elif least is not None and line.tokens[place].low is None:
            line.take(least)
            low = value
        else:
            high.append(value)
            if line.tokens[place].low is not None:
                low = line.tokens[place].low
    step_a = line.fields.pop("_step", None)
    if step_a is not None:
        line.mean("means_step", step_a=step_a)
        line.fields["current_step_a"] = step_a
    return low, max(high, default=None)
