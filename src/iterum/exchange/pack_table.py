"""Packs from a table that somebody keeps: columns mapped by their headings, all rows or none, each fault at its row."""

import re
from collections.abc import Callable, Container, Mapping, Sequence
from typing import Any

from iterum.core.fields import MOST_FAULTS, BadInput
from iterum.core.reading.numbers import figure_of
from iterum.core.reading.pack import read_pack
from iterum.core.say import Words, say
from iterum.core.season.columns import OUT, number
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.packs import Pack
from iterum.core.things.tags import next_tag, tags_from
from iterum.exchange.sense import pack_sense
from iterum.exchange.session import part_from
from iterum.wording import sentence

PACK_MEANINGS = {
    OUT: "leave out",
    "id": "tag",
    "label": Words("label, as in 3S 2200 60C"),
    "chemistry": "chemistry",
    "cells": "cells",
    "capacity_mah": "mAh",
    "max_charge_c": Words("charge C"),
    "discharge_c": Words("discharge C"),
    "connector": "connector",
    "cycles": "cycles",
    "name": "name",
    "note": "note",
    "count": "how many alike",
}
_KNOWN = {
    "id": "id tag pack packid packtag no number nr #",
    "label": "label type model description pack kind battery",
    "chemistry": "chemistry chem type",
    "cells": "cells s cellcount series",
    "capacity_mah": "mah capacity capacitymah ah",
    "max_charge_c": "chargec maxchargec chargerate",
    "discharge_c": "c dischargec crating rating",
    "connector": "connector plug",
    "cycles": "cycles charges",
    "name": "name",
    "note": "note notes remark remarks comment",
    "count": "count howmany pieces pcs qty quantity",
}
"""How such tables head their columns, written together and small. Common practice, no source."""


LEAST_MAH = 50.0
"""No pack holds less: such a figure is Ah."""


def guessed_packs(headings: Sequence[str]) -> dict[str, str]:
    """What headings seem to mean; "out" for those that nobody can know. None means two."""
    columns: dict[str, str] = {}
    for heading in headings:
        words = {re.sub(r"[\W_]+", "", part) for part in (heading.lower(), *re.split(r"[(\[,/]", heading.lower()))}
        free = [name for name in _KNOWN if name not in columns.values()]
        columns[heading] = next((name for name in free if words & {name, *_KNOWN[name].split()}), OUT)
    return columns


def packs_from(
    headings: Sequence[str], rows: Sequence[Sequence[str]], meaning: Mapping[str, str], chemistry: str | None,
    used: Container[str],
) -> tuple[list[Pack], list[str]]:  # fmt: skip
    """Packs of all rows, and what is wrong with them, each with its line.

    chemistry : of rows that name none; None asks. used : tags that are taken.
    """
    taken = {meaning.get(heading, OUT) for heading in headings} - {OUT}
    if not taken & {"label", "capacity_mah"}:
        return [], [say("Say which column holds the mAh, or the label.")]
    made: list[Pack] = []
    faults: list[str] = []
    tags: set[str] = set()
    last = "A-00"
    for line, row in enumerate(rows, 2):
        texts = {meaning.get(heading, OUT): cell for heading, cell in zip(headings, row, strict=False) if cell}
        try:
            document, count = _document(texts, chemistry)
            first = document.setdefault("id", next_tag(last, _Either(used, tags)))
            faults_here = [str(fault) for fault in pack_sense(document)]
            new = [part_from("pack", {**document, "id": tag}) for tag in tags_from(first, count)]
        except (ValueError, BadInput) as error:
            faults.append(say("Line {line}: {error}.", line=line, error=error))
            continue
        twice = [pack.id for pack in new if pack.id in tags or pack.id in used]
        faults_here += [say("{tag} is used already", tag=tag) for tag in twice]
        faults += [say("Line {line}: {fault}.", line=line, fault=fault) for fault in faults_here]
        tags |= {pack.id for pack in new}
        last = new[-1].id
        made += new
    more = len(faults) - MOST_FAULTS
    return made, faults if more <= 0 else [*faults[:MOST_FAULTS], say("And {more} more faults.", more=more)]


class _Either:
    """Tags of one collection or the other."""

    def __init__(self, *held: Container[str]) -> None:
        self._held = held

    def __contains__(self, tag: object) -> bool:
        return any(tag in held for held in self._held)


def _document(texts: Mapping[str, str], chemistry: str | None) -> tuple[dict[str, Any], int]:
    """The pack of one row, and how many alike. Raises ValueError with what is missing."""
    document: dict[str, Any] = {}
    count = 1
    if "label" in texts:
        told = read_pack(texts["label"])
        count, document = told.count, dict(told.understood)
        settled = {name for name in texts if name != "label"} | ({"chemistry"} if chemistry else set())
        settled |= set(document)
        asked = (one for one in told.questions if not {one.code, one.field} & settled)
        open_now = [sentence(one.why) for one in asked]
        open_now += [sentence(fault) for fault in told.faults]
        open_now += [say("“{value}” is not understood", value=word.text) for word in told.unread]
        if open_now:
            raise ValueError(" ".join(open_now).rstrip("."))
    for name, text in texts.items():
        if name in _READ:
            document[name] = _READ[name](text)
    if "count" in texts:
        count = int(number(texts["count"]))
    if "chemistry" not in document and chemistry:
        document["chemistry"] = chemistry
    missing = [words for name, words in _NEEDED.items() if name not in document]
    if missing:
        raise ValueError(say("does not say its {missing:list}", missing=missing))
    if not 1 <= count <= 100:
        raise ValueError(say("1 to 100 alike"))
    return document, count


_NEEDED = {"chemistry": "chemistry", "cells": "cells", "capacity_mah": "mAh"}


def _chemistry(text: str) -> str:
    said = re.sub(r"[\W_]+", "", text.lower())
    for item in CHEMISTRIES.values():
        words = {re.sub(r"[\W_]+", "", word.lower()) for word in (item.name, item.label, *item.known_as.split(","))}
        if said in words:
            return item.name
    raise ValueError(say("{value} is no chemistry known here", value=text))


def _cells(text: str) -> int:
    return int(number(text.lower().rstrip("s ")))


def _capacity(text: str) -> float:
    """mAh; a figure under 50 without its unit is Ah."""
    value = _figure("mAh")(text)
    bare = figure_of(text, "") is not None
    return value * 1000 if bare and value < LEAST_MAH else value


def _figure(unit: str) -> Callable[[str], float]:
    """Reads a figure with or without its unit. Raises ValueError with what it would have to be."""

    def read(text: str) -> float:
        value = figure_of(text, unit)
        if value is None:
            raise ValueError(say("“{value}” is no figure in {unit}; write it as 2.2, or 2200", value=text, unit=unit))
        return value

    return read


_READ: dict[str, Callable[[str], Any]] = {
    "id": str, "name": str, "note": str, "connector": str, "chemistry": _chemistry, "cells": _cells,
    "capacity_mah": _capacity, "max_charge_c": _figure("C"),
    "discharge_c": _figure("C"), "cycles": lambda text: int(number(text)),
}  # fmt: skip
