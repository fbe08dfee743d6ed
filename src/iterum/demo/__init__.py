"""The made-up meeting at Harrow Fen, as a session file."""

from importlib.resources import files

from iterum.core.things.session import Session
from iterum.exchange.session import parse


def demo_session() -> Session:
    """Two days at Harrow Fen: 32 packs in four classes, a few of them awkward."""
    return parse(files("iterum.demo").joinpath("harrow_fen.json").read_bytes())
