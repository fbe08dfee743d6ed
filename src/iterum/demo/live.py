"""The demo's bench: a simulated charger in a process of its own, and one batch that charges from the start."""

import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from iterum.core.reasons import Unsafe
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.demo import MADE_UP, demo_file, demo_session
from iterum.demo.season import charges_before, year_before
from iterum.devices.driver import LinkLost, Refused
from iterum.guardian.guardian import Guardian
from iterum.services.desk import Desk
from iterum.services.links import CHARGER, CHECKER, Links, bind_by_name
from iterum.services.logbook import LogBook
from iterum.services.running import RunDesk
from iterum.store.database import Store

FIRST_BATCH = (("L-01", "L-02"), None, "Pocket-1")
"""Packs, board (None: the largest that takes them) and channel of the batch that charges when the demo starts."""


def load_demo(store: Store, desk: Desk, now: datetime, meeting: str = "meeting") -> bool:
    """Fill an untouched store with the demo; one that was ever written to keeps what is there."""
    if desk.revision() > 0:
        return False
    told = desk.write(demo_session(meeting), now)
    if meeting != "meeting":
        return told
    LogBook(store, desk).take_charges([*year_before(desk.session().packs, now), *charges_before(now)], (), {})
    return told


@dataclass(frozen=True)
class SimulatedBench:
    """The process of the simulated charger."""

    process: subprocess.Popen[str]
    port: int

    def stop(self) -> None:
        """End it, also where it does not hear that it should."""
        self.process.terminate()
        try:
            self.process.wait(5)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def start_bench(speed: float, meeting: str = "meeting") -> SimulatedBench:
    """Start the simulated charger on a free port and wait until it says where it listens."""
    command = [
        sys.executable,
        "-m",
        "iterum",
        "sim-charger",
        demo_file(meeting),
        "--port",
        "0",
        "--speed",
        str(speed),
        "--until-input-ends",
    ]
    # Its input stays open as long as we live, so that it ends with us however we end.
    process = subprocess.Popen(  # noqa: S603 (our own command)
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None  # it was asked for
    told = process.stdout.readline()
    return SimulatedBench(process, int(told.split(",")[0].rpartition(":")[2]))


def start_demo(database: Path, clock: Callable[[], datetime], port: int, meeting: str = "meeting") -> None:
    """Fill an untouched store, meet the bench, and begin one batch on it where the demo is new."""
    store, now = Store(database), clock()
    desk, links = Desk(store), Links(store, Guardian(clock))
    new = load_demo(store, desk, now, meeting)
    for device in links.devices():
        links.drop(device.key)  # of an earlier start, whose port is gone
    bind_by_name(links, desk, links.add(CHARGER, f"127.0.0.1:{port}"), now)
    links.add(CHECKER, f"127.0.0.1:{port}")
    if new and meeting == "meeting":
        _begin(RunDesk(store, desk, links), desk, now)
    links.close()
    store.close()


def _begin(runs: RunDesk, desk: Desk, now: datetime) -> None:
    packs, board, channel = FIRST_BATCH
    cells = next(pack.cells for pack in desk.session().packs if pack.id == packs[0])
    boards = sorted((item for item in desk.session().kit.boards if item.takes(cells)), key=lambda item: item.ports)
    try:
        key = runs.begin(Choice(packs, board or boards[0].id, channel), now)
        run = runs.look(key, now).run
        state = State.PLANNED
        evening = (Act.EVEN_OUT,) if run.card.evens_out_min else ()
        for act in (Act.INSPECT, Act.PLUG_IN, *evening):
            state = runs.act(key, act, state, now, note=MADE_UP).state
        shown = runs.shown_by_charger(runs.look(key, now).run)
        if shown is not None:
            state = runs.read_back(key, shown, state, now).state
            runs.act(key, Act.START, state, now, note=MADE_UP)
    except (LinkLost, Refused, Unsafe, IndexError):
        return  # the demo is whole without it
