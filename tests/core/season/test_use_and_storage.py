"""Flying, ageing and putting away, against worked figures. Facts of the trade: common practice, no source."""

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.permit.permit import Way
from iterum.core.season.flight import Part, flight, timer_from_recharge
from iterum.core.season.health import Advice, ChargeRecord, capacity_told, health, ran_low
from iterum.core.season.storage import gap_of, plan_storage
from iterum.core.things.bench import Bench
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.packs import Condition
from iterum.core.things.rules import HouseRules
from iterum.wording import sentence
from tests.conftest import even, pack

AT = datetime(2026, 6, 13, 9, 0, tzinfo=UTC)
TODAY = date(2026, 6, 13)
PACK = even("P", 3.85, mah=1800, discharge_c=45)


class TestFlight:
    def test_minutes_are_sixty_times_usable_ah_over_amps(self):
        """0.25 Ah ÷ 2.6 A is 5.8 min, not 6 (common practice, no source: rounding hours first is the slip)."""
        small = even("S", 3.85, mah=250, cells=2, discharge_c=45)
        whole = flight(small, 8.4, 2.6, 2.6, usable=1.0)
        assert whole.minutes == pytest.approx(5.769, abs=0.001)
        assert whole.timer_s == 345
        assert flight(small, 8.4, 2.6, 2.6).minutes == pytest.approx(0.8 * 5.769, abs=0.001)
        assert whole.limits[0].current_a == pytest.approx(11.25)  # 45C of 250 mAh

    def test_the_weakest_part_is_named_and_too_many_amps_or_volts_refused(self):
        parts = (Part("controller", 40, 13.0), Part("plug", 60))
        use = flight(PACK, 16.8, 10, 45, parts)
        assert [limit.name for limit in use.limits] == ["controller", "plug", "pack"]
        assert not use.fits
        assert {item.code for item in use.reasons} == {"flight_over", "flight_volts"}
        assert flight(PACK, 16.8, 10, 39, (Part("controller", 40, 17.0),)).fits
        assert "flight_no_c" in {item.code for item in flight(replace(PACK, discharge_c=None), 16.8, 10, 20).reasons}

    @given(st.integers(60, 900), st.floats(200, 3000))
    def test_a_timer_from_a_recharge_uses_the_usable_part_and_no_more(self, timer_s, charge_mah):
        new_s = timer_from_recharge(PACK, timer_s, charge_mah)
        assert new_s * charge_mah / timer_s <= 1440 * (1 + 1e-9)
        assert (new_s + 5) * charge_mah / timer_s > 1440 * (1 - 1e-9)


def record(days, mah=1000.0, ohm=6.0, after=4.19, before=3.75):
    return ChargeRecord(AT + timedelta(days=days), mah, 40.0, 1.0, (before,) * 4, (after,) * 4, (ohm,) * 4)


class TestHealth:
    def advice(self, records=(), **more):
        told = health(replace(PACK, **more), records, TODAY)
        assert all(sentence(item) for item in told.reasons)
        return told

    def test_a_pack_without_a_log_is_kept_and_says_on_what_that_rests(self):
        assert self.advice().advice is Advice.KEEP
        assert self.advice().reasons[0].code == "health_fine"

    def test_capacity_is_told_by_what_went_in_between_two_readings_at_rest(self):
        table = PACK.chemistry.table
        moved = table.soc(4.19) - table.soc(3.75)
        assert capacity_told(PACK, record(0, 1800 * moved)) == pytest.approx(1800)
        assert capacity_told(PACK, record(0, before=4.1)) is None  # too little moved for a meter of 0.01 V
        for part, advice in ((0.79, Advice.RETIRE), (0.85, Advice.DEMOTE), (0.95, Advice.KEEP)):
            told = self.advice([record(n, 1800 * moved * part) for n in range(3)])
            assert told.advice is advice
            assert told.capacity_part == pytest.approx(part)

    @pytest.mark.parametrize(
        ("times", "advice"), [(1.2, Advice.KEEP), (1.3, Advice.WATCH), (1.6, Advice.DEMOTE), (2.1, Advice.RETIRE)]
    )
    def test_resistance_against_the_first_measured(self, times, advice):
        assert self.advice([record(0, 1150), record(9, 1150, 6.0 * times)]).advice is advice

    def test_cycles_age_spread_and_running_low(self):
        assert self.advice(cycles=201).advice is Advice.WATCH
        assert self.advice(cycles=501).advice is Advice.DEMOTE
        assert self.advice(bought_on="2024-06-01").advice is Advice.WATCH
        assert self.advice(bought_on="2021-05-01").advice is Advice.DEMOTE
        assert self.advice(bought_on="2025-06-01").advice is Advice.KEEP
        wide = pack("W", 3.80, 3.80, 3.80, 3.84, mah=1800)
        assert health(wide, [], TODAY).advice is Advice.WATCH
        low = [record(n, 1500, before=3.6, after=4.0) for n in range(2)]
        assert ran_low(PACK, low[0])
        assert "health_run_low" in {item.code for item in self.advice(low).reasons}
        assert not ran_low(PACK, record(0, 1440))

    def test_a_hurt_pack_is_retired_whatever_else(self):
        assert self.advice(condition=Condition.DAMAGED).advice is Advice.RETIRE


KIT = Kit((Board("B", 4),), (Charger("c", (Channel("c-1", 10, 200, discharge_power_w=20), Channel("c-2", 10, 200)), input_min_v=10, input_max_v=30),))  # fmt: skip


class TestStorage:
    def test_a_full_6s_5000_takes_hours_at_ten_watts(self):
        """Common practice, no source: "a full 6S 5000 to storage at 10 W takes hours"."""
        kit = Kit((), (Charger("c", (Channel("c-1", 10, 200, max_cells=6, discharge_power_w=10),)),))
        storage = plan_storage(Bench((even("T", 4.19, cells=6, mah=5000),), kit))
        assert storage.batches[0].way is Way.DOWN
        assert 240 < storage.done_min < 480

    def test_energy_is_that_between_the_volts_by_hand(self):
        gap = gap_of(even("T", 4.10, mah=2000), HouseRules())
        table = PACK.chemistry.table
        assert gap.target_v == pytest.approx(3.83)
        assert gap.move_mah == pytest.approx(2000 * (table.soc(4.10) - table.soc(3.83)), rel=1e-6)
        assert gap.move_wh == pytest.approx(gap.move_mah / 1000 * 4 * 3.96, rel=0.02)

    def test_who_is_there_stays_who_cannot_is_told_and_low_ones_are_charged_up(self):
        packs = [even("A", 3.82), even("B", 3.60), even("C", 4.15), even("N", 1.3, cells=8, chemistry="nimh")]
        storage = plan_storage(Bench(tuple(packs), KIT))
        ways = {gap.pack.id: gap.way for gap in storage.gaps}
        assert ways == {"A": Way.THERE, "B": Way.UP, "C": Way.DOWN}
        assert {tag: item.batch.channel for item in storage.batches for tag in item.batch.packs}["C"] == "c-1"
        bare = replace(KIT, chargers=(replace(KIT.chargers[0], channels=KIT.chargers[0].channels[1:]),))
        assert [(gap.pack.id, why.code) for gap, why in plan_storage(Bench(tuple(packs), bare)).unplaced] == [
            ("C", "storage_no_discharge")
        ]

    def test_one_pack_may_charge_another_where_the_volts_suit(self):
        giver, taker = even("G", 4.19, cells=6, mah=5000), even("T", 3.60, cells=4, mah=2200)
        pair = plan_storage(Bench((giver, taker), KIT)).pairs[0]
        assert (pair.giver.id, pair.taker.id, pair.charger) == ("G", "T", "c")
        low_volts = replace(KIT, chargers=(replace(KIT.chargers[0], input_max_v=20),))
        assert plan_storage(Bench((giver, taker), low_volts)).pairs == ()

    def test_a_charger_that_failed_does_nothing_in_the_evening_either(self):
        packs = (even("D", 4.15), even("U", 3.60), pack("B", 3.80, 3.83, 3.83, 3.86), even("G", 4.19, cells=6, mah=5000))
        assert {item.way for item in plan_storage(Bench(packs, KIT)).batches} == {Way.UP, Way.DOWN, Way.BALANCE}
        failed = plan_storage(Bench(packs, replace(KIT, chargers=(replace(KIT.chargers[0], failed=True),))))
        assert (failed.batches, failed.pairs) == ((), ())
        assert {gap.pack.id for gap, _ in failed.unplaced} == {"D", "U", "B", "G"}

    @given(st.lists(st.floats(3.4, 4.2), min_size=1, max_size=8))
    def test_no_channel_and_no_hands_are_taken_twice(self, volts):
        storage = plan_storage(Bench(tuple(even(f"P{n}", round(v, 2)) for n, v in enumerate(volts)), KIT))
        batches = [item.batch for item in storage.batches]
        for channel in ("c-1", "c-2"):
            times = sorted((t.start_min, t.end_min) for t in batches if t.channel == channel)
            assert all(low[1] <= high[0] + 1e-9 for low, high in pairwise(times))
        starts = sorted(batch.start_min for batch in batches)
        assert all(high - low >= 3 - 1e-9 for low, high in pairwise(starts))


def test_controllers_side_by_side_share_the_amps_and_the_landing_is_told_in_volts():
    one = even("P", 3.8, mah=1500, discharge_c=100)
    alone = flight(one, 16.8, 20, 80, [Part("speed controller", 30)])
    four = flight(one, 16.8, 20, 80, [Part("speed controller", 30, count=4)])
    assert (alone.fits, four.fits) == (False, True)
    assert [limit.current_a for limit in four.limits] == [120, 150]
    assert four.whole_min == pytest.approx(4.5)  # 60 × 1.5 Ah ÷ 20 A
    assert four.landing_v == one.table.rest_v(0.2)
