"""Structural faults of a session file or a form: the place and the mend of each, all at once.

A validator library does the structure from the published JSON Schema; this turns what it says into the one
line a pilot can act on.
"""

import difflib
import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from jsonschema import Draft202012Validator
from jsonschema.exceptions import ValidationError

WORDS = {"integer": "a whole number", "number": "a number", "string": "text", "array": "a list", "object": "an object",
         "null": "empty", "boolean": "true or false"}  # fmt: skip


@dataclass(frozen=True)
class Fault:
    """One thing wrong with the input: where, and what it must be instead."""

    place: str
    mend: str

    def __str__(self) -> str:
        return f"{self.place}: {self.mend}" if self.place else self.mend


class BadInput(ValueError):
    """Input that cannot be taken. Carries every fault."""

    def __init__(self, faults: list[Fault]) -> None:
        super().__init__("; ".join(str(fault) for fault in faults))
        self.faults = faults


@cache
def schema() -> dict[str, Any]:
    """The published JSON Schema of the session file."""
    text = files("iterum.exchange").joinpath("session.schema.json").read_text("utf-8")
    loaded: dict[str, Any] = json.loads(text)
    return loaded


@cache
def _validator(part: str | None) -> Draft202012Validator:
    whole = schema()
    return Draft202012Validator(whole if part is None else {"$ref": f"#/$defs/{part}", "$defs": whole["$defs"]})


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


def _translate(error: ValidationError) -> Iterator[Fault]:
    """What the validator found, as place and mend. One error may name several fields."""
    path = tuple(error.absolute_path)
    rules: Any = error.schema
    bound: Any = error.validator_value
    instance: Any = error.instance
    got = _got(error.instance)
    if error.validator == "required":
        for name in bound:
            if name not in instance:
                title = rules["properties"].get(name, {}).get("title", "")
                yield Fault(
                    place_of((*path, name)), f"is missing{f'; give {title[0].lower()}{title[1:]}' if title else ''}"
                )
    elif error.validator == "additionalProperties":
        known = list(rules["properties"])
        for name in instance:
            if name not in rules["properties"]:
                near = difflib.get_close_matches(name, known, 1)
                hint = f"did you mean {near[0]}?" if near else f"known are {', '.join(known)}"
                yield Fault(place_of((*path, str(name)[:60])), f"is no field of the session file; {hint}")
    elif error.validator == "enum":
        yield Fault(place_of(path), f"must be one of {', '.join(map(str, rules['enum']))}, got {got}")
    elif error.validator == "const":
        yield Fault(place_of(path), f"must be {_got(rules['const'])}, got {got}")
    elif error.validator in ("minItems", "maxItems"):
        side = "at least" if error.validator == "minItems" else "at most"
        yield Fault(place_of(path), f"must hold {side} {_items(bound)}, got {len(instance)}")
    elif error.validator == "maxLength":
        yield Fault(place_of(path), f"must be at most {rules['maxLength']} characters, got {len(instance)}")
    elif error.validator in ("minLength", "pattern"):
        yield Fault(
            place_of(path), f"must be filled in and well formed ({rules.get('description', 'text')}), got {got}"
        )
    else:
        yield Fault(place_of(path), f"must be {_kind(rules)}, got {got}")


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


def structural_faults(document: Any, part: str | None = None) -> list[Fault]:
    """Every structural fault of a whole session, or of one part of it ("pack", "board", "charger" ...)."""
    errors = sorted(
        _validator(part).iter_errors(document), key=lambda error: [str(step) for step in error.absolute_path]
    )
    faults = list(_unreal(document))
    seen = {fault.place for fault in faults}
    for error in errors:
        for fault in _translate(error):
            if fault.place not in seen or fault.place == "":
                seen.add(fault.place)
                faults.append(fault)
    return faults
