"""Reason codes and numbers -> the one sentence that page, command line and printed sheet all use.

Form: number + unit + limit or reason + act. Volts per cell have three decimals when averaged, two when read. Each room
of the core has its sentences in a module here.
"""

from collections.abc import Callable
from typing import Any

from iterum.core.reasons import Reason, hand_over_words
from iterum.wording.figures import FAMILY_LABELS, Celsius, Numbers, between, family_label, minutes, one_of, plain, span
from iterum.wording.joining import JOINING_SENTENCES
from iterum.wording.packs import PACK_SENTENCES
from iterum.wording.plans import PLAN_SENTENCES
from iterum.wording.reading import READING_SENTENCES
from iterum.wording.running import RUN_SENTENCES
from iterum.wording.sizing import SIZING_SENTENCES

SENTENCES: dict[str, str | Callable[[Numbers], str]] = (
    PACK_SENTENCES | JOINING_SENTENCES | SIZING_SENTENCES | PLAN_SENTENCES | RUN_SENTENCES | READING_SENTENCES
)


MOMENTS = frozenset({"until_min", "end_min", "start_min", "was_min", "free_min", "back_min", "soonest_min"})
"""Numbers that are minutes of a plan."""


def minute_of(value: float) -> str:
    """A moment of a plan whose time of day is not known."""
    return f"minute {value:.0f}"


def sentence(item: Reason, at: Callable[[float], str] = minute_of) -> str:
    """The one sentence for a reason. Raises KeyError for a code without wording, which is a defect.

    at : how a minute of a plan is written, a time of day where it is known.
    """
    template = SENTENCES[item.code]
    numbers = {name: _worded(name, value, at) for name, value in item.numbers.items()}
    return template(numbers) if callable(template) else template.format(**{k: _listed(v) for k, v in numbers.items()})


def _listed(value: Any) -> Any:
    """Several things as one reads them out."""
    return ", ".join(map(str, value)) if isinstance(value, tuple) else value


def _worded(name: str, value: Any, at: Callable[[float], str]) -> Any:
    """A number as the sentence takes it: a moment as its time, a reason inside a reason as its own sentence."""
    if name.endswith("_c") and isinstance(value, (int, float)):
        return Celsius(value)
    if isinstance(value, Reason):
        return about(value, at)
    return at(value) if name in MOMENTS else value


def fix_for(item: Reason, pack_id: str) -> str | None:
    """What would change a fact about a pack; None where nothing has to.

    pack_id : its tag.
    """
    code = f"fix_{item.code}"
    return sentence(Reason(code, {**item.numbers, "id": pack_id})) if code in SENTENCES else None


def about(item: Reason, at: Callable[[float], str] = minute_of) -> str:
    """The sentence, led by the pack it is about where the reason names one and the sentence does not."""
    text = sentence(item, at)
    pack_id = item.numbers.get("id")
    return f"{pack_id}: {text}" if pack_id and str(pack_id) not in text else text


__all__ = [
    "FAMILY_LABELS",
    "SENTENCES",
    "about",
    "between",
    "family_label",
    "minute_of",
    "minutes",
    "one_of",
    "plain",
    "sentence",
    "span",
]


hand_over_words(sentence)
