"""Which of several whole sentences is said: by a number of the reason, or by how many things it is about."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

Numbers = Mapping[str, Any]
Asks = str | Callable[[Numbers], Any]


@dataclass(frozen=True)
class When:
    """One of two sentences. asks : the name of a number that is there and not zero or empty, or a question of all."""

    asks: Asks
    yes: "Template"
    no: "Template"


@dataclass(frozen=True)
class Many:
    """A sentence whose words depend on a number of things. counts : the name of the number, or of the things."""

    counts: str
    one: str
    more: str


Template = str | When | Many


def chosen(template: Template, numbers: Numbers) -> str | Many:
    """The sentence that these numbers ask for."""
    while isinstance(template, When):
        asks = template.asks
        holds = asks(numbers) if callable(asks) else numbers.get(asks)
        template = template.yes if holds else template.no
    return template


def texts(template: Template) -> Iterator[str | Many]:
    """Every sentence that a template may become."""
    if isinstance(template, When):
        yield from texts(template.yes)
        yield from texts(template.no)
    else:
        yield template
