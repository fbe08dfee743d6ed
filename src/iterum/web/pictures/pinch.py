"""The pinch: every limit turned into amps at the board, from the source to the packs."""

from collections.abc import Sequence
from dataclasses import dataclass

from iterum.core.amps.limits import Limit, tied
from iterum.core.say import figure, one_of, say
from iterum.core.sizing.size import Sizing
from iterum.core.things.limit_kinds import Stage
from iterum.wording import sentence

WIDTH, MIDDLE_Y, WIDEST_HALF_PX = 745.0, 70.0, 44.0
BINDING_HALF_PX = 18.0
"""The narrowest part is always drawn this wide, so that a 0.6 A chain reads as well as a 12 A one."""
LEAST_HALF_PX = 6.0


@dataclass(frozen=True)
class Part:
    """One part of the chain: its narrowest limit, or none ("no limit given")."""

    name: str
    limit: Limit | None
    others: tuple[Limit, ...]
    narrowest: bool
    x: float
    width: float
    half: float
    capped: bool

    @property
    def text(self) -> str:
        """The sum under the stage."""
        return sentence(self.limit.reason) if self.limit else say("no limit given")


@dataclass(frozen=True)
class Pinch:
    """Stages from left to right, the outline of the pipe, and the stream through it."""

    stages: tuple[Part, ...]
    upper: str
    lower: str
    stream_half: float
    label: str
    line: str


def _half(current_a: float | None, px_per_a: float) -> float:
    if current_a is None:
        return WIDEST_HALF_PX
    return round(max(min(current_a * px_per_a, WIDEST_HALF_PX), LEAST_HALF_PX), 2)


def _outline(stages: Sequence[Part], side: int) -> str:
    """A path along one wall of the pipe, sloping between stages."""
    points = []
    for index, stage in enumerate(stages):
        y = round(MIDDLE_Y + side * stage.half, 2)
        slope = 14.0
        start = stage.x + (slope if index else 0)
        end = stage.x + stage.width - (slope if index < len(stages) - 1 else 0)
        points += [(start, y), (end, y)]
    return "M" + " L".join(f"{x:g},{y:g}" for x, y in points)


def draw(sizing: Sizing, without_board: bool) -> Pinch:
    """The pinch of one sizing; with a single pack the board drops out."""
    narrowest = set(tied(sizing.limits))
    px_per_a = BINDING_HALF_PX / sizing.exact_a
    chosen = [stage for stage in Stage if not (without_board and stage is Stage.BOARD)]
    width = WIDTH / len(chosen)
    stages = []
    for index, stage in enumerate(chosen):
        here = (limit for limit in sizing.limits if limit.kind.stage is stage)
        limits = sorted(here, key=lambda limit: (limit.current_a, limit.kind.wished))
        first = limits[0] if limits else None
        half = _half(first.current_a if first else None, px_per_a)
        stages.append(
            Part(
                name=say(stage.value),
                limit=first,
                others=tuple(limits[1:]),
                narrowest=any(limit.name in narrowest for limit in limits),
                x=round(index * width, 2),
                width=round(width, 2),
                half=half,
                capped=first is None or first.current_a * px_per_a > WIDEST_HALF_PX,
            )
        )
    figures = ", ".join(
        figure(limit.current_a, ".2f") for limit in sorted(sizing.limits, key=lambda item: item.current_a)
    )
    gripped = one_of([stage.name for stage in stages if stage.narrowest], "and")
    return Pinch(
        stages=tuple(stages),
        upper=_outline(stages, -1),
        lower=_outline(stages, 1),
        stream_half=_half(sizing.current_a, px_per_a),
        label=say(
            "Limits from source to packs; bottleneck: {gripped}, {exact_a:.2f} A.",
            gripped=gripped,
            exact_a=sizing.exact_a,
        ),
        line=say("smallest of {figures} = {exact_a:.2f} A", figures=figures, exact_a=sizing.exact_a),
    )
