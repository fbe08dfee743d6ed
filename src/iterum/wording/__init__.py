"""Reason codes and numbers -> the one sentence that page, command line and printed sheet all use.

Form: number + unit + limit or reason + act. Volts per cell have three decimals when averaged, two when read. Each room
of the core has its sentences in a module here.
"""

from collections.abc import Callable, Mapping
from typing import Any

from iterum.core.reasons import Reason, hand_over_words
from iterum.core.say import filled, form_for, minutes, one_of, plain, say, translated
from iterum.wording.choosing import Many, Template, chosen
from iterum.wording.figures import FAMILY_LABELS, between, family_label, span
from iterum.wording.joining import JOINING_SENTENCES
from iterum.wording.packs import PACK_SENTENCES
from iterum.wording.plans import PLAN_SENTENCES
from iterum.wording.reading import READING_SENTENCES
from iterum.wording.running import RUN_SENTENCES
from iterum.wording.sizing import SIZING_SENTENCES

SENTENCES: dict[str, Template] = (
    PACK_SENTENCES | JOINING_SENTENCES | SIZING_SENTENCES | PLAN_SENTENCES | RUN_SENTENCES | READING_SENTENCES
)


MOMENTS = frozenset({"until_min", "end_min", "start_min", "was_min", "free_min", "back_min", "soonest_min"})
"""Numbers that are minutes of a plan."""

WORKED_OUT: dict[str, Callable[[Mapping[str, Any]], Any]] = {
    "pins": lambda n: n["cells"] + 1,
    "chance": lambda n: n["met"] / n["of"],
    "silent_s": lambda n: n["minutes"] * 60,
    "rating": lambda n: tuple(n.get(name) for name in ("volts", "current_a", "power_w")),
    "freezing_c": lambda _: 0,
    "cool_c": lambda _: 10,
    "mild_c": lambda _: 30,
    "hottest_c": lambda _: 45,
}
"""Values that a sentence may name besides the numbers of its reason."""


class _Numbers(dict[str, Any]):
    """The numbers of a reason, and what is worked out of them."""

    def __missing__(self, name: str) -> Any:
        return WORKED_OUT[name](self)


def minute_of(value: float) -> str:
    """A moment of a plan whose time of day is not known."""
    return say("minute {minute:.0f}", minute=value)


def sentence(item: Reason, at: Callable[[float], str] = minute_of) -> str:
    """The one sentence for a reason. Raises KeyError for a code without wording, which is a defect.

    at : how a minute of a plan is written, a time of day where it is known.
    """
    numbers = _Numbers({name: _worded(name, value, at) for name, value in item.numbers.items()})
    told = chosen(SENTENCES[item.code], numbers)
    if isinstance(told, Many):
        counted = numbers[told.counts]
        count = len(counted) if isinstance(counted, tuple) else counted
        return filled(form_for(told.one, told.more, count), numbers)
    return filled(translated(told), numbers)


def _worded(name: str, value: Any, at: Callable[[float], str]) -> Any:
    """A number as the sentence takes it: a moment as its time, a reason inside a reason as its own sentence."""
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
