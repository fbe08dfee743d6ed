"""One reader for every line that is typed: by its kind, or by what it looks like."""

from collections.abc import Callable, Mapping

from iterum.core.reading.board import read_board
from iterum.core.reading.charger import read_charger
from iterum.core.reading.pack import read_pack
from iterum.core.reading.source import MAINS, is_bank, read_source
from iterum.core.reading.supply import read_supply
from iterum.core.reading.tokens import Kind
from iterum.core.reading.told import Line, Told
from iterum.core.reading.words import CHEMISTRY_WORDS

READERS: Mapping[str, Callable[[str], Told]] = {
    "pack": read_pack,
    "charger": read_charger,
    "supply": read_supply,
    "source": read_source,
    "board": read_board,
}


def read(kind: str, text: str) -> Told:
    """What a line says of a pack, charger, supply, source or board.

    kind : one of `READERS`. text : as it was typed.
    """
    return READERS[kind](text)


def kind_of(text: str, asked: str) -> str:
    """What a line speaks of, whichever question it answers: a second charger may be typed where a source is asked for.

    text : as it was typed. asked : the kind that the question is about, which counts where nothing says another.
    """
    line = Line(text)
    units = {token.unit for token in line.tokens if token.kind is Kind.NUMBER}
    named = {word for _, words in CHEMISTRY_WORDS for word in words}
    pack = (
        bool(units & {"c", "mah"})
        or ("" in units and asked != "board")
        or any(token.kind is Kind.SIZE or (token.kind is Kind.WORD and token.word in named) for token in line.tokens)
    )
    holds, drives = units & {"mah", "ah", "wh"}, units & {"w", "a"}
    signs = (
        (
            "charger",
            bool(line.words("charger", "chargers", "channel*", "dual", "quad", "duo", "twin")) or "channels" in units,
        ),
        ("source", bool(line.words("generator*", "genset", "station", "bank", "powerbank"))),
        ("source", is_bank(line) and "s" not in units),
        ("supply", bool(line.words("inverter*", "adapter", "adaptor", "psu", "brick", "supply"))),
        ("board", "ports" in units and not holds and "w" not in units),
        ("source", bool(line.words(*MAINS)) and not units - {""}),
        ("source", "wh" in units and not (asked == "pack" and "s" in units)),
        ("source", "ah" in units and "s" not in units and asked != "pack"),
        ("charger", {"w", "a"} <= units and not holds and "v" not in units),
        ("pack", asked == "source" and {"c", "s"} <= units and not drives),
        ("charger", {"w", "a"} <= units and "s" in units and not holds),
        ("charger", asked == "pack" and bool(drives) and not holds and not units & {"c", "s"}),
        ("pack", asked in ("charger", "board", "supply") and pack and "s" in units and not drives),
    )
    return next((kind for kind, sign in signs if sign), asked)
