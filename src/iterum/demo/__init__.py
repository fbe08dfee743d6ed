"""The made-up meeting at Harrow Fen, as a session file, and its loader."""

from collections.abc import Callable
from datetime import datetime
from importlib.resources import files

from iterum.core.bench.session import Session
from iterum.demo.season import charges_before
from iterum.exchange.session import parse
from iterum.services.desk import Desk
from iterum.services.logbook import LogBook
from iterum.store.database import Store


def demo_session() -> Session:
    """Two days at Harrow Fen: 32 packs in four classes, a few of them awkward."""
    return parse(files("iterum.demo").joinpath("harrow_fen.json").read_bytes())


def load_demo(store: Store, desk: Desk, now: datetime) -> bool:
    """Fill an untouched store with the demo; one that was ever written to keeps what is there."""
    if desk.revision() > 0:
        return False
    told = desk.write(demo_session(), now)
    LogBook(store, desk).take_charges(charges_before(now), (), {})
    return told


def time_lapse(clock: Callable[[], datetime], speed: float) -> Callable[[], datetime]:
    """A clock that starts at the present and runs `speed` times as fast."""
    begun = clock()
    return lambda: begun + (clock() - begun) * speed
