"""One supervisor per channel: its own reader, its own judgement, its own way to stop.

Nothing here waits for another channel, for a database or for a page. Each wait is for this
channel's device alone, and ends by a deadline of the driver. `read_once` and `stop_once` do the
waiting; `judge` never waits.
"""

import logging
import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from time import monotonic

from iterum.core.reasons import reason
from iterum.core.run.guard import (
    ARMED,
    CONFIRMED,
    ChannelReading,
    Memory,
    after_it,
    against_card,
    followed,
    judge,
)
from iterum.core.say import kept, say
from iterum.core.season.outlook import Observation
from iterum.core.season.records import KeptRun
from iterum.core.season.run import LIVE, Act, State, Status
from iterum.core.season.watching import Alarm, Finding, worst_first
from iterum.devices.driver import ChargerDriver, Identity, LinkLost, Refused
from iterum.guardian.reports import ChannelReport
from iterum.wording import sentence

READ_EVERY_S = 1.0
STOP_AGAIN_S = 0.2
SOUND_AFTER_S = 1.5
"""A stop that no reading confirms in this time is told, with what to do by hand."""
CHARGER, ITERUM = "the charger", "Iterum"
"""Who did an act."""

Tell = Callable[..., None]
"""Takes note of what is to be written down: run_key, at, and seen or act, by, why."""


@dataclass(frozen=True)
class Line:
    """The way to one channel of a device. driver : of this channel alone. theirs : what the
    device calls it.
    """

    driver: ChargerDriver
    theirs: str

    @property
    def commands(self) -> bool:
        """Whether the device takes commands at all."""
        return self.driver.commands


class Supervisor:
    """Guards one channel. Safe to use from several threads."""

    def __init__(
        self,
        name: str,
        clock: Callable[[], datetime],
        tell: Tell,
        line: Line | None = None,
        read_every_s: float = READ_EVERY_S,
    ) -> None:
        """name : of the kit's channel. clock : the present moment. line : None where no device
        tells of it. read_every_s : between two readings, s.
        """
        self.name, self.line, self._read_every_s = name, line, read_every_s
        self._clock, self._tell = clock, tell
        self._lock = threading.RLock()
        self._over, self._wanted = threading.Event(), threading.Event()
        self._threads: list[threading.Thread] = []
        self.run: KeptRun | None = None
        self.memory = Memory()
        self.identity: Identity | None = None
        self.heard_at: datetime | None = None
        self.lost: str | None = None
        self.refused: str | None = None
        self.findings: tuple[Finding, ...] = ()
        self.seen = False
        self._acting = 0
        self._acted_at: datetime | None = None
        """When the device did last what it was told to; what was written down says when it was
        asked for.
        """
        self.busy = False
        self._asked_s: float | None = None
        """When the stop that is wanted now was first asked for."""
        self._not_stopped: str | None = None

    # ------------------------------------------------------------------ arming

    def arm(self, run: KeptRun, seen: Sequence[Observation] = ()) -> None:
        """Guard a batch from now on, or go on with what has changed of it. seen : what was read
        of it so far.
        """
        with self._lock:
            new = self.run is None or self.run.key != run.key
            if new:
                self.memory = Memory(seen=sorted(seen, key=lambda item: item.at_min))
                self.seen = False
            self.run = run
        self.judge(self._clock())

    def arm_as_kept(self, run: KeptRun, seen: Sequence[Observation], told: State | None) -> None:
        """The same, but only where the batch is still in the state that was told of it; None for
        not guarded.
        """
        with self._lock:
            mine = self.run.state if self.run is not None and self.run.key == run.key else None
            if mine is told:
                self.arm(run, seen)

    def disarm(self) -> None:
        """A person says that the packs are off."""
        with self._lock:
            self.run, self.memory, self.seen = None, Memory(), False
        self.judge(self._clock())

    def observe(self, seen: Observation, now: datetime) -> tuple[Finding, ...]:
        """Take what a person typed as evidence, and judge at once."""
        with self._lock:
            self.memory.seen.append(seen)
        return self.judge(now)

    def forget(self, seen: Sequence[Observation]) -> None:
        """What was typed is taken back: go on with these readings alone."""
        with self._lock:
            self.memory.seen = sorted(seen, key=lambda item: item.at_min)
        self.judge(self._clock())

    # ------------------------------------------------------------------ reading

    def read_once(self, now: datetime) -> None:
        """Ask the device what the channel shows, and judge it. Waits for this device alone."""
        line = self.line
        if line is None:
            return
        try:
            if self.identity is None:
                self.identity = line.driver.identify()
                line.driver.expect(self.identity)
            shown = line.driver.read(line.theirs)
        except Refused as refusal:
            self.refused, self.lost = str(refusal), None
        except LinkLost as error:
            self.lost = str(error)
        else:
            self.refused = self.lost = None
            self._take(shown, now)
        self.judge(self._clock())

    def _take(self, shown: ChannelReading, at: datetime) -> None:
        with self._lock:
            run = self.run
            if run is None:
                self.memory.last, self.memory.last_at, self.heard_at = shown, at, at
                return
            if at < max(run.state_at, self._acted_at or at):
                return  # asked before the device did the last act: it tells of what was before
            commands = self.line is not None and self.line.commands
            if not (commands or shown.flows or self.memory.has_flowed):
                self.heard_at = at  # a log still tells of the charge before: no amps of this one were read yet
                return
            keep = self.memory.take(run, shown, at)
            if self.memory.untrue is not None:
                return
            self.heard_at = at
            if keep is not None:
                self._tell(run.key, at, seen=keep)
            act = followed(run, shown) if run.driven and not self._acting else None
            if act is not None:
                why = shown.why or say("it shows {status}", status=shown.status.value)
                self.run = after_it(run, act, at)
                if act in (Act.START, Act.RESUME):
                    self.memory.restarted = None
                self._tell(run.key, at, act=act, by=CHARGER, why=why)

    # ------------------------------------------------------------------ judging

    def judge(self, now: datetime) -> tuple[Finding, ...]:
        """Judge by what is known now; asks for a stop where one is needed. Waits for nothing."""
        with self._lock:
            signs = self._signs(now)
            must = [item for item in signs if item.alarm is Alarm.STOP]
            last = self.memory.last
            off = last is not None and last.off and self.lost is None
            if must and not off and self._can_stop:
                if self._asked_s is None:
                    self._asked_s = monotonic()
                self._wanted.set()
                if self._not_stopped or monotonic() - self._asked_s > SOUND_AFTER_S:
                    why = self._not_stopped or kept("no reading shows yet that it has stopped")
                    what = reason("watch_not_stopped", channel=self.name, why=why)
                    signs = [Finding(Alarm.STOP, what, reason("do_pull_plug")), *signs]
            else:
                self._asked_s = self._not_stopped = None
                self._wanted.clear()
            if self._is_news(signs):
                self.seen = False
            self.findings = tuple(signs)
            return self.findings

    def _signs(self, now: datetime) -> list[Finding]:
        run = self.run
        if run is None or run.state not in ARMED:
            last = self.memory.last
            return [] if last is None or self.line is None else list(worst_first(against_card(None, last)))
        signs = list(judge(run, self.memory, now, self.heard_at, self.line is not None and run.driven))
        if run.state is State.STOPPED:  # what stopped it holds until somebody has looked at the packs
            held = {_about(item): item for item in self.findings if item.alarm is Alarm.STOP}
            held.pop(("watch_not_stopped", None), None)
            signs = [held.pop(_about(item), item) if item.alarm is not Alarm.STOP else item for item in signs]
            told = {_about(item) for item in signs}
            signs += [item for about, item in held.items() if about not in told]
        return signs

    def _is_news(self, signs: Sequence[Finding]) -> bool:
        before = {_about(item): item.alarm for item in self.findings}
        order = list(Alarm)
        return any(
            _about(item) not in before or order.index(item.alarm) > order.index(before[_about(item)])
            for item in signs
            if item.alarm is not Alarm.NOTE
        )

    @property
    def _can_stop(self) -> bool:
        return self.line is not None and self.line.commands

    # ------------------------------------------------------------------ stopping

    def stop_once(self) -> bool:
        """Send a stop and look whether it worked; tells what it did. Waits for this device
        alone.
        """
        line = self.line
        if line is None or not self._wanted.is_set():
            return False
        worst = next((item for item in self.findings if item.alarm is Alarm.STOP), None)
        with self._lock:
            self._acting += 1  # what a reading shows meanwhile is Iterum's doing, not the charger's
        try:
            line.driver.stop(line.theirs)
            self.stopped(sentence(worst.what) if worst else None)
            return True
        except (LinkLost, Refused) as error:
            self._not_stopped = str(error)
        finally:
            with self._lock:
                self._acting -= 1
        self.judge(self._clock())
        return False

    def stopped(self, why: str | None) -> None:
        """A reading has just shown that a stop worked: bring the batch to it."""
        now = self._clock()
        with self._lock:
            self._asked_s = self._not_stopped = None
            self._acted_at = now
            self._wanted.clear()
            run = self.run
            if run is not None and run.state in LIVE:
                self.run = after_it(run, Act.STOP, now)
                self._tell(run.key, now, act=Act.STOP, by=ITERUM, why=why)
            if self.memory.last is not None:  # until it is read again, what the stop itself saw counts
                self.memory.last = replace(self.memory.last, status=Status.STOPPED, current_a=0.0)

    def act(self, what: Callable[[ChargerDriver, str], None], act: Act | None) -> None:
        """Have the device do what a person asked for; its batch follows. Raises LinkLost,
        Refused.

        what : done with the driver and the device's own name of the channel. act : what that is
        for the batch.
        """
        line = self.line
        if line is None:
            raise LinkLost(say("no device is bound to {value}", value=self.name))
        with self._lock:
            self._acting += 1
        try:
            what(line.driver, line.theirs)
            with self._lock:
                self._acted_at = self._clock()
                if self.run is not None and act is not None:
                    self.run = after_it(self.run, act, self._acted_at)
                    if act in (Act.START, Act.RESUME):
                        self.memory.counts_anew()
        finally:
            with self._lock:
                self._acting -= 1

    # ------------------------------------------------------------------ living

    def start(self) -> None:
        """Read, judge and stop by threads of its own."""
        if self.line is None:
            return
        jobs = ((self._read_on, "reader"), (self._stop_on, "stopper"))
        self._threads = [threading.Thread(target=job, name=f"{what} {self.name}", daemon=True) for job, what in jobs]
        for thread in self._threads:
            thread.start()

    def _read_on(self) -> None:
        while not self._over.is_set():
            begun_s = monotonic()
            try:
                self.read_once(self._clock())
            except Exception:
                logging.getLogger("iterum").exception("reading %s failed once", self.name[:80])
            self._over.wait(max(self._read_every_s - (monotonic() - begun_s), 0.01))

    def _stop_on(self) -> None:
        while not self._over.is_set():
            try:
                if self._wanted.wait(READ_EVERY_S):
                    if not self.stop_once():
                        self._over.wait(STOP_AGAIN_S)
                elif self.line is not None and self.run is not None:
                    self.line.driver.stand_by()
            except Exception:
                logging.getLogger("iterum").exception("stopping %s failed once", self.name[:80])
                self._over.wait(STOP_AGAIN_S)

    def close(self) -> None:
        """End its threads and let go of the device."""
        self._over.set()
        if self.line is not None:
            with suppress(OSError):
                self.line.driver.close()

    @property
    def may_flow(self) -> bool:
        """Whether its settings are confirmed, so that amps may flow."""
        return self.run is not None and self.run.state in CONFIRMED

    def report(self) -> ChannelReport:
        """What is known of it now."""
        with self._lock:
            run, last = self.run, self.memory.last
            return ChannelReport(
                self.name, run.key if run else None, run.packs if run else (), run.state if run else None,
                last, self.memory.last_at if last else None, self.lost, self.refused, self.findings, self.seen,
                self.line is not None,
            )  # fmt: skip


def _about(finding: Finding) -> tuple[str, object]:
    """What a finding is about: two packs may have the same one at once."""
    return finding.what.code, finding.what.numbers.get("id")
