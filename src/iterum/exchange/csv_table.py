"""Tables as CSV for a spreadsheet. A cell that would start a formula there is defused.

Spreadsheets skip spaces and characters that are not seen before they look for a formula, and some
take the wide forms of the signs as well; one reads a bar as the start of a command.
"""

import csv
import io
import unicodedata
from collections.abc import Mapping, Sequence
from typing import Any

_STARTS_A_FORMULA = ("=", "+", "-", "@", "|", "\t", "\r", "\n")
_NOT_SEEN = ("Cf", "Cc", "Cn", "Co", "Zs", "Zl", "Zp", "Mn")
"""Unicode categories of characters that may stand before a sign without being seen."""


def defused(value: Any) -> Any:
    """Text that a spreadsheet would run as a formula, led by an apostrophe; anything else as it
    is.
    """
    if not isinstance(value, str):
        return value
    seen = next((at for at, letter in enumerate(value) if unicodedata.category(letter) not in _NOT_SEEN), len(value))
    starts = unicodedata.normalize("NFKC", value[seen : seen + 1])
    return f"'{value}" if value.startswith(_STARTS_A_FORMULA) or starts.startswith(_STARTS_A_FORMULA) else value


def csv_text(rows: Sequence[Mapping[str, Any]]) -> str:
    """Rows as CSV, the columns in the order in which they first appear."""
    columns = list(dict.fromkeys(name for row in rows for name in row))
    stream = io.StringIO()
    writer = csv.writer(stream)
    writer.writerow(columns)
    for row in rows:
        cells = (row.get(name, "") for name in columns)
        writer.writerow([defused(" ".join(map(str, cell)) if isinstance(cell, list) else cell) for cell in cells])
    return stream.getvalue()
