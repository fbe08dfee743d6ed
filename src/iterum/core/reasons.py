"""Why a result is what it is: a code with its numbers. `iterum.wording` turns one into its one sentence."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Reason:
    """A reason as data. `numbers` carry their unit in the key, as everywhere else."""

    code: str
    numbers: Mapping[str, Any] = field(default_factory=dict)


def reason(code: str, **numbers: Any) -> Reason:
    """A `Reason` with its numbers as keywords."""
    return Reason(code, numbers)


def each_once(reasons: Iterable[Reason]) -> tuple[Reason, ...]:
    """The reasons in their order, none twice."""
    found: list[Reason] = []
    for item in reasons:
        if item not in found:
            found.append(item)
    return tuple(found)


class Unsafe(Exception):
    """A wish that is refused because it would be unsafe or cannot be done. Carries every reason."""

    def __init__(self, reasons: tuple[Reason, ...]) -> None:
        super().__init__(", ".join(item.code for item in reasons))
        self.reasons = reasons


class NotThere(LookupError):
    """Something was asked for by its tag, or its number, and is not there (any more)."""

    def __init__(self, kind: str, tag: object) -> None:
        super().__init__(f"there is no {kind} {tag}")
        self.kind, self.tag = kind, tag
