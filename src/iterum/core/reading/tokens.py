"""A line that somebody typed, as numbers with their units, ranges, counts and words, each with its place.

Labels have no order: "1500 4S" and "4S 1500" are one pack. So there is no grammar of sentences here, only tokens, and
readers that take the tokens whose role they know. A parser generator would have to list every order.
"""

import re
from dataclasses import dataclass, field
from enum import StrEnum

NUMBER_WORDS = {
    "one": 1,
    "two": 2,
    "three": 3,
    "four": 4,
    "five": 5,
    "six": 6,
    "seven": 7,
    "eight": 8,
    "nine": 9,
    "ten": 10,
    "eleven": 11,
    "twelve": 12,
    "pair": 2,
    "dozen": 12,
}
_UNITS = {
    "mah": "mah|ma h|milli ?amp ?hours?",
    "ah": "ah|a/h|amp ?hours?",
    "kwh": "kwh|kw h",
    "wh": "wh|w h|watt ?hours?",
    "kw": "kw|kilowatts?",
    "w": "watts?|w",
    "mv": "mv",
    "v": "volts?|v(?:dc|ac)?",
    "ma": "ma|milliamps?",
    "a": "amps?|amperes?|a",
    "deg": "°c|°f|degrees?",
    "c": "c",
    "s": "s|cells?|celled",
    "ports": "ports?|sockets?|ways?",
    "channels": "channels?|ch|outputs?",
    "packs": "packs?|pcs|pieces?|batteries|pc",
    "mohm": "mohms?|mω|mΩ|milliohms?",
    "g": "g|grams?|kg|lbs?|oz",
    "mm": "mm|cm|inch(?:es)?",
    "%": "%|percent",
    "hz": "hz",
    "awg": "awg",
    "min": "mins?|minutes?",
    "h": "h|hours?|hrs?",
    "years": "years?|yrs?",
    "cycles": "cycles",
}
SCALED = {
    "kwh": ("wh", 1000.0),
    "kw": ("w", 1000.0),
    "ma": ("a", 0.001),
}
"""Units that are only others in large or in small: a token has the other one, and its figure times the factor."""
_UNIT = re.compile(
    r"\s*-?(?:"
    + "|".join(f"(?P<{name if name != '%' else 'percent'}>{words})" for name, words in _UNITS.items())
    + r")(?![a-z])",
    re.I,
)
DIGITS = "0123456789"
_FIGURE = r"[0-9]{1,3}(?:[,.'’][0-9]{3})+(?:[.,][0-9]+)?(?![0-9])|[0-9]+[.,][0-9]+|[0-9]+|[.,][0-9]+"
_NUMBER = re.compile(_FIGURE)
_SPACED = re.compile(r"[0-9]{1,3}(?:[   ][0-9]{3})+(?=\s*(?:m?ah|k?wh|w)\b)", re.I)
_RANGE = re.compile(r"\s*(?:-|–|—|~|\.\.+|…|to|up to)\s*(?=[0-9]|[.,][0-9])", re.I)
_SIZE = re.compile(
    r"\b(?:[a-z]{1,4}-?)?(?:10440|14500|16340|18350|18500|18650|20700|21700|26500|26650|32650|32700)[a-z]?(?![a-z0-9])"
    r"(?!\s*m?ah\b)",
    re.I,
)
_PARALLEL = re.compile(r"([0-9]{1,2})\s*s\s*([0-9]{1,2})\s*p(?![a-z0-9])", re.I)
_PLUG = re.compile(
    r"(xt|ec|ic|as)-?([0-9]{1,3})(?:-?[a-z])?(?![a-z0-9])|jst(?:-?[a-z]{2,3})?(?![a-z0-9])|ph-?2\.0|t-?plug|"
    r"tamiya|deans?(?![a-z])|[0-9.]+\s*mm\s+bullets?|bullets?(?![a-z])",
    re.I,
)
_TIMES_BEFORE = re.compile(r"([0-9]{1,2})\s*(?:x|×|\*)(?![a-z])\s*", re.I)
_TIMES_AFTER = re.compile(
    r"(?:x|×|\*)\s*([0-9]{1,2})(?![0-9.,]*\s*(?:m?ah|k?wh|k?w|v|a|c|s)\b)(?![0-9]|[.,][0-9])", re.I
)
_WORD = re.compile(r"lifepo4|lifep04|lipo4(?![a-z0-9])|[^\W\d_]+(?:[-'’][^\W\d_]+)*", re.I)
_DIMENSIONS = re.compile(r"[0-9.]+\s*[x×*]\s*[0-9.]+\s*[x×*]\s*[0-9.]+\s*(?:mm|cm)?(?![a-z0-9])", re.I)
_GLUED = re.compile(r"(?:dc|ac|usb|pd|qc|min|max|input|in|out|output)(?=[0-9])", re.I)


class Kind(StrEnum):
    """What a token is."""

    NUMBER = "number"
    COUNT = "count"
    WORD = "word"
    SIZE = "size"
    PLUG = "plug"
    MARK = "mark"


@dataclass(frozen=True)
class Token:
    """One piece of the line. start, end : its place in the text.

    value : of a number, the end of a range. low : where a range begins, None for a single figure. unit : "" without
    one. word : in small letters. thousands : what its one separator would make of it as thousands, None where it has
    none. parallel : of "4S2P".
    """

    kind: Kind
    text: str
    start: int
    end: int
    value: float = 0.0
    low: float | None = None
    unit: str = ""
    word: str = ""
    thousands: float | None = None
    parallel: int = 1
    decimals: bool = field(default=False)


def _value(text: str) -> tuple[float, float | None]:
    """A figure as it reads, and as thousands where its one separator could part them."""
    plain = re.sub(r"[\s  '’]", "", text)
    marks = re.findall(r"[.,]", plain)
    if "'" in text or "’" in text or re.search(r"[0-9][\s  ][0-9]", text):
        return float(plain.replace(",", ".")), None
    if len(marks) > 1 and len(set(marks)) == 1:
        return float(re.sub(r"[.,]", "", plain)), None
    if len(marks) > 1:  # the last one parts the decimals
        whole, decimals = re.split(rf"\{marks[-1]}(?=[0-9]+$)", plain)
        return float(re.sub(r"[.,]", "", whole) + "." + decimals), None
    value = float(plain.replace(",", "."))
    grouped = re.fullmatch(r"[0-9]{1,3}[.,][0-9]{3}", plain)
    return value, float(re.sub(r"[.,]", "", plain)) if grouped and not plain.startswith("0") else None


THOUSANDS = {"mah": 100.0, "wh": 20.0, "w": 20.0}
"""A figure with three digits after its one separator is thousands where it would else be less than this in its unit:
nobody writes 1.650 mAh, and 1.650 Ah is no thousand. Common practice, no source."""


def settled(token: Token, unit: str) -> float:
    """The value of a number in a unit, its separator taken for thousands where nothing else makes sense."""
    if token.thousands is not None and token.value < THOUSANDS.get(unit, 0.0):
        return token.thousands
    return token.value


def tokens_of(text: str) -> tuple[Token, ...]:
    """The tokens of a line, in their order; only blanks and marks between words belong to none.

    text : as it was typed.
    """
    found: list[Token] = []
    place = 0
    while place < len(text):
        if text[place].isspace():
            place += 1
            continue
        token = _next(text, place)
        found.append(token)
        place = token.end
    return tuple(found)


def _next(text: str, at: int) -> Token:
    for kind, pattern in ((Kind.SIZE, _SIZE), (Kind.PLUG, _PLUG)):
        hit = pattern.match(text, at)
        if hit and (at == 0 or not text[at - 1].isalnum()):
            return Token(kind, hit[0], at, hit.end(), word=hit[0].lower())
    if hit := _DIMENSIONS.match(text, at):
        return Token(Kind.NUMBER, hit[0], at, hit.end(), unit="mm")
    if hit := _PARALLEL.match(text, at):
        return Token(Kind.NUMBER, hit[0], at, hit.end(), float(hit[1]), unit="s", parallel=int(hit[2]))
    if hit := _TIMES_AFTER.match(text, at):
        return Token(Kind.COUNT, hit[0], at, hit.end(), float(hit[1]))
    if (hit := _TIMES_BEFORE.match(text, at)) and hit.end() < len(text):
        return Token(Kind.COUNT, hit[0].rstrip(), at, at + len(hit[0].rstrip()), float(hit[1]))
    if text[at] in DIGITS or (text[at] in ".," and text[at + 1 : at + 2] in tuple(DIGITS)):
        return _number(text, at)
    if hit := _GLUED.match(text, at) or _WORD.match(text, at):
        return Token(Kind.WORD, hit[0], at, hit.end(), word=hit[0].lower())
    return Token(Kind.MARK, text[at], at, at + 1, word=text[at])


def _number(text: str, at: int) -> Token:
    hit = _SPACED.match(text, at) or _NUMBER.match(text, at)
    assert hit is not None
    value, thousands = _value(hit[0])
    unit, end = _unit(text, hit.end())
    low = None
    if (gap := _RANGE.match(text, end)) and (second := _NUMBER.match(text, gap.end())):
        high, high_thousands = _value(second[0])
        high_unit, high_end = _unit(text, second.end())
        tight = hit.end() == gap.start() and gap[0].strip() == gap[0] and high < 100  # 1-15, of nickel
        if unit in ("", high_unit) and (high_unit or tight) and high >= value:
            low, value, thousands, unit, end = value, high, high_thousands, high_unit, high_end
    decimals = bool(re.search(r"[.,][0-9]", hit[0]))
    unit, factor = SCALED.get(unit, (unit, 1.0))
    if factor != 1:
        value = round(value * factor, 9)
        low = None if low is None else round(low * factor, 9)
        thousands = None if thousands is None else round(thousands * factor, 9)
    return Token(Kind.NUMBER, text[at:end], at, end, value, low, unit, thousands=thousands, decimals=decimals)


def _unit(text: str, at: int) -> tuple[str, int]:
    hit = _UNIT.match(text, at)
    if hit is None:
        return "", at
    name = hit.lastgroup or ""
    return "%" if name == "percent" else name, hit.end()
