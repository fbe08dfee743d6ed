"""What is odd about typed volts, to be asked before they are taken."""

from iterum.core.quantities import NOISE, at_most, difference
from iterum.core.reasons import Reason, reason
from iterum.core.things.packs import Pack
from iterum.core.things.volts import OVER_FULL_V, SPREAD_LOOK_V, SPREAD_WEAK_V

IMPOSSIBLE_V = 0.30
"""This far over full nothing is a reading any more: it was mistyped, or it is another chemistry."""


def _swapped(volts: float) -> float:
    """The same three digits with the last two exchanged: 3.48 for 3.84."""
    digits = round(volts * 100)
    return (digits - digits % 100 + digits % 10 * 10 + digits % 100 // 10) / 100


def _off_the_others(cell_v: tuple[float, ...], index: int) -> tuple[float, float]:
    """Median of the other cells, and how far this one is from it, V."""
    others = sorted(cell_v[:index] + cell_v[index + 1 :])
    middle = (others[(len(others) - 1) // 2] + others[len(others) // 2]) / 2
    return middle, abs(difference(cell_v[index], middle))


def question_total(pack: Pack, pack_v: float) -> tuple[Reason, ...]:
    """Whether a total looks like one with its point at the wrong place.

    pack_v : as it was typed, V.
    """
    chemistry, cells = pack.chemistry, pack.cells
    for meant_v in (pack_v * 10, pack_v / 10):
        low_v, high_v = chemistry.refuse_v * cells, (chemistry.brim_v + OVER_FULL_V) * cells
        beyond = pack_v < low_v * 0.8 or pack_v > high_v * 1.2
        if beyond and at_most(low_v, meant_v) and at_most(meant_v, high_v):
            return (reason("total_tenfold", typed_v=pack_v, meant_v=meant_v, cells=cells),)
    return ()


def question_volts(pack: Pack, cell_v: tuple[float, ...]) -> tuple[Reason, ...]:
    """What is odd about typed volts, to be asked before they are taken. Empty when nothing is.

    A cell over `IMPOSSIBLE_V` above full is "volts_impossible": it is not taken however often it is typed.
    cell_v : V of each cell as typed.
    """
    chemistry = pack.chemistry
    limit_v = chemistry.brim_v + IMPOSSIBLE_V
    questions: list[Reason] = []
    for index, volts in enumerate(cell_v):
        cell = index + 1
        if not at_most(volts, limit_v):
            questions.append(reason("volts_impossible", cell=cell, typed_v=volts, limit_v=limit_v))
        elif at_most(OVER_FULL_V, difference(volts, chemistry.brim_v)):
            questions.append(reason("volts_over", cell=cell, typed_v=volts, limit_v=chemistry.brim_v))
        elif volts < NOISE and cell == pack.cells and pack.cells > 1:
            questions.append(reason("fewer_cells", cell=cell, cells=pack.cells, count=pack.cells - 1))
        elif not at_most(chemistry.refuse_v, volts):
            questions.append(reason("cell_dead", cell=cell, typed_v=volts, limit_v=chemistry.refuse_v))
        elif pack.cells > 1:
            middle_v, gap_v = _off_the_others(cell_v, index)
            swapped_v = _swapped(volts)
            if at_most(gap_v, SPREAD_WEAK_V):
                continue
            if at_most(abs(swapped_v - middle_v), SPREAD_LOOK_V) and swapped_v != volts:
                questions.append(reason("digits_swapped", cell=cell, typed_v=volts, gap_v=gap_v, meant_v=swapped_v))
            elif pack.cells > 2:
                questions.append(reason("cell_far_off", cell=cell, typed_v=volts, gap_v=gap_v))
    return tuple(questions)
