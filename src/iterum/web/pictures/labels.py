"""A sheet of labels in millimetres, as it lies in the printer: one drawing a page."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from urllib.parse import quote

from markupsafe import Markup

from iterum.core.reading.numbers import figure_of
from iterum.core.say import figure, say
from iterum.core.things.packs import Pack
from iterum.services.sharing import NAME, PORT
from iterum.web.pictures.code import code_svg
from iterum.wording import family_label

A4_MM = (210.0, 297.0)
QUIET = 0.06
"""Room around what a label holds, as a part of its height."""


@dataclass(frozen=True)
class Sheet:
    """How labels lie on a sheet. across_mm, down_mm : from the edge of one to the same edge of the next."""

    columns: int
    rows: int
    width_mm: float
    height_mm: float
    left_mm: float
    top_mm: float
    across_mm: float
    down_mm: float
    page_width_mm: float = A4_MM[0]
    page_height_mm: float = A4_MM[1]


SHEETS: Mapping[str, Sheet] = {
    "3 by 7, 63.5 × 38.1 mm": Sheet(3, 7, 63.5, 38.1, 7.2, 15.1, 66.0, 38.1),
    "2 by 7, 99.1 × 38.1 mm": Sheet(2, 7, 99.1, 38.1, 4.7, 15.1, 101.6, 38.1),
    "3 by 8, 70 × 37 mm": Sheet(3, 8, 70.0, 37.0, 0.0, 0.5, 70.0, 37.0),
    "4 by 10, 48.5 × 25.4 mm": Sheet(4, 10, 48.5, 25.4, 8.0, 21.5, 48.5, 25.4),
    "5 by 13, 38.1 × 21.2 mm": Sheet(5, 13, 38.1, 21.2, 4.7, 10.7, 40.6, 21.2),
}
"""Sizes that are sold everywhere, as their boxes say. Common practice, no source."""
BOUNDS = {"columns": (1, 12), "rows": (1, 40)}
_MM = (0.0, 420.0)


def sheet_from(texts: Mapping[str, str], start: Sheet) -> tuple[Sheet, tuple[str, ...]]:
    """The sheet with what was typed, and what of that cannot be."""
    values: dict[str, float] = {}
    wrong = []
    for field in fields(Sheet):
        text, usual = texts.get(field.name, "").strip(), getattr(start, field.name)
        low, high = BOUNDS.get(field.name, _MM)
        figure = figure_of(text, "" if field.name in BOUNDS else "mm") if text else float(usual)
        value = -1.0 if figure is None else figure
        whole = field.name in BOUNDS
        if not low <= value <= high or (whole and value != int(value)):
            wrong.append(
                say("{replace} must be {low:g} to {high:g}", replace=field.name.replace("_", " "), low=low, high=high)
            )
            value = usual
        values[field.name] = int(value) if whole else value
    sheet = Sheet(**values)  # type: ignore[arg-type]
    right = sheet.left_mm + (sheet.columns - 1) * sheet.across_mm + sheet.width_mm
    below = sheet.top_mm + (sheet.rows - 1) * sheet.down_mm + sheet.height_mm
    if min(sheet.width_mm, sheet.height_mm) < 10:
        wrong.append(say("a label is at least 10 mm wide and high"))
    if right > sheet.page_width_mm + 0.5 or below > sheet.page_height_mm + 0.5:
        page = f"{sheet.page_width_mm:g} × {sheet.page_height_mm:g}"
        wrong.append(
            say("the labels reach to {right:g} × {below:g} mm, the page is {page}", right=right, below=below, page=page)
        )
    return (start, tuple(wrong)) if wrong else (sheet, ())


@dataclass(frozen=True)
class Label:
    """One label, its places in mm from its own corner. code : a square drawing of this side, for the scanner."""

    x: float
    y: float
    width: float
    height: float
    side: float
    text_x: float
    tag: str
    tag_y: float
    tag_size: float
    lines: tuple[tuple[float, str], ...]
    line_size: float
    boxes: tuple[tuple[float, str], ...]
    boxes_y: float
    box: float
    code: Markup


def address_of(tag: str) -> str:
    """What the code of a label holds: a name that outlives a changed address."""
    return f"https://{NAME}:{PORT}/p/{quote(tag, safe='')}"


def draw(packs: Sequence[Pack], sheet: Sheet, skip: int = 0) -> list[list[Label]]:
    """Labels by page. skip : places of the first page that are used already."""
    each = sheet.columns * sheet.rows
    pages: list[list[Label]] = [[] for _ in range(-(-(len(packs) + skip) // each))]
    for number, pack in enumerate(packs, skip):
        row, column = divmod(number % each, sheet.columns)
        x, y = sheet.left_mm + column * sheet.across_mm, sheet.top_mm + row * sheet.down_mm
        pages[number // each].append(_label(pack, x, y, sheet.width_mm, sheet.height_mm))
    return pages


def _label(pack: Pack, x: float, y: float, width: float, height: float) -> Label:
    room = QUIET * height
    side = min(height - 2 * room, 0.45 * width)
    text_x = round(room + side + room, 2)
    wide = width - text_x - room
    tag_size = round(min(0.26 * height, 1.5 * wide / max(len(pack.id), 3)), 2)
    words = (
        f"{family_label(pack.family)} {pack.capacity_mah:g}",
        f"{figure(pack.charge_c, 'g')}C · {figure(pack.rated_energy_wh, '.1f')} Wh",
    )
    size = round(min(0.125 * height, 1.75 * wide / max(map(len, words))), 2)
    first = room + tag_size
    lines = tuple((round(first + 1.35 * size * at, 2), text) for at, text in enumerate(words, 1))
    part = wide / 3
    marks = tuple(
        (round(text_x + part * at, 2), text) for at, text in enumerate((say("full"), say("part"), say("store")))
    )
    boxes_y, box = round(height - room - 0.4 * size, 2), round(min(0.75 * size, wide / 3 / 3.6), 2)
    return Label(round(x, 2), round(y, 2), width, height, round(side, 2), text_x, pack.id, round(first, 2), tag_size,
                 lines, size, marks, boxes_y, box, code_svg(address_of(pack.id)))  # fmt: skip
