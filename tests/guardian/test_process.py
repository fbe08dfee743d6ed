"""The guardian as a process of its own: it outlives the server, is armed again after a kill, and waits for nobody."""

import os
import signal
import socket
import time
from contextlib import contextmanager
from dataclasses import replace
from datetime import UTC, datetime

import pytest

from iterum.core.run.guard import ARMED
from iterum.core.season.run import Act, State
from iterum.devices.driver import LinkLost
from iterum.guardian import remote
from iterum.guardian.clock import SteadyClock
from iterum.guardian.guardian import Guardian
from iterum.guardian.remote import RemoteGuardian
from iterum.guardian.reports import DeviceLink
from tests.guardian.rig import Device, break_channel
from tests.guardian.runs import charging_run


def until(true, within_s):
    """Seconds until something is so; fails after so many."""
    begun_s = time.monotonic()
    while time.monotonic() - begun_s < within_s:
        if true():
            return time.monotonic() - begun_s
        time.sleep(0.01)
    raise AssertionError(f"not so within {within_s} s")


def pid_of(folder):
    return remote.json.loads((folder / remote.WHERE_FILE).read_text())["pid"]


@contextmanager
def charging(device, theirs="a"):
    """What a charger shows of a charge that goes well."""
    output = device.outputs[theirs]
    run = charging_run(at=datetime.now(UTC))
    output.set_a, output.set_end_v, output.status = run.current_a, 4.20, "charging"
    output.current_a, output.began_s, output.cell_v = run.current_a, time.monotonic(), 3.74
    yield run, output


@pytest.fixture
def guard(tmp_path):
    clock = SteadyClock(lambda: datetime.now(UTC))
    made = RemoteGuardian(tmp_path / "guardian", clock.time)
    yield made
    made.end()


def test_a_guardian_that_is_killed_is_armed_again_and_stops_within_five_seconds(guard, tmp_path):
    device = Device("Duo", ("a", "b"), serial="s1")
    with charging(device) as (run, output):
        guard.arm(run)
        guard.link([DeviceLink(f"line://{device.address}", None, {"c": "a"})])
        until(lambda: guard.report().channels[0].reading is not None, 5)
        first = pid_of(tmp_path / "guardian")
        os.kill(first, signal.SIGKILL)
        break_channel(output, "hot")  # what nobody sees just now
        begun_s = time.monotonic()
        told = guard.report()  # the watch asks again: a new one is there
        until(lambda: output.stops > 0, 5)
        assert time.monotonic() - begun_s < 5
        assert pid_of(tmp_path / "guardian") != first
        until(lambda: guard.report().channels[0].state is State.STOPPED, 2)
        (note,) = [note for note in guard.report().notes if note.act]
        assert (note.act, note.by, note.run_key) == (Act.STOP, "Iterum", run.key)
        assert told.life == guard.report().life
    device.end()


def test_the_server_that_goes_away_leaves_it_guarding(guard, tmp_path):
    device = Device("Duo", ("a",))
    with charging(device) as (run, output):
        guard.arm(run)
        guard.link([DeviceLink(f"line://{device.address}", None, {"c": "a"})])
        until(lambda: guard.report().channels[0].reading is not None, 5)
        guard.close()  # packs hang on it: it stays
        break_channel(output, "amps")
        assert until(lambda: output.stops > 0, 4) < 4
        again = RemoteGuardian(tmp_path / "guardian", SteadyClock(lambda: datetime.now(UTC)).time)
        until(lambda: again.report().channels[0].state is State.STOPPED, 3)  # told once the amps were seen to be gone
        assert again.report().channels[0].state is State.STOPPED
        again.disarm(run.key)
        pid = pid_of(tmp_path / "guardian")
        again.close()  # nothing hangs on it any more: it ends
        until(lambda: not os.path.exists(f"/proc/{pid}"), 5)
    device.end()


def test_a_stranger_at_its_socket_keeps_nobody_waiting_and_learns_nothing(guard, tmp_path):
    guard.report()
    where = remote.json.loads((tmp_path / "guardian" / remote.WHERE_FILE).read_text())
    assert (tmp_path / "guardian" / remote.WHERE_FILE).stat().st_mode & 0o077 == 0
    silent = [socket.socket(socket.AF_UNIX) for _ in range(20)]
    for one in silent:
        one.connect(where["address"])
    other = RemoteGuardian(tmp_path / "guardian", SteadyClock(lambda: datetime.now(UTC)).time)
    begun_s = time.monotonic()
    assert other.report().life == guard.report().life
    assert time.monotonic() - begun_s < 1.0
    for one in silent:
        one.close()


def test_what_a_device_refuses_is_raised_on_the_other_side(guard):
    with pytest.raises(LinkLost):
        guard.meet("line://127.0.0.1:9")
    with pytest.raises(LinkLost, match="no device is bound"):
        guard.start("nothing", Act.START)


def test_a_file_that_cannot_be_written_disarms_nothing(tmp_path):
    folder = tmp_path / "gone"
    guardian = Guardian(lambda: datetime.now(UTC), folder / "armed.json")
    guardian.arm(charging_run(at=datetime.now(UTC)))
    assert guardian.report().unwritten
    assert guardian.armed
    folder.mkdir()
    guardian.arm(charging_run(at=datetime.now(UTC)))
    assert guardian.report().unwritten is None
    (folder / "armed.json").write_text("{")
    assert not Guardian(lambda: datetime.now(UTC), folder / "armed.json").armed  # damaged: said, and gone on without


@pytest.mark.parametrize("state", ARMED)
def test_what_is_armed_comes_back_from_the_file_as_it_was(tmp_path, state):
    run = replace(charging_run(state=state), driven=True)
    first = Guardian(lambda: datetime.now(UTC), tmp_path / "armed.json")
    first.link([DeviceLink("line://127.0.0.1:9", None, {"c": "a"})])
    first.arm(run)
    again = Guardian(lambda: datetime.now(UTC), tmp_path / "armed.json")
    assert again._channels["c"].run == run
    assert again._channels["c"].line is not None
    again.disarm(run.key)
    assert not Guardian(lambda: datetime.now(UTC), tmp_path / "armed.json").armed


def test_an_act_that_waits_to_be_written_down_outlives_the_guardian(tmp_path):
    run = charging_run(at=datetime.now(UTC))
    first = Guardian(lambda: datetime.now(UTC), tmp_path / "armed.json")
    first.arm(run)
    first.remember(run.key, Act.STOP, "Iterum", "too hot")
    (kept,) = first.report().notes
    again = Guardian(lambda: datetime.now(UTC), tmp_path / "armed.json")
    assert again.report().notes == (kept,)
    assert again.report(written=kept.number).notes == ()
    assert Guardian(lambda: datetime.now(UTC), tmp_path / "armed.json").report().notes == ()


def test_a_file_of_a_release_that_kept_no_acts_arms_as_before(tmp_path):
    file = tmp_path / "armed.json"
    Guardian(lambda: datetime.now(UTC), file).arm(charging_run(at=datetime.now(UTC)))
    devices, kept, _ = remote.json.loads(file.read_text())
    file.write_text(remote.json.dumps([devices, kept]))
    assert Guardian(lambda: datetime.now(UTC), file).armed
