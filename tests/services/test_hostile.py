"""A charger that answers wrongly, late, twice or not at all: nothing false is believed, nothing is thought to be well."""

import math
import shutil
import socketserver
import threading
import time
from contextlib import contextmanager

import pytest

from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.devices.driver import LinkLost, Refused
from iterum.devices.lines import LineCharger
from iterum.guardian.supervisor import ITERUM
from iterum.services.links import CHARGER, bind_by_name
from iterum.services.running import RunDesk
from iterum.services.watching import READ, Watcher
from tests.devices.bench import Clock, Field, links_of, served

CHANNEL, OTHER = "Twin-1", "Twin-2"


def changed(**figures):
    """The true answer with some of its figures otherwise."""

    def behave(line, answer):
        words = answer.decode().split()
        kept = [word for word in words if word.partition("=")[0] not in figures]
        told = [f"{name}={value}" for name, value in figures.items() if value is not None]
        return [(" ".join((kept[0], *told, *kept[1:])) + "\n").encode()] if line.startswith(b"READ") else [answer]

    return behave


def only(word, *instead):
    return lambda line, answer: list(instead) if line.startswith(word) else [answer]


def of_before(line, answer, kept=[]):  # noqa: B006 (what was answered before is what it answers now)
    kept.append(answer)
    return [kept[-2] if len(kept) > 1 else answer]


HOSTILE = {
    "a line too many before": lambda line, answer: [b"OK status=done\n", answer],
    "a line too many after": lambda line, answer: [answer, b"OK\n"],
    "each answer twice": lambda line, answer: [answer, answer],
    "the answer to the question before": of_before,
    "without its number": lambda line, answer: [b" ".join(w for w in answer.split() if w[:4] != b"seq=") + b"\n"],
    "of another channel": lambda line, answer: [answer.replace(b"of=Twin-1", b"of=Twin-2")],
    "never ends its line": lambda line, answer: [answer.strip()],
    "one byte at a time": lambda line, answer: [part for byte in answer for part in (bytes([byte]), 0.05)],
    "says nothing": lambda line, answer: [],
    "hangs up": lambda line, answer: [None],
    "hangs up in the middle": lambda line, answer: [answer[:9], None],
    "bytes of nothing": lambda line, answer: [b"\x00\xff\xfe\x13\n"],
    "no text": lambda line, answer: [b"OK status=\xc3\x28\n"],
    "a line without end": lambda line, answer: [b"x" * 9000],
    "an empty line": lambda line, answer: [b"\n"],
    "another word": lambda line, answer: [b"YES" + answer[2:]],
    "OK and no figures": only(b"READ", b"OK\n"),
    "no number": changed(pack_v="nan"),
    "no end": changed(current_a="inf"),
    "a word for a figure": changed(pack_v="full"),
    "negative volts": changed(pack_v="-15.1"),
    "a million volts": changed(pack_v="1000000"),
    "millivolts": changed(pack_v="15312"),
    "negative mAh": changed(charge_mah="-812"),
    "mAh of nobody": changed(charge_mah="9e9"),
    "a state nobody knows": changed(status="splendid"),
    "cells that are another pack": changed(cell_v="3.1,3.1,3.1,3.1"),
    "a cell too few": changed(cell_v="3.8,3.8,3.8"),
    "a thousand degrees": changed(temperature_c="1000"),
    "refuses to be read": only(b"READ", b"ERR not now\n"),
}


class Liar(socketserver.ThreadingTCPServer):
    """Stands before a simulated charger and answers as it is told to: bytes to send, seconds to wait, None to hang up."""

    allow_reuse_address = daemon_threads = True

    def __init__(self, sim):
        super().__init__(("127.0.0.1", 0), Talk)
        self.sim, self.behave, self.heard = sim, None, []


class Talk(socketserver.StreamRequestHandler):
    def handle(self):
        try:
            while line := self.rfile.readline(5000):
                self.server.heard.append(line)
                answer = self.server.sim.answer(line.strip())
                for part in self.server.behave(line, answer) if self.server.behave else [answer]:
                    if part is None:
                        return
                    if isinstance(part, float):
                        time.sleep(part)
                    else:
                        self.wfile.write(part)
        except OSError:
            return


@contextmanager
def lying(sim):
    liar = Liar(sim)
    thread = threading.Thread(target=liar.serve_forever, kwargs={"poll_interval": 0.01}, daemon=True)
    thread.start()
    yield liar
    liar.shutdown()
    liar.server_close()


@pytest.fixture
def bench(tmp_path, demo_file):
    """A batch that charges on a charger which may be made to lie, and the truth beside it."""
    shutil.copy(demo_file, tmp_path / "field.sqlite3")
    clock = Clock()
    with served(clock) as sim, lying(sim) as liar:
        field = Field(tmp_path, clock, sim)
        field.links.close()
        field.links = links_of(field.store, clock)
        for device in field.links.devices():
            field.links.drop(device.key)
        address = f"127.0.0.1:{liar.server_address[1]}"
        bind_by_name(field.links, field.desk, field.links.add(CHARGER, address), clock())
        field.runs = RunDesk(field.store, field.desk, field.links)
        field.watcher = Watcher(field.store, field.desk, field.runs)
        field.liar = liar
        field.key = field.runs.begin(Choice(("P-08", "P-11"), "Six", CHANNEL), clock())
        for act in (Act.INSPECT, Act.PLUG_IN, Act.EVEN_OUT, Act.READ_BACK, Act.START):
            run = field.runs.look(field.key, clock()).run
            if act is Act.EVEN_OUT and not run.card.wait_min:
                continue
            if act is Act.READ_BACK:
                field.runs.read_back(field.key, field.runs.shown_by_charger(run), run.state, clock())
            else:
                field.runs.act(field.key, act, run.state, clock())
        field.pass_time(1)
        field.links.guard.wait_s = 0.5
        for channel in field.links.guard._channels.values():  # from here on nothing that is slow is waited for long
            channel.line.driver.client.timeout_s = channel.line.driver._urgent.timeout_s = 0.3
        yield field
        field.close()


def codes(field):
    return {item.finding.what.code for item in field.runs.findings()}


def look(field):
    return field.runs.look(field.key, field.clock())


def well_again(field):
    """It is read again, and shows what is true."""
    for _ in range(20):
        field.pass_time(0.25)
        read = [item.seen for item in look(field).seen if item.origin == READ]
        truth = field.server.bench.channels[CHANNEL]
        if not codes(field) - {"watch_check_due"} and abs(read[-1].charge_mah - truth.charge_mah) < 40:
            return True
    return False


@pytest.mark.parametrize("name", HOSTILE)
def test_what_is_not_its_answer_is_not_believed_and_that_is_told(bench, name):
    before = len(look(bench).seen)
    bench.liar.behave = HOSTILE[name]
    bench.pass_time(1.5, 30)
    assert codes(bench) & {"silent", "figure_beyond", "figure_cells", "figure_sum"}
    truth = bench.server.bench.channels[CHANNEL]
    assert look(bench).run.state is State.CHARGING
    for item in look(bench).seen[before:]:
        assert math.isfinite(item.seen.charge_mah)
        assert item.seen.charge_mah <= truth.charge_mah + 1
    bench.liar.behave = None
    assert well_again(bench)


@pytest.mark.parametrize(
    "behave",
    [only(b"STOP", b"OK\n"), only(b"STOP", b"ERR no\n"), lambda line, answer: [None] if b"STOP" in line else [answer]],
)
def test_a_stop_counts_only_when_a_reading_shows_it_and_is_repeated_until_it_does(bench, behave):
    sim = bench.server.bench

    def deaf(line, answer):
        return behave(line, answer)

    real, sim.stop = sim.stop, lambda *_: None  # it hears, and goes on
    bench.liar.behave = deaf
    sim.fault("hot", CHANNEL)
    bench.pass_time(13, 60)
    assert look(bench).run.state is State.CHARGING
    assert {"watch_hot", "watch_not_stopped"} <= codes(bench)
    assert sum(b"STOP" in line for line in bench.liar.heard) > 3
    sim.stop, bench.liar.behave = real, None
    bench.pass_time(0.5)
    assert look(bench).run.state is State.STOPPED
    assert sim.channels[CHANNEL].current_a == 0
    assert any(event.by == ITERUM for event in look(bench).events)


def test_a_person_can_close_a_batch_whose_charger_is_gone(bench):
    bench.liar.behave = HOSTILE["hangs up"]
    with pytest.raises(LinkLost):
        bench.runs.act(bench.key, Act.STOP, State.CHARGING, bench.clock())
    run = bench.runs.act(bench.key, Act.STOP, State.CHARGING, bench.clock(), by="you, at the charger itself")
    assert run.state is State.STOPPED
    assert bench.runs.act(bench.key, Act.CHECK, State.STOPPED, bench.clock(), skipped=True).state is State.CHECKED


def test_a_slow_device_and_a_refusing_channel_blind_nobody(bench):
    def small_is_busy(line, answer):
        mark = [word for word in line.split() if word.startswith(b"seq=")]
        return [b" ".join((b"ERR busy of=Small-1", *mark)) + b"\n"] if b"Small-1" in line else [answer]

    bench.liar.behave = small_is_busy
    with served(bench.clock) as other, lying(other) as second:
        bench.links.guard.timeout_s = 60  # so long would each look wait, were one waited for
        slow = bench.links.add(CHARGER, f"127.0.0.1:{second.server_address[1]}")
        bench.links.confirm(slow.key, [("Mini-1", "Twin-1")], bench.clock())
        second.behave = lambda line, answer: [600.0, answer]
        bench.server.bench.fault("hot", CHANNEL)
        begun = time.monotonic()
        raised = bench.pass_time(12, 60)
        assert time.monotonic() - begun < 60
    assert "watch_hot" in {item.what.code for item in raised}
    assert look(bench).run.state is State.STOPPED
    first = bench.links.links()[0]
    assert (first.lost, dict(first.refused)) == (None, {"Small-1": "busy"})


def test_version_1_is_still_spoken_and_a_shifted_answer_is_refused_there_too():
    with served(Clock()) as sim, lying(sim) as liar:

        def old(line, answer):  # it knows no numbers
            return [b" ".join(w for w in answer.split() if w.split(b"=")[0] not in (b"seq", b"of", b"version")) + b"\n"]

        liar.behave = old
        charger = LineCharger("127.0.0.1", liar.server_address[1], 10)
        assert charger.read(CHANNEL).status.value == "idle"
        liar.behave = lambda line, answer: [
            b"OK status=done cells=4 pack_v=1 current_a=0 charge_mah=9 minutes=1\n",
            *old(line, answer),
        ]
        with pytest.raises(LinkLost):
            (charger.read(CHANNEL), time.sleep(0.05), charger.read(CHANNEL))
        liar.behave = old
        assert charger.read(CHANNEL).charge_mah == 0
        with pytest.raises(Refused):
            charger.start(CHANNEL)
        charger.close()
