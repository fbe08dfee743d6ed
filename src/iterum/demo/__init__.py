"""The made-up meetings, as session files."""

from importlib.resources import files

from iterum.core.say import kept
from iterum.core.things.session import Session
from iterum.exchange.session import parse

MEETINGS = {"meeting": "harrow_fen.json", "club": "club.json"}
"""By name, the file of each: a pilot alone at a meeting, and four who share a table."""
MADE_UP = kept("made up, for the demo")
"""The note of whatever was not measured by anybody."""


def demo_file(meeting: str = "meeting") -> str:
    """Where the file of a made-up meeting lies.

    meeting : one of `MEETINGS`.
    """
    return str(files("iterum.demo").joinpath(MEETINGS[meeting]))


def demo_session(meeting: str = "meeting") -> Session:
    """Two days at Harrow Fen, 32 packs in four classes, a few of them awkward; or an afternoon at a club table.

    meeting : one of `MEETINGS`.
    """
    return parse(files("iterum.demo").joinpath(MEETINGS[meeting]).read_bytes())
