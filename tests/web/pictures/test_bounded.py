"""However long, large or many: a picture has no more marks than anybody reads, and a page is soon there."""

from datetime import timedelta

import pytest

from iterum.core.electrical.charging import charge_packs
from iterum.core.season.health import ChargeRecord
from iterum.core.season.outlook import Observation, expect, outlook
from iterum.core.things.session import Wish
from iterum.exchange.heats import Heat
from iterum.web.pictures import charge_card, trend
from iterum.web.pictures.scale import Scale
from tests.conftest import BOARD, NOON, even, setup, sized
from tests.web.conftest import planned

MOST_MARKS = 6000


def marks(picture):
    """Marks and points of lines in a picture."""
    values = [value for value in vars(picture).values() if isinstance(value, (str, tuple))]
    return sum(value.count("L") if isinstance(value, str) else len(value) for value in values)


@pytest.mark.parametrize(("high", "step"), [(1e6, 0.001), (1e12, 0.05), (5e-3, 1e-9)])
def test_a_scale_has_a_hundred_ticks_at_most(high, step):
    ticks = list(Scale(0.0, high, 0, 700).ticks(step))
    assert 1 < len(ticks) <= 101


@pytest.fixture(scope="module")
def expected():
    packs = [even("A", 3.7), even("B", 3.7)]
    where = setup(board=BOARD)
    sizing = sized(packs, where)
    return expect(charge_packs(packs, where, sizing.rules, 1.8), 4, 4.2, 90.0)


@pytest.mark.parametrize("minute", [0.0, 55.0, 60 * 24 * 3.0, 60 * 24 * 400.0])
@pytest.mark.parametrize("width", [350, 1000])
def test_a_charge_that_was_forgotten_for_a_year_is_still_drawn(minute, width, expected):
    seen = [Observation(minute * at / 5_000, 15.6, 1.8, at, by_hand=at % 2 == 0) for at in range(5_000)]
    card = charge_card.draw(expected, seen, outlook(expected, seen, minute), minute, NOON, minute + 10, width)
    assert marks(card) < 1500
    assert 0 < len(card.ticks_x) < 40


def test_fifty_thousand_charges_of_a_pack_are_drawn_as_a_few_hundred():
    pack = even("A", 3.7)
    records = [ChargeRecord(NOON + timedelta(hours=at), 1200.0, 40.0, before_v=(3.6,) * 4, after_v=(4.19,) * 4,
                            resistance_mohm=(3.0,) * 4) for at in range(50_000)]  # fmt: skip
    assert 60 < marks(trend.draw(pack, records)) < 600


@pytest.mark.parametrize("days", [0.2, 3, 360])
def test_heats_far_ahead_break_no_page(days, demo_app, visitor):
    desk = demo_app.extensions["iterum"]["desk"]
    far = [
        Heat(NOON + timedelta(days=days, minutes=7 * at), Wish(2, "lipo-4S", 0.0, f"H{at}", 5.0)) for at in range(40)
    ]
    desk.set_heats([*desk.heats(), *far], NOON)
    planned(visitor)
    for page in ("/plan", "/plan/sheet", "/heats", "/bench", "/measure"):
        answer = visitor.get(page)
        assert answer.status_code == 200
        assert answer.text.count("<") < MOST_MARKS, page


def test_a_heat_beyond_a_year_is_refused_wherever_it_comes_from(visitor):
    row = {"class": "lipo-4S", "packs": "4", "away": "10", "worth": "1", "uses": "80", "needs": ""}
    assert "time" in visitor.post("/heats", time="2099-01-01 10:00", name="far", **row).seen.refused()
    table = "2099-01-01 10:00\tfar\t4S LiPo\t4"
    assert "at most a year ahead" in visitor.post("/heats/paste", table=table).seen.said
