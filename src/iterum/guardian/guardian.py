"""The guardian: a supervisor per channel, and a file of its own from which it is armed again
after a kill.

It knows no database. It acts first and reports afterwards: what is to be written down waits in
`Report.notes` until somebody says that it was written.
"""

import logging
import os
import threading
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path
from secrets import token_hex
from time import monotonic
from typing import Any

from iterum.core.run.guard import ARMED, ChannelReading
from iterum.core.say import say
from iterum.core.season.outlook import Observation
from iterum.core.season.records import KeptRun
from iterum.core.season.run import Act, State
from iterum.core.season.watching import Finding
from iterum.devices.driver import Identity, LinkLost, Refused, Settings
from iterum.devices.drivers import charger_at
from iterum.guardian.reports import ChannelReport, DeviceLink, DeviceReport, Note, Report
from iterum.guardian.supervisor import READ_EVERY_S, Line, Supervisor

JUDGE_EVERY_S = 1.0
MOST_NOTES = 20_000
"""Notes that wait to be written down at most; the oldest go first. Five hours of readings of four
channels.
"""
MOST_CHANNELS = 64
STOP_TRIES = 3
"""A person is told that a channel does not stop after so many; the guardian itself never gives
up.
"""
TIMEOUT_S = 2.0


@dataclass(frozen=True)
class Kept:
    """One armed batch in the guardian's file, with what a person typed of it."""

    run: KeptRun
    typed: tuple[Observation, ...] = ()


class Guardian:
    """Every guarded channel of one bench. Safe to use from several threads."""

    def __init__(
        self,
        clock: Callable[[], datetime],
        file: Path | None = None,
        timeout_s: float = TIMEOUT_S,
        read_every_s: float = READ_EVERY_S,
    ) -> None:
        """clock : the present moment. file : where armed batches are kept; None keeps them in
        memory alone.

        timeout_s : deadline of one answer of a device, s. read_every_s : between two readings of
        a channel, s.
        """
        self.clock, self._file = clock, file
        self.timeout_s, self.read_every_s = timeout_s, read_every_s
        self._lock = threading.RLock()
        self._devices: tuple[DeviceLink, ...] = ()
        self._channels: dict[str, Supervisor] = {}
        self._notes: deque[Note] = deque(maxlen=MOST_NOTES)
        self._number = 0
        self._life = token_hex(8)
        self._judged_s = monotonic()
        self._over = threading.Event()
        self._lives = False
        self._unwritten: str | None = None
        self._pool: ThreadPoolExecutor | None = None
        self.wait_s = 0.5
        """How long `look` waits for answers before it goes on with what is there."""
        if file is not None:
            self._arm_again()

    # ------------------------------------------------------------------ what is guarded

    def link(self, devices: Sequence[DeviceLink]) -> None:
        """Read these devices from now on, and no others."""
        with self._lock:
            if tuple(devices) == self._devices:
                return
            wanted = {ours: (device, theirs) for device in devices for ours, theirs in device.channels.items()}
            before = {ours: (device, theirs) for device in self._devices for ours, theirs in device.channels.items()}
            self._devices = tuple(devices)
            for name in before.keys() | wanted.keys():
                if before.get(name) != wanted.get(name):
                    self._bind(name, *wanted.get(name, (None, "")))
        self._write()

    def _bind(self, name: str, device: DeviceLink | None, theirs: str) -> None:
        """Give a channel another way to its device, or none; what hangs on it stays guarded."""
        old = self._channels.pop(name, None)
        line = None
        if device is not None:
            with suppress(Refused):  # an address that no driver understands is told of where it was typed
                driver = charger_at(device.address, self.timeout_s)
                if device.identity is not None:
                    driver.expect(device.identity)
                line = Line(driver, theirs)
        if line is None and (old is None or old.run is None):
            if old is not None:
                old.close()
            return
        fresh = self._supervisor(name, line)
        if old is not None:
            fresh.run, fresh.memory, fresh.findings, fresh.seen = old.run, old.memory, old.findings, old.seen
            old.close()

    def _supervisor(self, name: str, line: Line | None = None) -> Supervisor:
        with self._lock:
            if name not in self._channels:
                if len(self._channels) >= MOST_CHANNELS:
                    raise Refused(say("{most_channels} channels are guarded already", most_channels=MOST_CHANNELS))
                made = Supervisor(name, self.clock, self._note, line, self.read_every_s)
                self._channels[name] = made
                if self._lives:
                    made.start()
            return self._channels[name]

    def arm(self, run: KeptRun, seen: Sequence[Observation] = ()) -> None:
        """Guard a batch, or go on with what has changed of it; one that is over is disarmed.

        seen : what was read of it so far, for a batch that was not guarded yet.
        """
        if run.state not in ARMED:
            self.disarm(run.key)
            return
        self._supervisor(run.place).arm(run, seen)
        self._write()

    def arm_as_kept(self, run: KeptRun, seen: Sequence[Observation], told: State | None) -> None:
        """Guard a batch as the database has it, where nobody has brought it on meanwhile.

        told : the state that the guardian told of it before the database was asked; None where it
        did not guard it.
        """
        self._supervisor(run.place).arm_as_kept(run, seen, told)
        self._write()

    def disarm(self, run_key: int) -> None:
        """A person says that the packs of a batch are off."""
        with self._lock:
            channel = self._of(run_key)
            if channel is None:
                return
            if channel.line is None:
                del self._channels[channel.name]
        channel.disarm()
        self._write()

    def _of(self, run_key: int) -> Supervisor | None:
        with self._lock:
            return next((one for one in self._channels.values() if one.run and one.run.key == run_key), None)

    def observe(self, run_key: int, seen: Observation) -> tuple[Finding, ...]:
        """Take what a person typed about a batch as evidence; what is wrong by it."""
        channel = self._of(run_key)
        if channel is None:
            return ()
        found = channel.observe(seen, self.clock())
        if not self._lives:
            channel.stop_once()
        self._write()
        return found

    def forget(self, run_key: int, seen: Sequence[Observation]) -> None:
        """What was typed about a batch was taken back: these readings are left."""
        channel = self._of(run_key)
        if channel is not None:
            channel.forget(seen)
            self._write()

    def has_seen(self, run_key: int) -> None:
        """Somebody has seen what is wrong with a batch: it need not sound any more."""
        channel = self._of(run_key)
        if channel is not None:
            channel.seen = True

    # ------------------------------------------------------------------ what a person has a device do

    def meet(self, address: str) -> Identity:
        """Who answers at an address. Raises LinkLost, and Refused for an address that no driver
        understands.
        """
        driver = charger_at(address, self.timeout_s)
        try:
            return driver.identify()
        finally:
            driver.close()

    def _line_of(self, name: str) -> Supervisor:
        with self._lock:
            channel = self._channels.get(name)
        if channel is None or channel.line is None:
            raise LinkLost(say("no device is bound to {name}", name=name))
        return channel

    def read(self, name: str) -> ChannelReading:
        """What a channel shows at this moment. Raises LinkLost, Refused."""
        shown: list[ChannelReading] = []
        self._line_of(name).act(lambda driver, theirs: shown.append(driver.read(theirs)), None)
        return shown[0]

    def dial(self, name: str, settings: Settings) -> None:
        """Set a channel; nothing starts. Raises LinkLost, Refused."""
        self._line_of(name).act(lambda driver, theirs: driver.dial(theirs, settings), None)

    def start(self, name: str, act: Act) -> None:
        """Start a channel. act : what that is for its batch. Raises LinkLost, Refused."""
        self._line_of(name).act(lambda driver, theirs: driver.start(theirs), act)
        self._write()

    def stop(self, name: str, act: Act | None = None) -> None:
        """Stop a channel, until a reading shows it. act : what that is for its batch. Raises
        LinkLost, Refused.
        """
        channel = self._line_of(name)
        for tries_left in reversed(range(STOP_TRIES)):
            try:
                channel.act(lambda driver, theirs: driver.stop(theirs), act)
                break
            except Refused:
                if not tries_left:
                    raise
        self._write()

    def plug(self, name: str, packs: tuple[str, ...]) -> None:
        """Plug packs in by command, or unplug all: only a simulated bench does that. Raises
        LinkLost, Refused.
        """
        self._line_of(name).act(lambda driver, theirs: driver.plug(theirs, packs), None)

    def remember(self, run_key: int, act: Act, by: str, why: str | None) -> None:
        """An act was done that could not be written down: it waits here until it can."""
        self._note(run_key, self.clock(), act=act, by=by, why=why)

    # ------------------------------------------------------------------ telling

    def _note(self, run_key: int, at: datetime, **what: Any) -> None:
        with self._lock:
            self._number += 1
            self._notes.append(Note(self._number, run_key, at, **what))
        if what.get("act") is not None:
            self._write()

    def channels(self) -> tuple[ChannelReport, ...]:
        """Every guarded channel at this moment."""
        return tuple(channel.report() for channel in self._channels.copy().values())

    def report(self, written: int = 0) -> Report:
        """Everything known now. written : the number of the last note that was written down."""
        with self._lock:
            told = []
            while self._notes and self._notes[0].number <= written:
                told.append(self._notes.popleft())
            notes, devices, known = tuple(self._notes), self._devices, self._channels.copy()
        if any(note.act is not None for note in told):
            self._write()
        # A supervisor takes its own lock before this one, so it is never asked while this one is held.
        channels = tuple(channel.report() for channel in known.values())
        of_devices = tuple(_device_report(device, channels, known) for device in devices)
        return Report(self._life, channels, of_devices, notes, monotonic() - self._judged_s, self._unwritten)

    # ------------------------------------------------------------------ living

    def live(self) -> None:
        """Read, judge and stop by threads from now on."""
        with self._lock:
            self._lives = True
            for channel in self._channels.values():
                channel.start()
        threading.Thread(target=self._judge_on, name="judge", daemon=True).start()

    def _judge_on(self) -> None:
        """Judge what time alone makes wrong: timers, silence, a check that is due, a stop that
        does not come.
        """
        while not self._over.wait(JUDGE_EVERY_S / 2):
            for channel in self._channels.copy().values():
                try:
                    channel.judge(self.clock())
                except Exception:
                    logging.getLogger("iterum").exception("judging %s failed once", channel.name[:80])
            self._judged_s = monotonic()

    def look(self) -> None:
        """Read, judge and stop once, every channel beside the others: for a bench whose time is
        given in.
        """
        if self._lives:
            return
        if self._pool is None:
            self._pool = ThreadPoolExecutor(MOST_CHANNELS, "look")
        now, channels = self.clock(), list(self._channels.copy().values())
        jobs = [self._pool.submit(self._look_at, channel, now) for channel in channels if not channel.busy]
        done, _ = wait(jobs, self.wait_s)
        for job in done:
            job.result()  # a defect of ours is told, not swallowed
        for channel in channels:
            channel.judge(now)
        self._judged_s = monotonic()

    @staticmethod
    def _look_at(channel: Supervisor, now: datetime) -> None:
        channel.busy = True
        try:
            channel.read_once(now)
            if channel.stop_once():
                channel.judge(now)
        finally:
            channel.busy = False

    @property
    def armed(self) -> bool:
        """Whether packs hang on any channel."""
        return any(channel.run is not None for channel in self._channels.copy().values())

    def close(self) -> None:
        """End every thread and let go of every device. What is armed stays in the file."""
        self._over.set()
        with self._lock:
            channels, self._channels = list(self._channels.values()), {}
            self._devices = ()
        for channel in channels:
            channel.close()
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)

    # ------------------------------------------------------------------ its own file

    def _write(self) -> None:
        """Keep what is armed, and the acts that wait to be written down. A disk that takes nothing
        disarms nothing: it is told of, and memory holds.
        """
        if self._file is None:
            return
        with self._lock:
            kept = [
                Kept(channel.run, tuple(item for item in channel.memory.seen if item.by_hand))
                for channel in self._channels.values()
                if channel.run is not None
            ]
            part = self._file.with_suffix(".part")
            try:
                acts = [note for note in self._notes if note.act is not None]
                part.write_bytes(_adapter().dump_json((tuple(self._devices), kept, acts)))
                os.replace(part, self._file)
                self._unwritten = None
            except OSError as error:
                self._unwritten = str(error)

    def _arm_again(self) -> None:
        """Take up what was armed when the guardian before ended, however it ended."""
        assert self._file is not None
        try:
            devices, kept, *acts = _adapter().validate_json(self._file.read_bytes())
        except FileNotFoundError:
            return
        except (OSError, ValueError) as error:
            logging.getLogger("iterum").warning("%s cannot be read: %s", self._file.name, str(error)[:200])
            return
        for note in acts[0] if acts else []:
            self._number = note.number
            self._notes.append(note)
        self.link(devices)
        for item in kept:
            with suppress(Refused):
                self._supervisor(item.run.place).arm(item.run, item.typed)


def _device_report(device: DeviceLink, channels: Sequence[ChannelReport], known: dict[str, Supervisor]) -> DeviceReport:
    mine = [item for item in channels if item.name in device.channels]
    supervisors = [known[item.name] for item in mine if item.name in known]
    identity = next((one.identity for one in supervisors if one.identity is not None), device.identity)
    heard = [one.heard_at for one in supervisors if one.heard_at is not None]
    lost = [item.lost for item in mine if item.lost is not None]
    refused = {item.name: item.refused for item in mine if item.refused is not None}
    all_lost = bool(mine) and len(lost) == len(mine)
    return DeviceReport(device.address, identity, max(heard, default=None), lost[0] if all_lost else None, refused)


@cache
def _adapter() -> Any:
    """How the file is written and checked; made when it is first needed."""
    from pydantic import TypeAdapter  # noqa: PLC0415 (a bench whose time is given in keeps no file)

    before = tuple[tuple[DeviceLink, ...], list[Kept]]  # of releases that kept no acts
    return TypeAdapter(tuple[tuple[DeviceLink, ...], list[Kept], list[Note]] | before)
