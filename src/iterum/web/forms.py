"""Forms made from the published schema: one description of a field serves file, form and fault.

What was typed stays as text until it is right, so nothing typed is ever lost.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from iterum.core.fields import Fault
from iterum.core.reading.numbers import figure_of
from iterum.core.say import Words, say
from iterum.exchange.faults import structural_faults
from iterum.exchange.shape import schema

SKIPPED = frozenset(
    {"channels", "cell_volts", "pack_volts", "measured_at", "temperature_c", "charged_full", "taken_wh", "learned"}
)
"""Fields of the file that have a place of their own: channels as lines below, volts on Measure, what happened in the
log and in the ledger."""
OWNED = ("pilot", "lent")
"""Asked only where there are pilots."""
_THOUSANDS = re.compile(r"\d{1,3}(,\d{3})+")
FIRST: Mapping[str, tuple[str, ...]] = {
    "pack": ("max_charge_c", "discharge_c", "connector"),
    "board": ("max_current_a",),
    "charger": ("fed_by", "total_power_w"),
    "channel": ("min_current_a", "min_cells"),
    "supply": ("fed_by",),
    "source": ("voltage_v", "energy_wh", "max_power_w", "usable_fraction"),
    "days": (),
}
"""What is asked at once beside what has to be known; the rest waits under More."""
YES_NO = (("", Words("no")), ("yes", Words("yes")))


@dataclass(frozen=True)
class Field:
    """One field of a form: what the schema says of it, what stands in it, and its fault."""

    name: str
    label: str
    unit: str
    help: str
    kind: str
    options: tuple[tuple[str, str], ...]
    required: bool
    text: str
    fault: str
    folded: bool = False
    """Whether it stands under More: nobody needs it to begin, and nothing stands in it."""


def _types(rules: Mapping[str, Any]) -> Sequence[str]:
    types = rules.get("type", "string")
    return (types,) if isinstance(types, str) else types


def _kind(rules: Mapping[str, Any]) -> str:
    types = _types(rules)
    if "enum" in rules:
        return "enum"
    if "boolean" in types:
        return "boolean"
    return "text" if "string" in types else "list" if "array" in types else "number"


def _fields_of(part: str) -> Iterable[tuple[str, Mapping[str, Any]]]:
    properties: Mapping[str, Mapping[str, Any]] = schema()["$defs"][part]["properties"]
    return ((name, rules) for name, rules in properties.items() if name not in SKIPPED)


def as_text(value: Any) -> str:
    """A stored value as it stands in a field: lists with commas, pairs with a colon."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else ""
    if isinstance(value, (list, tuple)):
        return ", ".join(_pair_text(item) if isinstance(item, (list, tuple)) else as_text(item) for item in value)
    return f"{value:g}" if isinstance(value, float) else str(value)


def _pair_text(pair: Sequence[Any]) -> str:
    """Two figures with a colon between; two times of day, which have colons of their own, with a dash."""
    return ("-" if isinstance(pair[0], str) else ":").join(as_text(part) for part in pair)


def texts_of(part: str, document: Mapping[str, Any]) -> dict[str, str]:
    """What stands in the fields for a stored item."""
    return {name: as_text(document.get(name, rules.get("default"))) for name, rules in _fields_of(part)}


def make_fields(
    part: str,
    texts: Mapping[str, str],
    faults: Mapping[str, str],
    options: Mapping[str, Sequence[tuple[str, str]]],
    prefix: str = "",
) -> list[Field]:
    """The fields of one part ("pack", "board" ...), filled in."""
    required = schema()["$defs"][part].get("required", ())
    fields = []
    for name, rules in _fields_of(part):
        if name in OWNED and "pilot" not in options:
            continue
        choices = options.get(name) or [(value, value) for value in rules.get("enum", ())]
        choices = YES_NO if _kind(rules) == "boolean" else choices
        fields.append(
            Field(
                name=prefix + name,
                label=rules["title"],
                unit=rules.get("x-unit", ""),
                help=rules.get("description", "") if name != "id" else say("As written on it."),
                kind="enum" if choices else "note" if name == "note" else _kind(rules),
                options=tuple(choices),
                required=name in required,
                text=texts.get(name, ""),
                fault=faults.get(name, ""),
                folded=not (name in required or name in FIRST[part] or faults.get(name))
                and texts.get(name, "") in ("", as_text(rules.get("default"))),
            )
        )
    return fields


def _number(text: str, whole: bool, unit: str = "") -> Any:
    """A number as typed, with or without its unit; the text itself when it is none, so that its fault can show it."""
    value = figure_of(text, unit)
    if value is None:
        return text
    return int(value) if whole and value.is_integer() else value


def _list(text: str, rules: Mapping[str, Any]) -> list[Any]:
    items = [item.strip() for item in text.replace(";", ",").split(",") if item.strip()]
    if rules.get("type") == "array":
        if "string" in _types(rules["prefixItems"][0]):
            return [[part.strip().zfill(5) for part in item.replace("–", "-").split("-")] for item in items]
        return [[_number(part.strip(), False) for part in item.split(":")] for item in items]
    return [_number(item, False, rules.get("x-unit", "")) for item in items]


def document_from(part: str, texts: Mapping[str, str]) -> dict[str, Any]:
    """The item as the file would hold it; an empty field is left out. What is no number stays text."""
    document: dict[str, Any] = {}
    for name, rules in _fields_of(part):
        text = texts.get(name, "").strip()
        kind = _kind(rules)
        if not text:
            continue
        if kind == "number":
            document[name] = _number(text, "integer" in _types(rules), rules.get("x-unit", ""))
        elif kind == "boolean":
            document[name] = text == "yes"
        elif kind == "list":
            document[name] = _list(text, rules["items"])
        else:
            document[name] = text
    return document


def faults_by_field(part: str, document: Mapping[str, Any], sense: Sequence[Fault]) -> dict[str, str]:
    """The first fault of each field, structure before sense."""
    by_field: dict[str, str] = {}
    for fault in (*structural_faults(document, part), *sense):
        name = fault.place if fault.place.startswith("channels[") else fault.place.split("[")[0].split(".")[0]
        by_field.setdefault(name, _asked(document.get(name)) or fault.mend)
    return by_field


def _asked(value: Any) -> str:
    """What a figure with a comma before three digits may be; empty for anything else."""
    if not isinstance(value, str) or not _THOUSANDS.fullmatch(value):
        return ""
    other = f"{float(value.replace(',', '.', 1).replace(',', '')):g}"
    return say(
        "is {replace} or {other} meant; write it without the comma, or with a point",
        replace=value.replace(",", ""),
        other=other,
    )
