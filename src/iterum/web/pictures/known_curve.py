"""What is believed of a pack's rest volts: a line for every way that it may be, before its charges taught and since."""

from dataclasses import dataclass, replace

import numpy as np

from iterum.core.electrical.belief import DRAWS, Belief, beliefs_of
from iterum.core.electrical.circuit import Feeding
from iterum.core.electrical.fan import Band, band, fan_of
from iterum.core.say import figure, say
from iterum.core.things.packs import Pack, Reading
from iterum.web.pictures.scale import Scale

WIDTH, HEIGHT, LEFT, RIGHT, TOP, BOTTOM = 350.0, 230.0, 58.0, 24.0, 24.0, 38.0
_FROM_PART = 0.12
"""Left of this state of charge the curves fall steeply and say nothing a pilot needs."""
_STEPS = 20


@dataclass(frozen=True)
class Told:
    """What is believed at one time. when : before it was charged, before its last charge, or now. capacity_mah : what
    it holds. soc : at its present volts; minutes : of a charge at 1C from there; both None without a reading."""

    when: str
    capacity_mah: Band
    soc: Band | None
    minutes: Band | None


@dataclass(frozen=True)
class KnownCurve:
    """All marks, in pixels, and the figures beside them."""

    width: float
    height: float
    right: float
    bottom: float
    volts: tuple[tuple[float, str], ...]
    parts: tuple[tuple[float, str], ...]
    kind_fan: tuple[str, ...]
    own_fan: tuple[str, ...]
    line: str
    dots: tuple[tuple[float, float], ...]
    now: tuple[float, float, float] | None
    told: tuple[Told, ...]
    ways: int
    label: str


def draw(pack: Pack) -> KnownCurve | None:
    """The picture of a pack; None where volts do not tell its charge."""
    kind, curve = pack.chemistry.curve, pack.curve
    if kind is None or curve is None:
        return None
    low_v, high_v = kind.table.rest_v(_FROM_PART) - 0.1, kind.table.cell_v[-1]
    along, up = Scale(0.0, 1.0, LEFT, WIDTH - RIGHT), Scale(low_v, high_v, HEIGHT - BOTTOM, TOP)

    def path(cell_v: "np.typing.NDArray[np.float64]") -> str:
        rest = [(step / _STEPS, float(volts)) for step, volts in enumerate(cell_v) if volts >= low_v]
        return "M" + "L".join(f"{along(soc):.1f} {up(min(volts, high_v)):.1f}" for soc, volts in rest)

    def fan(of: Pack) -> tuple[str, ...]:
        return tuple(path(cell_v) for cell_v in _belief(of).table_v)

    fresh = replace(pack, learned=None)
    points = pack.learned.points if pack.learned else ()
    told = tuple(_told(when, one) for when, one in _times(pack))
    soc, now_v = told[-1].soc, pack.cell_v
    here = soc is not None and now_v is not None and low_v <= now_v <= high_v
    return KnownCurve(
        width=WIDTH,
        height=HEIGHT,
        right=WIDTH - RIGHT,
        bottom=HEIGHT - BOTTOM,
        volts=tuple((up(volts), figure(volts, ".1f")) for volts in up.ticks(0.1)),
        parts=tuple((along(part / 4), f"{25 * part} %") for part in range(5)),
        kind_fan=fan(fresh),
        own_fan=fan(pack) if pack.learned else (),
        line=path(np.array(curve.table.cell_v)),
        dots=tuple((along(point.soc), up(point.cell_v)) for point in points if low_v <= point.cell_v <= high_v),
        now=(along(soc.low), along(soc.high), up(now_v)) if here and soc and now_v else None,
        told=told,
        ways=DRAWS,
        label=_label(pack, told[-1]),
    )


def _times(pack: Pack) -> list[tuple[str, Pack]]:
    """A pack as it was believed before its charges, before the last of them, and now."""
    if pack.learned is None:
        return [(say("Now"), pack)]
    points = sorted(pack.learned.points, key=lambda point: point.at.timestamp() if point.at else 0.0)
    times = [(say("Before its charges taught"), replace(pack, learned=None))]
    if len(points) > 1:
        times.append(
            (say("Before the last one"), replace(pack, learned=replace(pack.learned, points=tuple(points[:-1]))))
        )
    return [*times, (say("Now"), pack)]


def _belief(pack: Pack) -> Belief:
    read = pack.reading or Reading(pack.cells * pack.chemistry.storage_v)
    return beliefs_of([replace(pack, reading=read)], 1.0)[0]


def _told(when: str, pack: Pack) -> Told:
    belief = _belief(pack)
    capacity_mah = band(1000 * belief.capacity_ah)
    if pack.reading is None:
        return Told(when, capacity_mah, None, None)
    feeding = Feeding(pack.capacity_ah, end_v=pack.cells * pack.chemistry.full_v)
    minutes = fan_of([pack], (0.0,), 0.0, feeding, 0.1).minutes
    return Told(when, capacity_mah, band(np.clip(belief.soc, 0.0, 1.0)), minutes)


def _label(pack: Pack, told: Told) -> str:
    now = (
        say(" Now {low:.0f} to {high:.0f} % of its charge.", low=told.soc.low * 100, high=told.soc.high * 100)
        if told.soc
        else ""
    )
    if pack.learned is None:
        return say(
            "What rest volts say of {pack}: nothing learned yet, so any cell of its kind.{now}", pack=pack.id, now=now
        )
    return say(
        "What rest volts say of {pack}, after {points} known points of its own.{now}",
        pack=pack.id,
        points=len(pack.learned.points),
        now=now,
    )
