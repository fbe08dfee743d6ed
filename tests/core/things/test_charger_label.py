"""Chargers as their labels say them."""

import pytest

from iterum.core.things.charger_label import ChargerLabel, read_charger
from iterum.exchange.labels import charger_of


@pytest.mark.parametrize(("text", "expected"), [
    ("dual 400 W, 250 W a channel, 12 A, 6S, 0.1 to 12 A", ChargerLabel(2, 400, None, 250, 12, 0.1, None, 6, None, None)),
    ("50W 6A 1-6S", ChargerLabel(1, None, None, 50, 6, None, 1, 6, None, None)),
    ("4 x 100 W 10A 6S", ChargerLabel(4, None, None, 100, 10, None, None, 6, None, None)),
    ("quad 400 W, 10 A, 1 to 6S", ChargerLabel(4, 400, None, 100, 10, None, 1, 6, None, None)),
    ("AC 200 W DC 600 W 2 channels 16 A 6S input 10-30 V", ChargerLabel(2, 600, 200, 300, 16, None, None, 6, 10, 30)),
    ("2x1500 watts 30 A 14S", ChargerLabel(2, None, None, 1500, 30, None, None, 14, None, None)),
    ("four channels, 0,1-5 A, 50 W per channel, 4S", ChargerLabel(4, None, None, 50, 5, 0.1, None, 4, None, None)),
])  # fmt: skip
def test_a_charger_is_read_as_it_is_said(text, expected):
    assert read_charger(text) == expected


@pytest.mark.parametrize(("text", "says"), [
    ("400 W", "its amps"), ("12 A 6S", "its watts"), ("250 W 12 A", "its cells"), ("", "its amps"), ("60 x 100 W 5 A 6S", "1 to 16 channels"),
    ("100 W 5 A 20S", "1 to 14 cells"),
    # Typed on behind what was refused, cells of a pack would be taken for the charger's.
    ("8x2200 3S 45C LiPodual 400W 12A 6S", "names packs too"), ("6 x 650 3S dual 400W 12A 6S", "names packs too"),
    ("2200 mAh 3S dual 400W 12A 6S", "names packs too"),
])  # fmt: skip
def test_what_is_missing_is_told(text, says):
    with pytest.raises(ValueError, match=says):
        read_charger(text)


@pytest.mark.parametrize(
    ("text", "power_w", "current_a"),
    [
        ("200 W 10 A 6S discharge 20 W", 20, None),
        ("200 W 10 A 6S, discharges with 2 A / 40 W", 40, 2),
        ("200 W 10 A 6S, 20 W discharge", 20, None),
        ("80 W 10 A 6S discharge 100 W", 100, None),  # more out than in: never read as what it charges with
        ("discharge 1.5A 15W, 200W 10A 6S", 15, 1.5),
        ("200 W 10 A 6S", None, None),
    ],
)
def test_what_goes_out_of_a_pack_is_never_read_as_what_goes_in(text, power_w, current_a):
    told = read_charger(text)
    assert (told.discharge_power_w, told.discharge_current_a) == (power_w, current_a)
    assert (told.max_current_a, told.channel_power_w, told.max_cells) == (10, 80 if "80 W" in text else 200, 6)
    (channel,) = charger_of(told, "c")["channels"]
    assert channel.get("discharge_power_w") == power_w


@pytest.mark.parametrize(("text", "least_a", "step_a", "by_input"), [
    ("80 W 6S min 1 A max 10 A", 1, None, ()),
    ("single 80W 10A 6S 0.5A min, steps of 0.5 A", 0.5, 0.5, ()),
    ("80 W 10 A 6S, smallest current 1 A, 0.2 A steps", 1, 0.2, ()),
    ("10 A 6S 650W@24V 300W@12V", None, None, ((12, 300), (24, 650))),
    ("10 A 6S, 12 V: 300 W, at 24 V 650 W", None, None, ((12, 300), (24, 650))),
    ("dual 600 W 10 A 6S input 11-30 V 300 W at 12 V", None, None, ((12, 300),)),
    ("DC 11-30V 600W 10 A 6S", None, None, ()),
])  # fmt: skip
def test_its_least_amps_its_step_and_its_watts_by_input_volts_are_read(text, least_a, step_a, by_input):
    """A least current that is lost puts too much into a small pack."""
    told = read_charger(text)
    assert (told.min_current_a, told.current_step_a, told.power_by_input_v) == (least_a, step_a, by_input)
    assert (told.max_current_a, told.max_cells) == (10, 6)
    document = charger_of(told, "c")
    (*_, channel) = document["channels"]
    assert (channel.get("min_current_a"), channel.get("current_step_a")) == (least_a, step_a)
    assert document.get("power_by_input_v", []) == [list(pair) for pair in by_input]
