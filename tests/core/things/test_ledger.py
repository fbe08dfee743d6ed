"""What a source still holds, and what its label says of it."""

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.things.kit import Source
from iterum.core.things.ledger import Entry, EntryKind, held
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
