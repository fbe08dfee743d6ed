"""A choice in an address or a form, and back: the same names on every page, so that it travels whole."""

from typing import Any

from werkzeug.datastructures import MultiDict

from iterum.core.reading.numbers import figure_of
from iterum.core.things.choice import Choice

FIGURES = ("rate_c", "own_rate_c", "current_a", "end_v")
PLACES = ("board", "channel", "fed_by")


UNITS = {"rate_c": "C", "own_rate_c": "C", "current_a": "A", "end_v": "V"}


def _figure(text: str, unit: str) -> float:
    """A number as typed, with or without its unit; not a number where it is none, which no choice takes."""
    value = figure_of(text, unit)
    return float("nan") if value is None else value


def choice_from(values: MultiDict[str, str]) -> Choice:
    """What a form or an address chooses; what is empty stays open."""
    chosen: dict[str, Any] = {name: values.get(name, "").strip() or None for name in PLACES}
    typed = {name: values.get(name, "").strip() for name in FIGURES}
    chosen |= {name: _figure(text, UNITS[name]) if text else None for name, text in typed.items()}
    packs = tuple(tag for tag in values.getlist("packs") if tag)
    return Choice(packs, **chosen)


def choice_fields(choice: Choice) -> dict[str, Any]:
    """The choice as fields: `packs` is a list, what is open is left out. For `url_for`, and for hidden fields."""
    fields: dict[str, Any] = {"packs": list(choice.packs)}
    for name in (*PLACES, *FIGURES):
        value = getattr(choice, name)
        if value is not None:
            fields[name] = f"{value:.6f}".rstrip("0").rstrip(".") if isinstance(value, float) else value
    return fields
