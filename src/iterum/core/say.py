"""Sentences with named values, in the language of the person who reads them.

A sentence is a template such as "{id} is at {cell_v:.2f} V." A catalogue holds it in another language; without a
catalogue the template itself is used. How a value is written stands behind its colon:

`.2f`, `.0f`, `g` : digits, with the decimal sign of the language.
`.2f|limit_v` : at least two digits, and as many more as tell the value from another value of the same sentence.
`plain` : no needless zeros. `min` : whole minutes, rounded up, with their unit. `%` : a part as per cent.
`and`, `or` : a list as it is read aloud. `list` : with commas only.
Modules above add their own with `write_as`.
"""

import math
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from iterum.core.quantities import NOISE


class Words(str):
    """Words that are kept in English and shown in the language of the reader, such as the title of a field."""

    __slots__ = ()


def _english_plural(count: int) -> int:
    """Which form a number of things takes: 0 for one.

    count : of the things, 0 or more.
    """
    return int(count != 1)


@dataclass(frozen=True)
class Language:
    """A catalogue. messages : by English text; several forms where the number of things changes the words. kept : those
    that are kept or sent in English."""

    code: str = "en"
    locale: str = "en_GB"
    name: str = "English"
    messages: Mapping[str, str | Sequence[str]] = field(default_factory=dict, repr=False)
    kept: frozenset[str] = frozenset()
    plural: Callable[[int], int] = _english_plural
    decimal: str = "."

    @cached_property
    def patterns(self) -> list[tuple[re.Pattern[str], str]]:
        """Every sentence with values that is kept in English, as a pattern; those that say most come first."""
        found = [text for text in self.kept if _VALUE.search(text)]
        found.sort(key=lambda text: -len(_VALUE.sub("", text)))
        return [(re.compile(_pattern(text), re.S), text) for text in found]


ENGLISH = Language()
LANGUAGE: ContextVar[Language] = ContextVar("LANGUAGE", default=ENGLISH)
"""The language of the person who is being answered."""

_VALUE = re.compile(r"\{(\w+)(?::([^{}]*))?\}")
_FIGURE = re.compile(r"\+?(\.\d)?[fg]|plain")
_AS: dict[str, Callable[[Any], str]] = {}


def write_as(spec: str, how: Callable[[Any], str]) -> None:
    """Add a way to write a value.

    spec : what stands behind the colon. how : value to text.
    """
    _AS[spec] = how


def say(text: str, **values: Any) -> str:
    """A sentence in the reader's language.

    text : its English template. values : by the names in the template.
    """
    return filled(translated(text), values)


def say_many(one: str, more: str, count: int, **values: Any) -> str:
    """A sentence whose words depend on a number of things.

    one : for one thing. more : for several. count : of the things, `{count}` in the template.
    """
    return filled(form_for(one, more, count), {"count": count, **values})


def kept(text: str, **values: Any) -> str:
    """A sentence that is kept or sent on: in English, whoever writes it, so that everybody can read it with `retold`.

    text : its English template. values : by the names in the template.
    """
    with speaking(ENGLISH):
        return filled(text, values)


def retold(text: str) -> str:
    """A sentence that was kept or sent in English, in the reader's language; as it is where no catalogue has it.

    text : in English, its values filled in.
    """
    language = LANGUAGE.get()
    if text in language.messages:
        return translated(text)
    for pattern, template in language.patterns:
        hit = pattern.fullmatch(text)
        if hit is not None:
            return _refilled(translated(template), hit.groupdict())
    return text


def _refilled(template: str, values: Mapping[str, str]) -> str:
    """A template with values that are written out already; one of several words may be a sentence of its own."""

    def refilled(hit: re.Match[str]) -> str:
        value = values[hit[1]]
        if _FIGURE.match(hit[2] or ""):
            return value.replace(".", LANGUAGE.get().decimal)
        return retold(value) if " " in value else value

    return _VALUE.sub(refilled, template)


@contextmanager
def speaking(language: Language) -> Iterator[None]:
    """Say everything in one language meanwhile.

    language : with its catalogue.
    """
    before = LANGUAGE.set(language)
    try:
        yield
    finally:
        LANGUAGE.reset(before)


def _pattern(template: str) -> str:
    """A regular expression that a filled template fits."""
    parts: list[str] = []
    seen: set[str] = set()
    end = 0
    for hit in _VALUE.finditer(template):
        parts.append(re.escape(template[end : hit.start()]))
        parts.append(f"(?P={hit[1]})" if hit[1] in seen else f"(?P<{hit[1]}>.+?)")
        seen.add(hit[1])
        end = hit.end()
    return "".join([*parts, re.escape(template[end:])])


def translated(text: str) -> str:
    """A template in the reader's language. text : in English."""
    told = LANGUAGE.get().messages.get(text, text)
    return told if isinstance(told, str) else told[0]


def form_for(one: str, more: str, count: int) -> str:
    """The template for a number of things, in the reader's language.

    one : for one thing. more : for several. count : of the things.
    """
    language = LANGUAGE.get()
    forms = language.messages.get(one)
    if forms is None or isinstance(forms, str):
        return one if count == 1 else more
    return forms[min(language.plural(count), len(forms) - 1)]


def filled(template: str, values: Mapping[str, Any]) -> str:
    """A template with its values written out.

    template : in any language. values : by the names in it.
    """
    return _VALUE.sub(lambda hit: written(values[hit[1]], hit[2] or "", values), template)


def written(value: Any, spec: str = "", values: Mapping[str, Any] | None = None) -> str:
    """A value as the reader's language writes it.

    spec : how, see above. values : the others of the sentence.
    """
    if spec in _AS:
        return _AS[spec](value)
    if "|" in spec:
        digits, other = spec.split("|")
        return figure(value, f".{_digits_apart(value, (values or {})[other], int(digits[1:-1]))}f")
    if spec:
        return figure(value, spec)
    if isinstance(value, Words):
        return retold(value)
    if isinstance(value, (tuple, list)):
        return ", ".join(written(part) for part in value)
    return figure(value, "") if isinstance(value, float) else str(value)


def figure(value: float, spec: str) -> str:
    """A figure with the decimal sign of the language.

    value : any number. spec : as for `format`.
    """
    return format(value, spec).replace(".", LANGUAGE.get().decimal)


def plain(value: float) -> str:
    """A figure without needless zeros: 9.60 is "9.6", 300.0 is "300".

    value : any number.
    """
    return figure(value, ".2f").rstrip("0").rstrip(".,") or "0"


def minutes(value: float) -> str:
    """Minutes, whole, rounded up.

    value : minutes.
    """
    return f"{math.ceil(round(value, 6))} min"


def one_of(items: Sequence[object], last: str = "or") -> str:
    """ "A, B or C" from a sequence.

    items : at least one. last : "or", "and".
    """
    told = [written(item) for item in items]
    if len(told) == 1:
        return told[0]
    first = ", ".join(told[:-1])
    if last == "and":
        return say("{first} and {last}", first=first, last=told[-1])
    return say("{first} or {last}", first=first, last=told[-1])


def _digits_apart(value: float, other: float, digits: int) -> int:
    while digits < 6 and f"{value:.{digits}f}" == f"{other:.{digits}f}" and abs(value - other) > NOISE:
        digits += 1
    return digits


write_as("plain", plain)
write_as("min", minutes)
write_as("%", lambda part: f"{part * 100:.0f} %")
write_as("and", lambda items: one_of(items, "and"))
write_as("or", one_of)
write_as("list", lambda items: ", ".join(written(item) for item in items))
