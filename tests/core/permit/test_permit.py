"""What may be done with a pack: by each of its cells, what it may be, how old its reading is, and the air.

The limits are common practice, no source, except where a test names one.
"""

from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.permit.facts import FACTS, Act, Level
from iterum.core.permit.permit import Way, permit_of, storage_way
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from tests.conftest import NOON, even, pack

RULES = HouseRules()


def codes(permit):
    return [item.code for item in permit.reasons]


def total(pack_v, cells=4, chemistry="lipo", **more):
    """A pack of which only the total was measured."""
    return Pack("T", chemistry, cells, 2200, reading=Reading(pack_v), **more)


def measured(cell_v=3.8, age=timedelta(0), temperature_c=None, air_c=None, **more):
    """A pack measured so long ago, as it is judged at noon."""
    one = even("P", cell_v, **more)
    reading = replace(one.reading, taken_at=NOON - age, temperature_c=temperature_c)
    return replace(one, reading=reading, air_c=air_c).at(NOON)


def may(one, *acts):
    permit = permit_of(one, RULES)
    return [permit.may(act) for act in acts]


class TestCells:
    """Spread: 0.02 V is good, over 0.03 look, over 0.10 keep off every board."""

    @pytest.mark.parametrize(
        ("low_v", "level", "joins"),
        [
            (3.80, Level.FIT, True),
            (3.77, Level.FIT, True),  # exactly 0.03 apart
            (3.76, Level.LOOK, True),
            (3.70, Level.LOOK, True),  # exactly 0.10 apart
            (3.69, Level.LOOK, False),
        ],
    )
    def test_spread_between_cells(self, low_v, level, joins):
        permit = permit_of(pack("P", 3.80, low_v, 3.80, 3.80), RULES)
        assert (permit.level, permit.joins) == (level, joins)
        assert permit.charges
        assert (permit.alone, permit.max_rate_c) == (not joins, None if joins else 0.5)
        assert permit.odd_cell == (None if level is Level.FIT else 2)

    @pytest.mark.parametrize(
        ("cell_v", "code", "charges"),
        [
            (2.99, "below_refuse", False),
            (3.00, "nearly_flat", True),
            (3.10, "nearly_flat", True),
            (3.11, "run_low", True),
            (3.29, "run_low", True),
            (3.30, "cells_agree", True),
            (4.17, "cells_agree", True),
            (4.18, "full", True),
            (4.22, "full", True),
            (4.23, "above_full", False),
            (4.24, "above_full", False),
            (4.25, "over_full", False),
        ],
    )
    def test_volts_of_a_lipo(self, cell_v, code, charges):
        permit = permit_of(even("P", cell_v, chemistry_confirmed=True), RULES)
        assert codes(permit)[0] == code
        assert permit.charges is charges

    def test_a_low_cell_among_full_ones_makes_the_pack_neither_full_nor_fast(self):
        permit = permit_of(pack("P", 4.19, 4.19, 3.05), RULES)
        assert not permit.full
        assert {item.numbers["cell"] for item in permit.reasons} == {3}
        assert [permit.acts[act].max_rate_c for act in (Act.CHARGE, Act.DISCHARGE, Act.BALANCE)] == [0.5, 0.5, 0.5]

    def test_a_damaged_pack_may_do_nothing_however_good_its_volts(self):
        permit = permit_of(even("P", 3.8, condition="damaged"), RULES)
        assert permit.level is Level.STOP
        assert not any(permit.may(act) for act in Act)

    def test_unmeasured_is_a_look_that_allows_nothing(self):
        permit = permit_of(pack("P", cells=4), RULES)
        assert permit.level is Level.LOOK
        assert not any(permit.may(act) for act in Act)

    def test_a_pack_a_little_over_full_may_only_be_discharged_and_balanced(self):
        assert may(even("P", 4.23), *Act) == [False, False, True, True, True]

    def test_ending_li_ion_lower_makes_it_full_earlier(self):
        rules = HouseRules(end_v={"li-ion": 4.10})
        assert not permit_of(even("L", 4.09, chemistry="li-ion"), RULES).full
        assert permit_of(even("L", 4.09, chemistry="li-ion"), rules).full


class TestNickel:
    def test_it_charges_alone_and_its_volts_tell_no_charge(self):
        permit = permit_of(even("N", 1.25, cells=6, chemistry="nimh"), RULES)
        assert (permit.joins, permit.charges, permit.soc) == (False, True, None)
        assert permit.acts[Act.STORE].reasons[0].code == "store_any"

    @pytest.mark.parametrize(("cell_v", "charges"), [(0.125, False), (0.89, False), (0.90, True), (1.55, True)])
    def test_under_0_9_v_a_cell_it_is_not_charged(self, cell_v, charges):
        assert permit_of(total(6 * cell_v, 6, "nimh", cells_confirmed=True), RULES).charges is charges


class TestIdentity:
    @pytest.mark.parametrize(
        ("one", "code"),
        [
            (total(12.4, 4), "count_doubt"),  # a nearly full 3S
            (total(16.80, 5), "count_doubt"),  # a full 4S
            (total(16.41, 5), "count_doubt"),  # a 4S at 4.10 V
            (total(25.2, 7), "count_doubt"),
            (total(20.0, 6), "count_doubt"),  # a 5S at 4.00 V would be charged to 5.04 V
            (total(13.05, 4), "other_chemistry"),  # a full 3S LiHV
            (total(8.40, 3, "li-ion"), "count_doubt"),  # a full 2S
            (total(27.9, 8, "nimh"), "volts_disagree"),  # a lithium pack
            (total(14.4, 5, "life"), "count_doubt"),  # a full 4S LiFe
            (even("F", 3.32), "life_doubt"),
            (even("F", 3.30, chemistry="lihv"), "life_doubt"),
            (pack("F", 3.30, 3.33, 3.31, 3.32), "life_doubt"),
        ],
    )
    def test_a_pack_that_may_be_something_else_may_do_nothing(self, one, code):
        permit = permit_of(one, RULES)
        assert (permit.level, codes(permit)[0]) == (Level.STOP, code)
        assert not any(permit.may(act) for act in Act)

    @pytest.mark.parametrize(
        "one",
        [
            total(12.4, 3),
            total(15.2, 4),
            total(11.55, 3),
            total(22.8, 6),
            total(14.8, 4, "lihv"),
            total(13.2, 4, "life"),
            pack("F", 3.30, 3.34, 3.31, 3.32),  # over 0.03 V apart: an empty LiPo
            even("F", 3.32, chemistry_confirmed=True),
            even("F", 3.46),
        ],
    )
    def test_volts_that_fit_the_label_stop_nothing(self, one):
        assert permit_of(one, RULES).charges

    def test_the_pins_counted_settle_it_either_way(self):
        assert permit_of(total(16.80, 5, pins=6), RULES).charges
        assert codes(permit_of(total(16.80, 5, pins=5), RULES))[0] == "pins_disagree"

    def test_each_cell_read_settles_the_count(self):
        assert codes(permit_of(even("P", 4.13, cells=3), RULES)) == ["cells_agree"]

    def test_what_it_may_be_is_named_the_label_first(self):
        found = permit_of(total(16.80, 5), RULES).identities
        assert (found[0].chemistry, found[0].cells) == ("lipo", 5)
        assert ("lipo", 4) in [(item.chemistry, item.cells) for item in found]

    @given(st.sampled_from(["lipo", "lihv", "li-ion", "life"]), st.integers(2, 13), st.floats(0.0, 0.02))
    def test_no_full_pack_is_ever_charged_as_one_with_a_cell_more(self, chemistry, cells, over_v):
        pack_v = cells * (CHEMISTRIES[chemistry].brim_v - over_v)
        assert not permit_of(total(pack_v, cells + 1, chemistry), RULES).charges

    def test_a_total_shares_no_board_and_a_single_cell_does(self):
        assert may(total(15.2, 4, cells_confirmed=True), Act.JOIN, Act.CHARGE, Act.BALANCE) == [False, True, False]
        assert may(total(3.8, 1), Act.JOIN) == [True]


class TestAge:
    def test_a_reading_counts_12_hours_for_joining_and_no_more(self):
        permit = permit_of(measured(age=timedelta(hours=12)), RULES)
        assert permit.joins
        assert permit.acts[Act.JOIN].until == NOON
        old = permit_of(measured(age=timedelta(hours=12, seconds=1)), RULES)
        assert (old.joins, old.charges, codes(old)) == (False, True, ["stale"])

    def test_without_a_time_it_counts_as_read_now(self):
        permit = permit_of(even("P", 3.8).at(NOON), RULES)
        assert (permit.joins, permit.acts[Act.JOIN].until) == (True, None)

    def test_a_good_temperature_counts_half_an_hour_against_the_air(self):
        fresh = permit_of(measured(temperature_c=20, air_c=-10), RULES)
        assert (fresh.charges, fresh.acts[Act.CHARGE].until) == (True, NOON + timedelta(minutes=30))
        old = permit_of(measured(temperature_c=20, air_c=-10, age=timedelta(minutes=31)), RULES)
        assert (old.charges, codes(old)) == (False, ["air_outside"])

    def test_a_bad_temperature_counts_until_it_is_read_again(self):
        old = permit_of(measured(temperature_c=52, air_c=20, age=timedelta(hours=2)), RULES)
        assert codes(old)[0] == "too_hot"


class TestTemperature:
    """0 to 45 degrees: usual data-sheet limits."""

    @pytest.mark.parametrize(
        ("temperature_c", "air_c", "code", "rate_c"),
        [
            (-1, None, "too_cold", None),
            (0, None, "cold", 0.5),
            (9.9, None, "cold", 0.5),
            (10, None, "cells_agree", 1.0),
            (45, None, "cells_agree", 1.0),
            (46, None, "too_hot", None),
            (None, -10, "air_outside", None),
            (None, 48, "air_outside", None),
            (None, 5, "cold", 0.5),
            (20, 5, "cells_agree", 1.0),
            (5, 20, "cold", 0.5),
        ],
    )
    def test_of_the_pack_and_of_the_air(self, temperature_c, air_c, code, rate_c):
        permit = permit_of(measured(temperature_c=temperature_c, air_c=air_c), RULES)
        assert (codes(permit)[0], permit.acts[Act.CHARGE].max_rate_c) == (code, rate_c)
        assert permit.may(Act.JOIN) is (rate_c is not None)


class TestStorage:
    """Each cell counts: down until the lowest is there, only balanced where cells are on both sides."""

    @pytest.mark.parametrize(
        ("cells_v", "way"),
        [
            ((4.15, 4.15, 3.40), Way.BALANCE),
            ((4.19, 4.19, 3.05), Way.BALANCE),
            ((4.15, 4.15, 4.10), Way.DOWN),
            ((3.90, 3.90, 3.84), Way.DOWN),
            ((3.70, 3.70, 3.72), Way.UP),
            ((3.83, 3.85, 3.81), Way.THERE),
            ((3.60, 3.70, 3.83), Way.UP),
        ],
    )
    def test_by_its_cells(self, cells_v, way):
        one = pack("P", *cells_v)
        assert storage_way(one, RULES) is way
        assert permit_of(one, RULES).acts[Act.STORE].reasons[-1].code == f"store_{way}"

    def test_a_weak_pack_stays_at_half_its_capacity_both_ways(self):
        up, down = pack("U", 3.60, 3.70, 3.72), pack("D", 4.15, 4.15, 3.95)
        assert [permit_of(one, RULES).acts[Act.STORE].max_rate_c for one in (up, down)] == [0.5, 0.5]

    def test_what_may_not_be_charged_is_not_brought_up_to_storage(self):
        assert may(measured(3.6, air_c=-5), Act.STORE) == [False]
        assert may(measured(3.83, air_c=-5), Act.STORE) == [True]


# ---------------------------------------------------------------------------------------- laws


def laxer(one, other):
    """Acts that `other` allows and `one` does not, or allows faster."""
    mine, theirs = (permit_of(item, RULES).acts for item in (one, other))
    faster = [act for act in Act if (theirs[act].max_rate_c or 0) > (mine[act].max_rate_c or 0) + 1e-9]
    return [act for act in Act if theirs[act].allowed and not mine[act].allowed] + [
        act for act in faster if mine[act].allowed and act is not Act.STORE
    ]


@given(st.integers(-30, 80), st.integers(1, 40), st.one_of(st.none(), st.integers(-20, 50)), st.booleans())
def test_a_temperature_further_outside_is_never_laxer(degrees, further, air_c, of_air):
    def at(temperature_c):
        told = {"air_c": temperature_c} if of_air else {"temperature_c": temperature_c, "air_c": air_c}
        return measured(3.75, **told)

    for one, worse in ((degrees, degrees + further), (degrees, degrees - further)):
        if (one >= 25) == (worse > one):  # away from the middle
            assert laxer(at(worse), at(worse)) == []
            assert laxer(at(one), at(worse)) == []


@given(
    st.integers(0, 40),
    st.integers(0, 40),
    st.one_of(st.none(), st.integers(-10, 60)),
    st.one_of(st.none(), st.integers(-10, 50)),
)
def test_an_older_reading_is_never_laxer(hours, more, temperature_c, air_c):
    newer, older = (
        measured(3.75, timedelta(hours=age), temperature_c, air_c) for age in (hours / 2, (hours + more) / 2)
    )
    assert laxer(newer, older) == []


@given(st.integers(300, 425), st.integers(0, 60), st.integers(0, 60))
def test_a_wider_spread_is_never_laxer(low, gap, more):
    """The lowest cell falls while the others stay."""
    narrow, wide = (
        pack("P", *[round((low + gap + more) / 100, 2)] * 3, round((low + gap + more - apart) / 100, 2))
        for apart in (gap, gap + more)
    )
    if permit_of(narrow, RULES).level is not Level.STOP or permit_of(wide, RULES).level is Level.STOP:
        assert [act for act in laxer(narrow, wide) if act is not Act.STORE] == []


@given(st.lists(st.integers(290, 430), min_size=1, max_size=6), st.permutations("abcdef"))
def test_a_name_decides_nothing(volts, letters):
    one = pack("P", *[value / 100 for value in volts])
    renamed = replace(one, id="".join(letters), name="Another")
    assert permit_of(renamed, RULES).acts == permit_of(one, RULES).acts


def test_every_fact_that_forbids_an_act_forbids_joining_too_or_is_about_that_act():
    for fact in FACTS.values():
        if Act.CHARGE in fact.forbids:
            assert Act.JOIN in fact.forbids
        if fact.level is Level.STOP:
            assert Act.CHARGE in fact.forbids


class TestWhatAnAllowanceSays:
    def test_nickel_is_full_by_its_last_charge_and_by_nothing_else(self):
        """Its volts do not tell."""
        one = total(7 * 1.4, cells=7, chemistry="nimh")
        assert not permit_of(one, RULES).full
        assert permit_of(replace(one, charged_full=True), RULES).full

    def test_it_lasts_until_the_first_of_its_readings_is_too_old(self):
        """In freezing air only its own temperature allows a pack to be charged, and that counts for half an hour."""
        warm = measured(temperature_c=20.0, air_c=-5.0)
        until = {act: permit_of(warm, RULES).acts[act].until for act in (Act.JOIN, Act.CHARGE)}
        assert until == dict.fromkeys(until, NOON + timedelta(minutes=30))
        mild = measured(temperature_c=20.0, air_c=20.0)
        assert permit_of(mild, RULES).acts[Act.JOIN].until == NOON + timedelta(hours=12)
        assert permit_of(mild, RULES).acts[Act.CHARGE].until is None

    def test_it_names_what_slows_it_and_nothing_that_does_not(self):
        cold = permit_of(measured(temperature_c=7.0, air_c=7.0), RULES).acts[Act.CHARGE]
        assert (cold.max_rate_c, [item.code for item in cold.reasons]) == (0.5, ["cold"])
        assert permit_of(measured(), RULES).acts[Act.CHARGE].reasons == ()
