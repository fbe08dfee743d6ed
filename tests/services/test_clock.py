"""The time that charges are counted by: no clock that is set, however it is, makes one younger."""

from datetime import timedelta

import pytest

from iterum.core.things.packs import Reading
from iterum.guardian.clock import SteadyClock, parted_words
from iterum.services.desk import Desk
from iterum.store.copies import last_moment
from iterum.store.database import Store
from tests.conftest import NOON, even


class Machine:
    """A clock that may be set, and seconds that nobody sets."""

    def __init__(self):
        self.at, self.seconds = NOON, 0.0

    def passes(self, **time):
        self.at, self.seconds = self.at + timedelta(**time), self.seconds + timedelta(**time).total_seconds()


@pytest.mark.parametrize(
    "set_by", [timedelta(hours=-1), timedelta(hours=1), timedelta(days=-400), timedelta(minutes=30)]
)
def test_a_clock_that_is_set_moves_no_charge_and_is_told(set_by):
    machine = Machine()
    clock = SteadyClock(lambda: machine.at, None, lambda: machine.seconds)
    machine.passes(minutes=10)
    assert (clock(), parted_words(clock)) == (NOON + timedelta(minutes=10), "")
    machine.at += set_by
    machine.passes(minutes=10)
    assert clock() == NOON + timedelta(minutes=20)
    assert f"{abs(set_by) / timedelta(minutes=1):.0f} min" in parted_words(clock)


def test_a_start_with_a_clock_gone_back_goes_on_after_what_is_kept(tmp_path):
    store = Store(tmp_path / "k.sqlite3")
    desk = Desk(store)
    desk.save_pack(even("P", 3.8), None, NOON)
    desk.record_reading("P", Reading.of_cells((3.8,) * 4, NOON), NOON + timedelta(minutes=5))
    store.close()
    last = last_moment(tmp_path / "k.sqlite3")
    assert last == NOON + timedelta(minutes=5)
    machine = Machine()
    machine.at -= timedelta(hours=1)
    clock = SteadyClock(lambda: machine.at, last, lambda: machine.seconds)
    assert clock() == last
    assert "65 min behind" in parted_words(clock)
    machine.at -= timedelta(days=300)  # so far back nothing is believed but the machine
    assert SteadyClock(lambda: machine.at, last, lambda: machine.seconds)() == machine.at
    assert last_moment(tmp_path / "none.sqlite3") is None
