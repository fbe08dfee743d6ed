"""What a field of the job is called, in which unit, within which bounds: said once, beside the field itself.

Bounds are `annotated_types`; `Says` holds the words. The session file, its schema, forms and their faults are made
from both.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from enum import Enum, StrEnum, auto
from functools import cache
from math import inf, isfinite
from types import NoneType
from typing import Annotated, Any, get_args, get_origin, get_type_hints

from annotated_types import Ge, Gt, Le, Len

from iterum.core.say import Words, say


@dataclass(frozen=True)
class Says:
    """Words about a field. pattern : a regular expression that a text keeps."""

    title: str
    unit: str = ""
    help: str = ""
    pattern: str | None = None

    def __post_init__(self) -> None:
        """Keep its words so that they are shown in the reader's language."""
        object.__setattr__(self, "title", Words(self.title))
        object.__setattr__(self, "help", Words(self.help))


class Kept(Enum):
    """Stands beside the type of a field that is not simply typed and kept with the rest of its row."""

    BY_LOG = auto()
    """What happened to it: kept in its row, and never changed with its label."""
    ELSEWHERE = auto()
    """Worked out at each look, or kept in rows of its own."""


Tag = Annotated[
    str,
    Len(1, 40),
    Says("Tag", help="as written on it, such as P-07", pattern=r"^[^\s\x00-\x1f]([^\x00-\x1f]*[^\s\x00-\x1f])?$"),
]
ANY = "any"
"""A tag that stands for every one of a kind, where things are compared in all but their tags."""
Named = Annotated[str | None, Len(0, 40)]
"""The tag of something else, or nothing."""
Name = Annotated[str | None, Len(0, 80), Says("Name")]
Note = Annotated[str | None, Len(0, 2000), Says("Note")]


# ------------------------------------------------------------------------------------ what keeps them


@dataclass(frozen=True)
class Fault:
    """One thing wrong with the input: where, and what it must be instead."""

    place: str
    mend: str

    def __str__(self) -> str:
        return f"{self.place}: {self.mend}" if self.place else self.mend


MOST_FAULTS = 100
"""Faults that are told at once at most: nobody reads more, and more of them are only counted."""


class BadInput(ValueError):
    """Input that cannot be taken. Carries every fault, up to `MOST_FAULTS`."""

    def __init__(self, faults: Sequence[Fault]) -> None:
        self.faults = bounded(list(faults))
        super().__init__("; ".join(str(fault) for fault in self.faults))


def bounded(faults: list[Fault], count: int | None = None) -> list[Fault]:
    """The first `MOST_FAULTS`, and how many more there are. count : of all; None for as many as are given."""
    count = len(faults) if count is None else count
    left = count - MOST_FAULTS
    if left <= 0 or len(faults) == MOST_FAULTS + 1:  # as it is, or cut before
        return faults
    return [*faults[:MOST_FAULTS], Fault("", say("and {left} more faults", left=left))]


@dataclass(frozen=True)
class _Bounds:
    """What a figure or a text of one field keeps. each : of the parts of a tuple. kind : float, int or str, None for a
    tuple. optional : None may stand for it."""

    name: str
    least: float = -inf
    above: float = -inf
    most: float = inf
    short: int = 0
    long: int | None = None
    pattern: str | None = None
    unit: str = ""
    each: "_Bounds | None" = None
    kind: type | None = None
    optional: bool = True

    @property
    def plain(self) -> tuple[type, ...]:
        """Types of values of which only the size is to be seen."""
        return {float: (float, int), int: (int,)}.get(self.kind or str, ())

    def breaks(self, value: Any) -> str | None:
        """What it must be instead; None where it is."""
        if value is None:
            return None if self.optional else "missing"
        other = self._other_kind(value)
        if other is not None:
            return say("{value} is no {other}", value=repr(value), other=other)
        if isinstance(value, (int, float)):
            if self.least <= value <= self.most and value > self.above:  # never true of what is no number
                return None
            return say("{value:g} is not possible: {range}", value=value, range=self._range())
        if isinstance(value, tuple) and self.each is not None:
            told = (self.each.breaks(part) for part in value)
            return next((one for one in told if one is not None), None) or self._size(value, "parts")
        if isinstance(value, str):
            if self.pattern is not None and not re.search(self.pattern, value):
                return say("{value} is not written as it must be", value=repr(value))
            return self._size(value, "letters")
        return None

    def _other_kind(self, value: Any) -> str | None:
        """What it should be, where it is something else altogether."""
        is_number = isinstance(value, (int, float))
        if self.kind is None:
            return None if isinstance(value, tuple) else "list"
        if self.kind is str:
            return None if isinstance(value, str) else "text"
        if self.kind is int and is_number:
            return "whole number" if isinstance(value, bool) or value % 1 != 0 else None
        return "number" if self.kind in (int, float) and not is_number else None

    def _range(self) -> str:
        unit = f" {self.unit}" if self.unit else ""
        low = say("more than {above:g}", above=self.above) if self.above > self.least else f"{self.least:g}"
        if self.most == inf:
            return say("{low}{unit} or more", low=low, unit=unit)
        known = isfinite(max(self.least, self.above))
        return (
            say("{low} to {most:g}{unit}", low=low, most=self.most, unit=unit)
            if known
            else say("up to {most:g}{unit}", most=self.most, unit=unit)
        )

    def _size(self, value: str | tuple[Any, ...], of: str) -> str | None:
        is_left_out = not value and isinstance(value, tuple)
        if is_left_out or (self.short <= len(value) and (self.long is None or len(value) <= self.long)):
            return None
        return say("{value} {of}: {short} to {long}", value=len(value), of=of, short=self.short, long=self.long)


def _bounds(name: str, hint: Any) -> _Bounds | None:
    """The bounds beside a type; None where it has none."""
    if get_origin(hint) is not Annotated:
        parts = [part for part in get_args(hint) if get_origin(part) is Annotated]
        each = _bounds(name, parts[0]) if parts and get_origin(hint) is tuple else None
        return None if each is None else _Bounds(name, each=each)
    inner, *told = get_args(hint)
    within = () if get_origin(inner) is tuple else (inner, *get_args(inner))
    kind = next((one for one in (float, int, str) if one in within), None)
    kept = _bounds(name, inner) or _Bounds(name, kind=kind)
    for item in told:
        match item:
            case Ge(ge=value):
                kept = replace(kept, least=value)  # type: ignore[arg-type]  # a figure in all of ours
            case Gt(gt=value):
                kept = replace(kept, above=value)  # type: ignore[arg-type]
            case Le(le=value):
                kept = replace(kept, most=value)  # type: ignore[arg-type]
            case Len():
                kept = replace(kept, short=item.min_length, long=item.max_length)
            case Says():
                kept = replace(kept, pattern=item.pattern, unit=item.unit)
    return None if kept == _Bounds(name, kind=kept.kind) else kept


@cache
def _checks(kind: type) -> tuple[tuple[str, tuple[type, ...], float, float, float, _Bounds], ...]:
    hints = get_type_hints(kind, include_extras=True)
    found = (_bounds(item.name, hints[item.name]) for item in fields(kind))
    kept = (replace(item, optional=_may_be_none(hints[item.name])) for item in found if item is not None)
    return tuple((item.name, item.plain, item.least, item.above, item.most, item) for item in kept)


def _may_be_none(hint: Any) -> bool:
    inner = get_args(hint)[0] if get_origin(hint) is Annotated else hint
    return NoneType in get_args(inner)


@cache
def _choices(kind: type) -> tuple[tuple[str, type[StrEnum]], ...]:
    """The fields of a class that are one of a few words."""
    hints = get_type_hints(kind)
    found = ((item.name, hints[item.name]) for item in fields(kind))
    return tuple((name, hint) for name, hint in found if isinstance(hint, type) and issubclass(hint, StrEnum))


def _worded(item: Any) -> tuple[Fault, ...]:
    """Take words for what they name, so that nobody compares a text with a choice; a fault for a word of none."""
    found = []
    for name, kind in _choices(item.__class__):
        value = getattr(item, name)
        if isinstance(value, kind):
            continue
        try:
            object.__setattr__(item, name, kind(value))
        except ValueError:
            found.append(Fault(name, say("{value} is not known: one of {kind:list}", value=repr(value), kind=kind)))
    return tuple(found)


def faults_of(item: Any) -> tuple[Fault, ...]:
    """Every field of a dataclass that is beyond its bounds, with what it must be."""
    found = []
    for name, plain, least, above, most, bounds in _checks(item.__class__):
        value = getattr(item, name)
        # A plan makes thousands of packs: what is within its bounds must cost next to nothing.
        if type(value) in plain and least <= value <= most and value > above:
            continue
        mend = bounds.breaks(value)
        if mend is not None:
            found.append(Fault(name, mend))
    return tuple(found)


def _fix_lists(item: Any) -> None:
    """Take lists as tuples: a list could change after it was checked, and is found in no cache."""
    for name, *_, bounds in _checks(item.__class__):
        value = getattr(item, name)
        if bounds.kind is None and isinstance(value, list):
            object.__setattr__(item, name, tuple(value))


class Checked:
    """A dataclass that cannot be made with a field beyond its bounds. Raises BadInput with every fault."""

    def __post_init__(self) -> None:
        """See whether every field is within its bounds."""
        _fix_lists(self)
        faults = faults_of(self) + _worded(self) + self.own_faults()
        if faults:
            raise BadInput(faults)

    def own_faults(self) -> tuple[Fault, ...]:
        """What bounds of single fields do not say; a class says it in its own."""
        return ()
