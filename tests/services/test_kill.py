"""The server killed at random moments a hundred times, and the charger's link cut as often: nothing acknowledged is
lost, no batch is in two states, and watching goes on after each restart."""

import contextlib
import os
import random
import signal
import time
from collections import Counter
from datetime import timedelta

import pytest

from iterum.core.reasons import Unsafe
from iterum.core.run import ACTS, LIVE, Act, State
from iterum.core.watching import Observation
from iterum.devices.driver import LinkLost, Refused
from iterum.services.running import TYPED, After, Changed
from iterum.store.database import Store
from tests.conftest import NOON
from tests.devices.bench import Field, served

KILLS, MOST_KILLS, ENOUGH = 100, 400, 40
"""Killed on until enough was acknowledged in between, however slow the machine."""
LAPSE = 120
BATCHES = (
    ("Six", "Twin-1", ("P-08", "P-11", "P-06")),
    ("Four", "Twin-2", ("T-01", "T-07", "T-02")),
    (None, "Small-1", ("P-12",)),
)
ON = {
    State.PLANNED: Act.INSPECT,
    State.INSPECTED: Act.PLUG_IN,
    State.PLUGGED_IN: Act.EVEN_OUT,
    State.READ_BACK: Act.START,
}


class FastClock:
    """The machine's own time, in time-lapse, for bench and server alike."""

    def __init__(self):
        self.begun = time.monotonic()

    def monotonic(self):
        return (time.monotonic() - self.begun) * LAPSE

    def __call__(self):
        return NOON + timedelta(seconds=self.monotonic())


def serve_until_killed(folder, clock, server, acknowledged, rng):
    """What a server does all day, each thing told only when it is done: `O run reading`, `S run state`, `L run`."""
    field = Field(folder, clock, server)

    def tell(*words):
        os.write(acknowledged, (" ".join(map(str, words)) + "\n").encode())

    while True:
        with contextlib.suppress(LinkLost, Refused, Changed):
            field.runs.watch(clock())
        in_hand = {run.channel: run for run in field.runs.open()}
        for board, channel, packs in BATCHES:
            with contextlib.suppress(LinkLost, Refused, Changed, Unsafe):
                step(field, clock, in_hand.get(channel), (packs, board, channel), tell, rng)


def step(field, clock, run, batch, tell, rng):
    """One act, or one reading, on one channel."""
    runs = field.runs
    if run is None:
        tell("B", runs.begin(*batch, None, clock()))
    elif run.state is State.EVENED_OUT:
        shown = runs.shown_by_charger(run)
        if shown is not None:
            tell("S", run.key, runs.read_back(run.key, shown, run.state, clock()).state.name)
    elif run.state in ON:
        tell("S", run.key, runs.act(run.key, ON[run.state], run.state, clock()).state.name)
    elif run.state in LIVE and rng.random() < 0.9:
        tell("O", run.key, runs.observe(run.key, TYPED, Observation(0, current_a=1.0, by_hand=True), clock()))
    elif run.state is State.CHARGING:
        tell("S", run.key, runs.act(run.key, Act.STOP, run.state, clock()).state.name)
    elif run.state is State.PAUSED:
        tell("S", run.key, runs.act(run.key, Act.RESUME, run.state, clock()).state.name)
    else:
        runs.check_after(run.key, run.state, clock(), {tag: After() for tag in run.packs}, 100.0, skipped=True)
        tell("L", run.key)


def acknowledged_of(reader):
    """Whole lines that the killed server had told."""
    told = b""
    while part := os.read(reader, 65536):
        told += part
    return [line.split() for line in told.decode().split("\n")[:-1]]


def check(folder, told):
    """What was told is there; every run's state is that of its last act, along the table."""
    store = Store(folder / "field.sqlite3")
    with store.reading() as repository:
        runs = {run.key: run for run in repository.runs.latest(10_000)}
        readings = {key: {item.key for item in repository.runs.observations(key)} for key in runs}
        events = {
            key: [event for event in repository.runs.events(key) if not event.act.startswith("note")] for key in runs
        }
        logged = Counter(item.run_key for item in repository.runs.charges())
    store.close()
    for kind, key, *rest in told:
        assert int(key) in runs
        if kind == "O":
            assert int(rest[0]) in readings[int(key)]
        if kind == "S":
            assert State[rest[0]] in {event.state for event in events[int(key)]}
        if kind == "L":
            assert runs[int(key)].state is State.CHECKED
    for key, run in runs.items():
        state = State.PLANNED
        for event in events[key]:
            state = ACTS[state, Act(event.act)]
            assert state is event.state
        assert state is run.state
        assert logged[key] == (len(run.packs) if run.state is State.CHECKED else 0)
    return runs


@pytest.mark.parametrize("cut_links", [False, True])
def test_nothing_acknowledged_is_lost_however_often_it_is_killed(tmp_path, cut_links):
    rng = random.Random(7)
    clock = FastClock()
    told = []
    with served(clock) as server:
        Field(tmp_path, clock, server).close()
        for number in range(MOST_KILLS):
            if number >= KILLS and Counter(kind for kind, *_ in told)["O"] > ENOUGH:
                break
            reader, writer = os.pipe()
            child = os.fork()
            if child == 0:
                with contextlib.suppress(BaseException):
                    serve_until_killed(tmp_path, clock, server, writer, random.Random(number))
                os._exit(0)
            os.close(writer)
            time.sleep(rng.uniform(0.03, 0.22))
            if cut_links and rng.random() < 0.6:
                with server.lock:
                    server.bench.fault("link", "", str(rng.uniform(0, 12)))
                time.sleep(rng.uniform(0.01, 0.06))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            told += acknowledged_of(reader)
            os.close(reader)
            if number % 10 == 9:
                check(tmp_path, told)
        with server.lock:
            server.bench.silent_s = 0.0
        runs = check(tmp_path, told)
        field = Field(tmp_path, clock, server)
        open_runs = [run for run in field.runs.open() if run.state in LIVE]
        field.runs.watch(clock())
        for run in open_runs:  # watching goes on: each is read again, or was brought to what its charger did
            now = field.runs.look(run.key, clock()).run
            assert now.state not in LIVE or now.heard_at > run.state_at
        field.close()
    kinds = Counter(kind for kind, *_ in told)
    assert kinds["O"] > ENOUGH
    assert kinds["L"] >= 1
    assert len(runs) > 2
