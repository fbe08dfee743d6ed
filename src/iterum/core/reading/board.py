"""A parallel board from its label: "6", "6 ports XT60", "4 packs 2-6S", "6 way 40 A, 5 A fuses"."""

from iterum.core.reading.tokens import NUMBER_WORDS, Kind
from iterum.core.reading.told import Line, Told
from iterum.core.things.chemistry import MAX_CELLS

MOST_PORTS = 40


def read_board(text: str) -> Told:
    """What a board takes: ports, cells, amps, fuses, plug.

    text : as it was typed.
    """
    line = Line(text)
    ports = _ports(line)
    line.take(*line.words("port*", "way*", "pack*", "socket*", "para*", "charging", "charge", "fused", "up"))
    for place in line.numbers("s"):
        token = line.tokens[place]
        line.take(place)
        line.fields["max_cells"] = min(int(token.value), MAX_CELLS)
        if token.low is not None:
            line.fields["min_cells"] = int(token.low)
        line.mean("means_board_cells", place, low=int(token.low or 1), high=line.fields["max_cells"])
    for place in line.numbers("a"):
        _amps(line, place)
    line.take(*line.words("fuse*", "polyfuse*"))
    for place in line.free():
        if line.tokens[place].kind is Kind.PLUG:
            line.take(place)
            line.fields["connector"] = line.tokens[place].text.upper().replace("-", "").replace(" ", "")
            line.mean("means_connector", place, connector=line.fields["connector"])
            break
    for place in [place for place in line.free() if line.tokens[place].kind is Kind.PLUG]:  # that of the balance leads
        line.take(place)
        line.mean("means_no_use", place, text=line.tokens[place].text, what="second plug")
    if ports is None or not 1 <= ports <= MOST_PORTS:
        line.ask("ports", field="ports")
    else:
        line.fields["ports"] = ports
        line.mean("means_ports", ports=ports)
    return line.told("board")


def _ports(line: Line) -> int | None:
    """How many packs it takes, from the first figure that can say so."""
    counts = [place for place in line.free() if line.tokens[place].kind is Kind.COUNT]
    places = [*line.numbers("ports"), *line.numbers("packs"), *line.numbers(""), *counts]
    if places:
        line.take(places[0])
        return int(line.tokens[places[0]].value)
    for place in line.words(*NUMBER_WORDS):
        line.take(place)
        return NUMBER_WORDS[line.tokens[place].word]
    return None


def _amps(line: Line, place: int) -> None:
    """Amps in all, of one fuse for all of it, or of the fuse of each port."""
    fuse = line.beside(place, "fuse*", "polyfuse*", reach=2)
    each = line.beside(place, "per", "each", "every", "port*", reach=3)
    line.take(place, *(there for there in (fuse, each) if there is not None))
    single = fuse is not None and line.tokens[fuse].word == "fuse"
    name = "max_current_a" if fuse is None and each is None else "fuse_a" if single and each is None else "port_fuse_a"
    line.fields[name] = line.value(place)
    line.mean(f"means_{name}", place, current_a=line.value(place))
