"""What a source still holds, and what its label says of it."""

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.things.kit import Source
from iterum.core.things.ledger import Entry, EntryKind, energy_of_label, held, limits_of_label
from tests.conftest import NOON

BANK = Source("bank", energy_wh=100, usable_fraction=0.8)


def entries(*told):
    return [
        Entry(source, NOON + timedelta(minutes=at), EntryKind(kind), wh) for at, (source, kind, wh) in enumerate(told)
    ]


class TestHeld:
    def test_charges_are_taken_until_it_is_filled_again(self):
        assert (
            held(BANK, entries(("bank", "charge", 20), ("other", "charge", 50), ("bank", "charge", 5))).usable_wh == 55
        )
        assert held(BANK, entries(("bank", "charge", 20), ("bank", "filled", 0))).usable_wh == 80

    def test_stop_volts_mean_empty_whatever_the_sum_says(self):
        assert held(BANK, entries(("bank", "charge", 5), ("bank", "empty", 0))).usable_wh == 0
        assert held(BANK, entries(("bank", "empty", 0), ("bank", "charge", 5))).usable_wh == 0
        assert held(BANK, entries(("bank", "empty", 0), ("bank", "filled", 0), ("bank", "charge", 5))).usable_wh == 75

    def test_no_budget_known_stays_so_until_it_is_seen_empty(self):
        unknown = Source("gen")
        assert held(unknown, entries(("gen", "charge", 500))).usable_wh is None
        assert held(unknown, entries(("gen", "empty", 0))).usable_wh == 0

    @given(st.lists(st.floats(0, 60), max_size=6))
    def test_it_never_holds_less_than_nothing(self, taken):
        left = held(BANK, entries(*(("bank", "charge", wh) for wh in taken))).usable_wh
        assert left == pytest.approx(max(80 - sum(taken), 0))


@pytest.mark.parametrize(
    ("label", "wh", "volts", "part"),
    [
        ("500 Wh", 500, None, None),
        ("1.28 kWh", 1280, None, None),
        ("10,000 mAh", 36.5, None, 0.85),  # a bank, at the volts of its cells: about 37 Wh, of which it gives about 31
        ("20 000 mAh bank", 73, None, 0.85),
        ("3S 5200", 57.7, 11.1, None),
        ("3S 18650 3500 li-ion", 37.8, 10.8, None),
        ("4S LiFe 10 Ah", 128, 12.8, None),
        ("1 x 100 Ah 12 V", 1200, 12, 0.5),
        ("100 Ah 12 V", 1200, 12, 0.5),  # lead-acid: half used at most
        ("12 V 100 Ah LiFePO4", 1200, 12, None),
        ("12,8 V 7,5 Ah lithium", 96, 12.8, None),
    ],
)
def test_a_label_gives_watt_hours(label, wh, volts, part):
    """Common practice, no source; the sums are done by hand."""
    told = energy_of_label(label)
    assert (told.energy_wh, told.voltage_v, told.usable_fraction) == (pytest.approx(wh, abs=0.05), volts, part)


@pytest.mark.parametrize("label", [
    "", "big one", "100 Ah", "5200", "12 V 60 Ah 8x2200 mAh", "8x2200 3S LiPo 12 V 60 Ah", "2 x 100 Ah 12 V", "8 x 2200 3S",
    "3S 18650",
])  # fmt: skip
def test_a_label_that_does_not_say_enough_or_two_things_is_asked_for_more(label):
    with pytest.raises(ValueError, match=r"(?i)say"):
        energy_of_label(label)


@pytest.mark.parametrize(("label", "amps", "watts"), [
    ("100 Ah 12 V", None, None), ("100 Ah 12 V 40 A", 40, None), ("500 Wh 300 W", None, 300), ("12 V 60Ah, 25,5A", 25.5, None),
    ("10,000 mAh 5 V 3 A", 3, None), ("1 kWh 1500 watts", None, 1500),
])  # fmt: skip
def test_what_a_source_may_give_is_read_beside_what_it_holds(label, amps, watts):
    assert limits_of_label(label) == (amps, watts)
