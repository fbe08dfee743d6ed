"""What a reader made of a line: fields, what they come to, questions, and the words that nobody understood."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from iterum.core.reading.tokens import Kind, Token, settled, tokens_of
from iterum.core.reasons import Reason, reason

FILLING = frozenset(
    [
        "a",
        "an",
        "the",
        "of",
        "and",
        "or",
        "with",
        "at",
        "by",
        "in",
        "on",
        "it",
        "is",
        "my",
        "each",
        "every",
        "all",
        "per",
        "for",
        "to",
        "from",
        "up",
        "pack",
        "packs",
        "battery",
        "batteries",
        "rated",
        "rate",
        "rating",
        "nominal",
        "typical",
        "type",
        "model",
        "capacity",
        "volts",
        "voltage",
        "amps",
        "watts",
        "cell",
        "cells",
        "series",
        "max",
        "maximum",
        "about",
        "approx",
        "roughly",
        "new",
        "brand",
        "parallel",
        "board",
        "balance",
        "lead",
        "leads",
        "plug",
        "connector",
        "power",
        "label",
        "says",
        "high",
        "quality",
        "rechargeable",
        "output",
        "total",
        "together",
        "current",
        "batt",
        "bat",
        "bats",
        "batts",
        "constant",
        "max.",
        "whole",
    ]
)
"""Words that a line is as clear without, where no reader has a use for them."""


@dataclass(frozen=True)
class Choice:
    """One answer to a question. value : what is sent back. fields : what it settles, by the names of the file."""

    value: str
    words: str
    fields: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Question:
    """What a line leaves open. why : what is asked. choices : answers, empty where a figure is asked for in `field`."""

    code: str
    why: Reason
    choices: tuple[Choice, ...] = ()
    field: str | None = None
    start: int | None = None
    end: int | None = None

    def settled_by(self, answer: str) -> Mapping[str, Any] | None:
        """The fields that an answer gives; None where it is no answer.

        answer : the value of a choice, or a figure as it was typed.
        """
        chosen = next((item.fields for item in self.choices if item.value == answer), None)
        if chosen is not None or self.field is None:
            return chosen
        figures = [token for token in tokens_of(answer) if token.kind is Kind.NUMBER]
        if len(figures) != 1 or figures[0].low is not None:
            return None
        unit = UNIT_OF.get(self.field.rsplit("_", 1)[-1], "")
        value = settled(figures[0], unit) * (1000 if (figures[0].unit, unit) == ("ah", "mah") else 1)
        return {self.field: int(value) if self.field in WHOLE else value}


UNIT_OF = {"mah": "mah", "wh": "wh", "w": "w", "v": "v", "a": "a"}


@dataclass(frozen=True)
class Meaning:
    """One thing that was understood. assumed : whether the line does not say it and it is the usual figure."""

    why: Reason
    start: int | None = None
    end: int | None = None
    assumed: bool = False


@dataclass(frozen=True)
class Unread:
    """A word that has no meaning here, with its place in the line."""

    text: str
    start: int
    end: int


@dataclass(frozen=True)
class Told:
    """A line as it was understood.

    kind : pack, charger, supply, source, board or mains. understood : by the names of the session file; what is
    uncertain is not in it. count : devices named. means : what each figure comes to. faults : what contradicts itself
    or is missing; with one, nothing is saved.
    """

    kind: str
    text: str
    understood: Mapping[str, Any]
    count: int = 1
    means: tuple[Meaning, ...] = ()
    unread: tuple[Unread, ...] = ()
    questions: tuple[Question, ...] = ()
    faults: tuple[Reason, ...] = ()

    def answered(self, answers: Mapping[str, str]) -> tuple[dict[str, Any], tuple[Question, ...]]:
        """The fields with the answers given, and the questions that are still open.

        answers : the value of a choice, or a figure as it was typed, by the code of its question.
        """
        fields, still = dict(self.understood), []
        for asked in self.questions:
            settled_by = asked.settled_by(answers.get(asked.code, "").strip())
            if settled_by is None:
                still.append(asked)
                continue
            for name, value in settled_by.items():
                if name in OF_CHANNELS and "channels" in fields:
                    fields["channels"] = [{**channel, name: value} for channel in fields["channels"]]
                else:
                    fields[name] = value
        return fields, tuple(still)


OF_CHANNELS = ("max_current_a", "max_power_w", "fixed_current")
"""What is asked of a charger and stands at each of its channels."""
WHOLE = ("cells", "ports", "count")


class Line:
    """A line while it is read: each token is taken once, by the reader that knows its role."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens = tokens_of(text)
        self._taken: set[int] = set()
        self.fields: dict[str, Any] = {}
        self.means: list[Meaning] = []
        self.questions: list[Question] = []
        self.faults: list[Reason] = []

    # ------------------------------------------------------------------------------------ tokens

    def free(self) -> list[int]:
        """Places of the tokens that nobody took."""
        return [place for place in range(len(self.tokens)) if place not in self._taken]

    def is_free(self, place: int) -> bool:
        """Whether there is a token at a place that nobody took."""
        return 0 <= place < len(self.tokens) and place not in self._taken

    def take(self, *places: int) -> None:
        """Take tokens: they have a meaning.

        places : of the tokens.
        """
        self._taken.update(places)

    def numbers(self, *units: str) -> list[int]:
        """Places of the free numbers with one of these units."""
        return [
            place
            for place in self.free()
            if self.tokens[place].kind is Kind.NUMBER and self.tokens[place].unit in units
        ]

    def words(self, *wanted: str) -> list[int]:
        """Places of free words.

        wanted : in small letters; a star stands for any ending.
        """
        return [place for place in self.free() if _is_word(self.tokens[place], wanted)]

    def says(self, place: int, *wanted: str) -> bool:
        """Whether the token at a place is one of these words.

        wanted : in small letters; a star stands for any ending.
        """
        return 0 <= place < len(self.tokens) and _is_word(self.tokens[place], wanted)

    def value(self, place: int, unit: str | None = None) -> float:
        """The value of a number.

        place : of its token. unit : decides what its separator parts; None takes its own.
        """
        token = self.tokens[place]
        return settled(token, unit or token.unit)

    def beside(self, place: int, *wanted: str, reach: int = 2) -> int | None:
        """The nearest of these words around a number, with no other number between; None where there is none.

        place : of the number. wanted : in small letters. reach : tokens away, 1 or more.
        """
        for distance in range(1, reach + 1):
            for step in (-1, 1):
                there = place + step * distance
                between = self.tokens[min(place, there) + 1 : max(place, there)]
                if self.says(there, *wanted) and all(token.kind is not Kind.NUMBER for token in between):
                    return there
        return None

    # ------------------------------------------------------------------------------------ results

    def mean(self, code: str, *places: int, assumed: bool = False, **numbers: Any) -> None:
        """Write down what tokens mean.

        code : of the sentence, with its numbers. places : of the tokens. assumed : whether the line does not say it.
        """
        start = min((self.tokens[place].start for place in places), default=None)
        end = max((self.tokens[place].end for place in places), default=None)
        self.means.append(Meaning(reason(code, **numbers), start, end, assumed))

    def ask(
        self,
        code: str,
        choices: Iterable[Choice] = (),
        field: str | None = None,
        at: Sequence[int] = (),
        **numbers: Any,
    ) -> None:
        """Ask something; its tokens are accounted for by the question.

        code : of the question. choices : its answers. field : that a figure answers. at : places of the tokens.
        """
        self.take(*at)
        start = min((self.tokens[place].start for place in at), default=None)
        end = max((self.tokens[place].end for place in at), default=None)
        self.questions.append(Question(code, reason(f"ask_{code}", **numbers), tuple(choices), field, start, end))

    def fault(self, code: str, **numbers: Any) -> None:
        """Note what contradicts itself, or is missing.

        code : of the sentence, with its numbers.
        """
        self.faults.append(reason(code, **numbers))

    def told(self, kind: str, count: int = 1, filling: frozenset[str] = FILLING) -> Told:
        """What was made of the line; what nobody took is unread, but for filling words and marks.

        kind : of the thing. count : how many alike, 1 or more. filling : words that need no meaning.
        """
        unread = tuple(
            Unread(token.text, token.start, token.end)
            for token in (self.tokens[place] for place in self.free())
            if token.kind is not Kind.MARK and not (token.kind is Kind.WORD and token.word in filling)
        )
        return Told(
            kind, self.text, self.fields, count, tuple(self.means), unread, tuple(self.questions), tuple(self.faults)
        )


def _is_word(token: Token, wanted: Sequence[str]) -> bool:
    if token.kind is not Kind.WORD:
        return False
    return any(token.word.startswith(one[:-1]) if one.endswith("*") else token.word == one for one in wanted)


Reader = Callable[[str], Told]
