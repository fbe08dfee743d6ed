"""The guardian as a process of its own, and the rest of Iterum's way to it.

Why a process: a crash of the web server, a database that blocks it and a page that computes for
seconds leave this process alone. It ends only when nothing is armed any more, or when nobody and
nothing answers it any longer.

Both sides speak by a socket that only the same user reaches, one request and one answer at a time
on a connection, each request on a connection of its own thread. What is sent are our own records,
pickled; the key of a connection is kept in a file that only the same user reads.
"""

import json
import logging
import os
import subprocess
import sys
import threading
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from logging.handlers import RotatingFileHandler
from multiprocessing import AuthenticationError
from multiprocessing.connection import (
    Client,
    Connection,
    Listener,
    answer_challenge,
    deliver_challenge,
)
from pathlib import Path
from secrets import token_hex
from time import monotonic, sleep
from typing import Any

from filelock import FileLock, Timeout

from iterum import __version__
from iterum.core.run.guard import ChannelReading
from iterum.core.say import say
from iterum.core.season.outlook import Observation
from iterum.core.season.records import KeptRun
from iterum.core.season.run import Act, State
from iterum.core.season.watching import Finding
from iterum.devices.driver import Identity, LinkLost, Settings
from iterum.guardian.clock import SteadyClock
from iterum.guardian.guardian import Guardian
from iterum.guardian.reports import ChannelReport, DeviceLink, Report

ALONE_S = 60.0
"""Without anybody who asks, and without a device that answers, it ends after so long."""
START_S = 10.0
ANSWER_S = 12.0
"""An answer takes this long at most: a device has 2 s for each of several."""
ARMED_FILE, WHERE_FILE, LOCK_FILE, LOG_FILE = "armed.json", "where.json", "lock", "guardian.log"
LOG_BYTES = 1_000_000


# ---------------------------------------------------------------------------------------- the process


class Server:
    """Answers for one guardian until it is told to end, or is alone for too long."""

    def __init__(self, guardian: Guardian, folder: Path, clock: SteadyClock) -> None:
        self._guardian, self._folder, self._clock = guardian, folder, clock
        self._key = token_hex(16).encode()
        self._listener = Listener()
        self._over = threading.Event()
        self._asked_s = monotonic()

    def serve(self) -> None:
        """Say where it listens, then answer until it is over."""
        threading.Thread(target=self._accept, name="accept", daemon=True).start()
        self._say_where()
        while not self._over.wait(1.0):
            if self._alone:
                logging.getLogger("iterum").warning("nobody asks, and no device answers: the guardian ends")
                break
        self._guardian.close()

    def _say_where(self) -> None:
        where = {"address": self._listener.address, "key": self._key.decode(), "pid": os.getpid(),
                 "version": __version__}  # fmt: skip
        part = self._folder / f"{WHERE_FILE}.part"
        part.touch(mode=0o600)
        part.write_text(json.dumps(where))
        part.replace(self._folder / WHERE_FILE)

    @property
    def _alone(self) -> bool:
        if monotonic() - self._asked_s < ALONE_S:
            return False
        now = self._guardian.clock()
        heard = [item.heard_at for item in self._guardian.report().devices if item.heard_at is not None]
        answers = any((now - at).total_seconds() < ALONE_S for at in heard)
        return not (self._guardian.armed and answers)

    def _accept(self) -> None:
        while not self._over.is_set():
            try:
                connection = self._listener.accept()
            except OSError as error:
                logging.getLogger("iterum").warning("a connection was refused: %s", str(error)[:100])
                continue
            threading.Thread(target=self._answer, args=(connection,), daemon=True).start()

    def _answer(self, connection: "Connection[Any, Any]") -> None:
        with suppress(EOFError, OSError, AuthenticationError), connection:
            # Here and not in `accept`: who is silent keeps nobody else waiting.
            deliver_challenge(connection, self._key)
            answer_challenge(connection, self._key)
            while not self._over.is_set():
                name, args = connection.recv()
                self._asked_s = monotonic()
                try:
                    answer = (True, self._do(name, args))
                except Exception as error:  # the other side raises it
                    answer = (False, error)
                connection.send(answer)

    def _do(self, name: str, args: tuple[Any, ...]) -> Any:
        if name == "end":
            self._over.set()
            return None
        if name == "keep_time":
            self._clock.time = args
            return None
        if name == "armed":
            return self._guardian.armed
        return getattr(self._guardian, name)(*args)


def run(folder: Path, clock: SteadyClock) -> None:
    """Be the guardian of a bench until it is over. folder : of its own files. A second one ends
    at once.
    """
    handler = RotatingFileHandler(folder / LOG_FILE, maxBytes=LOG_BYTES, backupCount=1, delay=True)
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(message)s", handlers=[handler])
    logging.raiseExceptions = False  # a disk that is full is no reason to say so a thousand times
    try:
        with FileLock(folder / LOCK_FILE, timeout=0):
            guardian = Guardian(clock, folder / ARMED_FILE)
            guardian.live()
            Server(guardian, folder, clock).serve()
    except Timeout:
        return


# ---------------------------------------------------------------------------------------- the way to it


class RemoteGuardian:
    """The guardian's process, started where it does not run and started again where it ended.
    Safe to use from several threads."""

    def __init__(self, folder: Path, time: tuple[datetime, float, float]) -> None:
        """folder : of the guardian's own files. time : (moment, at seconds of the steady clock,
        speed) of the clock.
        """
        self._folder, self._time = folder, time
        self._lock, self._mine = threading.Lock(), threading.local()

    def _ask(self, name: str, *args: Any) -> Any:
        for last in (False, True):
            try:
                connection = self._connection()
                connection.send((name, args))
                if not connection.poll(ANSWER_S):
                    raise TimeoutError("no answer")
                well, answer = connection.recv()
            except (OSError, EOFError) as error:
                self._hang_up()
                if last:
                    raise LinkLost(say("the guardian does not answer: {error}", error=error)) from error
                continue
            if not well:
                raise answer
            return answer
        raise AssertionError("unreachable")

    def _connection(self) -> "Connection[Any, Any]":
        known: Connection[Any, Any] | None = getattr(self._mine, "connection", None)
        if known is None:
            known = self._mine.connection = self._connected()
        return known

    def _hang_up(self) -> None:
        known = getattr(self._mine, "connection", None)
        self._mine.connection = None
        if known is not None:
            with suppress(OSError):
                known.close()

    def _connected(self) -> "Connection[Any, Any]":
        with self._lock:
            until_s = monotonic() + START_S
            tries = 0
            while True:
                try:
                    return self._to_running()
                except (OSError, EOFError, ValueError) as error:
                    if monotonic() > until_s:
                        raise LinkLost(say("the guardian does not start: {error}", error=error)) from error
                    if tries % 20 == 0:
                        self._begin()
                    tries += 1
                    sleep(0.1)

    def _to_running(self) -> "Connection[Any, Any]":
        where = json.loads((self._folder / WHERE_FILE).read_text())
        connection = Client(where["address"], authkey=where["key"].encode())
        if where["version"] != __version__:  # of another release: a new one takes over what is armed
            connection.send(("end", ()))
            connection.recv()
            connection.close()
            (self._folder / WHERE_FILE).unlink(missing_ok=True)
            raise EOFError("it was of another version")
        connection.send(("keep_time", self._time))
        connection.recv()
        return connection

    def _begin(self) -> None:
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        (self._folder / WHERE_FILE).unlink(missing_ok=True)
        begun, begun_s, speed = self._time
        command = [sys.executable, "-m", "iterum", "guard", str(self._folder), "--begun", begun.isoformat(),
                   "--begun-s", repr(begun_s), "--speed", repr(speed), "--detach"]  # fmt: skip
        # A session of its own, and nobody's child: what ends the server, Ctrl+C included, does not
        # end it, and nothing has to wait for it.
        with suppress(subprocess.TimeoutExpired):
            subprocess.run(  # noqa: S603 (our own command)
                command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                start_new_session=True, timeout=START_S, check=False,
            )  # fmt: skip

    # ------------------------------------------------------------------ what a Guardian does

    def link(self, devices: Sequence[DeviceLink]) -> None:
        """See `Guardian.link`."""
        self._ask("link", devices)

    def arm(self, run: KeptRun, seen: Sequence[Observation] = ()) -> None:
        """See `Guardian.arm`."""
        self._ask("arm", run, seen)

    def arm_as_kept(self, run: KeptRun, seen: Sequence[Observation], told: State | None) -> None:
        """See `Guardian.arm_as_kept`."""
        self._ask("arm_as_kept", run, seen, told)

    def disarm(self, run_key: int) -> None:
        """See `Guardian.disarm`."""
        self._ask("disarm", run_key)

    def observe(self, run_key: int, seen: Observation) -> tuple[Finding, ...]:
        """See `Guardian.observe`."""
        found: tuple[Finding, ...] = self._ask("observe", run_key, seen)
        return found

    def forget(self, run_key: int, seen: Sequence[Observation]) -> None:
        """See `Guardian.forget`."""
        self._ask("forget", run_key, seen)

    def has_seen(self, run_key: int) -> None:
        """See `Guardian.has_seen`."""
        self._ask("has_seen", run_key)

    def meet(self, address: str) -> Identity:
        """See `Guardian.meet`."""
        identity: Identity = self._ask("meet", address)
        return identity

    def read(self, name: str) -> ChannelReading:
        """See `Guardian.read`."""
        shown: ChannelReading = self._ask("read", name)
        return shown

    def dial(self, name: str, settings: Settings) -> None:
        """See `Guardian.dial`."""
        self._ask("dial", name, settings)

    def start(self, name: str, act: Act) -> None:
        """See `Guardian.start`."""
        self._ask("start", name, act)

    def stop(self, name: str, act: Act | None = None) -> None:
        """See `Guardian.stop`."""
        self._ask("stop", name, act)

    def plug(self, name: str, packs: tuple[str, ...]) -> None:
        """See `Guardian.plug`."""
        self._ask("plug", name, packs)

    def remember(self, run_key: int, act: Act, by: str, why: str | None) -> None:
        """See `Guardian.remember`."""
        self._ask("remember", run_key, act, by, why)

    def channels(self) -> tuple[ChannelReport, ...]:
        """See `Guardian.channels`."""
        channels: tuple[ChannelReport, ...] = self._ask("channels")
        return channels

    def report(self, written: int = 0) -> Report:
        """See `Guardian.report`."""
        report: Report = self._ask("report", written)
        return report

    def look(self) -> None:
        """Nothing: it looks by itself."""

    @property
    def armed(self) -> bool:
        """Whether packs hang on any channel; False where it does not answer."""
        with suppress(LinkLost):
            return bool(self._ask("armed"))
        return False

    def close(self) -> None:
        """Leave it alone: it ends by itself when nothing is armed."""
        with suppress(LinkLost, OSError, EOFError):
            if not self.armed:
                self._ask("end")
        self._hang_up()

    def end(self) -> None:
        """End it, armed or not: its devices are simulated, and end as well."""
        with suppress(LinkLost, OSError, EOFError):
            self._ask("end")
        self._hang_up()
        (self._folder / ARMED_FILE).unlink(missing_ok=True)
