"""A rehearsal: Iterum itself in a process of its own, on a copy of the bench and a simulated charger, in time-lapse.

Nothing of it reaches the real bench: its database is a copy, and its process reaches no charger but the simulated one.
The other way round the real bench only begins it, ends it, and tells it what is next there.
"""

import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from threading import Lock

from iterum.core.planning.record import KeptPlan
from iterum.core.reasons import Reason
from iterum.core.season.account import HeatTold, Standing, Turn, heats_told, kept, standing, turned
from iterum.core.season.agenda import BATCH_LONGEST
from iterum.core.season.lesson import Deed, Judged, Lesson, judged
from iterum.core.season.run import OPEN, State
from iterum.core.things.kit import Kit, Source
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Wish
from iterum.devices.sim_server import SimServer
from iterum.exchange.heats import Heat
from iterum.services.desk import Desk, by_id, kit_items
from iterum.services.logbook import LogBook, Query
from iterum.services.running import RunDesk
from iterum.services.watching import Watcher
from iterum.store.copies import copy
from iterum.store.database import Store
from iterum.store.kit import KitItem

SPEEDS = (1.0, 10.0, 60.0, 300.0)
"""Seconds of the rehearsal for each real one."""
STEP_S = 15.0
"""The watch looks so often while time is stepped over."""
MOST_STEP = timedelta(hours=8)
BEGAN = "began.sqlite3"
"""Beside the copy: the bench as it was when the rehearsal began, to know what was changed in it."""
LEFT = "left"
"""A file that says that somebody has left: its process goes on for a moment, for the page that is on its way."""
NOT_JOINED = (State.PLANNED, State.INSPECTED, State.DROPPED)
"""A run that no channel has holds its packs together in none of these."""


class RehearsalClock:
    """A clock that runs faster, can be made to run at another speed, and can be set on."""

    def __init__(self, begins: datetime, speed: float, steady_s: Callable[[], float] = time.monotonic) -> None:
        self._lock, self._steady_s = Lock(), steady_s
        self._at, self._since_s, self._speed = begins, steady_s(), speed
        self._begins = begins

    def __call__(self) -> datetime:
        """Now, in the rehearsal."""
        with self._lock:
            return self._now()

    def _now(self) -> datetime:
        return self._at + timedelta(seconds=(self._steady_s() - self._since_s) * self._speed)

    def monotonic(self) -> float:
        """Seconds since it began, for the simulated bench."""
        return (self() - self._begins).total_seconds()

    @property
    def began(self) -> datetime:
        """When it began, in the rehearsal."""
        return self._begins

    @property
    def speed(self) -> float:
        """Seconds of the rehearsal for each real one."""
        return self._speed

    def run_at(self, speed: float) -> None:
        """Go on at another speed from now on."""
        with self._lock:
            self._at, self._since_s = self._now(), self._steady_s()
            self._speed = speed

    def set_on(self, by: timedelta) -> None:
        """Jump ahead."""
        with self._lock:
            self._at += by


@dataclass(frozen=True)
class Rehearsal:
    """What a rehearsing Iterum knows of itself. real_url : of the real bench. lesson : the one that is played, if any;
    course : all of them. first : the plan with which a rehearsed day began. turns : what happened since, was done or
    left undone, that made another day of it.
    """

    real_url: str
    clock: RehearsalClock
    bench: SimServer
    lesson: Lesson | None = None
    course: tuple[Lesson, ...] = ()
    first: KeptPlan | None = None
    turns: list[Turn] = field(default_factory=list)
    _looks: list[Standing] = field(default_factory=list)

    def step(self, until: datetime, watcher: Watcher) -> None:
        """Let time pass to a moment, the simulated bench and the watch with it; at once while nothing charges."""
        until = min(until, self.clock() + MOST_STEP)
        while (left := until - self.clock()) > timedelta():
            self.clock.set_on(min(left, timedelta(seconds=STEP_S)) if watcher.has_live() else left)
            with self.bench.lock:
                self.bench.pass_time()
            watcher.watch(self.clock())

    def checker(self, tag: str) -> tuple[float, ...]:
        """What a checker shows at a pack, V of each cell; nothing where it is not there."""
        with self.bench.lock:
            self.bench.pass_time()
            packs = self.bench.bench.packs
            return self.bench.bench.check(tag) if tag in packs else ()

    def stands(self, tag: str) -> Pack:
        """A pack as it truly stands now."""
        with self.bench.lock:
            (pack,) = self.bench.bench.standing([tag])
        return pack

    def stood(self, tag: str) -> Pack:
        """A pack as it truly stood when it was first plugged in; as it stands, where it was not."""
        with self.bench.lock:
            plugged = [pack for packs in self.bench.bench.plugged for pack in packs if pack.id == tag]
        return plugged[0] if plugged else self.stands(tag)

    @property
    def times_plugged(self) -> int:
        """How often hands plugged something in."""
        return len(self.bench.bench.plugged)

    def deeds(self, runs: RunDesk, desk: Desk) -> tuple[Deed, ...]:
        """What was done with packs so far, the oldest first: what hands plugged in, as it truly stood."""
        said = {pack.id: pack for pack in desk.session().packs}
        with self.bench.lock:
            plugged = {frozenset(pack.id for pack in packs): packs for packs in self.bench.bench.plugged}
            deeds = []
            for run in reversed(runs.latest()):
                packs = plugged.get(frozenset(run.packs)) if run.driven else self.bench.bench.standing(run.packs)
                if packs is None or (not run.driven and run.state in NOT_JOINED):
                    continue
                stopped_min = run.minute(run.ended_at) if run.stopped and run.ended_at else None
                choice = replace(run.choice, packs=run.packs, current_a=run.current_a or None)
                told = tuple(said[tag] for tag in run.packs if tag in said)
                deeds.append(Deed(packs, told, choice, run.kind, run.state, stopped_min))
        return tuple(deeds)

    def look(self, runs: RunDesk, desk: Desk, book: LogBook, why: Reason | None = None) -> tuple[HeatTold, ...]:
        """The day as it stands, heat by heat, against the plan with which it began; nothing where there was none.

        What changed since the last look is kept as a turn. why : what was done or happened since; None where time went
        by.
        """
        now, latest = self.clock(), desk.latest_plan()
        if self.first is None or latest is None:
            return ()
        session = desk.session_at(latest.made_at, now)
        hurt: dict[str, datetime] = {}
        for item in book.entries(Query("incidents", since=self.clock.began)):
            for tag in item["packs"]:
                hurt[tag] = min(hurt.get(tag, item["at"]), item["at"])
        stands = standing(latest, runs.since(latest.made_at - BATCH_LONGEST, now), session, now, hurt)
        last = self._looks.pop() if self._looks else stands
        self._looks.append(stands)
        self.turns[:] = kept(self.turns, turned(last, stands, why))
        return heats_told(self.first, latest, stands)

    def judged(self, runs: RunDesk, desk: Desk) -> Judged | None:
        """How the lesson goes; None as long as that cannot be told."""
        return judged(self.lesson, self.deeds(runs, desk)) if self.lesson else None


def laid_out(lesson: Lesson, to: Path, now: datetime) -> None:
    """A bench as a lesson's learner finds it, in a database of its own. Raises StoreTrouble."""
    for part in ("", "-wal", "-shm"):
        to.with_name(to.name + part).unlink(missing_ok=True)
    store = Store(to)
    try:
        Desk(store).write(lesson.found, now)
    finally:
        store.close()


def copied(real: Path, to: Path, now: datetime) -> None:
    """A copy of a bench to rehearse on: nothing in hand, no devices, nobody paired. Raises StoreTrouble."""
    for part in ("", "-wal", "-shm"):
        to.with_name(to.name + part).unlink(missing_ok=True)
    copy(real, to)
    marks = ", ".join("?" * len(OPEN))
    with closing(sqlite3.connect(to)) as database, database:
        database.execute("DELETE FROM devices")
        database.execute("DELETE FROM phones")
        ended = (State.DROPPED.value, now.isoformat(), *(state.value for state in OPEN))
        database.execute(f"UPDATE runs SET state = ?, ended_at = ? WHERE state IN ({marks})", ended)  # noqa: S608


@dataclass(frozen=True)
class Changed:
    """What a rehearsal ended with that the real bench has otherwise; None, or nothing, where they agree."""

    heats: tuple[Heat, ...] | None = None
    rules: HouseRules | None = None
    kit: tuple[KitItem, ...] = ()
    gone: tuple[KitItem, ...] = ()

    def take(self, what: str, desk: Desk, now: datetime) -> bool:
        """Take the heats, the house rules or the kit over; False where nothing of that is otherwise. Raises Unsafe."""
        if what == "heats" and self.heats is not None:
            desk.set_heats(self.heats, now)
        elif what == "rules" and self.rules is not None:
            desk.set_rules(self.rules, now)
        elif what == "kit" and (self.kit or self.gone):
            known = by_id(kit_items(desk.session().kit))
            for item in self.kit:
                desk.save_kit_item(item, item.id if item.id in known else None)
            for item in self.gone:
                desk.retire(type(item), item.id, now)
        else:
            return False
        return True


def _timeless(heats: Sequence[Heat]) -> list[tuple[datetime, Wish]]:
    """Heats by their time of day alone, to the second: minutes are counted from another moment on every bench."""
    return [(heat.at.replace(microsecond=0), replace(heat.wish, at_min=0.0)) for heat in heats]


def _kit_changed(theirs: Kit, began: Kit, ours: Kit) -> tuple[tuple[KitItem, ...], tuple[KitItem, ...]]:
    """Kit that was added or changed there, and kit that was taken out of use there; what was drawn from a source is no
    change of it."""
    there, before, here = (by_id([_full(item) for item in kit_items(kit)]) for kit in (theirs, began, ours))
    return (
        tuple(item for tag, item in there.items() if item not in (before.get(tag), here.get(tag))),
        tuple(item for tag, item in here.items() if tag in before and tag not in there),
    )


def _full(item: KitItem) -> KitItem:
    return replace(item, taken_wh=0.0) if isinstance(item, Source) else item


def folder_of(database: Path, lesson: str | None) -> Path:
    """Where what is rehearsed of a bench is kept: a copy of it, or the bench of a lesson."""
    return database.parent / ("lesson" if lesson else "rehearsal")


class Rehearsals:
    """The rehearsal of one bench, where one runs: begun and ended from the real one."""

    def __init__(self, database: Path) -> None:
        self._database = database
        self._process: subprocess.Popen[str] | None = None
        self.url = ""
        self.lesson: str | None = None

    @property
    def copy(self) -> Path:
        """Where its copy of the bench lies; it stays until the next one begins."""
        return folder_of(self._database, None) / "iterum.sqlite3"

    def changed(self, desk: Desk) -> Changed:
        """What was changed in the rehearsal and stands otherwise here; what changed here since is left aside."""
        if not (self.copy.is_file() and self.copy.with_name(BEGAN).is_file()):
            return Changed()
        stores = [Store(path) for path in (self.copy, self.copy.with_name(BEGAN))]
        try:
            theirs, began = (Desk(store) for store in stores)
            heats, rules = theirs.heats(), theirs.session().rules
            there = _timeless(heats)
            return Changed(
                heats if there not in (_timeless(began.heats()), _timeless(desk.heats())) else None,
                rules if rules not in (began.session().rules, desk.session().rules) else None,
                *_kit_changed(theirs.session().kit, began.session().kit, desk.session().kit),
            )
        finally:
            for store in stores:
                store.close()

    @property
    def running(self) -> bool:
        """Whether it runs, and nobody has left it."""
        left = (self._folder / LEFT).exists()
        return self._process is not None and self._process.poll() is None and not left

    @property
    def _folder(self) -> Path:
        return folder_of(self._database, self.lesson)

    @property
    def elsewhere(self) -> bool:
        """Whether the whole bench is rehearsed, which a lesson would end."""
        return self.running and self.lesson is None

    def begin(self, real_url: str, speed: float, now: datetime, lesson: str | None = None) -> str:
        """Begin it, or find the one that runs; its address. It ends with this process, however that ends.

        lesson : on the bench of one, always from its beginning; one that runs ends then.
        """
        if lesson is not None or self.lesson is not None:
            self.end()
        if self.running:
            return self.url
        self.end()
        command = [sys.executable, "-m", "iterum", "rehearse", str(self._database), "--real", real_url,
                   "--speed", f"{speed:g}", "--at", now.isoformat(), "--until-input-ends",
                   *(("--lesson", lesson) if lesson else ())]  # fmt: skip
        self.lesson = lesson
        (self._folder / LEFT).unlink(missing_ok=True)
        self._process = subprocess.Popen(  # noqa: S603 (our own command)
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert self._process.stdout is not None  # it was asked for
        told = self._process.stdout.readline().strip()
        self.url = told.rpartition(" ")[2]
        return self.url

    def end(self) -> None:
        """End it at once: nothing of it has to be brought to an end, its copy is whole after each of its changes."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for pipe in (self._process.stdin, self._process.stdout):
                if pipe is not None:
                    pipe.close()
        self._process, self.url, self.lesson = None, "", None
