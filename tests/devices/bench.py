"""A simulated bench whose time is given in, served on a free port: for every test that needs a charger."""

import threading
from contextlib import contextmanager
from datetime import timedelta

from iterum.demo import demo_session
from iterum.devices.sim_server import SimServer
from iterum.guardian.guardian import Guardian
from iterum.services.checking import Checks
from iterum.services.desk import Desk
from iterum.services.incidents import Incidents
from iterum.services.links import CHARGER, CHECKER, Links, bind_by_name
from iterum.services.running import RunDesk
from iterum.services.watching import Watcher
from iterum.store.database import Store
from tests.conftest import NOON


class Clock:
    """One clock for the bench and for Iterum."""

    def __init__(self, begins=NOON):
        self.begins, self.seconds = begins, 0.0

    def __call__(self):
        return self.begins + timedelta(seconds=self.seconds)

    def monotonic(self):
        return self.seconds


@contextmanager
def served(clock, session=None, port=0):
    server = SimServer(session or demo_session(), "127.0.0.1", port, 1.0, clock.monotonic)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.01}, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.close()
        thread.join()


def links_of(store, clock=lambda: NOON):
    """The devices of a store, with a guardian that looks when it is told to."""
    guard = Guardian(clock, timeout_s=10)
    guard.wait_s = 10  # a loaded machine is slow at times; that is no lost link
    return Links(store, guard)


def met(links, desk, port, now):
    """A charger and a checker at a port, the charger's channels bound by their names."""
    bind_by_name(links, desk, links.add(CHARGER, f"127.0.0.1:{port}"), now)
    links.add(CHECKER, f"127.0.0.1:{port}")


class Field:
    """A store with the demo, a bench, and a watch that looks when it is told to."""

    def __init__(self, folder, clock, server):
        self.clock, self.server = clock, server
        self.store = Store(folder / "field.sqlite3")
        self.desk = Desk(self.store)
        if self.desk.revision() == 0:
            self.desk.write(demo_session(), clock())
        self.links = links_of(self.store, clock)
        if not self.links.devices():
            met(self.links, self.desk, server.port, clock())
        self.runs = RunDesk(self.store, self.desk, self.links)
        self.watcher = Watcher(self.store, self.desk, self.runs)
        self.incidents, self.checks = Incidents(self.store, self.runs), Checks(self.desk, self.runs)

    def pass_time(self, minutes, step_s=15.0):
        """Let time pass for both, looking every `step_s`; returns what was newly found."""
        raised = []
        for _ in range(round(minutes * 60 / step_s)):
            self.clock.seconds += step_s
            raised += self.watcher.watch(self.clock())
        return raised

    def close(self):
        self.links.close()
        self.store.close()
