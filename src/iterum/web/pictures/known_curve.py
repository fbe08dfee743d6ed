"""What is believed of a pack's rest volts: the band of its kind, and the one that its own charges left of it."""

from dataclasses import dataclass

from iterum.core.things.curve import Curve
from iterum.core.things.packs import Pack
from iterum.web.pictures.scale import Scale

WIDTH, HEIGHT, LEFT, RIGHT, TOP, BOTTOM = 350.0, 230.0, 58.0, 24.0, 24.0, 38.0
_FROM_PART = 0.12
"""Left of this state of charge the curves fall steeply and say nothing a pilot needs."""
POINTS = 60


@dataclass(frozen=True)
class KnownCurve:
    """All marks, in pixels."""

    width: float
    height: float
    right: float
    bottom: float
    volts: tuple[tuple[float, str], ...]
    parts: tuple[tuple[float, str], ...]
    kind_band: str
    own_band: str
    line: str
    dots: tuple[tuple[float, float], ...]
    now: tuple[float, float, float] | None
    label: str


def draw(pack: Pack) -> KnownCurve | None:
    """The picture of a pack; None where volts do not tell its charge."""
    kind, curve = pack.chemistry.curve, pack.curve
    if kind is None or curve is None:
        return None
    low_v, high_v = kind.table.rest_v(_FROM_PART), kind.table.cell_v[-1]
    low_v -= 0.1
    along, up = Scale(0.0, 1.0, LEFT, WIDTH - RIGHT), Scale(low_v, high_v, HEIGHT - BOTTOM, TOP)

    def band(of: Curve) -> str:
        levels = [low_v + (high_v - low_v) * step / POINTS for step in range(POINTS + 1)]
        told = [of.state_of_charge(volts) for volts in levels]
        left = [(along(soc.low), up(volts)) for soc, volts in zip(told, levels, strict=True)]
        right = [(along(soc.high), up(volts)) for soc, volts in zip(told, levels, strict=True)]
        return "M" + "L".join(f"{x} {y}" for x, y in [*left, *reversed(right)]) + "Z"

    levels = [low_v + (high_v - low_v) * step / POINTS for step in range(POINTS + 1)]
    points = pack.learned.points if pack.learned else ()
    soc, now_v = pack.soc, pack.cell_v
    now = None
    if soc is not None and now_v is not None and low_v <= now_v <= high_v:
        now = (along(soc.low), along(soc.high), up(now_v))
    return KnownCurve(
        width=WIDTH,
        height=HEIGHT,
        right=WIDTH - RIGHT,
        bottom=HEIGHT - BOTTOM,
        volts=tuple((up(volts), f"{volts:.1f}") for volts in up.ticks(0.1)),
        parts=tuple((along(part / 4), f"{25 * part} %") for part in range(5)),
        kind_band=band(kind),
        own_band=band(curve) if pack.learned else "",
        line="M" + "L".join(f"{along(curve.table.soc(volts))} {up(volts)}" for volts in levels),
        dots=tuple((along(point.soc), up(point.cell_v)) for point in points if low_v <= point.cell_v <= high_v),
        now=now,
        label=_label(pack),
    )


def _label(pack: Pack) -> str:
    soc = pack.soc
    told = f" Now {soc.low * 100:.0f} to {soc.high * 100:.0f} % of its charge." if soc else ""
    if pack.learned is None:
        return f"What rest volts say of {pack.id}: nothing learned yet, so any cell of its kind.{told}"
    return f"What rest volts say of {pack.id}, after {len(pack.learned.points)} known points of its own.{told}"
