"""Batches to guard, made by the core alone: no store is asked."""

from iterum.core.season.after_charge import cell_volts
from iterum.core.season.outlook import expected_of
from iterum.core.season.records import KeptRun
from iterum.core.season.run import State
from iterum.core.sizing.size import size
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit
from tests.conftest import NOON, even


def charging_run(key=1, channel="c", packs=2, state=State.CHARGING, at=NOON, driven=True):
    """A batch of like 4S packs on a channel, as it is kept, charging since `at`."""
    tags = [even(f"{channel}-{number}", 3.70, mah=1800, discharge_c=60) for number in range(packs)]
    kit = Kit((Board("B", 4),), (Charger("C", (Channel(channel, 12, 250),)),))
    offer = size(Bench(tuple(tags), kit), Choice(tuple(pack.id for pack in tags), "B", channel))
    return KeptRun(
        key=key, begun_at=at, packs=tuple(pack.id for pack in tags), family=tags[0].family, board="B", channel=channel,
        current_a=offer.current_a, rate_c=offer.rate_c, card=offer.dial,
        expected=expected_of(offer.hookup, offer.charge, offer.dial),
        before_v={pack.id: cell_volts(pack) for pack in tags}, state=state, state_at=at,
        charging_at=at if state is State.CHARGING else None, paused_min=0.0, ended_at=None, driven=driven,
        heard_at=None, choice=offer.settled, source=None, source_part=1.0, stopped=False,
    )  # fmt: skip
