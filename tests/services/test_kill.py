"""The server killed at random moments a hundred times, and the charger's link cut as often: nothing acknowledged is
lost, no batch is in two states, and watching goes on after each restart."""

import contextlib
import os
import random
import select
import signal
import time
from collections import Counter
from datetime import timedelta

import pytest

from iterum.core.reasons import Unsafe
from iterum.core.season.after_charge import After
from iterum.core.season.outlook import Observation
from iterum.core.season.run import ACTS, LIVE, Act, State, Status
from iterum.core.things.choice import Choice
from iterum.devices.driver import LinkLost, Refused
from iterum.devices.sim_bench import SimBench
from iterum.services.running import Changed
from iterum.services.watching import TYPED
from iterum.store.database import Store
from tests.conftest import NOON, SOAK
from tests.devices.bench import Field, served

MOST_TOLD, PATIENCE_S = 5, 2.0
"""Each server lives until it has acknowledged a few things, and a moment more, however fast the machine."""
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
            field.watcher.watch(clock())
        in_hand = {run.channel: run for run in field.runs.open()}
        for board, channel, packs in BATCHES:
            with contextlib.suppress(LinkLost, Refused, Changed, Unsafe):
                step(field, clock, in_hand.get(channel), (packs, board, channel), tell, rng)


def step(field, clock, run, batch, tell, rng):
    """One act, or one reading, on one channel."""
    runs = field.runs
    if run is None:
        tell("B", runs.begin(Choice(*batch), clock()))
    elif run.state is State.EVENED_OUT:
        shown = runs.shown_by_charger(run)
        if shown is not None:
            tell("S", run.key, runs.read_back(run.key, shown, run.state, clock()).state.name)
    elif run.state in ON:
        tell("S", run.key, runs.act(run.key, ON[run.state], run.state, clock()).state.name)
    elif run.state in LIVE and rng.random() < 0.9:
        tell("O", run.key, field.watcher.observe(run.key, TYPED, Observation(0, current_a=1.0, by_hand=True), clock()))
    elif run.state is State.CHARGING:
        tell("S", run.key, runs.act(run.key, Act.STOP, run.state, clock()).state.name)
    elif run.state is State.PAUSED:
        tell("S", run.key, runs.act(run.key, Act.RESUME, run.state, clock()).state.name)
    else:
        flown = {tag: After(run.before_v[tag]) for tag in run.packs}
        field.checks.check_after(run.key, run.state, clock(), flown, 100.0)
        tell("L", run.key)


def heard(reader, lines):
    """What the server tells, until there are so many lines, or it is silent for long."""
    told = b""
    while told.count(b"\n") < lines and select.select([reader], [], [], PATIENCE_S)[0]:
        told += os.read(reader, 65536)
    return told


def acknowledged(told):
    """Whole lines of what the killed server had told."""
    return [line.split() for line in told.decode().split("\n")[:-1]]


def rest_of(reader):
    """What was still in the pipe."""
    told = b""
    while part := os.read(reader, 65536):
        told += part
    return told


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


def flown(server):
    """Packs that are not being charged come back as they were before, so that there is always something to do."""
    with server.lock:
        bench = server.bench
        busy = {tag for one in bench.channels.values() if one.status is Status.CHARGING for tag in one.packs}
        bench.packs |= {tag: item for tag, item in SimBench(bench.session).packs.items() if tag not in busy}


@pytest.mark.parametrize(("kills", "cuts"), [(25 * SOAK, 0), (4 * SOAK, 5)])
def test_nothing_acknowledged_is_lost_however_often_it_is_killed(tmp_path, kills, cuts):
    rng = random.Random(7)
    clock = FastClock()
    told = []
    with served(clock) as server:
        Field(tmp_path, clock, server).close()
        for number in range(kills):
            reader, writer = os.pipe()
            child = os.fork()
            if child == 0:
                with contextlib.suppress(BaseException):
                    serve_until_killed(tmp_path, clock, server, writer, random.Random(number))
                os._exit(0)
            os.close(writer)
            text = heard(reader, rng.randrange(MOST_TOLD + 1))
            time.sleep(rng.uniform(0.0, 0.05))
            for _ in range(cuts):
                with server.lock:
                    server.bench.fault("link", "", str(rng.uniform(0, 24)))
                text += heard(reader, rng.randrange(1, MOST_TOLD))
                time.sleep(rng.uniform(0.0, 0.05))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            told += acknowledged(text + rest_of(reader))
            os.close(reader)
            flown(server)
            if number % 10 == 0:
                check(tmp_path, told)
        with server.lock:
            server.bench.silent_s = 0.0
        runs = check(tmp_path, told)
        field = Field(tmp_path, clock, server)
        open_runs = [run for run in field.runs.open() if run.state in LIVE]
        field.watcher.watch(clock())
        for run in open_runs:  # watching goes on: each is read again, or was brought to what its charger did
            now = field.runs.look(run.key, clock()).run
            assert now.state not in LIVE or now.heard_at > run.state_at
        field.close()
    kinds = Counter(kind for kind, *_ in told)
    assert kinds["O"] >= kills // 2
    assert kinds["L"] >= kills // 25  # few servers live to see a batch through
    assert len(runs) > 2
