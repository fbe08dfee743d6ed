"""The box of packs as it stands: what is to be done with each pack next, in the order of urgency."""

from enum import StrEnum

from iterum.core.permit.permit import Permit, Way
from iterum.core.season.records import KeptRun
from iterum.core.season.run import LIVE, Act
from iterum.core.season.storage import gap_of
from iterum.core.things.choice import Kind
from iterum.core.things.packs import Condition
from iterum.core.things.rules import HouseRules


class Standing(StrEnum):
    """What is to be done with a pack, the most urgent first."""

    READ_AFTER = "read after"
    MEASURE = "measure"
    APART = "keep apart"
    ALONE = "alone"
    FULL = "full"
    CHARGING = "charging"
    IN_HAND = "in hand"
    WAIT = "wait"
    LOW = "to charge"
    AWAY = "put away"


ORDER = tuple(Standing)


def standing(verdict: Permit, run: KeptRun | None, planned: bool, rules: HouseRules) -> Standing:
    """Where one pack stands.

    run : the batch in hand that has it, None without. planned : whether a batch of the plan waits for its time.
    """
    pack = verdict.pack
    if run is not None:
        if run.next_act is Act.CHECK:
            return Standing.READ_AFTER
        charges = run.state in LIVE and run.kind is Kind.CHARGE
        return Standing.CHARGING if charges else Standing.IN_HAND
    keeps = not verdict.charges and not verdict.full and pack.reading is not None
    gap = gap_of(pack, rules)
    holds = (
        (keeps or pack.condition is not Condition.OK, Standing.APART),
        (pack.reading is None, Standing.MEASURE),
        (verdict.full, Standing.FULL),
        (planned, Standing.WAIT),
        (verdict.alone, Standing.ALONE),
        (gap is not None and gap.way is Way.THERE, Standing.AWAY),
    )
    return next((where for told, where in holds if told), Standing.LOW)
