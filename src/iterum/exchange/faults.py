"""Structural faults of a session file or a form: the place and the mend of each, all at once.

A validator library does the structure from the fields of the core; this turns what it says into the one line a pilot
can act on.
"""

import difflib
import json
import math
from collections.abc import Iterator, Mapping
from itertools import islice
from typing import Any

from pydantic import ValidationError

from iterum.core.fields import MOST_FAULTS, Fault, bounded
from iterum.exchange.shape import PARTS, SESSION, schema

WORDS = {"integer": "a whole number", "number": "a number", "string": "text", "array": "a list", "object": "an object",
         "null": "empty", "boolean": "true or false"}  # fmt: skip


def place_of(path: tuple[str | int, ...]) -> str:
    """A path as a pilot can find it: ("packs", 3, "cells") is "packs[3].cells"."""
    text = ""
    for step in path:
        text += f"[{step}]" if isinstance(step, int) else f".{step}" if text else step
    return text


def _got(value: Any) -> str:
    text = json.dumps(value, ensure_ascii=False, default=str)
    return text if len(text) <= 60 else text[:57] + "..."


def _allowed_range(rules: Mapping[str, Any]) -> str:
    low, above, high = rules.get("minimum"), rules.get("exclusiveMinimum"), rules.get("maximum")
    if low is not None and high is not None:
        return f" from {low} to {high}"
    if above is not None and high is not None:
        return f" above {above}, at most {high}"
    if low is not None:
        return f" of at least {low}"
    return f" above {above}" if above is not None else f" of at most {high}" if high is not None else ""


def _kind(rules: Mapping[str, Any]) -> str:
    types = rules.get("type", "object")
    first = types if isinstance(types, str) else types[0]
    return WORDS[first] + (_allowed_range(rules) if first in ("integer", "number") else "")


def _items(count: int) -> str:
    return f"{count} item" if count == 1 else f"{count} items"


def _rules_at(part: str | None, path: tuple[str | int, ...]) -> Mapping[str, Any]:
    """What the schema says of the field at a path; empty for a path that it does not know."""
    whole = schema()
    rules: Any = whole if part is None else whole["$defs"][part]
    for step in path:
        for option in rules.get("anyOf", ()):
            rules = option if "$ref" in option else rules
        if "$ref" in rules:
            rules = whole["$defs"][rules["$ref"].rpartition("/")[2]]
        if isinstance(step, int):
            rules = rules.get("items") or rules.get("prefixItems", [{}])[0]
        else:
            rules = rules.get("properties", {}).get(step, {})
    if "$ref" in rules:
        rules = {**whole["$defs"][rules["$ref"].rpartition("/")[2]], **rules}
    return rules if isinstance(rules, Mapping) else {}


def _mend(kind: str, error: Mapping[str, Any], part: str | None) -> str:
    """What must be there instead, in the words of the field's own description."""
    path, got = error["loc"], _got(error["input"])
    rules = _rules_at(part, path)
    context = error.get("ctx", {})
    if kind == "missing" and isinstance(path[-1], str):
        title = rules.get("title", "")
        return f"is missing{f'; give {title[0].lower()}{title[1:]}' if title else ''}"
    if kind == "extra_forbidden":
        known = list(_rules_at(part, path[:-1]).get("properties", {}))
        near = difflib.get_close_matches(str(path[-1]), known, 1)
        hint = f"did you mean {near[0]}?" if near else f"known are {', '.join(known)}"
        return f"is no field of the session file; {hint}"
    if kind == "literal_error":
        values = rules.get("enum") or [rules.get("const")]
        if len(values) == 1:
            return f"must be {_got(values[0])}, got {got}"
        return f"must be one of {', '.join(map(str, values))}, got {got}"
    if kind in ("too_short", "too_long", "missing"):
        side, bound = ("at most", "max_length") if kind == "too_long" else ("at least", "min_length")
        count = context.get("actual_length", len(error["input"]))
        return f"must hold {side} {_items(context.get(bound, 2))}, got {count}"
    if kind == "string_too_long":
        return f"must be at most {context['max_length']} characters, got {len(error['input'])}"
    if kind in ("string_too_short", "string_pattern_mismatch"):
        return f"must be filled in and well formed ({rules.get('description', 'text')}), got {got}"
    return f"must be {_kind(rules)}, got {got}"


def _unreal(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[Fault]:
    """NaN and infinities, which JSON does not have and no meter shows, and texts no database can hold."""
    if isinstance(value, float) and not math.isfinite(value):
        yield Fault(place_of(path), "must be a finite number")
    elif isinstance(value, str) and ("\x00" in value or any("\ud800" <= letter <= "\udfff" for letter in value)):
        yield Fault(place_of(path), "must be plain text")
    elif isinstance(value, dict):
        for key, item in value.items():
            yield from _unreal(item, (*path, key))
    elif isinstance(value, list):
        for index, item in enumerate(value):
            yield from _unreal(item, (*path, index))


def checked(document: Any, part: str | None = None) -> tuple[Any, list[Fault]]:
    """A whole session, or one part of it ("pack", "board", "charger" ...), checked for structure, and every fault.

    The checked item is None where there is a fault.
    """
    faults = list(islice(_unreal(document), MOST_FAULTS + 1))
    text = json.dumps(document, ensure_ascii=False).encode("utf-8", "replace")
    try:
        item = (SESSION if part is None else PARTS[part]).model_validate_json(text)
    except ValidationError as error:
        seen = {fault.place for fault in faults}
        for told in sorted(error.errors(include_url=False), key=lambda told: [str(step) for step in told["loc"]]):
            if len(faults) >= MOST_FAULTS:  # saying one costs more than finding it
                break
            if told["type"] == "json_invalid":  # of what `_unreal` has told already
                continue
            path = tuple(str(step)[:60] if isinstance(step, str) else step for step in told["loc"])
            place = place_of(path)
            if place not in seen or place == "":
                seen.add(place)
                faults.append(Fault(place, _mend(told["type"], told, part)))
        return None, bounded(faults, max(error.error_count(), len(faults)))
    return (None if faults else item), bounded(faults)


def structural_faults(document: Any, part: str | None = None) -> list[Fault]:
    """Every structural fault of a whole session, or of one part of it."""
    return checked(document, part)[1]
