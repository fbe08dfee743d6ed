"""The geometry of the day strip: rows below one another, bars where their minutes are, readable with 3 and with 30."""

from datetime import UTC, datetime
from itertools import pairwise

import pytest

from iterum.web.pictures.day_strip import LEFT, WIDTH, draw

AT = datetime(2026, 6, 13, 8, 47, tzinfo=UTC)


def document(count):
    batches = [
        {"packs": [f"P{n}", f"Q{n}"], "class": f"lipo-{2 + n % 3}S", "board": "b", "channel": f"c{n % 4}", "source": "bank",
         "current_a": 3.6, "rate_c": 1.0, "start_min": 20.0 * (n // 4), "lead_min": 20.0 * (n // 4) + 3,
         "end_min": 20.0 * (n // 4) + 19, "power_w": 60.0, "power_in_w": 70.0, "energy_in_wh": 10.0}
        for n in range(count)
    ]  # fmt: skip
    sources = [{"id": "bank", "used_wh": 10.0 * count, "usable_wh": 700.0, "peak_w": 280.0}]
    wanted = [{"count": 2, "class": "lipo-2S", "at_min": 15, "met": True, "name": "Heat"}]
    return {"batches": batches, "makespan_min": batches[-1]["end_min"], "wanted": wanted, "sources": sources}


@pytest.mark.parametrize("count", [1, 3, 30])
def test_rows_stand_below_one_another_and_bars_inside_the_picture(count):
    strip = draw(document(count), AT, {}, {"bank": 300.0}, {"bank": 700.0})
    rows = [*(lane.y for lane in strip.lanes), strip.bench_y, strip.power_y, strip.bank_y, strip.height]
    assert all(high - low >= 20 for low, high in pairwise(rows))
    for bar in strip.bars:
        assert bar.x >= LEFT
        assert bar.x + bar.width <= WIDTH
        assert bar.y in [lane.y for lane in strip.lanes]
    assert len(strip.bars) == count


def test_a_bar_lies_where_its_minutes_are_and_the_hours_are_full_or_half():
    strip = draw(document(30), AT, {}, {}, {"bank": 700.0})
    span = (strip.bars[29].x - strip.bars[0].x) / 140
    assert strip.bars[4].x - strip.bars[0].x == pytest.approx(20 * span, abs=0.1)
    assert all(text.endswith((":00", ":30")) for _, text in strip.hours)


def test_set_ups_within_minutes_are_one_visit_and_peak_and_limit_are_told():
    strip = draw(document(8), AT, {"bank": "Leisure battery"}, {"bank": 300.0}, {"bank": 700.0})
    assert len(strip.visits) == 2
    assert strip.peak[2] == "280 W"
    assert strip.power_limit_y is not None
    assert (strip.power_text, strip.power_limit_text) == ("Leisure battery", "limit 300 W")
    assert strip.bank_text == "Leisure battery, 620 of 700 Wh left"
