"""A made-up year before the meeting: some 600 charges, and in them one pack that fades, one that rests badly, and one
that was run too low. One more pack shows what its own charges, which it had alone, taught of it."""

from collections.abc import Sequence
from datetime import datetime, timedelta
from math import sin

from iterum.core.season.health import ChargeRecord
from iterum.core.things.packs import Pack
from iterum.demo import MADE_UP

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
                              note=MADE_UP, alone=True, full=True, step_mohm=mohm))
        for days, before_v, mah, minutes, after_v, mohm in _CHARGES
    ]  # fmt: skip


FADES, RESTS_BADLY, RAN_LOW = "P-04", "P-10", "T-06"
"""The three with a story. Their charges were on boards, so nothing is learned of the curve from them."""
TIMES, EVERY_DAYS = 20, 18
"""Meetings of the year before that a pack was at, and days between them."""


def year_before(packs: Sequence[Pack], now: datetime) -> list[tuple[str, ChargeRecord]]:
    """Charges of every pack at the meetings of a year; (tag, charge), the oldest first. The same each time."""
    charges = [
        (pack.id, _charge(pack, meeting, now, at))
        for meeting in range(TIMES)
        for at, pack in enumerate(packs)
        if pack.id != TAUGHT and pack.chemistry.table is not None
    ]
    return sorted(charges, key=lambda item: item[1].at)


def _charge(pack: Pack, meeting: int, now: datetime, at: int) -> ChargeRecord:
    """One pack's charge at one meeting: more or less flown, by a pattern that never repeats within the year."""
    table = pack.chemistry.table
    assert table is not None  # only such are asked for
    age = (meeting + 1) / TIMES
    used = 0.62 + 0.1 * sin(1.7 * meeting + 0.9 * at)
    if pack.id == RAN_LOW and meeting == TIMES - 1:
        used = 0.93
    holds = 1.0 - (0.24 * age if pack.id == FADES else 0.02 * age)
    apart_v = 0.11 * age if pack.id == RESTS_BADLY else 0.0
    before_v = round(table.rest_v(1 - used), 2)
    after_v = tuple(
        round(pack.chemistry.full_v - 0.01 - (apart_v if cell == 1 else 0.0), 2) for cell in range(pack.cells)
    )
    mohm = round(4.2 * 1800 / pack.capacity_mah * (1 + (0.35 if pack.id == FADES else 0.08) * age), 1)
    days = EVERY_DAYS * (TIMES - meeting) - (meeting % 2)
    moment = now - timedelta(days=days) + timedelta(minutes=11 * (at % 8), hours=at // 8)
    mah = round(used * holds * pack.capacity_mah)
    return ChargeRecord(moment, mah, round(60 * used * 1.15 + 8), 1.0, (before_v,) * pack.cells, after_v,
                        (mohm,) * pack.cells, MADE_UP, alone=False, full=True)  # fmt: skip
