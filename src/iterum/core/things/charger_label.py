"""A charger from what is written on it: "dual 400 W, 250 W a channel, 12 A, 6S, 0.1 to 12 A"."""

import re
from dataclasses import dataclass

from iterum.core.things.chemistry import MAX_CELLS

MOST_CHANNELS = 16
_WORDS = {"single": 1, "mono": 1, "dual": 2, "double": 2, "twin": 2, "duo": 2, "two": 2, "triple": 3, "three": 3,
          "quad": 4, "four": 4, "six": 6, "eight": 8}  # fmt: skip
_N = r"(\d+(?:[.,]\d+)?)"
_COUNT = re.compile(
    r"\b("
    + "|".join(_WORDS)
    + r")\b|(?<![\d.])(\d{1,2})\s*(?:x|×)(?=\s*\d)|(?<![\d.])(\d{1,2})\s*(?:channels?|ch\b|ports?|outputs?)",
    re.I,
)
_EACH = r"(?:(?:a|per|each|every|/)\s*(?:channel|ch\b|port|output)|(?:each|every)\b)"
_CHANNEL_W = re.compile(_N + r"\s*w(?:atts?)?\s*" + _EACH + r"|(?:\d{1,2})\s*(?:x|×)\s*" + _N + r"\s*w", re.I)
_AC_W = re.compile(
    r"\b(?:ac|mains)\b[^\d]{0,6}" + _N + r"\s*w|" + _N + r"\s*w(?:atts?)?\s*(?:on|from|at|by)?\s*\b(?:ac|mains)\b", re.I
)
_DC_W = re.compile(r"\bdc\b[^\d]{0,6}" + _N + r"\s*w|" + _N + r"\s*w(?:atts?)?\s*(?:on|from|at|by)?\s*\bdc\b", re.I)
_W = re.compile(_N + r"\s*w(?:atts?)?\b", re.I)
_BY_INPUT = re.compile(
    _N + r"\s*w(?:atts?)?\s*(?:@|at|on|from|with)\s*" + _N + r"\s*v\b"
    r"|(?:@|\bat\b|\bon\b|\bfrom\b|\bwith\b)?\s*(?<![\d.,–-])"
    + _N
    + r"\s*v(?:olts?)?\s*(?:input|in)?\s*[:=,]?\s*"
    + _N
    + r"\s*w(?:atts?)?\b",
    re.I,
)
"""650 W at 24 V, 12 V 300 W."""
_LEAST_A = re.compile(
    r"\b(?:min(?:imum)?|least|smallest|lowest)\b[^\d]{0,9}" + _N + r"\s*a(?:mps?)?\b"
    r"|" + _N + r"\s*a(?:mps?)?\s*(?:min(?:imum)?\b|at least|and up\b)",
    re.I,
)
_STEP_A = re.compile(
    r"\bsteps?\b[^\d]{0,4}" + _N + r"\s*a(?:mps?)?\b|" + _N + r"\s*a(?:mps?)?\s*(?:a\s*)?steps?\b", re.I
)
_AMPS = re.compile(_N + r"\s*(?:a)?\s*(?:to|-|–|\.\.)\s*" + _N + r"\s*a(?:mps?)?\b", re.I)
_A = re.compile(_N + r"\s*a(?:mps?)?\b(?!\s*(?:channel|ch\b))", re.I)
_CELLS = re.compile(r"(?<![\d.])(\d{1,2})\s*s?\s*(?:to|-|–)\s*(\d{1,2})\s*s\b|(?<![\d.])(\d{1,2})\s*s\b", re.I)
_OF_PACKS = re.compile(
    r"\d\s*mah\b|(?<![\d.])\d{1,2}\s*(?:x|×)\s*\d{3,5}(?![\d.]|\s*(?:w(?:atts?)?|a(?:mps?)?)\b)", re.I
)
_INPUT = re.compile(r"(?:input|in)[^\d]{0,4}" + _N + r"\s*v?\s*(?:to|-|–)\s*" + _N + r"\s*v", re.I)
_DISCHARGE = re.compile(
    r"discharg\w*[ :]*(?:with |at |up to )?(?:\d+(?:[.,]\d+)?\s*[AW]\b[ /]*(?:and )?){1,2}"
    r"|\d+(?:[.,]\d+)?\s*[AW]\s+discharg\w*(?![ :]*(?:with |at |up to )?\d)",
    re.I,
)
"""Discharge 20 W, discharges with 2 A / 40 W, 20 W discharge."""


@dataclass(frozen=True)
class ChargerLabel:
    """What a label says. channels : how many. total_power_w : W of all together, from DC. mains_power_w : W from mains.

    channel_power_w : W of one channel. max_current_a, min_current_a : A of a channel. min_cells, max_cells : in series.
    input_min_v, input_max_v : V at its input. power_by_input_v : (V at its input, W of all together) where watts depend
    on it. current_step_a : A from one setting to the next. discharge_power_w, discharge_current_a : W and A out of a
    pack. None where it says nothing.
    """

    channels: int
    total_power_w: float | None
    mains_power_w: float | None
    channel_power_w: float
    max_current_a: float
    min_current_a: float | None
    min_cells: int | None
    max_cells: int
    input_min_v: float | None
    input_max_v: float | None
    discharge_power_w: float | None = None
    discharge_current_a: float | None = None
    current_step_a: float | None = None
    power_by_input_v: tuple[tuple[float, float], ...] = ()


def _value(text: str) -> float:
    return float(text.replace(",", "."))


def _first(hit: re.Match[str] | None) -> float | None:
    return None if hit is None else _value(next(part for part in hit.groups() if part))


def read_charger(text: str) -> ChargerLabel:
    """What the label of a charger says. Raises ValueError with what is missing.

    text : as it was typed.
    """
    said = " ".join(text.replace(" ", " ").split())
    if _OF_PACKS.search(said):  # typed on behind a pack's label, its cells would be taken for the charger's
        raise ValueError("say the charger alone: this names packs too")
    counted = _COUNT.search(said)
    channels = 1
    if counted:
        word, *numbers = counted.groups()
        channels = _WORDS[word.lower()] if word else int(next(part for part in numbers if part))
    input_v = _INPUT.search(said)
    rest = said.replace(input_v[0], " ") if input_v else said
    down = _DISCHARGE.search(rest)  # what goes out of a pack is never read as what goes in
    rest = rest.replace(down[0], " ") if down else rest
    out = down[0] if down else ""
    hits: list[re.Match[str] | None] = []
    for pattern in (_LEAST_A, _STEP_A, _CHANNEL_W, _AC_W, _DC_W):  # what was read as one thing is not read as another
        hits.append(pattern.search(rest))
        rest = rest.replace(hits[-1][0], " ") if hits[-1] else rest
    least, step, each, mains, direct = hits
    said_by_input = [one.groups() for one in _BY_INPUT.finditer(rest)]
    by_input = {(_value(two or three), _value(one or four)) for one, two, three, four in said_by_input}
    span = _AMPS.search(rest)
    rest = rest.replace(span[0], " ") if span else rest
    amps = [_value(one[1]) for one in _A.finditer(rest)]
    cells = _CELLS.search(rest)
    watts = [_value(one[1]) for one in _W.finditer(rest)]
    max_a = max([*amps, *([_value(span[2])] if span else [])], default=None)
    total_w = _first(direct) or (max(watts) if watts else None)
    each_w = _first(each) or (total_w / channels if total_w is not None else None) or _first(mains)
    missing = [name for name, value in (("its amps, as in 12 A", max_a), ("its watts, as in 250 W", each_w),
                                        ("its cells, as in 6S", cells)) if value is None]  # fmt: skip
    if missing or max_a is None or each_w is None or cells is None:
        raise ValueError(f"say {', '.join(missing)} as well")
    low, high = (int(cells[1]), int(cells[2])) if cells[1] else (None, int(cells[3]))
    if not 1 <= high <= MAX_CELLS or not 1 <= channels <= MOST_CHANNELS:
        raise ValueError(f"chargers here have 1 to {MOST_CHANNELS} channels for 1 to {MAX_CELLS} cells")
    shared_w = total_w if channels > 1 or each is not None else None
    return ChargerLabel(
        channels=channels,
        total_power_w=shared_w,
        mains_power_w=_first(mains),
        channel_power_w=each_w,
        max_current_a=max_a,
        min_current_a=_value(span[1]) if span else _first(least),
        min_cells=low,
        max_cells=high,
        input_min_v=_value(input_v[1]) if input_v else None,
        input_max_v=_value(input_v[2]) if input_v else None,
        discharge_power_w=_first(_W.search(out)),
        discharge_current_a=_first(_A.search(out)),
        current_step_a=_first(step),
        power_by_input_v=tuple(sorted(by_input)),
    )
