"""The geometry of the day strip: rows below one another, bars where their minutes are, readable with 3 and with 30."""

from dataclasses import replace
from datetime import UTC, datetime
from itertools import pairwise

import pytest

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.plan import SourceUse, WishOutcome
from iterum.core.planning.record import PlanRecord
from iterum.core.planning.rounds import ChargeKey
from iterum.core.things.session import Wish
from iterum.web.pictures.day_strip import MARGIN, NARROW, WIDE, Named, draw

AT = datetime(2026, 6, 13, 8, 47, tzinfo=UTC)
KIT = Named({"bank": "Leisure battery"}, {"bank": 300.0}, {"bank": 700.0})


def heat(at_min, fly_min, count, have, name):
    return WishOutcome(Wish(count, "lipo-2S", at_min, name, fly_min), have >= count, have, None)


def planned(count):
    batches = tuple(
        PlannedBatch((ChargeKey(f"P{n}"), ChargeKey(f"Q{n}")), f"lipo-{2 + n % 3}S", "b", f"c{n % 4}", "bank", 3.6, 1.0, at, at + 3, at + 15,
                     at + 19, 60.0, 10.0, 70.0)
        for n in range(count)
        for at in (20.0 * (n // 4),)
    )  # fmt: skip
    sources = (SourceUse("bank", 10.0 * count, 700.0, 280.0),)
    wanted = (heat(15, 10, 2, 2, "Heat"),)
    return PlanRecord(batches, wanted=wanted, sources=sources, makespan_min=batches[-1].end_min, visits=1)


@pytest.mark.parametrize("shape", [WIDE, NARROW])
@pytest.mark.parametrize("count", [1, 3, 30])
def test_rows_stand_below_one_another_and_bars_inside_the_picture(count, shape):
    strip = draw(planned(count), AT, KIT, 0.0, shape)
    rows = [strip.heat_row, *strip.lanes, strip.bench_row, strip.power_row, strip.bank_row]
    tops = [*(row.y for row in rows), strip.height]
    assert all(high - low >= 20 + shape.above for low, high in pairwise(tops[:-1]))
    for bar in strip.bars:
        assert bar.x >= MARGIN
        assert bar.x + bar.width <= strip.width - MARGIN + 0.1
        assert bar.y in [lane.y for lane in strip.lanes]
    assert len(strip.bars) == count


def test_a_bar_lies_where_its_minutes_are_and_the_hours_are_full_or_half():
    strip = draw(planned(30), AT, KIT)
    assert strip.bars[4].x - strip.bars[0].x == pytest.approx(20 * strip.px_a_min, abs=0.1)
    for bar, batch in zip(strip.bars, planned(30).batches, strict=True):
        assert bar.lead_x - bar.x == pytest.approx((batch.lead_min - batch.start_min) * strip.px_a_min, abs=0.2)
        assert bar.x + bar.width - bar.full_x == pytest.approx(
            (batch.end_min - batch.full_min) * strip.px_a_min, abs=0.2
        )
    assert strip.away[0] == pytest.approx((strip.bars[0].x + 15 * strip.px_a_min, 10 * strip.px_a_min), abs=0.1)
    assert all(text.endswith((":00", ":30")) for _, text in strip.hours)


def test_a_long_day_is_panned_and_a_phone_shows_the_three_hours_from_now():
    long = planned(120)
    assert draw(long, AT, KIT).panned
    phone = draw(long, AT, KIT, 200.0, NARROW)
    assert not phone.panned
    shown = [long.batches[bar.number] for bar in phone.bars]
    assert min(batch.end_min for batch in shown) > 195
    assert max(batch.start_min for batch in shown) < 195 + 180


def test_set_ups_within_minutes_are_one_visit_and_peak_and_limit_are_told():
    strip = draw(planned(8), AT, KIT)
    assert len(strip.visits) == 2
    assert strip.peak[2] == "280 W"
    assert strip.power_limit_y is not None
    assert (strip.power_row.below, strip.power_limit_text) == ("Leisure battery", "limit 300 W")
    assert strip.bank_text == "Leisure battery, 620 of 700 Wh left at the end"


def test_a_heat_says_what_it_is_short_of_as_far_as_there_is_room():
    short = replace(planned(4), wanted=tuple(heat(at, 5, 4, 1, "Pylon heat") for at in (2, 6, 10)))
    texts = [mark.text for mark in draw(short, AT, KIT).heats]
    assert texts[-1] == "Pylon heat: 4, short 3"
    assert all(len(text) * 7.4 < 20 * 44 for text in texts)
