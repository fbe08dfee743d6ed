"""A day of charging on two chargers with four channels, with faults at random, and who knows the truth beside it."""

import random
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import timedelta

from iterum.core.electrical.circuit import branch_of
from iterum.core.electrical.resistance import Use
from iterum.core.reasons import Unsafe
from iterum.core.season.after_charge import After
from iterum.core.season.outlook import Observation
from iterum.core.season.run import LIVE, Act, State, Status
from iterum.core.season.watching import HOT_CARE_C, HOT_STOP_C, SAG_CARE, SILENT_S, WARMER_C, Alarm
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.ledger import Entry, EntryKind
from iterum.core.things.packs import Reading
from iterum.core.things.session import Session
from iterum.core.things.volts import SPREAD_LOOK_V, SPREAD_WEAK_V
from iterum.devices.sim_bench import AIR_C, SimPack
from iterum.guardian.clock import SteadyClock
from iterum.guardian.supervisor import ITERUM
from iterum.services.checking import Checks
from iterum.services.desk import Desk
from iterum.services.links import CHARGER, bind_by_name
from iterum.services.running import RunDesk
from iterum.services.watching import TYPED, Watcher
from iterum.store.database import Store
from tests.conftest import NOON, even
from tests.devices.bench import Clock, links_of, served
from tests.services.test_hostile import HOSTILE, lying

STEP_S = 5.0
CHANNELS = {"A": ("A-1", "A-2"), "B": ("B-1", "B-2")}
LIES = [
    HOSTILE[name]
    for name in ("no number", "a million volts", "negative mAh", "cells that are another pack", "a thousand degrees")
]
DEAF = [
    HOSTILE["hangs up"], HOSTILE["bytes of nothing"], HOSTILE["a state nobody knows"],
    lambda line, answer: [answer.replace(b"of=", b"of=X")], lambda line, answer: [answer.replace(b"seq=", b"seq=9")],
]  # fmt: skip
SURE_K, SURE_V = 0.3, 0.004
"""So near a limit either answer is right: what is shown is rounded."""
UNTRUE = {"figure_beyond", "figure_cells", "figure_sum"}


def session():
    packs = [even(f"{tag}{at}", 3.6 + 0.01 * (at // 4), cells, mah=mah, max_charge_c=3)
             for tag, cells, mah in (("F", 4, 1800), ("S", 6, 1300), ("T", 3, 2200)) for at in range(8)]  # fmt: skip
    chargers = tuple(
        Charger(name, tuple(Channel(channel, 12, 200, max_cells=6) for channel in channels), "bank",
                input_min_v=11.0, total_power_w=350)
        for name, channels in CHANNELS.items()
    )  # fmt: skip
    boards = tuple(Board(f"board-{at}", 4) for at in range(4))
    return Session(tuple(packs), Kit(boards, chargers, sources=(Source("bank", voltage_v=12.8, energy_wh=50_000),)))


def refused(answer):
    """No, in answer to this very question."""
    return b" ".join([b"ERR not now", *(word for word in answer.split() if word.startswith((b"seq=", b"of=")))]) + b"\n"


class Door:
    """One charger of the two: the way to its own channels of the bench."""

    def __init__(self, sim, name):
        self._sim, self._name = sim, name

    def answer(self, line):
        answer = self._sim.answer(line)
        if answer is not None and line.startswith(b"HELLO"):
            mine = ",".join(CHANNELS[self._name]).encode()
            words = [b"channels=" + mine if word.startswith(b"channels=") else word for word in answer.split()]
            return b" ".join(words) + b"\n"
        return answer


@dataclass
class Fault:
    """Something that is wrong from a moment of the bench until another."""

    kind: str
    where: str
    until_s: float


class Day:
    """One seeded day. `told` holds what was found and what should have been, by look; `delays` seconds by kind."""

    def __init__(self, folder, seed):
        self.random, self.clock = random.Random(seed), Clock()
        self.folder, self.missed, self.invented, self.charges = folder, [], [], []
        self.delays, self.faults = {"fault to alarm": [], "link lost to alarm": [], "must stop to off": []}, []
        self.batches = self.looks = self.jumps = 0
        self.wall_off_s = 0.0
        self._unheard: dict[str, float] = {}
        self._back: dict[str, bool] = {}
        self._due_since: dict[tuple[int, str], float] = {}
        self._before: dict[int, set[str]] = {}

    @contextmanager
    def field(self):
        with served(self.clock, session()) as sim:
            self.sim = sim.bench
            with lying(Door(sim, "A")) as one, lying(Door(sim, "B")) as other:
                self.doors = {"A": one, "B": other}
                self.store = Store(self.folder / "day.sqlite3")
                self.desk = Desk(self.store)
                self.desk.write(session(), NOON)
                self.desk.set_air(AIR_C, NOON)
                self.now = SteadyClock(self._wall, steady_s=self.clock.monotonic)
                self.links = links_of(self.store, self.now)
                for door in self.doors.values():
                    device = self.links.add(CHARGER, f"127.0.0.1:{door.server_address[1]}")
                    bind_by_name(self.links, self.desk, device, self.now())
                self.runs = RunDesk(self.store, self.desk, self.links)
                self.watcher, self.checks = Watcher(self.store, self.desk, self.runs), Checks(self.desk, self.runs)
                try:
                    yield self
                finally:
                    for door in self.doors.values():
                        door.behave = None
                    self.links.close()
                    self.store.close()

    def _wall(self):
        return self.clock() + timedelta(seconds=self.wall_off_s)

    # ------------------------------------------------------------------ the pilot

    def pass_hours(self, hours):
        for _ in range(round(hours * 3600 / STEP_S)):
            self._end_faults()
            if self.random.random() < STEP_S / 400:
                self._break_something()
            self._work()
            self.clock.seconds += STEP_S
            self._unhear()
            live = {run.key for run in self.runs.open() if run.state in LIVE}
            self.watcher.watch(self.now())
            self.looks += 1
            for run in self.runs.open():
                if run.key in live:
                    self._judge(run)

    def _work(self):
        """What a careful pilot does meanwhile: begins, touches, closes, flies."""
        open_runs = self.runs.open()
        for run in open_runs:
            if run.state in (State.DONE, State.STOPPED):
                self._close(run)
            elif run.state in LIVE and run.minute(self.now()) % 8 < STEP_S / 60:
                self.watcher.observe(run.key, TYPED, Observation(0.0, by_hand=True), self.now())
        busy = {run.channel for run in open_runs}
        for channel in sum(CHANNELS.values(), ()):
            if channel not in busy and not self._deaf(channel) and self.random.random() < 0.1:
                self._begin(channel)

    def _begin(self, channel):
        free = [tag for tag in self.sim.packs if not any(tag in one.packs for one in self.sim.channels.values())]
        kind = self.random.choice("FST")
        like = [tag for tag in free if tag.startswith(kind)]
        count = min(self.random.randint(1, 3), len(like))
        if not count:
            return
        tags = tuple(self.random.sample(like, count))
        rest_v = self.random.uniform(3.55, 3.85)
        for tag in tags:
            self._fly(tag, rest_v)
        boards = {item.board for item in self.desk.bench(self.now()).running}
        board = next(f"board-{at}" for at in range(4) if f"board-{at}" not in boards) if count > 1 else None
        try:
            key = self.runs.begin(Choice(tags, board, channel), self.now())
        except Unsafe:
            return
        for act in (Act.INSPECT, Act.PLUG_IN, Act.EVEN_OUT, Act.READ_BACK, Act.START):
            run = self.runs.look(key, self.now()).run
            if act is Act.READ_BACK:
                self.runs.read_back(key, self.runs.shown_by_charger(run), run.state, self.now())
            elif act is not Act.EVEN_OUT or run.card.wait_min:
                self.runs.act(key, act, run.state, self.now())
        self.batches += 1

    def _fly(self, tag, rest_v):
        """The pack as it comes back and has rested, measured by its pilot."""
        pack = next(pack for pack in self.desk.session().packs if pack.id == tag)
        reading = Reading.of_cells((round(rest_v, 3),) * pack.cells, self.now())
        pack = replace(pack, reading=reading, charged_at=None, learned=None, like=())
        self.sim.packs[tag] = SimPack(pack, branch_of(pack, 0.0, Use.CHARGE), [0.0] * pack.cells)
        self.desk.record_reading(tag, reading, self.now())

    def _close(self, run):
        """Log it with what the charger shows now, and hold that against the truth."""
        if self._deaf(run.channel):
            return
        true_mah, told = self.sim.channels[run.channel].charge_mah, None
        with self.store.reading() as repository:
            told = repository.runs.last_charge_mah(run.key)
        self.charges.append((true_mah, told or 0.0, run.current_a * 2 * STEP_S / 3.6 + 1))
        after = {tag: After(self.sim.check(tag)) for tag in run.packs}
        self.checks.check_after(run.key, run.state, self.now(), after, None)

    # ------------------------------------------------------------------ what goes wrong

    def _break_something(self):
        kind = self.random.choice(("deaf", "lie", "refuse", "hot", "lag", "sag", "clock", "blip"))
        device = self.random.choice("AB")
        channel = self.random.choice(CHANNELS[device])
        lasts_s = self.random.choice((10.0, 15.0, 60.0, 240.0))
        if kind == "clock":
            self.wall_off_s = self.random.choice((-3600.0, 3600.0, 86_400.0, 0.0))
            self.jumps += 1
            return
        charges = self.sim.channels[channel].status is Status.CHARGING
        if self.doors[device].behave is not None or (kind in ("hot", "lag", "sag") and not charges):
            return
        if kind in ("hot", "lag"):
            self.sim.fault(kind, channel)
            return
        if kind == "sag":
            self.sim.fault("sag", channel, str(self.random.choice((0.5, 1.5, 3.0))))
        elif kind == "refuse":
            self.doors[device].behave = lambda line, answer: [refused(answer)] if channel.encode() in line else [answer]
        else:
            self.doors[device].behave = (
                HOSTILE["hangs up"] if kind == "blip" else self.random.choice(LIES if kind == "lie" else DEAF)
            )
            lasts_s = STEP_S if kind == "blip" else lasts_s
        self.faults.append(Fault(kind, channel if kind in ("refuse", "sag") else device, self.clock.seconds + lasts_s))

    def _end_faults(self):
        for fault in [item for item in self.faults if item.until_s <= self.clock.seconds]:
            self.faults.remove(fault)
            if fault.kind == "sag":
                self.sim.fault("sag", fault.where, "0")
                self.desk.note_source(Entry("bank", self.now(), EntryKind.FILLED, 0.0))  # another one is there
            else:
                self.doors[fault.where[0]].behave = None

    def _deaf(self, channel):
        """Whether nothing true comes from a channel now."""
        return any(item.kind != "sag" and item.where in (channel, channel[0]) for item in self.faults)

    def _unhear(self):
        for channel in sum(CHANNELS.values(), ()):
            was = self._unheard.get(channel, 0.0)
            self._unheard[channel] = was + STEP_S if self._deaf(channel) else 0.0
            # The first question after a loss may find the old connection dead: the answer comes one look later.
            self._back[channel] = bool(was) and not self._deaf(channel)

    # ------------------------------------------------------------------ the oracle: it knows the bench itself

    def _judge(self, run):
        shown = self.sim.read(run.channel)
        if run.state not in LIVE:
            self._judge_end(run, shown)
            return
        with self.store.reading() as repository:
            held = {item.finding.what.code for item in repository.runs.findings(run.key)
                    if item.finding.alarm is not Alarm.NOTE}  # fmt: skip
        held.discard("watch_check_due")
        unheard_s = self._unheard[run.channel]
        if self._back[run.channel]:
            return
        if unheard_s:
            must = {"silent"} if unheard_s > SILENT_S else set()
            lied = any(item.kind == "lie" and item.where == run.channel[0] for item in self.faults)
            may = self._before.get(run.key, set()) | (UNTRUE if lied else set())
            may |= {"silent"} if unheard_s == SILENT_S else set()
            if lied and not held & UNTRUE:
                self._miss(run, "a lie", shown)
        else:
            must, may = self._due(run, shown)
            if shown.status is not Status.CHARGING:
                self._miss(run, f"it is {shown.status.value}", shown)
            self._before[run.key] = held
        for code in must - held:
            self._miss(run, code, shown)
        for code in held - must - may:
            self.invented.append((self.clock.seconds, run.channel, code, shown))
        for code in held & must:
            kind = "link lost to alarm" if code == "silent" else "fault to alarm"
            since = self.clock.seconds - unheard_s if code == "silent" else self.clock.seconds
            if (run.key, code) not in self._due_since:
                self.delays[kind].append(self.clock.seconds - since)
            self._due_since[run.key, code] = since
        for key, code in [item for item in self._due_since if item[0] == run.key and item[1] not in held]:
            del self._due_since[key, code]

    def _miss(self, run, what, shown):
        self.missed.append((self.clock.seconds, run.channel, what, shown))

    def _due(self, run, shown):
        """Findings that the truth asks for, and those that it allows: so near a limit either is right."""
        must, may = set(), set()

        def asks(code, value, limit, near):
            if value > limit + near:
                must.add(code)
            elif value > limit - near:
                may.add(code)

        spread_v = max(shown.cell_v) - min(shown.cell_v)
        lags = (
            sorted(shown.cell_v)[len(shown.cell_v) // 2] - min(shown.cell_v)
            >= max(shown.cell_v) - sorted(shown.cell_v)[len(shown.cell_v) // 2]
        )
        asks("watch_cell_lags" if lags else "watch_cell_leads", spread_v, SPREAD_LOOK_V, SURE_V)
        may |= {"watch_cell_lags", "watch_cell_leads"} if spread_v > SPREAD_LOOK_V - SURE_V else set()
        if shown.temperature_c < HOT_CARE_C - SURE_K:
            asks("watch_warm", shown.temperature_c, AIR_C + WARMER_C, SURE_K)
        else:
            asks("watch_hot", shown.temperature_c, HOT_CARE_C, SURE_K)
            may.add("watch_warm")
        stop_v = 11.0
        asks("watch_source_sags", stop_v * SAG_CARE - shown.input_v, 0.0, 0.011)
        if self._must_stop(run, shown, surely=True):
            self._miss(run, "not stopped", shown)
        return must, may

    def _must_stop(self, run, shown, surely):
        """Whether what is true asks for a stop. surely : beyond what rounding leaves open."""
        off = 1 if surely else -1
        spread_v = max(shown.cell_v) - min(shown.cell_v)
        return (
            shown.temperature_c >= HOT_STOP_C + off * SURE_K
            or spread_v > SPREAD_WEAK_V + off * SURE_V
            or shown.input_v < 11.0 - off * 0.011
            or max(shown.cell_v) > run.card.end_v + 0.03 + off * SURE_V
        )

    def _judge_end(self, run, shown):
        """What ended a batch must be true, and its channel off."""
        with self.store.reading() as repository:
            by = [
                event.by for event in repository.runs.events(run.key) if event.act in (Act.STOP.value, Act.FINISH.value)
            ][-1]
        if shown.status is Status.CHARGING:
            self._miss(run, "stopped here, charging there", shown)
        elif by == ITERUM:
            if not self._must_stop(run, shown, surely=False):
                self.invented.append((self.clock.seconds, run.channel, "a stop", shown))
            self.delays["must stop to off"].append(0.0)
        elif shown.status not in (Status.DONE, Status.STOPPED):
            self.invented.append((self.clock.seconds, run.channel, f"an end by {by}", shown))
