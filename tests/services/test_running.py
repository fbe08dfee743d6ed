"""Batches in hand against a simulated charger: every act, every finding that it can bring about, loss and return."""

import shutil
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from threading import Barrier

import pytest

from iterum.core.planning.record import KeptPlan, PlanRecord
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.season.after_charge import After
from iterum.core.season.outlook import Observation
from iterum.core.season.read_back import Shown
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.core.things.packs import Condition
from iterum.demo import demo_session
from iterum.devices.driver import LinkLost, Refused
from iterum.guardian.supervisor import CHARGER, ITERUM
from iterum.services.logbook import LogBook
from iterum.services.running import Changed
from iterum.services.watching import TYPED
from tests.conftest import refused
from tests.devices.bench import Clock, Field, served

PACKS = ("P-08", "P-11", "P-06")


@pytest.fixture
def clock():
    return Clock()


@pytest.fixture
def field(tmp_path, clock, demo_file):
    shutil.copy(demo_file, tmp_path / "field.sqlite3")
    with served(clock) as server:
        here = Field(tmp_path, clock, server)
        yield here
        here.close()


def begun(field, packs=PACKS, board="Six", channel="Twin-1", **more):
    return field.runs.begin(Choice(packs, board, channel, **more), field.clock())


def brought_to(field, key, state):
    """Every step in turn, as a careful pilot does it."""
    runs, clock = field.runs, field.clock
    ways = {
        State.PLANNED: Act.INSPECT,
        State.INSPECTED: Act.PLUG_IN,
        State.PLUGGED_IN: Act.EVEN_OUT,
        State.READ_BACK: Act.START,
    }
    while (run := runs.look(key, clock()).run).state is not state:
        if run.state is State.EVENED_OUT or (run.state is State.PLUGGED_IN and not run.card.wait_min):
            runs.read_back(key, runs.shown_by_charger(run), run.state, clock())
        else:
            runs.act(key, ways[run.state], run.state, clock())
        field.pass_time(1)
    return run


def test_from_plan_to_log_and_the_log_agrees_with_the_simulator(field):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    for _ in range(12):
        field.pass_time(5)
        field.watcher.observe(key, TYPED, Observation(0, by_hand=True), field.clock())
        if field.runs.look(key, field.clock()).run.state is State.DONE:
            break
    look = field.runs.look(key, field.clock())
    assert look.run.state is State.DONE
    assert look.events[-1].by == CHARGER
    told = field.server.bench.log[-1].split()
    assert told[:2] == ["done", "Twin-1"]
    volts = {tag: After(field.links.checker().check(tag)) for tag in PACKS}
    field.checks.check_after(key, State.DONE, field.clock(), volts, None)
    with field.store.reading() as repository:
        logged = repository.runs.charges(run_key=key)
    assert sum(item.record.charge_mah for item in logged) == pytest.approx(float(told[2]), abs=1)
    assert {item.pack_id for item in logged} == set(PACKS)
    after = {pack.id: pack.reading.cell_v for pack in field.desk.session().packs if pack.id in PACKS}
    assert all(min(cells) > 4.1 for cells in after.values())
    assert field.server.bench.channels["Twin-1"].packs == []


def test_volts_read_before_a_charge_say_nothing_after_it(field):
    """A pack that is full by now must not be put beside those that are as low as it was."""

    def packs():
        return {pack.id: pack for pack in field.desk.session().packs}

    def full():
        return set(LogBook(field.store, field.desk).full_since()) & set(PACKS)

    old = packs()["P-08"].reading
    (first, *_) = field.desk.readings("P-08")
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    field.desk.record_reading(
        "P-08", replace(old, taken_at=None), field.clock(), first.key
    )  # corrected: as old as it was
    for tag in PACKS:
        assert (packs()[tag].reading, packs()[tag].charged_at is None) == (None, False)
    assert set(PACKS) <= {
        left.pack.id for left in field.desk.matching(field.clock())[0].left_out if left.reason.code == "in_hand"
    }
    field.desk.write(demo_session(), field.clock())  # a file from before
    assert packs()["P-08"].reading is None
    assert full() == set()
    field.pass_time(5)
    field.runs.act(key, Act.STOP, State.CHARGING, field.clock())
    assert full() == set(PACKS)  # nobody knows: so they count as full
    with refused("charged_since"):
        begun(field, ("P-08",), None, "Twin-2")
    field.checks.check_after(key, State.STOPPED, field.clock(), {"P-08": After(old.cell_v)}, None)
    assert packs()["P-08"].reading.cell_v == old.cell_v
    assert packs()["P-11"].reading is None
    assert full() == {"P-11", "P-06"}


@pytest.mark.parametrize(("act", "still"), [(Act.FINISH, True), (Act.STOP, False)])
def test_a_plan_is_up_to_date_while_it_is_followed(field, act, still):
    kept = KeptPlan(field.clock(), "soonest", PlanRecord(), field.desk.revision())
    field.desk.keep_plan(kept)
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    field.runs.act(key, act, State.CHARGING, field.clock(), by=CHARGER)
    assert (field.desk.latest_plan().revision == field.desk.revision()) is still


def test_what_is_in_use_cannot_be_taken_twice(field):
    begun(field)
    with pytest.raises(Unsafe) as caught:
        begun(field, ("P-08", "P-05"))
    assert {item.code for item in caught.value.reasons} == {"pack_busy", "channel_busy", "board_busy"}
    with refused("damaged"):
        begun(field, ("T-03",), None, "Twin-2")
    with refused("over_limit"):
        begun(field, ("P-05",), None, "Twin-2", current_a=9.0)
    for packs, amps in ((("P-05",), -3.0), (("P-05",), float("nan")), (("P-05", "P-05"), None)):
        with refused("choice_"):
            begun(field, packs, None, "Twin-2", current_a=amps)
    with pytest.raises(NotThere):
        begun(field, ("P-99",), None, "Twin-2")


def test_a_skip_is_kept_as_one_and_who_comes_late_is_told_and_keeps_the_note(field):
    key = begun(field)
    field.runs.act(key, Act.INSPECT, State.PLANNED, field.clock(), note="in a hurry", skipped=True)
    with pytest.raises(Changed) as caught:
        field.runs.act(key, Act.INSPECT, State.PLANNED, field.clock(), note="P-08 has a scratch")
    assert caught.value.run.state is State.INSPECTED
    events = field.runs.look(key, field.clock()).events
    assert [(event.act, event.skipped, event.note) for event in events] == [
        ("inspect", True, "in a hurry"), ("note to inspect", False, "P-08 has a scratch")]  # fmt: skip


def test_of_many_who_act_at_the_same_moment_one_does_it_and_every_note_is_kept(field):
    for _ in range(3):
        key = begun(field)
        together = Barrier(6)

        def acts(number, key=key, together=together):
            together.wait()
            try:
                field.runs.act(key, Act.INSPECT, State.PLANNED, field.clock(), note=f"note {number}", skipped=True)
            except Changed as late:
                return late.run.state
            return None

        with ThreadPoolExecutor(6) as pool:
            states = list(pool.map(acts, range(6)))
        assert sorted(map(str, states)) == sorted(["None", *[str(State.INSPECTED)] * 5])
        events = field.runs.look(key, field.clock()).events
        assert sorted(event.act for event in events) == ["inspect", *["note to inspect"] * 5]
        assert {event.note for event in events} == {f"note {number}" for number in range(6)}
        field.runs.act(key, Act.DROP, State.INSPECTED, field.clock())


def test_reading_back_refuses_a_wrong_count_and_does_not_go_on(field):
    key = begun(field)
    brought_to(field, key, State.PLUGGED_IN)
    field.server.bench.fault("count", "Twin-1", "-1")
    run = field.runs.look(key, field.clock()).run
    with refused("back_count"):
        field.runs.read_back(key, field.runs.shown_by_charger(run), run.state, field.clock())
    assert field.runs.look(key, field.clock()).run.state is State.PLUGGED_IN
    with refused("back_missing"):
        field.runs.read_back(key, Shown(4), run.state, field.clock())


def found_codes(raised):
    return {item.what.code for item in raised}


@pytest.mark.parametrize(
    ("fault", "value", "code"),
    [("lag", "3", "watch_cell_lags"), ("hot", None, "watch_hot"), ("sag", "14", "watch_source_low")],
)
def test_a_fault_is_found_and_what_must_stop_is_stopped(field, fault, value, code):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    field.server.bench.fault(fault, "Twin-1", value)
    raised = field.pass_time(14)
    assert code in found_codes(raised)
    look = field.runs.look(key, field.clock())
    assert look.run.state is State.STOPPED
    assert ITERUM in {event.by for event in look.events}
    assert field.server.bench.channels["Twin-1"].current_a == 0.0


def test_a_source_seen_at_its_stop_volts_is_empty(field):
    # One has a supply between, one hangs on the bank itself.
    for tag, channel, drop_v, empty in (("P-05", "Twin-1", "14", False), ("P-08", "Small-1", "3", True)):
        key = begun(field, (tag,), None, channel)
        brought_to(field, key, State.CHARGING)
        field.server.bench.fault("sag", channel, drop_v)
        assert "watch_source_low" in found_codes(field.pass_time(14))
        assert [source.usable_wh == 0 for source in field.desk.session().kit.sources] == [empty, False, False]


def test_a_source_gives_what_charges_take_while_they_run_and_after(field):
    def left_wh():
        bench = field.desk.bench(field.clock())
        return bench.kit.sources[0].usable_wh - bench.reserved_wh(bench.kit.sources[0].id)

    whole_wh = left_wh()
    key = begun(field, ("P-08",), None, "Small-1")
    expected_wh = whole_wh - left_wh()  # kept for it as soon as it is in hand
    brought_to(field, key, State.CHARGING)
    field.pass_time(10)
    assert left_wh() == pytest.approx(whole_wh - expected_wh, rel=0.05)
    taken_wh = whole_wh - field.desk.session(field.clock()).kit.sources[0].usable_wh
    assert 0 < taken_wh < expected_wh
    field.runs.act(key, Act.STOP, State.CHARGING, field.clock())
    assert left_wh() == pytest.approx(whole_wh - taken_wh, abs=0.5)  # what was not taken is free again
    (entry,) = field.desk.ledger("bank")
    assert (entry.run_key, entry.wh) == (key, pytest.approx(taken_wh, abs=0.5))


def test_a_charge_without_a_fault_brings_only_the_hand_check(field):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    assert found_codes(field.pass_time(18)) == {"watch_check_due"}
    assert field.runs.findings()
    field.watcher.observe(key, TYPED, Observation(0, by_hand=True), field.clock())
    field.pass_time(0.5)
    assert field.runs.findings() == ()


def test_nothing_is_missed_while_the_link_is_lost(field):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    field.pass_time(2)
    field.server.bench.fault("link", "", "120")
    raised = field.pass_time(1.75)
    assert "silent" in found_codes(raised)
    assert field.links.links()[0].lost
    field.pass_time(1)
    assert field.links.links()[0].lost is None
    assert "silent" not in {item.finding.what.code for item in field.runs.findings()}
    look = field.runs.look(key, field.clock())
    assert look.run.state is State.CHARGING
    assert look.seen[-1].seen.charge_mah == pytest.approx(field.server.bench.channels["Twin-1"].charge_mah, rel=0.1)


def test_an_answer_asked_for_before_the_start_does_not_end_the_charge(field):
    key = begun(field)
    brought_to(field, key, State.READ_BACK)
    field.pass_time(0.1)
    idle, asked_at = field.links.latest("Twin-1")
    field.clock.seconds += 5
    field.runs.act(key, Act.START, State.READ_BACK, field.clock())
    field.clock.seconds += 1
    field.links.guard._channels["Twin-1"]._take(idle, asked_at)  # a slow reader brings it only now
    field.watcher.keep(field.clock())
    assert field.runs.look(key, field.clock()).run.state is State.CHARGING


def test_a_charge_that_ends_while_nobody_listens_is_brought_to_its_end_after(field):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    field.server.bench.fault("link", "", "3600")
    field.pass_time(59, 60)
    assert field.runs.look(key, field.clock()).run.state is State.CHARGING
    field.pass_time(3, 30)
    assert field.runs.look(key, field.clock()).run.state is State.DONE


def test_a_charger_that_vanishes_cannot_be_started_and_says_so(tmp_path, clock):
    with served(clock) as server:
        field = Field(tmp_path, clock, server)
        key = begun(field)
        brought_to(field, key, State.READ_BACK)
        port = server.port
    with pytest.raises(LinkLost):
        field.runs.act(key, Act.START, State.READ_BACK, clock())
    assert field.runs.look(key, clock()).run.state is State.READ_BACK
    with served(clock, port=port), pytest.raises(Refused):  # a new one at the same place, with nothing plugged in
        field.runs.act(key, Act.START, State.READ_BACK, clock())
    field.close()


def test_pausing_takes_its_minutes_out_of_the_charge(field):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    start = field.runs.look(key, field.clock()).minute
    field.runs.act(key, Act.PAUSE, State.CHARGING, field.clock())
    field.pass_time(30)
    assert field.runs.look(key, field.clock()).minute == pytest.approx(start)
    field.runs.act(key, Act.RESUME, State.PAUSED, field.clock())
    field.pass_time(5)
    assert field.runs.look(key, field.clock()).minute == pytest.approx(start + 5)


def test_an_incident_stops_keeps_apart_and_is_written_down(field):
    key = begun(field)
    brought_to(field, key, State.CHARGING)
    other = begun(field, ("T-01", "T-07"), "Four", "Twin-2")
    incident = field.incidents.incident("swelling", [key, other], ["P-11"], "it went soft", field.clock())
    assert incident.stopped == ("Twin-1",)
    assert field.runs.look(key, field.clock()).run.state is State.STOPPED
    assert field.runs.look(other, field.clock()).run.state is State.DROPPED
    conditions = {pack.id: pack.condition for pack in field.desk.session().packs}
    assert conditions["P-11"] is Condition.DAMAGED
    assert conditions["P-08"] is Condition.OK
    with field.store.reading() as repository:
        assert repository.runs.incidents()[0].note == "it went soft"
    field.incidents.incident("number", [], ["P-06"], None, field.clock())
    assert next(p.condition for p in field.desk.session().packs if p.id == "P-06") is Condition.OK


def test_more_than_eighty_percent_back_in_is_told(field):
    with field.store.reading() as repository:
        pack = next(pack for pack in repository.packs() if pack.id == "P-10")
    key = begun(field, ("P-10",), None, "Small-1")
    brought_to(field, key, State.CHARGING)
    field.runs.act(key, Act.FINISH, State.CHARGING, field.clock())
    _, logged = field.checks.check_after(
        key, State.DONE, field.clock(), {}, 0.81 * pack.capacity_ah * 1000, skipped=True
    )
    assert logged.low == ("P-10",)
