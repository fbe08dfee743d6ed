"""The guardian through the pages: a stop that cannot be written down, an alarm without a database, chargers that are alike."""

import sqlite3
from contextlib import closing

import pytest
from sqlalchemy import event

from iterum.core.season.run import State
from iterum.core.things.choice import Choice
from iterum.core.things.packs import Condition
from tests.guardian.rig import Device, break_channel


@pytest.fixture
def twins(bench):
    """Two chargers of one model: both call their channels a and b."""
    devices = [Device("Duo", ("a", "b")), Device("Duo", ("a", "b"))]
    bench.visitor.post("/kit/device/gone", key=bench.links.devices()[0].key)
    yield bench, devices
    for device in devices:
        device.end()


def confirmed(bench, place, a, b):
    """A person says which channels of the kit a and b of a device are; what the page answers."""
    key = [item.key for item in bench.links.devices() if item.kind == "charger"][place]
    return bench.visitor.post("/kit/device/channels", key=key, **{"is-0": a, "is-1": b}).seen.said


@pytest.mark.parametrize("trouble", ["full", "locked", "damaged"])
def test_stop_stops_whatever_the_database_does_and_says_so(bench, trouble):
    key = bench.charging()
    store = bench.parts["store"]

    def strangle(connection, _record):
        connection.execute("PRAGMA query_only = ON" if trouble == "full" else "PRAGMA busy_timeout = 50")

    event.listen(store.engine, "connect", strangle)
    store.engine.dispose()
    content = store.path.read_bytes()
    with closing(sqlite3.connect(store.path, isolation_level=None)) as other:
        if trouble == "locked":
            other.execute("BEGIN IMMEDIATE")
        if trouble == "damaged":
            other.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            content = store.path.read_bytes()
            store.path.write_bytes(b"no database" * 200)
        answer = bench.visitor.post(f"/run/{key}/act", act="stop", expected="charging")
        assert bench.server.bench.channels["Twin-1"].current_a == 0
        assert answer.status_code == 507
        assert "Done at the charger, but not saved" in answer.seen.said
        assert "Twin-1: the charge has stopped: no current flows." in answer.seen.said
    event.remove(store.engine, "connect", strangle)
    store.engine.dispose()
    if trouble == "damaged":
        for part in ("-wal", "-shm"):
            store.path.with_name(store.path.name + part).unlink(missing_ok=True)
        store.path.write_bytes(content)
    bench.pass_time(0.25)  # what was remembered is written down
    assert bench.state(key) is State.STOPPED
    assert [item.by for item in bench.runs.look(key, bench.clock()).events if item.act == "stop"] == ["you"]


def test_an_alarm_sounds_without_a_database(bench):
    bench.charging()
    bench.server.bench.fault("hot", "Twin-1")
    bench.pass_time(14)
    store = bench.parts["store"]
    store.engine.dispose()
    content = store.path.read_bytes()
    store.path.write_bytes(b"no database" * 200)
    try:
        answer = bench.visitor.client.get("/run/alarms")
    finally:
        store.engine.dispose()
        store.path.write_bytes(content)
    assert (answer.status_code, 'data-worst="stop"' in answer.text) == (200, True)
    assert "Twin-1" in answer.text


def test_two_chargers_that_call_their_channels_alike_are_never_mixed_up(twins):
    bench, (left, right) = twins
    for device in (left, right):
        page = bench.visitor.post("/kit/device", kind="charger", address=device.address).seen.said
        assert "Say which channel is which" in page
    assert bench.links.place("Twin-1") is None  # no name agrees: nothing is bound by itself
    assert "a is Twin-1" in confirmed(bench, 0, "Twin-1", "Twin-2")
    assert "bound to Duo already" in confirmed(bench, 1, "Twin-1", "Small-1")
    assert "named twice" in confirmed(bench, 1, "Small-1", "Small-1")
    assert "a is Small-1" in confirmed(bench, 1, "Small-1", "Pocket-1")
    for output in right.outputs.values():  # the other one does nothing; it ends no batch of this one
        output.status = "done"
    left.outputs["a"].cell_v = next(pack for pack in bench.desk.session().packs if pack.id == "P-12").cell_v
    key = bench.runs.begin(Choice(("P-12",), None, "Twin-1"), bench.clock())
    bench.charging(key)
    bench.pass_time(0.25)
    assert bench.state(key) is State.CHARGING
    assert right.outputs["a"].stops == 0
    break_channel(left.outputs["a"], "hot")
    bench.pass_time(0.25)
    assert (left.outputs["a"].stops > 0, right.outputs["a"].stops, right.outputs["b"].stops) == (True, 0, 0)
    assert bench.state(key) is State.STOPPED


def test_chargers_that_cannot_be_told_apart_are_asked_about_after_each_start(twins):
    bench, (left, right) = twins
    for place, device in enumerate((left, right)):
        bench.visitor.post("/kit/device", kind="charger", address=device.address)
        confirmed(bench, place, *(("Twin-1", "Twin-2") if place == 0 else ("Small-1", "Pocket-1")))
    bench.clock.seconds += 60
    bench.links._since = bench.clock()  # Iterum was started again: the two may have changed places
    answer = bench.visitor.post("/run", packs=["P-12"], board="", channel="Twin-1").seen.said
    assert "Confirm in Kit which one Twin-1 is" in answer
    assert "Another charger has the same name" in bench.visitor.get("/kit").seen.said
    confirmed(bench, 0, "Twin-1", "Twin-2")
    assert bench.runs.begin(Choice(("P-12",), None, "Twin-1"), bench.clock())


def test_a_device_that_comes_back_as_another_one_is_not_believed(bench):
    left = Device("Duo", ("a", "b"), serial="s1")
    for device in bench.links.devices():
        bench.links.drop(device.key)
    bench.visitor.post("/kit/device", kind="charger", address=left.address)
    confirmed(bench, 0, "Twin-1", "Twin-2")
    bench.watcher.watch(bench.clock())
    port = left.server_address[1]
    left.end()
    other = Device("Duo", ("a", "b"), serial="s2", port=port)
    for _ in range(3):
        bench.watcher.watch(bench.clock())
    assert bench.links.channel("Twin-1").lost
    assert "does not answer" in bench.visitor.get("/kit").seen.said
    other.end()


def test_amps_on_a_channel_without_a_batch_are_stopped_and_told_of(bench):
    device = Device("Solo", ("a",))
    for known in bench.links.devices():
        bench.links.drop(known.key)
    bench.visitor.post("/kit/device", kind="charger", address=device.address)
    confirmed(bench, 0, "Twin-1", "")
    device.outputs["a"].status, device.outputs["a"].current_a = "charging", 5.4
    device.ignores = True
    bench.watcher.watch(bench.clock())
    assert device.outputs["a"].stops > 0
    said = bench.visitor.get("/run/alarms").seen.said
    assert "Pull its plug now" in said
    device.end()


def test_a_pack_that_was_hot_to_the_hand_is_quarantined_until_somebody_judges_it(bench):
    key = bench.charging()
    bench.visitor.post(f"/run/{key}/check", expected="charging", **{"touch-P-08": "hot"})
    packs = {pack.id: pack.condition for pack in bench.desk.session().packs}
    assert packs["P-08"] is Condition.DAMAGED
    bench.visitor.post(f"/run/{key}/check", expected="stopped", **{"touch-P-08": "cool"})
    assert {pack.id: pack.condition for pack in bench.desk.session().packs}["P-08"] is Condition.DAMAGED
