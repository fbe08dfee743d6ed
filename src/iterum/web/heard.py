"""Typed lines: what was understood is shown first, and what is shown is saved."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

from iterum.core.reading.reader import kind_of, read
from iterum.core.reading.told import Question, Told
from iterum.core.say import Words, kept, say
from iterum.core.things.tags import next_tag, tags_from
from iterum.exchange.sense import kit_sense, pack_sense
from iterum.exchange.session import part_from
from iterum.services.desk import kit_items
from iterum.web.context import desk, now, undoable
from iterum.web.forms import faults_by_field
from iterum.wording import sentence

NOTE_LENGTH = 200
UNDERSTOOD = {
    "pack": Words("Pack, as understood"),
    "charger": Words("Charger, as understood"),
    "supply": Words("Supply, as understood"),
    "source": Words("Source, as understood"),
    "board": Words("Board, as understood"),
    "mains": Words("Mains, as understood"),
}
"""What a line is about."""


@dataclass(frozen=True)
class Chip:
    """One figure with its meaning. about : what it is. value : what it comes to. assumed : not said, but usual."""

    about: str
    value: str
    assumed: bool


@dataclass(frozen=True)
class Heard:
    """A line with what was answered beside it. fields : of the file, the answers in them. seen : whether exactly this
    was shown before it was sent."""

    told: Told
    fields: Mapping[str, Any]
    open: tuple[Question, ...]
    answers: Mapping[str, str]
    seen: bool

    @property
    def title(self) -> str:
        """What it is, in words."""
        if self.told.kind == "pack" and self.count > 1:
            return say("{count} packs, as understood", count=self.count)
        return say(UNDERSTOOD[self.told.kind])

    @property
    def count(self) -> int:
        """Packs that it names."""
        return int(self.fields.get("count", self.told.count))

    @property
    def chips(self) -> tuple[Chip, ...]:
        """Every figure with its meaning."""
        parts = [(sentence(item.why).partition(": "), item.assumed) for item in self.told.means]
        return tuple(Chip(about, value, assumed) for (about, _, value), assumed in parts)

    @property
    def pieces(self) -> tuple[tuple[str, str], ...]:
        """The line in pieces, each with how it is marked: unread, open, or plain."""
        marks = [(word.start, word.end, "unread") for word in self.told.unread]
        marks += [
            (item.start, item.end, "open")
            for item in self.told.questions
            if item.start is not None and item.end is not None
        ]
        cuts = sorted({0, len(self.told.text), *(place for start, end, _ in marks for place in (start, end))})
        return tuple(
            (self.told.text[start:end], next((how for at, till, how in marks if at <= start and end <= till), ""))
            for start, end in pairwise(cuts)
        )

    @property
    def damage(self) -> bool:
        """Whether a word of damage is still open: the pack is quarantined until it is answered."""
        return any(item.code == "damage" for item in self.open)

    @property
    def ready(self) -> bool:
        """Whether it can be saved as it is shown."""
        return not self.open and not self.told.faults


def hear(text: str, asked: str, form: Mapping[str, str], as_asked: bool = False) -> Heard:
    """What a line says, with the answers that a form gives to its questions.

    asked : the kind that the question is about. form : holds "answer-" and the code of each question, and in "seen"
    the line that was shown. as_asked : read it as that kind, whatever it looks like.
    """
    line = " ".join(text.split())
    told = read(asked if as_asked else kind_of(line, asked), line)
    answers = {asked.code: form.get(f"answer-{asked.code}", "") for asked in told.questions}
    if form.get("as") == "quarantined":
        answers["damage"] = "damaged"
    fields, still = told.answered(answers)
    return Heard(told, fields, still, answers, form.get("seen") == line)


def save(heard: Heard) -> tuple[str, list[str]]:
    """Write down what was heard. Returns the first tag, and what is wrong with it; then nothing was saved."""
    fields = {name: value for name, value in heard.fields.items() if name != "count"}
    if heard.told.unread:  # a word that nobody knows is kept beside it
        fields["note"] = " ".join(word.text for word in heard.told.unread)[:NOTE_LENGTH]
    return _save_packs(heard, fields) if heard.told.kind == "pack" else _save_kit(heard, fields)


def _save_packs(heard: Heard, fields: dict[str, Any]) -> tuple[str, list[str]]:
    session = desk().session()
    used = {pack.id for pack in (*session.packs, *desk().retired()[0])}
    first = next_tag(session.packs[-1].id if session.packs else "A-00", used)
    document = {"id": first, **fields}
    faults = faults_by_field("pack", document, pack_sense(document))
    if faults:
        return first, list(faults.values())
    tags = tags_from(first, heard.count)
    made = [part_from("pack", {**document, "id": tag}) for tag in tags]
    with undoable(
        kept("{pack} is saved", pack=tags[0])
        if len(tags) == 1
        else kept("{first} to {last} are saved", first=tags[0], last=tags[-1])
    ):
        desk().save_packs(made, None, now())
    return first, []


def _save_kit(heard: Heard, fields: dict[str, Any]) -> tuple[str, list[str]]:
    kind = heard.told.kind
    tag = next_tag(f"{kind}-0", {item.id for item in kit_items(desk().session().kit)})
    document = kit_document(kind, tag, fields)
    faults = faults_by_field(kind, document, kit_sense(kind, document))
    if faults:
        return tag, list(faults.values())
    with undoable(kept("{tag} is saved", tag=tag)):
        desk().save_kit_item(part_from(kind, document), None)
    return tag, []


def kit_document(kind: str, tag: str, fields: Mapping[str, Any]) -> dict[str, Any]:
    """A piece of kit as a file has it, the channels of a charger with tags that count from its own."""
    document = {"id": tag, **fields}
    if kind == "charger":
        document["channels"] = [
            {"id": f"{tag}-{number}", **channel} for number, channel in enumerate(fields.get("channels", ()), 1)
        ]
    return document


def feed_from(tag: str) -> None:
    """Feed every charger that hangs on nothing yet from this supply or source."""
    for one in desk().session().kit.chargers:
        if one.fed_by is None:
            desk().save_kit_item(replace(one, fed_by=tag), one.id)
