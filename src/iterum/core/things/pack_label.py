"""A pack from what is written on it, in whichever words: "6 x 650 3S 60C XT30", "14.8 V 1500", "2,200 mAh 4S LiPo".

What the label leaves open is not guessed: the chemistry above all is asked where it is not named.
"""

import re
from dataclasses import dataclass

from iterum.core.things.chemistry import CHEMISTRIES, MAX_CELLS

MOST_ALIKE = 60
_NAMED = (
    ("lihv", r"\bli-?hv\b|\bhv\b|high.?volt"),
    ("life", r"\blife(?:po4?)?\b|\blfp\b|\blipo4\b|\bifr-?\d{5}"),
    ("li-ion", r"\bli-?ion\b|lithium.?ion|\b(?:[in]cr|i[mn]r)?-?(?:18650|20700|21700)(?!\d)|\bnmc\b|round.?cells?\b"),
    ("lipo", r"\bli-?po(?:ly)?\b|lithium.?poly\w*"),
    ("nimh", r"\bni-?mh\b"),
    ("nicd", r"\bni-?cd\b"),
    ("pb", r"\bpb\b|\blead\b|\bagm\b|\bgel\b"),
)
"""What labels call chemistries; the first that fits."""
_SIZES = re.compile(
    r"\b[a-z]{0,4}-?(?:10440|14500|16340|18350|18500|18650|20700|21700|26500|26650|32650|32700)(?!\d|\s*m?ah\b)", re.I
)
"""Names of round cells by their size, in tenths of a millimetre. IEC 60086-1's way to name them, from memory."""
_FIGURE = r"(\d{1,3}(?:,\d{3})+|\d+(?:[.,]\d+)?)"
COUNTED = re.compile(r"^\s*(\d{1,2})\s*(?:x|×|\*|pcs\.?|pieces)\s*(?=\S)", re.I)
"""How a line that speaks of several alike begins."""
_CELLS = re.compile(r"(?<![\d.])(\d{1,2})\s*-?\s*(?:s(?:\d{1,2}p)?\b|cells?\b)", re.I)
_MAH = re.compile(_FIGURE + r"\s*mah\b", re.I)
_AH = re.compile(_FIGURE + r"\s*ah\b", re.I)
_VOLTS = re.compile(_FIGURE + r"\s*v(?:olts?)?\b", re.I)
_WH = re.compile(_FIGURE + r"\s*wh\b", re.I)
_CHARGE_C = (
    re.compile(r"(?:charge[sd]?|chg)[^\d]{0,8}" + _FIGURE + r"\s*c\b", re.I),
    re.compile(_FIGURE + r"\s*c\s*(?:charge|chg)", re.I),
)
_C = re.compile(_FIGURE + r"\s*c\b(?:\s*/\s*" + _FIGURE + r"\s*c\b)?", re.I)
_CONNECTOR = re.compile(r"\b(xt-?\d{2}(?:-?h)?|ec-?\d|ic-?\d|jst(?:-\w+)?|ph-?2\.0|t-?plug|[\d.]+\s*mm bullet)\b", re.I)
_BARE = re.compile(r"(?<![\d.,])(\d{1,3}(?:,\d{3})+|\d{3,5})(?![\d.,]*\s*(?:c|v|s|w|g|mm)\b)(?![\d.,])", re.I)


@dataclass(frozen=True)
class PackLabel:
    """What a label says. count : packs of the kind. chemistry, cells : None where it leaves them open.

    capacity_mah : mAh. max_charge_c, discharge_c : multiples of capacity per hour. could_be : (chemistry, cells) that
    fit its volts, where it gives volts and does not name the chemistry.
    """

    count: int
    chemistry: str | None
    cells: int | None
    capacity_mah: float
    max_charge_c: float | None
    discharge_c: float | None
    connector: str | None
    could_be: tuple[tuple[str, int], ...] = ()


def without_sizes(text: str) -> str:
    """A label without the sizes of round cells, which look like mAh: "3S 18650" says no capacity.

    text : as it was typed.
    """
    return _SIZES.sub(" ", text)


def _value(text: str) -> float:
    """A figure: a comma before three digits at a time parts thousands, any other is a decimal comma."""
    if re.fullmatch(r"\d{1,3}(,\d{3})+", text):
        return float(text.replace(",", ""))
    return float(text.replace(",", "."))


def read_label(text: str) -> PackLabel:
    """What the label of a pack says. Raises ValueError, with the mend, where it says no capacity or contradicts itself.

    text : as it was typed.
    """
    said = " ".join(text.replace(" ", " ").split())
    counted = COUNTED.match(said)
    count = int(counted[1]) if counted else 1
    rest = said[counted.end() :] if counted else said
    if not 1 <= count <= MOST_ALIKE:
        raise ValueError(f"so many packs at once are {MOST_ALIKE} at most")
    chemistry = next((name for name, words in _NAMED if re.search(words, rest, re.I)), None)
    capacity_mah, rest = _capacity(rest)
    counts, volts = list(dict.fromkeys(int(hit[1]) for hit in _CELLS.finditer(rest))), _VOLTS.search(rest)
    if len(counts) > 1:
        raise ValueError(f"{counts[0]}S or {counts[1]}S? Say one kind of pack at a time")
    cells = counts[0] if counts else None
    could_be: tuple[tuple[str, int], ...] = ()
    if volts:
        could_be = _by_volts(_value(volts[1]), chemistry, cells)
        if len({item[1] for item in could_be}) == 1 and chemistry is not None:
            cells = could_be[0][1]
    if cells is not None and not 1 <= cells <= MAX_CELLS:
        raise ValueError(f"{cells}S is none of the packs known here, which have 1 to {MAX_CELLS} cells")
    connector = _CONNECTOR.search(rest)
    charge = next((hit for pattern in _CHARGE_C if (hit := pattern.search(rest))), None)
    without = rest.replace(charge[0], " ") if charge else rest
    rated = _C.search(without)
    return PackLabel(
        count=count,
        chemistry=chemistry,
        cells=cells,
        capacity_mah=capacity_mah,
        max_charge_c=_value(charge[1]) if charge else None,
        discharge_c=_value(rated[1]) if rated else None,
        connector=connector[1].upper() if connector else None,
        could_be=could_be if chemistry is None or cells is None else (),
    )


def _capacity(text: str) -> tuple[float, str]:
    """mAh, and the text without them."""
    rest = without_sizes(text)
    for pattern, factor in ((_MAH, 1.0), (_AH, 1000.0), (_BARE, 1.0)):
        hits = {round(_value(hit[1]) * factor, 1): hit for hit in pattern.finditer(rest)}
        if len(hits) > 1:
            raise ValueError(f"{' or '.join(f'{mah:g}' for mah in hits)} mAh? Say its capacity alone, as in 2200 mAh")
        for mah, hit in hits.items():
            if not 10 <= mah <= 500_000:
                raise ValueError(f"{hit[0].strip()} would be {mah:g} mAh; write it as 2200, or 2.2 Ah")
            return mah, rest[: hit.start()] + " " + rest[hit.end() :]
    if rest != text:
        raise ValueError("that is the size of its cells; say its capacity as well, as in 3500 mAh")
    raise ValueError('say its capacity as well, as in "3S 2200", "14.8 V 1500" or "2.2 Ah 4S"')


def _by_volts(volts: float, chemistry: str | None, cells: int | None) -> tuple[tuple[str, int], ...]:
    """(chemistry, cells) whose label would say these volts. Raises ValueError where nothing named does."""
    guesses = []
    for item in CHEMISTRIES.values():
        for count in range(1, MAX_CELLS + 1):
            near = any(abs(volts - one * count) <= 0.051 for one in _LABEL_V.get(item.name, (item.nominal_v,)))
            if near and chemistry in (None, item.name) and cells in (None, count):
                guesses.append((item.name, count))
    if not guesses and (chemistry is not None or cells is not None):
        named = " ".join(part for part in (chemistry, f"{cells}S" if cells else None) if part)
        raise ValueError(f"{volts:g} V does not go with {named}; look at the label again")
    if not guesses:
        raise ValueError(f"{volts:g} V is the label of no pack known here; say its cells, as in 4S")
    return tuple(guesses)


_LABEL_V = {"li-ion": (3.6, 3.7), "life": (3.2, 3.3)}
"""Volts a cell that labels use, where they use several. Common practice, no source."""
