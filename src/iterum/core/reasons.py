"""Why a result is what it is: a code with its numbers. `iterum.wording` turns one into its one sentence."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Reason:
    """A reason as data. `numbers` carry their unit in the key, as everywhere else."""

    code: str
    numbers: Mapping[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Keep numbers in one form, also those that come back from where they were kept."""
        object.__setattr__(self, "numbers", {name: _kept(value) for name, value in self.numbers.items()})


def _kept(value: Any) -> Any:
    """A list as a tuple, and a reason that was written down as a mapping as a reason."""
    if isinstance(value, (list, tuple)):
        return tuple(_kept(item) for item in value)
    if isinstance(value, Mapping) and value.keys() == {"code", "numbers"}:
        return Reason(value["code"], value["numbers"])
    return value


def reason(code: str, **numbers: Any) -> Reason:
    """A `Reason` with its numbers as keywords.

    code : one that has a sentence in the wording.
    """
    return Reason(code, numbers)


def each_once(reasons: Iterable[Reason]) -> tuple[Reason, ...]:
    """The reasons in their order, none twice."""
    once: list[Reason] = []
    for item in reasons:
        if item not in once:
            once.append(item)
    return tuple(once)


_speakers: list[Callable[[Reason], str]] = []


def hand_over_words(sentence: Callable[[Reason], str]) -> None:
    """Let errors say their sentences; without it they say codes.

    sentence : of a reason.
    """
    _speakers[:] = [sentence]


class Unsafe(Exception):
    """A wish that is refused because it would be unsafe or cannot be done. Carries every reason."""

    def __init__(self, reasons: tuple[Reason, ...]) -> None:
        super().__init__(reasons)
        self.reasons = reasons

    def __str__(self) -> str:
        return " ".join(map(_speakers[0], self.reasons)) if _speakers else ", ".join(item.code for item in self.reasons)


class Busy(RuntimeError):
    """Somebody else, or the charger, was at it just now: what was asked rests on what is no more. To be tried again."""


class NotThere(LookupError):
    """Something was asked for by its tag, or its number, and is not there (any more)."""

    def __init__(self, kind: str, tag: object) -> None:
        super().__init__(f"there is no {kind} {tag}")
        self.kind, self.tag = kind, tag
