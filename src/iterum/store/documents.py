"""Core objects as JSON columns: each with the version of its form, so that what was kept before still loads.

A form that changes gets a higher number in `FORMS` and a step in `STEPS` that brings the one before to it.
"""

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from pydantic import TypeAdapter

from iterum.core.planning.record import PlanRecord
from iterum.core.season.outlook import Expected
from iterum.core.sizing.dial import DialCard
from iterum.core.things.choice import Choice
from iterum.core.things.curve import Learned
from iterum.devices.driver import Identity

FORMS: dict[type, int] = {PlanRecord: 3, DialCard: 1, Expected: 1, Choice: 1, Learned: 1, Identity: 1}
"""The version in which each kind is written now; what has none was kept before versions were."""

_Kept = TypeVar("_Kept")


_ADAPTERS: dict[type, TypeAdapter[Any]] = {}


def _adapter(kind: type) -> TypeAdapter[Any]:
    """Made when it is first needed: a command that keeps nothing does not wait for it."""
    if kind not in _ADAPTERS:
        _ADAPTERS[kind] = TypeAdapter(kind)
    return _ADAPTERS[kind]


def to_document(item: Any) -> dict[str, Any]:
    """A core object as plain JSON."""
    return {"version": FORMS[type(item)], **_adapter(type(item)).dump_python(item, mode="json")}


def from_document(kind: type[_Kept], document: Mapping[str, Any]) -> _Kept:
    """The core object that was kept, in whichever form."""
    version = document.get("version", 1)
    for step in range(version, FORMS[kind]):
        document = STEPS[kind, step](document)
    kept: _Kept = _adapter(kind).validate_python({name: value for name, value in document.items() if name != "version"})
    return kept


# ---------------------------------------------------------------------------------------- forms of before


def _reason(item: Mapping[str, Any]) -> dict[str, Any]:
    """A reason of which only its sentence was kept."""
    return {"code": "as_said", "numbers": {"text": item["text"]}}


_AGAIN = " ↻"


def _batch(item: Mapping[str, Any]) -> dict[str, Any]:
    plain = {name: value for name, value in item.items() if name not in ("packs", "rounds", "class", "reasons")}
    told = zip(item["packs"], item["rounds"], strict=True)
    packs = [tag if number == 1 else f"{tag}{_AGAIN}{number}" for tag, number in told]
    return {"full_min": item["end_min"], "locked": False} | plain | {"packs": packs, "family": item["class"]}


def _plan_with_texts(document: Mapping[str, Any]) -> dict[str, Any]:
    """Plans were kept as the command prints them, reasons as sentences."""
    past = document.get("past", {"done": [], "flown": []})
    return {
        "batches": [_batch(item) for item in document["batches"]],
        "reasons": [[_reason(why) for why in item["reasons"]] for item in document["batches"]],
        "left_out": [
            {"tag": item["id"], "round": item["round"], "fix": _reason({"text": item["fix"]}),
             "reason": {"code": item["code"], "numbers": {}} if item["code"] == "full" else _reason(item)}
            for item in document["left_out"]
        ],
        "wanted": [
            {**{name: item[name] for name in ("met", "have", "ready_min", "packs")},
             "wish": {**{name: item[name] for name in ("count", "at_min", "name", "fly_min")}, "family": item["class"]}}
            for item in document["wanted"]
        ],
        "sources": document["sources"],
        **{name: document[name] for name in ("makespan_min", "bound_min", "proved", "visits")},
        "changed": [_reason(item) for item in document["changed"]],
        "would_help": [
            {"reason": _reason(item), "saved_min": item["saved_min"], "makespan_min": document["makespan_min"]}
            for item in document["would_help"]
        ],
        "past": {
            "done": [_batch(item) for item in past["done"]],
            "flown": [
                {"heat": {name: value for name, value in item.items() if name != "packs"}, "packs": item["packs"]}
                for item in past["flown"]
            ],
        },
    }  # fmt: skip


def _plan_with_names(document: Mapping[str, Any]) -> dict[str, Any]:
    """The round of a pack was written behind its tag."""

    def batch(item: Mapping[str, Any]) -> dict[str, Any]:
        named = [name.partition(_AGAIN) for name in item["packs"]]
        charges = [(tag, int(number or 1)) for tag, _, number in named]
        return {name: value for name, value in item.items() if name != "packs"} | {"charges": charges}

    def offer(item: Mapping[str, Any]) -> dict[str, Any]:
        return dict(item) | {"plan": _plan_with_names(item["plan"]) if item.get("plan") else None}

    past = document.get("past", {})
    return dict(document) | {
        "batches": [batch(item) for item in document["batches"]],
        "past": dict(past) | {"done": [batch(item) for item in past.get("done", ())]},
        "offers": [offer(item) for item in document.get("offers", ())],
    }


STEPS: dict[tuple[type, int], Callable[[Mapping[str, Any]], Mapping[str, Any]]] = {
    (PlanRecord, 1): _plan_with_texts,
    (PlanRecord, 2): _plan_with_names,
}
"""What brings a form to the next one."""
