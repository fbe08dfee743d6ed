"""The ways that a pack may be: what they depend on, what charges leave of them, and the bands that follow."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.core.electrical import belief, fan, swift
from iterum.core.electrical.belief import DRAWS, beliefs_of
from iterum.core.electrical.charging import charge_packs, narrowing
from iterum.core.electrical.circuit import Feeding
from iterum.core.electrical.fan import fan_of, run_plainly
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.curve import KnownPoint, Learned
from iterum.core.things.rules import HouseRules
from tests.conftest import even, setup

LIPO = CHEMISTRIES["lipo"].curve


def taught(volts, holds_mah=1800.0, table=LIPO.others[1], **more):
    """A pack of another make than the likeliest that was charged alone from each of these rest volts."""
    points = tuple(KnownPoint(v, table.soc(v)) for v in volts)
    return even("A", 3.75, learned=Learned(holds_mah, 0.05, points), **more)


def width(pack):
    minutes = fan_of([pack], (0.0,), 5.0, Feeding(1.8, end_v=16.8), 0.1).minutes
    return minutes.high - minutes.low


@given(st.lists(st.sampled_from(["A", "B", "C", "D"]), min_size=4, max_size=4, unique=True), st.permutations(range(4)))
def test_what_is_believed_depends_on_neither_tag_nor_place(tags, order):
    volts = (3.70, 3.72, 3.74, 3.76)
    plain = beliefs_of([even(f"P{n}", v) for n, v in enumerate(volts)], 1.0)
    shuffled = beliefs_of([even(tags[n], volts[n]) for n in order], 1.0)
    for one, place in zip(shuffled, order, strict=True):
        assert (one.soc == plain[place].soc).all()
        assert (one.r0_ohm == plain[place].r0_ohm).all()


def test_a_pack_is_believed_alike_whether_its_figures_are_whole_numbers_or_not():
    whole = even("A", 3.75, mah=1800, resistance_mohm=(9, 9, 9, 9), learned=Learned(1700, 0.05, (KnownPoint(4, 0.8),)))
    decimal = even("A", 3.75, mah=1800.0, resistance_mohm=(9.0,) * 4, learned=Learned(1700.0, 0.05, (KnownPoint(4.0, 0.8),)))
    told = []
    for pack in (whole, decimal):
        belief._stream.cache_clear()
        belief._belief.cache_clear()
        told.append(beliefs_of([pack], 1.0)[0])
    assert (told[0].soc == told[1].soc).all()
    assert (told[0].r0_ohm == told[1].r0_ohm).all()


def test_equal_packs_are_believed_apart_but_mostly_of_one_make():
    one, two = beliefs_of([even("A", 3.75), even("B", 3.75)], 1.0)
    assert abs(np.corrcoef(one.capacity_ah, two.capacity_ah)[0, 1]) < 0.35
    assert not (one.r0_ohm == two.r0_ohm).any()
    same_curve = (one.table_v == two.table_v).all(axis=1).mean()
    assert 0.5 < same_curve < 1.0
    assert 0.3 < np.corrcoef(np.log(one.r0_ohm), np.log(two.r0_ohm))[0, 1] < 0.95


@pytest.mark.parametrize("count", [1, 2, 4])
def test_the_compiled_circuit_and_the_plain_one_give_the_same_in_every_way(count, monkeypatch):
    packs = [even(str(n), 3.70 + 0.015 * n, mah=1300 + 300 * n, chemistry="li-ion") for n in range(count)]
    asked = packs, (0.0, 20.0, 0.0, 90.0)[:count], 5.0, Feeding(1.2 * count, 18.0 * count, 16.8), 0.1
    told = {}
    for name, way in (("plain", run_plainly), ("compiled", swift.run_ways_compiled)):
        monkeypatch.setattr(fan, "_compiled", [way])
        told[name] = fan_of(*asked)
    plain, compiled = told["plain"], told["compiled"]
    assert plain.all_minutes == pytest.approx(compiled.all_minutes, rel=1e-8)
    for one, two in zip(plain.packs, compiled.packs, strict=True):
        for figure in ("peak_c", "charge_mah", "joined_c"):
            assert vars(getattr(one, figure)) == pytest.approx(vars(getattr(two, figure)), rel=1e-7, abs=1e-9)
        for early, other in zip(one.share_a, two.share_a, strict=True):
            assert vars(early) == pytest.approx(vars(other), rel=1e-5, abs=1e-7)
        assert vars(one.over_s) == pytest.approx(vars(two.over_s), rel=1e-5, abs=0.1)


@settings(max_examples=25)
@given(st.sampled_from(["lipo", "lihv", "li-ion", "life"]), st.integers(0, 100), st.sampled_from([0.5, 1.0, 3.0]),
       st.sampled_from([None, 0.0, 10.0, 40.0]))  # fmt: skip
def test_every_figure_lies_in_its_band_and_what_goes_in_is_what_was_missing(chemistry, part, rate_c, temperature_c):
    kind = CHEMISTRIES[chemistry]
    one = even("A", round(kind.usual_low_v + part / 100 * (kind.full_v - 0.05 - kind.usual_low_v), 2),
               chemistry=chemistry, max_charge_c=3)  # fmt: skip
    one = replace(one, reading=replace(one.reading, temperature_c=temperature_c))
    result = charge_packs([one], setup(), HouseRules(), rate_c * one.capacity_ah)
    assert 0 <= result.minutes_low <= result.minutes <= result.minutes_high
    assert result.charge_low_mah <= result.charge_mah <= result.charge_high_mah
    assert result.energy_in_high_wh >= result.energy_in_wh
    believed = beliefs_of([one], rate_c)[0]
    missing_mah = 1000 * (1 - believed.soc) * believed.capacity_ah
    assert result.fan.charge_mah.high <= np.quantile(missing_mah, 0.95, method="weibull") * 1.02 + 1


def test_charges_leave_fewer_ways_and_a_narrower_band_that_holds():
    fresh, once, often = even("A", 3.75), taught([3.70]), taught([3.62, 3.70, 3.78, 3.90])
    assert width(often) < width(once) < width(fresh)
    true_soc = LIPO.others[1].soc(3.75)
    low, high = np.quantile(beliefs_of([often], 1.0)[0].soc, (0.05, 0.95))
    assert low < true_soc < high
    fresh_low, fresh_high = np.quantile(beliefs_of([fresh], 1.0)[0].soc, (0.05, 0.95))
    assert high - low < 0.5 * (fresh_high - fresh_low)


def test_a_budget_counts_more_than_what_is_likely_and_a_timer_as_well():
    result = charge_packs([even("A", 3.80)], setup(), HouseRules(), 1.8)
    assert result.energy_in_high_wh > 1.05 * result.energy_in_wh
    assert result.minutes_high > 1.1 * result.minutes


def test_packs_of_one_label_teach_each_other_a_little():
    points = taught([3.62, 3.70, 3.78, 3.90]).learned.points
    assert width(even("A", 3.75, like=points)) < 0.8 * width(even("A", 3.75))


def test_milliohms_that_a_meter_told_narrow_the_band():
    labels = range(1300, 2300, 100)  # drawn apart, so that no single draw decides
    told = sum(width(even("A", 4.0, mah=mah, resistance_mohm=(12.0,) * 4)) for mah in labels)
    assert told < sum(width(even("A", 4.0, mah=mah)) for mah in labels)


def test_however_tight_the_evidence_some_ways_are_left():
    tight = taught([3.60 + 0.02 * n for n in range(20)])
    assert len(set(beliefs_of([tight], 1.0)[0].capacity_ah)) >= 10


def test_a_claimed_capacity_has_no_width_and_one_that_charges_exclude_is_told_and_widened():
    exact = beliefs_of([even("A", 3.75, capacity_now_mah=1500.0)], 1.0)[0]
    assert exact.capacity_ah == pytest.approx([1.5] * DRAWS)
    assert not exact.contradicted
    wrong = taught([3.62, 3.70, 3.78, 3.90], capacity_now_mah=700.0)
    belief = beliefs_of([wrong], 1.0)[0]
    assert belief.contradicted
    assert belief.capacity_ah.max() > 0.8
    assert "capacity_disputed" in {item.code for item in narrowing([wrong])}
    assert "capacity_disputed" not in {item.code for item in narrowing([taught([3.62, 3.70])])}


def test_cold_lengthens_and_nobody_knows_by_how_much():
    warm, cold = (replace(even("A", 3.75), air_c=air_c) for air_c in (25.0, 0.0))
    times = [fan_of([one], (0.0,), 5.0, Feeding(1.8, end_v=16.8), 0.1).minutes for one in (warm, cold)]
    assert times[1].middle > 1.05 * times[0].middle
    assert times[1].high - times[1].low > times[0].high - times[0].low
