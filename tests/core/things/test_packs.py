import pytest

from iterum.core.permit.permit import permit_of
from iterum.core.things.curve import KnownPoint, Learned
from iterum.core.things.rules import HouseRules
from iterum.core.things.typed_volts import question_volts
from tests.conftest import even, pack

RULES = HouseRules()


class TestStateOfCharge:
    def test_common_practice_calls_3_80_v_storage_and_the_table_says_about_half(self):
        soc = permit_of(even("P", 3.80), RULES).soc
        assert soc.low < soc.value < soc.high
        assert 0.50 < soc.value < 0.54

    def test_at_3_75_v_the_cells_that_were_published_lie_far_apart_and_near_full_they_agree(self):
        soc, full = (permit_of(even("P", volts), RULES).soc for volts in (3.75, 4.15))
        assert soc.low < 0.21
        assert soc.high > 0.54  # LMO/NCA pouch, Ai2020, Mohtat2020
        assert full.high - full.low < 0.10

    def test_what_its_own_charges_taught_narrows_it(self):
        learned = Learned(1800, 0.03, (KnownPoint(3.75, 0.22),))
        soc = permit_of(even("P", 3.75, learned=learned), RULES).soc
        assert soc.value == pytest.approx(0.22, abs=0.01)
        assert soc.learned
        assert soc.high - soc.low < 0.19

    def test_on_the_flat_part_of_life_there_is_a_range_and_no_number(self):
        soc = permit_of(even("F", 3.28, chemistry="life"), RULES).soc
        assert soc.value is None
        assert soc.high - soc.low > 0.4

    @pytest.mark.parametrize("volts", [3.26, 3.30, 3.346, 3.348, 3.39])
    def test_no_rest_volts_of_a_life_cell_up_to_its_knee_tell_one_figure_or_that_it_is_full(self, volts):
        """A cell with 82 % was measured to rest at 3.346 to 3.348 V; its source is not at hand."""
        verdict = permit_of(even("F", volts, chemistry="life"), RULES)
        assert (verdict.soc.value, verdict.full, verdict.held_energy_wh) == (None, False, None)
        assert verdict.soc.low < 0.82 < verdict.soc.high
        charged = permit_of(even("F", volts, chemistry="life", charged_full=True), RULES)
        assert charged.full
        assert "full_by_charge" in {item.code for item in charged.reasons}

    def test_lihv_says_that_it_is_an_estimate(self):
        assert permit_of(even("H", 3.80, chemistry="lihv"), RULES).soc.estimate


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
