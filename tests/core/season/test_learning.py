"""What a log teaches of one pack: capacity, points of its curve, resistance; and when it is another pack than before."""

from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.season.health import ChargeRecord, health
from iterum.core.season.learning import learn, step_mohm, with_like
from iterum.core.season.outlook import Observation
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.curve import KnownPoint, Learned, soc_from_rest, through
from tests.conftest import NOON, even

LIPO = CHEMISTRIES["lipo"].curve


def charge(soc, held_mah=1800, day=0, **more):
    """A charge of a pack that follows the likeliest curve, from a state of charge to full."""
    volts = LIPO.table.rest_v(soc)
    told = {"charge_mah": (1 - soc) * held_mah, "before_v": (volts,) * 4, "alone": True, "full": True}
    return ChargeRecord(NOON + timedelta(days=day), **(told | more))


def test_a_deep_charge_tells_the_capacity_and_its_point():
    learned = learn(even("P", 3.8), [charge(0.02, 1500)]).learned
    assert learned.capacity_mah == pytest.approx(1500, rel=0.10)
    assert learned.doubt < 0.12
    assert learned.points[0].soc == pytest.approx(0.02, abs=0.08)


@pytest.mark.parametrize(
    "spoilt", [{"alone": False}, {"full": False}, {"charge_mah": 100.0}, {"before_v": ()}, {"charge_mah": None}]
)
def test_a_boards_charge_a_broken_off_one_and_one_without_figures_teach_nothing(spoilt):
    assert learn(even("P", 3.8), [replace(charge(0.3), **spoilt)]).learned is None
    assert learn(even("N", 1.2, chemistry="nimh"), [charge(0.3)]).learned is None


def test_each_further_charge_narrows_it_and_what_was_typed_counts():
    one, many = (learn(even("P", 3.8), [charge(soc) for soc in socs]).learned for socs in ((0.3,), (0.3, 0.1, 0.6)))
    assert many.doubt <= one.doubt
    assert len(many.points) == 3
    typed = learn(even("P", 3.8, capacity_now_mah=1500), [charge(0.3, 1500)]).learned
    assert typed.capacity_mah == pytest.approx(1500, rel=0.05)
    assert typed.doubt < one.doubt


def test_a_pack_that_is_another_than_before_says_so_and_begins_anew():
    before = [charge(0.05, 1800, day) for day in range(3)]
    after = [charge(0.05, 1000, 10 + day) for day in range(2)]
    told = learn(even("P", 3.8), [*before, *after])
    assert told.jumped is after[0]
    assert told.learned.capacity_mah < 1300
    assert learn(even("P", 3.8), before).jumped is None
    whys = [why.code for why in health(even("P", 3.8), [*before, *after], NOON.date(), told.jumped).reasons]
    assert "health_jumped" in whys


def test_the_step_in_volts_as_the_amps_start_and_as_they_end_tells_resistance():
    seen = [Observation(0.1, pack_v=15.2 + 1.8 * 0.024, current_a=1.8), Observation(20, pack_v=16.8, current_a=1.8),
            Observation(20.1, pack_v=16.8 - 1.8 * 0.028, current_a=0.0)]  # fmt: skip
    assert step_mohm((3.8,) * 4, seen, 1.8) == pytest.approx(6.5)
    assert step_mohm((3.8,) * 4, [replace(seen[0], at_min=1.0)], 1.8) is None  # a minute later it is no step


def test_packs_of_the_same_label_lean_to_what_one_was_taught_and_keep_their_doubt():
    taught = even("A", 3.75, learned=Learned(1800, 0.05, (KnownPoint(3.75, 0.20),)))
    one, other, fresh = with_like([taught, even("B", 3.75), even("C", 3.75, mah=2200)])
    assert (one, fresh.like) == (taught, ())
    assert other.soc.value == pytest.approx(0.20, abs=0.01)
    assert fresh.soc.value == pytest.approx(0.357, abs=0.01)
    assert other.soc.high - other.soc.low >= fresh.soc.high - fresh.soc.low - 1e-9


points = st.lists(st.tuples(st.floats(3.4, 4.15), st.floats(0.02, 0.98)), min_size=1, max_size=6)


@given(points, st.sampled_from(["lipo", "li-ion", "life", "lihv"]))
def test_a_stretched_table_still_rises_keeps_its_ends_and_goes_through_points_that_agree(rows, chemistry):
    table = CHEMISTRIES[chemistry].table
    bent = through(table, [KnownPoint(volts, soc) for volts, soc in rows])
    assert list(bent.cell_v) == sorted(bent.cell_v)
    assert (bent.cell_v[0], bent.cell_v[-1]) == (table.cell_v[0], table.cell_v[-1])
    volts, soc = rows[0]
    if len(rows) == 1 and 0.02 < table.soc(volts) < 0.97 and 0.02 < soc < 0.97:
        assert soc_from_rest(bent.cell_v, volts) == pytest.approx(soc, abs=0.05)
