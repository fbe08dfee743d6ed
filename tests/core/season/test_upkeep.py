"""Runs that fill nothing, against figures worked by hand. Facts of the trade: common practice, no source."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.planning.planner import Planner
from iterum.core.reasons import Unsafe
from iterum.core.season.outlook import Observation
from iterum.core.season.run import Act, State, after, next_act
from iterum.core.season.upkeep import BALANCE_A, EVEN_OUT_MIN, Upkeep, upkeep
from iterum.core.season.watching import Alarm, findings
from iterum.core.things.bench import Bench, Running
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.session import Session
from iterum.wording import sentence
from tests.conftest import even, pack

SLOW = Channel("slow", 10, 200, discharge_power_w=10)
FAST = Channel("fast", 20, 400, discharge_power_w=80, discharge_current_a=5)
NONE = Channel("none", 20, 400)
KIT = Kit((Board("Six", 6, max_current_a=40), Board("Three", 3)), (Charger("c", (SLOW, FAST, NONE)),))
FULL, OTHER = even("F", 4.20, mah=5000, cells=6), even("G", 4.19, mah=5000, cells=6)


def offered(packs, kind, running=(), **more) -> Upkeep:
    return upkeep(Bench(tuple(packs), KIT, running=tuple(running)), kind, Choice(tuple(p.id for p in packs), **more))


def refused(packs, kind, **more) -> set[str]:
    with pytest.raises(Unsafe) as told:
        offered(packs, kind, **more)
    assert all(sentence(item) for item in told.value.reasons)
    return {item.code for item in told.value.reasons}


class TestDown:
    def test_a_full_6s_5000_at_ten_watts_takes_hours(self):
        """10 W ÷ 25.2 V = 0.39 A; a little over half of 5 Ah at that is seven hours (practice: hours)."""
        slow = offered([FULL], Kind.DOWN, channel="slow")
        assert slow.current_a == pytest.approx(0.3)
        assert slow.card.end_v == pytest.approx(3.85, abs=0.05)
        assert slow.minutes == pytest.approx(60 * slow.move_mah / 1000 / 0.3)
        assert 6 < slow.minutes / 60 < 11
        assert min(slow.limits, key=lambda limit: limit.current_a).name == "down_power"

    def test_the_channel_that_has_it_done_soonest_is_taken_by_its_label(self):
        """80 W ÷ 25.2 V = 3.17 A, under the 5 A of its label and under 1C."""
        fast = offered([FULL], Kind.DOWN)
        assert (fast.setup.channel.id, fast.current_a) == ("fast", pytest.approx(3.1))
        assert offered([FULL], Kind.DOWN, channel="fast", current_a=1.0).current_a == 1.0
        assert refused([FULL], Kind.DOWN, channel="fast", current_a=4.0) == {"down_amps"}
        assert refused([FULL], Kind.DOWN, channel="none") == {"channel_no_discharge"}

    @given(st.floats(2.5, 4.3), st.floats(3.0, 4.2))
    def test_never_under_the_cut_off_and_never_upward(self, end_v, cell_v):
        try:
            plan = offered([even("P", round(cell_v, 2))], Kind.DOWN, end_v=round(end_v, 2))
        except Unsafe:
            return
        assert 3.2 <= plan.card.end_v < round(cell_v, 2)
        assert plan.move_mah > 0
        assert plan.card.stop_mah < plan.card.capacity_mah * 1.3 + 1

    def test_what_may_not_be_joined_or_is_hurt_comes_down_nowhere(self):
        assert refused([FULL, even("L", 3.9, mah=5000, cells=6)], Kind.DOWN) >= {"window_too_wide"}
        assert refused([even("H", 4.1, condition="damaged")], Kind.DOWN) == {"damaged"}
        assert refused([pack("N", chemistry="nimh", cells=8)], Kind.DOWN) == {"ends_by_drop", "not_measured"}
        assert refused([even("P", 4.1)], Kind.DOWN, end_v=3.0) == {"down_too_low"}
        assert refused([even("P", 3.7)], Kind.DOWN) == {"down_is_there"}

    def test_a_cell_that_falls_under_the_cut_off_stops_it(self):
        expected = offered([FULL], Kind.DOWN).expected
        low = Observation(30, pack_v=23.4, cell_v=(3.9, 3.9, 3.9, 3.9, 3.9, 3.15), by_hand=True)
        assert {"watch_cell_under", "watch_cell_lags"} <= {
            item.what.code for item in findings(expected, [low], 30) if item.alarm is Alarm.STOP
        }
        sound = Observation(30, pack_v=24.0, cell_v=(4.0,) * 6, current_a=3.1, charge_mah=1500, by_hand=True)
        assert findings(expected, [sound], 30) == ()
        over = Observation(40, charge_mah=expected.missing_high_mah + 1, by_hand=True)
        assert [item.what.code for item in findings(expected, [over], 40)] == ["watch_mah_out"]


class TestEvenOut:
    def test_it_takes_a_board_and_no_channel_and_comes_to_the_middle(self):
        plan = offered([FULL, OTHER], Kind.EVEN_OUT)
        assert (plan.setup, plan.board.id, plan.minutes, plan.card.wait_min) == (None, "Six", EVEN_OUT_MIN, 25)
        assert plan.card.end_v == pytest.approx(4.195, abs=0.001)
        assert plan.expected is None

    def test_only_what_is_inside_the_rule_already(self):
        assert "window_too_wide" in refused([FULL, even("L", 4.0, mah=5000, cells=6)], Kind.EVEN_OUT)
        assert refused([FULL], Kind.EVEN_OUT) == {"upkeep_one_pack"}
        assert refused([even(f"P{n}", 3.8) for n in range(7)], Kind.EVEN_OUT) == {"board_missing"}
        taken = Running(("X",), "Six", "slow", 1.0, 0.0, 0.0, 10.0)
        assert offered([FULL, OTHER], Kind.EVEN_OUT, running=[taken]).board.id == "Three"

    def test_then_they_are_measured_and_no_charger_is_asked(self):
        steps = [State.PLANNED]
        while (act := next_act(steps[-1], True, Kind.EVEN_OUT)) is not None:
            steps.append(after(steps[-1], act, kind=Kind.EVEN_OUT))
        assert steps[-2:] == [State.EVENED_OUT, State.CHECKED]
        with pytest.raises(Unsafe):
            after(State.EVENED_OUT, Act.READ_BACK, kind=Kind.EVEN_OUT)
        with pytest.raises(Unsafe):
            after(State.EVENED_OUT, Act.CHECK)  # a charge is not over then

    def test_a_plan_beside_it_uses_neither_its_packs_nor_its_board(self):
        packs = tuple(even(f"P{n}", 3.8) for n in range(6))
        evening = Running(("P0", "P1"), "Six", "", 0.0, 0.0, 0.0, 20.0)
        planner = Planner(Session(packs, KIT, running=(evening,)))
        next(iter(planner.search))
        plan = planner.plan()
        assert {tag for batch in plan.batches for tag in batch.packs} == {"P2", "P3", "P4", "P5"}
        assert "Six" not in {batch.board for batch in plan.batches}
        left = {item.pack.id: item.reason for item in plan.left_out}  # and every pack is accounted for
        assert {tag: why.code for tag, why in left.items()} == {"P0": "in_hand", "P1": "in_hand"}
        assert left["P0"].numbers["channel"] == "Six"


class TestBalance:
    def test_what_is_over_leaves_through_the_leads(self):
        """4S 1800, one cell 0.04 V over three at 3.90: about 60 mAh, at 0.3 A a dozen minutes."""
        plan = offered([pack("P", 3.90, 3.90, 3.94, 3.90)], Kind.BALANCE)
        assert plan.current_a == BALANCE_A
        assert plan.minutes == pytest.approx(60 * plan.move_mah / 1000 / BALANCE_A)
        assert 4 < plan.minutes < 40
        assert plan.card.end_v == pytest.approx(3.90)

    def test_even_cells_and_cells_that_nobody_read_are_not_balanced(self):
        assert refused([even("P", 3.9)], Kind.BALANCE) == {"upkeep_even_already"}
        total_only = even("T", 3.9)
        total_only = type(total_only)(**{**vars(total_only), "reading": type(total_only.reading)(15.6)})
        assert "cells_not_read" in refused([total_only], Kind.BALANCE)
