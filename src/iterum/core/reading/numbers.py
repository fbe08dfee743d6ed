"""One figure in a field, with or without its unit: "2C", "250 mAh", "7,80 V", "1 kW"."""

import re

from iterum.core.reading.tokens import THOUSANDS, Kind, settled, tokens_of

SCALES = {
    ("ah", "mah"): 1000.0,
    ("mah", "ah"): 0.001,
    ("mv", "v"): 0.001,
    ("h", "min"): 60.0,
    ("min", "s"): 60.0,
}
COUNTS = ("s", "ports", "packs", "channels", "cycles")
"""What stands behind a bare count, as in 4S or 6 ports."""
FIELD_UNITS = {"mω": "mohm", "°c": "deg"}
"""Units of fields that the reader names otherwise."""
DECIMALS = ("v", "a", "c", "ah", "mohm", "deg")
"""Units in which three digits after a separator are decimals: 3,845 V."""


def figure_of(text: str, unit: str = "") -> float | None:
    """The figure of a field; None where it is none, has another unit, or where its separator leaves two readings.

    text : as it was typed. unit : of the field, as it is printed beside it; "" for a count.
    """
    text = re.sub(r"(?<=[0-9])[  \u202f](?=[0-9]{3}(?![0-9]))", "", text)
    sign = -1.0 if text.strip().startswith(("-", "−")) else 1.0
    tokens = [token for token in tokens_of(text.strip().lstrip("-−+")) if token.kind is not Kind.MARK]
    if len(tokens) != 1 or tokens[0].kind is not Kind.NUMBER or tokens[0].low is not None or tokens[0].parallel > 1:
        return None
    token = tokens[0]
    wanted = FIELD_UNITS.get(unit.lower(), unit.lower())
    said = "" if token.unit in COUNTS and not wanted else token.unit
    same = said in ("", wanted) or (said == "c" and wanted == "deg")
    scale = 1.0 if same else SCALES.get((said, wanted))
    if scale is None:
        return None
    if token.thousands is not None and wanted not in (*THOUSANDS, *DECIMALS) and "," in token.text:
        return None  # 15,000 is fifteen thousand to one and fifteen to another
    return sign * settled(token, wanted if said in ("", wanted) else said) * scale
