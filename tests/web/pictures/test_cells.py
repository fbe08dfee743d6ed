"""Cells as lines while a batch charges: the board's by the charger, each pack's by hand, and the one that leaves in plum."""

from iterum.core.season.outlook import Observation, outlook
from iterum.web.pictures.charge_card import draw, panels
from tests.conftest import NOON
from tests.core.season.test_watching import EXPECTED


def card(seen):
    return draw(EXPECTED, seen, outlook(EXPECTED, seen, 10), 10, NOON, 20)


def test_each_cell_of_the_board_is_a_line_and_the_one_that_lags_is_named():
    even = [Observation(at, pack_v=15.4 + at / 50, cell_v=(3.85 + at / 200,) * 4) for at in range(10)]
    assert [line.told for line in card(even).cells] == [False] * 4  # they lie on each other
    lags = [Observation(at, pack_v=15.4, cell_v=(3.86, 3.86, 3.86 - at / 150, 3.86)) for at in range(10)]
    lines = card(lags).cells
    assert [line.number for line in lines if line.out] == [3]
    assert all(line.told for line in lines if line.out)
    assert lines[2].y > lines[0].y
    assert card(even[:1]).cells == ()  # one reading is no line
    assert card([Observation(1, pack_v=15.4)]).cells == ()


def test_only_what_was_read_by_hand_tells_packs_of_a_board_apart_and_the_odd_one_stands_first():
    by_charger = Observation(1, pack_v=15.4, cell_v=(3.85,) * 4)
    sound = Observation(2, pack_v=15.4, cell_v=(3.85, 3.86, 3.85, 3.84), pack_id="P-1", by_hand=True)
    odd = Observation(2, pack_v=15.3, cell_v=(3.86, 3.86, 3.86, 3.72), pack_id="P-2", by_hand=True)
    total = Observation(2, pack_v=15.4, pack_id="P-3", by_hand=True)
    told = panels(EXPECTED, [by_charger, sound, odd, total])
    assert [(panel.tag, panel.out) for panel in told] == [("P-2", True), ("P-1", False)]
    assert told[0].words == "0.14 V apart"
    assert [line.number for line in told[0].lines if line.out] == [4]
    assert all(30 <= y <= 160 for panel in told for _, y, _ in panel.dots)  # inside, however far off
