"""A whole day with faults at random: what is found is what is true, nothing missed, nothing invented, every mAh right."""

import os

import pytest

from tests.conftest import SOAK
from tests.services.day import Day

HOURS = float(os.environ.get("ITERUM_HOURS", "0.25"))
"""Of the bench, for each day: a quarter as a rule, ten in `make soak`."""


@pytest.mark.parametrize("seed", range(1 if SOAK == 1 else 4))
def test_a_day_of_faults_is_told_as_it_was(seed, tmp_path):
    with Day(tmp_path, seed).field() as day:
        day.pass_hours(HOURS if SOAK == 1 else 10)
    print({name: (len(delays), sorted(delays)[len(delays) // 2] if delays else None, max(delays, default=None))
           for name, delays in day.delays.items()}, day.batches, day.looks, day.jumps)  # fmt: skip
    assert day.batches >= 3
    assert day.missed == []
    assert day.invented == []
    assert [item for item in day.charges if abs(item[0] - item[1]) > item[2]] == []
