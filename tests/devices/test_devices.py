"""The line protocol and the simulated devices: what they say, what they refuse, and how they come back."""

import subprocess
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.season.run import Status
from iterum.core.sizing.size import charge
from iterum.core.things.choice import Choice
from iterum.demo import demo_session
from iterum.devices.driver import ChannelReading, LinkLost, Refused, Settings
from iterum.devices.lines import LineCharger, LineChecker, decode, encode, reading_from, reading_values
from iterum.devices.sim_bench import SimBench
from tests.devices.bench import Clock, served

PACKS = ("P-08", "P-11", "P-06")
DIAL = Settings(4, 5.4, 4.20, 5400, 90)

figures = st.floats(0, 1e4).map(lambda value: round(value, 3))
readings = st.builds(
    ChannelReading, st.sampled_from(Status), st.integers(0, 14), figures, figures, figures, figures,
    st.lists(figures, max_size=6).map(tuple), st.none() | figures, st.none() | figures, st.none() | figures,
    st.none() | figures, st.none() | st.text(min_size=1, max_size=30),
)  # fmt: skip


@given(readings)
def test_a_reading_goes_over_the_line_and_comes_back_the_same(reading):
    head, arguments, values = decode(encode("OK", **reading_values(reading)).strip())
    assert (head, arguments) == ("OK", [])
    assert reading_from(values) == reading


@given(st.binary(max_size=200))
def test_no_line_breaks_the_server(line):
    with_server.answer(line.replace(b"\n", b" "))


@pytest.fixture(autouse=True, scope="module")
def _server():
    global with_server
    with served(Clock()) as with_server:
        yield


@pytest.fixture
def clock():
    return Clock()


@pytest.fixture
def server(clock):
    with served(clock) as served_one:
        yield served_one


@pytest.fixture
def charger(server):
    line = LineCharger("127.0.0.1", server.port, 10)
    yield line
    line.close()


def test_it_is_found_read_dialled_started_and_stopped(charger, clock):
    identity = charger.identify()
    assert identity.channels == ("Twin-1", "Twin-2", "Small-1", "Pocket-1")
    assert identity.hands
    charger.plug("Twin-1", PACKS)
    assert charger.read("Twin-1").cells == 4
    charger.dial("Twin-1", DIAL)
    assert charger.read("Twin-1").set_a == 5.4
    charger.start("Twin-1")
    clock.seconds += 300
    reading = charger.read("Twin-1")
    assert reading.status is Status.CHARGING
    assert reading.charge_mah == pytest.approx(5400 * 300 / 3600, rel=0.01)
    charger.stop("Twin-1")
    assert charger.read("Twin-1").status is Status.STOPPED
    charger.start("Twin-1")
    for _ in range(12):
        clock.seconds += 300
        done = charger.read("Twin-1")
    assert done.status is Status.DONE
    assert done.current_a == 0.0
    assert max(done.cell_v) <= 4.21


def test_what_makes_no_sense_is_refused_with_words(charger):
    for ask in (
        lambda: charger.read("none"), lambda: charger.plug("Twin-1", ("P-01", "T-01")), lambda: charger.plug("Twin-1", ("X",)),
        lambda: charger.start("Twin-1"), lambda: charger.dial("Twin-1", Settings(4, 99, 4.2, 5000, 90)),
        lambda: charger.client.ask("DANCE"), lambda: charger.client.ask("SET", "Twin-1", cells="many"),
    ):  # fmt: skip
        with pytest.raises(Refused) as caught:
            ask()
        assert len(str(caught.value)) > 5
    charger.plug("Twin-1", PACKS)
    with pytest.raises(Refused, match="P-08 hangs on another channel"):
        charger.plug("Twin-2", ("P-08",))


def test_physics_agree_with_the_prediction_within_a_percent(charger, clock):
    session = demo_session()
    expected = charge(session.bench, Choice(PACKS, "Six", "Twin-1", current_a=5.4)).charge
    charger.plug("Twin-1", PACKS)
    charger.dial("Twin-1", DIAL)
    charger.start("Twin-1")
    while charger.read("Twin-1").status is Status.CHARGING:
        clock.seconds += 20
    done = charger.read("Twin-1")
    assert done.charge_mah == pytest.approx(expected.charge_mah, rel=0.01)
    assert done.minutes == pytest.approx(expected.minutes, rel=0.03)


class TestFaults:
    def charging(self, charger):
        charger.plug("Twin-1", PACKS)
        charger.dial("Twin-1", DIAL)
        charger.start("Twin-1")

    def test_a_lost_link_is_lost_and_comes_back(self, charger, clock):
        charger.client.ask("FAULT", "link", value=20)
        charger.client.timeout_s = 0.5
        with pytest.raises(LinkLost):
            charger.read("Twin-1")
        clock.seconds += 21
        charger.client.timeout_s = 10
        assert charger.read("Twin-1").status is Status.IDLE

    def test_a_wrong_count_does_not_start(self, charger):
        charger.plug("Twin-1", PACKS)
        charger.dial("Twin-1", DIAL)
        charger.client.ask("FAULT", "count", "Twin-1", value=-1)
        assert charger.read("Twin-1").cells == 3
        with pytest.raises(Refused, match="counts 3 cells"):
            charger.start("Twin-1")

    def test_lagging_hot_limited_and_sagging(self, charger, clock):
        self.charging(charger)
        before = charger.read("Twin-1")
        for fault in ("lag", "hot", "sag"):
            charger.client.ask("FAULT", fault, "Twin-1")
        charger.client.ask("FAULT", "watts", "Twin-1", value=30)
        clock.seconds += 480
        after = charger.read("Twin-1")
        assert max(after.cell_v) - min(after.cell_v) > 0.08
        assert after.temperature_c > 45
        assert after.input_v < before.input_v - 2
        assert after.current_a == pytest.approx(30 / after.pack_v, rel=0.02)
        with pytest.raises(Refused):
            charger.client.ask("FAULT", "flood", "Twin-1")


def test_the_checker_reads_what_the_packs_have_rounded_as_meters_do(server):
    checker = LineChecker("127.0.0.1", server.port, 10)
    session = demo_session()
    for pack in session.packs[:6]:
        if pack.reading and pack.chemistry.table:
            assert checker.check(pack.id) == pytest.approx(pack.reading.cell_v, abs=0.011)
    with pytest.raises(Refused):
        checker.check("X-99")
    checker.close()


def test_charge_is_neither_made_nor_lost_while_packs_even_out():
    bench = SimBench(demo_session())
    held = {tag: bench.packs[tag].branch.soc * bench.packs[tag].branch.capacity_as for tag in PACKS}
    bench.plug("Twin-1", PACKS)
    bench.advance(1800)
    again = {tag: bench.packs[tag].branch.soc * bench.packs[tag].branch.capacity_as for tag in PACKS}
    assert sum(again.values()) == pytest.approx(sum(held.values()), rel=1e-6)
    assert len({round(bench.packs[tag].rest_v, 1) for tag in PACKS}) == 1


def test_it_runs_as_a_process_of_its_own_and_ends_with_its_parent():
    command = [sys.executable, "-m", "iterum", "sim-charger", "--port", "0", "--speed", "60", "--until-input-ends"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        told = process.stdout.readline()
        charger = LineCharger("127.0.0.1", int(told.split(",")[0].rpartition(":")[2]), 10)
        assert len(charger.identify().channels) == 4
        charger.close()
        process.stdin.close()
        assert process.wait(30) == 0
