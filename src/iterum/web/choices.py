"""A choice in an address or a form, and back: the same names on every page, so that it travels whole."""

from typing import Any

from werkzeug.datastructures import MultiDict

from iterum.core.bench.choice import Choice

FIGURES = ("rate_c", "current_a", "end_v")
PLACES = ("board", "channel", "fed_by")


def figure(text: str) -> float:
    """A number as typed, a decimal comma allowed; not a number where it is none, which no choice takes."""
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return float("nan")


def choice_from(values: MultiDict[str, str]) -> Choice:
    """What a form or an address chooses; what is empty stays open."""
    places = {name: values.get(name, "").strip() or None for name in PLACES}
    typed = {name: values.get(name, "").strip() for name in FIGURES}
    figures = {name: figure(text) if text else None for name, text in typed.items()}
    packs = tuple(tag for tag in values.getlist("packs") if tag)
    board, channel, fed_by = (places[name] for name in PLACES)
    rate_c, current_a, end_v = (figures[name] for name in FIGURES)
    return Choice(packs, board, channel, fed_by, rate_c, current_a, end_v)


def choice_fields(choice: Choice) -> dict[str, Any]:
    """The choice as fields: `packs` is a list, what is open is left out. For `url_for`, and for hidden fields."""
    fields: dict[str, Any] = {"packs": list(choice.packs)}
    for name in (*PLACES, *FIGURES):
        value = getattr(choice, name)
        if value is not None:
            fields[name] = f"{value:.6f}".rstrip("0").rstrip(".") if isinstance(value, float) else value
    return fields
