"""Words that several readers know: chemistries, damage, counts."""

from iterum.core.reading.tokens import NUMBER_WORDS, Kind
from iterum.core.reading.told import Choice, Line

MOST_ALIKE = 60
CHEMISTRY_WORDS = (
    ("lihv", ("lihv", "li-hv", "hv", "lipohv", "high-voltage")),
    ("life", ("life", "lifepo", "lifepo4", "lfp", "lipo4", "lifep04", "ifr", "li-fe")),
    ("nimh", ("nimh", "ni-mh")),
    ("nicd", ("nicd", "ni-cd", "nicad")),
    ("pb", ("pb", "lead", "lead-acid", "agm", "gel", "sla", "acid")),
    ("li-ion", ("li-ion", "liion", "lion", "nmc", "nca", "icr", "inr", "imr", "ncr", "round")),
    ("lipo", ("lipo", "li-po", "lipoly", "li-poly", "polymer", "li-polymer", "lithium-polymer", "lipos")),
)
"""What labels call chemistries; the first that fits counts, so "LiPo HV" is LiHV. Common practice, no source."""
DAMAGE = (
    "puff*",
    "swoll*",
    "swell*",
    "bloat*",
    "soft",
    "squishy",
    "damag*",
    "crash*",
    "dent*",
    "torn",
    "tear*",
    "leak*",
    "burn*",
    "burst-open",
    "punctur*",
    "pierc*",
    "broken",
    "faulty",
    "dead",
    "smell*",
    "hot",
    "wet",
    "crush*",
    "bent",
    "dying",
    "weak",
)


def chemistry_in(line: Line) -> str | None:
    """The chemistry that a line names; its words are taken. None where it names none."""
    for place in line.free():
        token = line.tokens[place]
        if token.kind is Kind.SIZE:
            line.take(place)
            if "26650" in token.word and not token.word.startswith(("i", "n", "l")):
                continue  # of either kind
            of_life = token.word.startswith(("ifr", "lfp")) or "32650" in token.word or "32700" in token.word
            return _also(line, "life" if of_life else "li-ion")
    for first, second, name in (
        ("lithium", "ion", "li-ion"),
        ("lithium", "polymer", "lipo"),
        ("lithium", "iron", "life"),
        ("high", "voltage", "lihv"),
        ("li", "ion", "li-ion"),
        ("li", "po", "lipo"),
        ("li", "fe", "life"),
        ("lead", "acid", "pb"),
        ("round", "cells", "li-ion"),
    ):
        for place in line.words(first):
            if line.says(place + 1, second):
                line.take(place, place + 1)
                return _also(line, name)
    for name, words in CHEMISTRY_WORDS:
        places = line.words(*words)
        if places:
            line.take(*places)
            return _also(line, name)
    return None


def _also(line: Line, name: str) -> str:
    """Take the other words that say the same, or something broader: "LiPo HV", "lithium LiFePO4 phosphate"."""
    same = {
        "lihv": ("lipo", "li-po"),
        "li-ion": ("lithium", "li-ion", "liion", "round"),
        "life": ("lithium", "iron", "phosphate", "life*"),
        "lipo": ("lithium",),
        "pb": ("acid", "lead"),
        "nimh": (),
        "nicd": (),
    }[name]
    line.take(*line.words(*same))
    line.take(*(place for place in line.free() if line.tokens[place].kind is Kind.SIZE))
    return name


def count_in(line: Line, *of: str) -> int | None:
    """How many alike a line names: "6 x 650", "1300 x 6", "six 650", "6 packs"; None where it names no number.

    of : units that count such devices, as in "4 packs".
    """
    places = [place for place in line.free() if line.tokens[place].kind is Kind.COUNT]
    if places:
        line.take(places[0])
        return int(line.tokens[places[0]].value)
    counted = line.numbers(*of) if of else []
    if counted:
        line.take(counted[0])
        return int(line.tokens[counted[0]].value)
    for place in line.free():
        if (
            line.tokens[place].kind is Kind.WORD
            and line.tokens[place].word in NUMBER_WORDS
            and not line.says(place + 1, "cell", "channel*", "port*")
        ):
            line.take(place)
            return NUMBER_WORDS[line.tokens[place].word]
    return None


def damage_in(line: Line, count: int) -> None:
    """Ask about a word of damage; until that is answered the pack counts as damaged.

    count : packs that the line names, 1 or more.
    """
    places = line.words(*DAMAGE)
    if places:
        word = line.tokens[places[0]].text
        choices = [Choice("damaged", "quarantine", {"condition": "damaged"}), Choice("ok", "no", {"condition": "ok"})]
        line.ask("damage", choices, at=places, word=word, count=count)
