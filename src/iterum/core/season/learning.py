"""What the charges that a pack had alone teach of it: what it holds, points of its curve, its resistance.

A charge from rest to the charger's end puts in what was missing: mAh = (1 - state of charge) x capacity. What its rest
volts leave open of the one bounds the other, and each further charge narrows it; where a charge cannot be true of the
pack that the others describe, it begins again and says that it jumped. A board's charge only tells the sum, so it
teaches nothing of one pack.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from statistics import mean, median

from iterum.core.season.health import ChargeRecord
from iterum.core.season.outlook import Observation
from iterum.core.things.curve import KnownPoint, Learned
from iterum.core.things.packs import Pack

COUNT_DOUBT = 0.02
"""How far a charger's mAh may be off. Common practice, no source."""
LIKELY_PART = 0.97
"""What a pack holds of its label when nothing else is known. Common practice, no source."""
LEAST_PART, MOST_PART = 0.5, 1.08
"""Of its label: less is retired long before, more is not sold. Common practice, no source."""
LEAST_TAUGHT = 0.10
"""A charge that put in less than this part of the label tells nothing over a meter's step."""
NEAR_V = 0.02
"""Points closer than this, V per cell, are one: their mean, of the latest charges."""
KEPT_POINTS = 8
STEP_S, STEP_PART = 15.0, 0.3
"""A step in amps counts when its two readings are so close in time, and it is this part of what was dialled."""
LATEST_STEPS = 5


@dataclass(frozen=True)
class Taught:
    """What a log taught. jumped : the charge since when it is another pack than before, None where it never was."""

    learned: Learned | None
    jumped: ChargeRecord | None


def teaches(pack: Pack, record: ChargeRecord) -> bool:
    """Whether a charge tells of this pack alone: from known rest volts, whole, and with its own mAh."""
    whole = record.full or (bool(record.after_v) and mean(record.after_v) >= pack.chemistry.full_rest_v)
    enough = record.charge_mah is not None and record.charge_mah >= LEAST_TAUGHT * pack.capacity_mah
    return pack.chemistry.curve is not None and bool(record.before_v) and whole and enough and record.alone is not False


def learn(pack: Pack, records: Iterable[ChargeRecord]) -> Taught:
    """What charges in the order of time taught of a pack."""
    curve = pack.chemistry.curve
    kept: list[ChargeRecord] = []
    jumped = None
    low_mah, high_mah = _believed_mah(pack)
    for record in records:
        if curve is None or not teaches(pack, record):
            continue
        soc, put_in_mah = curve.state_of_charge(mean(record.before_v)), record.charge_mah or 0.0
        least_mah = put_in_mah * (1 - COUNT_DOUBT) / max(1 - soc.low, 1e-3)
        most_mah = put_in_mah * (1 + COUNT_DOUBT) / max(1 - soc.high, 1e-3)
        if max(low_mah, least_mah) > min(high_mah, most_mah):
            jumped = record if kept else jumped
            kept, (low_mah, high_mah) = [], (min(least_mah, most_mah), most_mah)
            low_mah, high_mah = max(low_mah, LEAST_PART / 2 * pack.capacity_mah), min(high_mah, 2 * pack.capacity_mah)
        low_mah, high_mah = max(low_mah, least_mah), min(high_mah, most_mah)
        kept.append(record)
    if not kept:
        return Taught(None, jumped)
    capacity_mah = min(max(LIKELY_PART * pack.capacity_mah, low_mah), high_mah)
    doubt = max(high_mah - capacity_mah, capacity_mah - low_mah, COUNT_DOUBT * capacity_mah) / capacity_mah
    points = [
        KnownPoint(round(mean(record.before_v), 4), _rounded_soc(record, capacity_mah), record.at) for record in kept
    ]
    steps = [record.step_mohm for record in kept if record.step_mohm][-LATEST_STEPS:]
    learned = Learned(
        round(capacity_mah, 1), round(min(doubt, 1.0), 4), _thinned(points), round(median(steps), 3) if steps else None
    )
    return Taught(learned, jumped)


def _rounded_soc(record: ChargeRecord, capacity_mah: float) -> float:
    return round(min(max(1 - (record.charge_mah or 0.0) / capacity_mah, 0.0), 1.0), 4)


def _believed_mah(pack: Pack) -> tuple[float, float]:
    """mAh that it may hold before its log is asked: by what the pilot typed, else by its label."""
    if pack.capacity_now_mah is not None:
        return 0.95 * pack.capacity_now_mah, 1.05 * pack.capacity_now_mah
    return LEAST_PART * pack.capacity_mah, MOST_PART * pack.capacity_mah


def _thinned(points: Sequence[KnownPoint]) -> tuple[KnownPoint, ...]:
    """Points by rising volts, those that lie together as one, not more than are kept."""
    heaps: list[list[KnownPoint]] = []
    for point in sorted(points, key=lambda item: item.cell_v):
        if heaps and point.cell_v - heaps[-1][0].cell_v < NEAR_V:
            heaps[-1].append(point)
        else:
            heaps.append([point])
    while len(heaps) > KEPT_POINTS:  # the two that lie closest become one
        index = min(range(len(heaps) - 1), key=lambda at: heaps[at + 1][0].cell_v - heaps[at][-1].cell_v)
        heaps[index : index + 2] = [heaps[index] + heaps[index + 1]]
    return tuple(
        replace(heap[-1], cell_v=round(mean(item.cell_v for item in heap), 4), soc=round(mean(i.soc for i in heap), 4))
        for heap in heaps
    )


def step_mohm(before_v: Sequence[float], seen: Sequence[Observation], dialled_a: float) -> float | None:
    """Milliohms per cell of a pack that charges alone, from the step in volts when its amps start or fall.

    What the RC pairs did until the next reading is in it, so it serves minutes and not joining. None without a step.
    before_v : V of each cell at rest. dialled_a : A at the charger, above 0.
    """
    cells = len(before_v)
    board = [item for item in seen if item.pack_id is None and item.pack_v is not None and item.current_a is not None]
    rest = Observation(0.0, pack_v=sum(before_v), current_a=0.0)
    told = []
    for one, two in pairwise([rest, *board] if before_v else board):
        step_a = (two.current_a or 0.0) - (one.current_a or 0.0)
        if (two.at_min - one.at_min) * 60 <= STEP_S and abs(step_a) >= STEP_PART * dialled_a and cells:
            told.append(1000 * ((two.pack_v or 0.0) - (one.pack_v or 0.0)) / step_a / cells)
    fair = [mohm for mohm in told if mohm > 0]
    return round(median(fair), 3) if fair else None


def with_like(packs: Sequence[Pack]) -> tuple[Pack, ...]:
    """Packs, those that were taught nothing leaning to what others of the same label were taught.

    packs : all of a bench.
    """
    by_label: dict[tuple[object, ...], list[KnownPoint]] = {}
    for pack in packs:
        if pack.learned is not None:
            by_label.setdefault(_label(pack), []).extend(pack.learned.points)
    return tuple(
        replace(pack, like=_thinned(by_label[_label(pack)]))
        if pack.learned is None and _label(pack) in by_label
        else pack
        for pack in packs
    )


def _label(pack: Pack) -> tuple[object, ...]:
    return pack.chemistry_name, pack.capacity_mah, pack.discharge_c
