"""Tables as CSV for a spreadsheet. A cell that would start a formula there is defused."""

import csv
import io
from collections.abc import Mapping, Sequence
from typing import Any

_STARTS_A_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def defused(value: Any) -> Any:
    """Text that a spreadsheet would run as a formula, led by an apostrophe; anything else as it is."""
    return f"'{value}" if isinstance(value, str) and value.startswith(_STARTS_A_FORMULA) else value


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
