"""Made-up charges of weeks before the meeting, so that a pack shows what its own charges taught of it."""

from datetime import datetime, timedelta

from iterum.core.season.health import ChargeRecord

TAUGHT = "L-02"
"""The pack with a season behind it; L-03 beside it has none and shows what is believed of such cells."""
_CHARGES = (
    # days before, rest volts of each cell before, mAh in, minutes, after, mOhm by the step in amps
    (49, (3.62, 3.62, 3.61), 2110, 91, (4.19, 4.19, 4.18), 21.0),
    (35, (3.41, 3.42, 3.41), 2780, 114, (4.18, 4.19, 4.18), 21.6),
    (28, (3.71, 3.71, 3.71), 1717, 77, (4.19, 4.19, 4.19), 20.9),
    (21, (3.55, 3.54, 3.55), 2526, 105, (4.18, 4.18, 4.18), 21.4),
    (8, (3.83, 3.83, 3.84), 1258, 60, (4.19, 4.19, 4.18), 21.2),
)


def charges_before(now: datetime) -> list[tuple[str, ChargeRecord]]:
    """Charges that pack had alone, each ended by its charger; (tag, charge), the oldest first."""
    return [
        (TAUGHT, ChargeRecord(now - timedelta(days=days), mah, minutes, 0.5, before_v, after_v,
                              note="made up, for the demo", alone=True, full=True, step_mohm=mohm))
        for days, before_v, mah, minutes, after_v, mohm in _CHARGES
    ]  # fmt: skip
