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
from iterum.core.say import Words, say, say_many
from iterum.exchange.shape import PARTS, SESSION, schema

WORDS = {
    "integer": Words("a whole number"),
    "number": Words("a number"),
    "string": Words("text"),
    "array": Words("a list"),
    "object": Words("an object"),
    "null": Words("empty"),
    "boolean": Words("true or false"),
}


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
        return say("from {low} to {high}", low=low, high=high)
    if above is not None and high is not None:
        return say("above {above}, at most {high}", above=above, high=high)
    if low is not None:
        return say("of at least {low}", low=low)
    if above is not None:
        return say("above {above}", above=above)
    return "" if high is None else say("of at most {high}", high=high)


def _kind(rules: Mapping[str, Any]) -> str:
    types = rules.get("type", "object")
    first = types if isinstance(types, str) else types[0]
    within = _allowed_range(rules) if first in ("integer", "number") else ""
    return f"{say(WORDS[first])} {within}" if within else say(WORDS[first])


def _items(count: int) -> str:
    return say_many("one item", "{count} items", count)


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


def _wrong_length(kind: str, context: Mapping[str, Any], count: int) -> str:
    if kind == "too_long":
        return say("must hold at most {items}, got {got}", items=_items(context["max_length"]), got=count)
    return say("must hold at least {items}, got {got}", items=_items(context.get("min_length", 2)), got=count)


def _mend(kind: str, error: Mapping[str, Any], part: str | None) -> str:
    """What must be there instead, in the words of the field's own description."""
    path, got = error["loc"], _got(error["input"])
    rules = _rules_at(part, path)
    context = error.get("ctx", {})
    if kind == "missing" and isinstance(path[-1], str):
        title = rules.get("title", "")
        return say("is missing; give: {title}", title=say(title)) if title else say("is missing")
    if kind == "extra_forbidden":
        known = list(_rules_at(part, path[:-1]).get("properties", {}))
        near = difflib.get_close_matches(str(path[-1]), known, 1)
        hint = say("did you mean {near}?", near=near[0]) if near else say("known are {known:list}", known=known)
        return say("is no field of the session file; {hint}", hint=hint)
    if kind == "literal_error":
        values = rules.get("enum") or [rules.get("const")]
        wanted = ", ".join(map(str, values)) if len(values) > 1 else _got(values[0])
        template = (
            Words("must be one of {wanted}, got {got}") if len(values) > 1 else Words("must be {wanted}, got {got}")
        )
        return say(template, wanted=wanted, got=got)
    if kind in ("too_short", "too_long", "missing"):
        count = context.get("actual_length", len(error["input"]))
        return _wrong_length(kind, context, count)
    if kind == "string_too_long":
        return say(
            "must be at most {context} characters, got {error}",
            context=context["max_length"],
            error=len(error["input"]),
        )
    if kind in ("string_too_short", "string_pattern_mismatch"):
        return say(
            "must be filled in and well formed ({rules}), got {got}", rules=rules.get("description", "text"), got=got
        )
    return say("must be {kind}, got {got}", kind=_kind(rules), got=got)


def _unreal(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[Fault]:
    """NaN and infinities, which JSON does not have and no meter shows, and texts no database can hold."""
    if isinstance(value, float) and not math.isfinite(value):
        yield Fault(place_of(path), say("must be a finite number"))
    elif isinstance(value, str) and ("\x00" in value or any("\ud800" <= letter <= "\udfff" for letter in value)):
        yield Fault(place_of(path), say("must be plain text"))
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
