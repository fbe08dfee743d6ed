import pytest

from iterum.core.bench.curve import KnownPoint, Learned
from iterum.core.bench.faults import Level
from iterum.core.bench.packs import Pack, Reading
from iterum.core.bench.rules import HouseRules
from iterum.core.bench.typed_volts import question_volts
from iterum.core.bench.verdict import judge_pack
from tests.conftest import even, pack

RULES = HouseRules()


def codes(verdict):
    return [item.code for item in verdict.reasons]


class TestVerdict:
    """Spread: 0.02 V is good, over 0.03 look, over 0.10 keep off every board. Common practice, no source."""

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
        verdict = judge_pack(pack("P", 3.80, low_v, 3.80, 3.80), RULES)
        assert (verdict.level, verdict.joins) == (level, joins)
        assert verdict.charges
        assert (verdict.alone, verdict.max_rate_c) == (not joins, None if joins else 0.5)
        assert verdict.odd_cell == (None if level is Level.FIT else 2)

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
        verdict = judge_pack(even("P", cell_v), RULES)
        assert codes(verdict)[0] == code
        assert verdict.charges is charges

    def test_a_damaged_pack_is_never_charged_however_good_its_volts(self):
        verdict = judge_pack(even("P", 3.8, condition="damaged"), RULES)
        assert (verdict.level, verdict.joins, verdict.charges) == (Level.STOP, False, False)

    def test_12_4_v_fits_a_nearly_full_3s_and_a_nearly_flat_4s(self):
        three, four = (judge_pack(Pack("P", "lipo", cells, 2200, reading=Reading(12.4)), RULES) for cells in (3, 4))
        assert "count_possible" in codes(three)
        assert codes(four)[0] == "count_doubt"
        assert (three.level, four.level, four.charges) == (Level.LOOK, Level.STOP, False)

    def test_cells_read_one_by_one_settle_the_count(self):
        assert codes(judge_pack(even("P", 4.13, cells=3), RULES)) == ["cells_agree"]

    def test_nimh_charges_alone_and_its_volts_tell_no_charge(self):
        verdict = judge_pack(even("N", 1.25, cells=6, chemistry="nimh"), RULES)
        assert (verdict.joins, verdict.charges, verdict.soc) == (False, True, None)

    def test_ending_li_ion_lower_makes_it_full_earlier(self):
        rules = HouseRules(end_v={"li-ion": 4.10})
        assert not judge_pack(even("L", 4.09, chemistry="li-ion"), RULES).full
        assert judge_pack(even("L", 4.09, chemistry="li-ion"), rules).full

    def test_unmeasured_is_a_look_that_neither_joins_nor_charges(self):
        verdict = judge_pack(pack("P", cells=4), RULES)
        assert (verdict.level, verdict.joins, verdict.charges) == (Level.LOOK, False, False)


class TestStateOfCharge:
    def test_common_practice_calls_3_80_v_storage_and_the_table_says_about_half(self):
        soc = judge_pack(even("P", 3.80), RULES).soc
        assert soc.low < soc.value < soc.high
        assert 0.50 < soc.value < 0.54

    def test_at_3_75_v_the_cells_that_were_published_lie_far_apart_and_near_full_they_agree(self):
        soc, full = (judge_pack(even("P", volts), RULES).soc for volts in (3.75, 4.15))
        assert soc.low < 0.21
        assert soc.high > 0.54  # LMO/NCA pouch, Ai2020, Mohtat2020
        assert full.high - full.low < 0.10

    def test_what_its_own_charges_taught_narrows_it(self):
        learned = Learned(1800, 0.03, (KnownPoint(3.75, 0.22),))
        soc = judge_pack(even("P", 3.75, learned=learned), RULES).soc
        assert soc.value == pytest.approx(0.22, abs=0.01)
        assert soc.learned
        assert soc.high - soc.low < 0.19

    def test_on_the_flat_part_of_life_there_is_a_range_and_no_number(self):
        soc = judge_pack(even("F", 3.28, chemistry="life"), RULES).soc
        assert soc.value is None
        assert soc.high - soc.low > 0.4

    @pytest.mark.parametrize("volts", [3.26, 3.30, 3.346, 3.348, 3.39])
    def test_no_rest_volts_of_a_life_cell_up_to_its_knee_tell_one_figure_or_that_it_is_full(self, volts):
        """A cell with 82 % was measured to rest at 3.346 to 3.348 V; its source is not at hand."""
        verdict = judge_pack(even("F", volts, chemistry="life"), RULES)
        assert (verdict.soc.value, verdict.full, verdict.held_energy_wh) == (None, False, None)
        assert verdict.soc.low < 0.82 < verdict.soc.high
        charged = judge_pack(even("F", volts, chemistry="life", charged_full=True), RULES)
        assert charged.full
        assert "full_by_charge" in {item.code for item in charged.reasons}

    def test_lihv_says_that_it_is_an_estimate(self):
        assert judge_pack(even("H", 3.80, chemistry="lihv"), RULES).soc.estimate


class TestQuestions:
    def ask(self, *cell_v, **more):
        return [item.code for item in question_volts(pack("P", *cell_v, **more), cell_v)]

    def test_good_volts_raise_no_question(self):
        assert self.ask(3.84, 3.85, 3.84, 3.80) == []

    def test_a_swapped_digit_is_named_with_what_was_meant(self):
        (question,) = question_volts(pack("P", cells=4), (3.84, 3.48, 3.85, 3.84))
        assert question.code == "digits_swapped"
        assert question.numbers["meant_v"] == 3.84

    def test_volts_no_cell_can_have_are_not_taken(self):
        assert self.ask(4.85, 3.85, 3.84, 3.80) == ["volts_impossible"]

    def test_an_empty_last_cell_asks_for_the_count(self):
        assert self.ask(3.84, 3.85, 3.84, 0.0) == ["fewer_cells"]

    def test_a_dead_cell_is_questioned(self):
        assert self.ask(3.84, 1.20, 3.84, 3.85) == ["cell_dead"]

    def test_a_cell_far_off_is_questioned(self):
        assert self.ask(3.84, 3.84, 3.99, 3.85) == ["cell_far_off"]
