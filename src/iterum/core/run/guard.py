"""What may happen on one channel while packs hang on it, and what a reading says against that.

Theory of operation. A channel is *armed* when packs are plugged in, and stays armed until a
person says that they are off, whatever the charger claims meanwhile. Everything needed to judge
it is the batch itself (its confirmed card, its prediction, its state) and a `Memory` of what was
read, so no store is asked. Three questions are answered here:

1. `may_flow_a`: how many amps may flow now? None worth speaking of (`IDLE_A`) before the settings are confirmed and
   after the charge has ended; the amps that were set, with the tolerance of two meters, in
between.
2. `judge`: what is wrong? Current, settings, cell count and counters are judged here; volts, heat, charge and time by
   `season.watching`. What a person typed counts like what a charger shows.
3. `followed`: what did the charger do by itself? It has ended a charge only when no amps flow any more.

A channel without a batch has no limits of its own. There no amps may flow at all: nobody
confirmed any settings.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from iterum.core.quantities import at_most
from iterum.core.reasons import Reason, reason
from iterum.core.season.figures import not_true
from iterum.core.season.outlook import Observation
from iterum.core.season.read_back import END_TOLERANCE_V
from iterum.core.season.records import KeptRun
from iterum.core.season.run import ACTS, CHARGER_DID, LIVE, ON_BOARD, Act, State, Status
from iterum.core.season.watching import Alarm, Finding, at_any_time, findings, touched, worst_first
from iterum.core.things.choice import Kind

IDLE_A = 0.05
"""Amps that a channel may show when it does not charge: the least that chargers of this trade
tell apart from none.
"""
AMPS_PART, AMPS_OVER_A = 0.10, 0.10
"""Amps may read so much over those set, a part and amps: a charger's meter and its step. Common
practice, no source.
"""
SET_OVER_A = 0.051
"""Amps that a channel is set to may be over those of the card by rounding to its step."""
BACK_MAH, BACK_PART, BACK_MIN = 5.0, 0.02, 0.2
"""A counter that falls by more than this has started again: rounding alone does not do that."""
KEEP_EVERY = timedelta(seconds=5)
"""A channel is read every second, and its readings are kept this often, or when something
changes.
"""
NICKEL_END_V = 1.6
"""V per cell that a charger is given for a charge that ends by a drop: above what a nickel cell
reaches.
"""
ARMED = (*ON_BOARD, State.DONE, State.STOPPED)
"""States in which packs hang on a channel, and its limits are live."""
CONFIRMED = (State.READ_BACK, *LIVE)
"""States in which the settings are confirmed and the charge has not ended."""


@dataclass(frozen=True)
class ChannelReading:
    """What a channel shows at one moment, as its device tells it.

    cells : as counted at the balance plug, 0 for none. minutes : since it started, by its own
    clock. set_a, set_end_v : what it is set to, None where it does not tell. why : of a fault or
    a stop. counts_cells : whether its count of cells means anything; a meter without cell leads
    has none.
    """

    status: Status
    cells: int
    pack_v: float
    current_a: float
    charge_mah: float
    minutes: float
    cell_v: tuple[float, ...] = ()
    temperature_c: float | None = None
    input_v: float | None = None
    set_a: float | None = None
    set_end_v: float | None = None
    why: str | None = None
    counts_cells: bool = True

    @property
    def flows(self) -> bool:
        """Whether amps flow, either way."""
        return not at_most(abs(self.current_a), IDLE_A)

    @property
    def off(self) -> bool:
        """Whether it does not charge: it does not say so, and no amps flow."""
        return self.status is not Status.CHARGING and not self.flows


@dataclass
class Memory:
    """What was read of one batch, the newest last.

    seen : readings that are kept, of the channel and of a person, in the order of time. last :
    what the channel showed last that can be true, asked at `last_at`. untrue : why what it shows
    cannot be true. restarted : what its counters said before and after they fell. before_mah :
    charge of counts that were started again.
    """

    seen: list[Observation] = field(default_factory=list)
    last: ChannelReading | None = None
    last_at: datetime | None = None
    untrue: Reason | None = None
    restarted: tuple[ChannelReading, ChannelReading] | None = None
    before_mah: float = 0.0
    latest: Observation | None = None
    _kept_at: datetime | None = None

    def counts_anew(self) -> None:
        """A person started the channel: it may count from 0 again."""
        if self.last is not None and self.last.status is not Status.CHARGING:
            self.last = None
        self.restarted = None

    def take(self, run: KeptRun, shown: ChannelReading, at: datetime) -> Observation | None:
        """Remember what a channel shows; the reading to keep, None where the one before is still
        fresh.

        at : when it was asked for. What cannot be true is only remembered as such.
        """
        self.untrue = untrue(run, shown)
        if self.untrue is not None:
            return None
        if self.last is not None and _fell(self.last, shown):
            self.before_mah += self.last.charge_mah
            if run.state in LIVE and not shown.off:  # one that stopped may have forgotten its count
                self.restarted = (self.last, shown)
        changed = self.last is None or self.last.status is not shown.status
        self.last, self.last_at = shown, at
        self.latest = Observation(
            run.minute(at), shown.pack_v, shown.current_a, self.before_mah + shown.charge_mah, shown.cell_v,
            shown.temperature_c, shown.input_v,
        )  # fmt: skip
        fresh = self._kept_at is not None and at - self._kept_at < KEEP_EVERY
        if run.state not in LIVE or shown.status not in (Status.CHARGING, Status.DONE) or (fresh and not changed):
            return None
        self._kept_at = at
        self.seen.append(self.latest)
        return self.latest

    def observations(self) -> list[Observation]:
        """Everything read so far in the order of time, what the channel shows now included."""
        seen = list(self.seen)
        if self.latest is not None and not any(item is self.latest for item in seen[-9:]):
            seen.append(self.latest)
        return sorted(seen, key=lambda item: item.at_min)

    @property
    def has_flowed(self) -> bool:
        """Whether amps were read on the channel during this batch."""
        read = [item.current_a for item in (*self.seen, self.latest) if item is not None and not item.by_hand]
        return any(not at_most(abs(current_a or 0.0), IDLE_A) for current_a in read)


def _fell(before: ChannelReading, shown: ChannelReading) -> bool:
    """Whether the counters of a channel went backwards between two readings."""
    back_mah = max(BACK_MAH, BACK_PART * before.charge_mah)
    return shown.charge_mah < before.charge_mah - back_mah or shown.minutes < before.minutes - BACK_MIN


def untrue(run: KeptRun, shown: ChannelReading) -> Reason | None:
    """Why what a channel shows cannot be true of its batch; None where it can."""
    leads = len(shown.cell_v)
    cells = shown.cells if leads and leads == shown.cells else run.card.cells  # another count is judged, not doubted
    return not_true(cells, shown.pack_v, shown.current_a, shown.charge_mah, shown.cell_v, shown.temperature_c,
                    shown.input_v, shown.minutes)  # fmt: skip


def may_flow_a(run: KeptRun | None) -> float:
    """The most amps that a reading of a channel may show now. None: no batch hangs on it."""
    if run is None or run.state not in CONFIRMED:
        return IDLE_A
    return run.current_a * (1 + AMPS_PART) + AMPS_OVER_A


def followed(run: KeptRun, shown: ChannelReading) -> Act | None:
    """What a channel has done by itself, by what it shows now; None for nothing new.

    It has ended a charge only when no amps flow, whatever it says.
    """
    act = CHARGER_DID.get((run.state, shown.status))
    return None if act in (Act.FINISH, Act.STOP) and shown.flows else act


def after_it(run: KeptRun, act: Act, now: datetime) -> KeptRun:
    """The batch after an act that its charger, or Iterum, did."""
    state = ACTS.get((run.state, act), run.state)
    if state is run.state:
        return run
    changed = replace(run, state=state, state_at=now)
    if act is Act.START:
        return replace(changed, charging_at=now)
    if act is Act.RESUME:
        return replace(changed, paused_min=run.paused_min + (now - run.state_at) / timedelta(minutes=1))
    if act in (Act.STOP, Act.FINISH):
        paused_min = (now - run.state_at) / timedelta(minutes=1) if run.state is State.PAUSED else 0.0
        return replace(changed, ended_at=now, paused_min=run.paused_min + paused_min, stopped=act is Act.STOP)
    return changed


# ---------------------------------------------------------------------------------------- judging


def judge(
    run: KeptRun, memory: Memory, now: datetime, heard_at: datetime | None = None, linked: bool = False
) -> tuple[Finding, ...]:
    """Everything that is wrong with an armed batch now, the worst first.

    heard_at : when its channel last showed what can be true; None where it never did. linked :
    whether a device tells of its channel at all.
    """
    seen = memory.observations()
    signs: list[Finding] = []
    if run.expected is not None and run.state in LIVE:
        heard_min = (run.minute(heard_at) if heard_at is not None else 0.0) if linked else None
        signs += findings(run.expected, seen, run.minute(now), run.state is State.PAUSED, heard_min)
    elif run.expected is not None:
        signs += at_any_time(run.expected, seen)
    else:
        signs += touched(seen)
    signs += _amps_typed(run, seen)
    if memory.last is not None:
        signs += against_card(run, memory.last)
    if memory.restarted is not None:
        before, after = memory.restarted
        signs.append(_stop("guard_counts_back", before_mah=before.charge_mah, after_mah=after.charge_mah,
                           before_min=before.minutes, after_min=after.minutes))  # fmt: skip
    if memory.untrue is not None:
        signs.append(Finding(Alarm.CARE, memory.untrue, reason("do_look_at_charger")))
    return worst_first(signs)


def against_card(run: KeptRun | None, shown: ChannelReading) -> list[Finding]:
    """What a channel does that its batch does not allow. None: no batch hangs on it."""
    return [*_current(run, shown), *(_settings(run, shown) if run is not None and run.kind is Kind.CHARGE else ())]


def _stop(code: str, **numbers: object) -> Finding:
    return Finding(Alarm.STOP, reason(code, **numbers), reason("do_stop_and_measure"))


def _current(run: KeptRun | None, shown: ChannelReading) -> Iterator[Finding]:
    """Amps where none may flow, more than were set, or the wrong way."""
    if not shown.flows:
        return
    if run is None:
        yield _stop("guard_no_batch", current_a=shown.current_a)
    elif run.state not in CONFIRMED:
        yield _stop("guard_not_allowed", current_a=shown.current_a, state=run.state.value)
    elif run.kind is Kind.CHARGE and shown.status is not Status.CHARGING:
        yield _stop("guard_claims", current_a=shown.current_a, status=shown.status.value)
    elif run.kind is Kind.CHARGE and shown.current_a < 0:
        yield _stop("guard_backwards", current_a=-shown.current_a)
    elif not at_most(abs(shown.current_a), may_flow_a(run)):
        yield _stop("guard_amps_over", current_a=abs(shown.current_a), set_a=run.current_a)


def _amps_typed(run: KeptRun, seen: Sequence[Observation]) -> Iterator[Finding]:
    """Amps that a person read off the charger."""
    typed = [item for item in seen if item.by_hand and item.current_a is not None and item.pack_id is None]
    if typed and run.state in CONFIRMED and not at_most(abs(typed[-1].current_a or 0.0), may_flow_a(run)):
        yield _stop("guard_amps_over", current_a=abs(typed[-1].current_a or 0.0), set_a=run.current_a)


def _settings(run: KeptRun, shown: ChannelReading) -> Iterator[Finding]:
    """Settings or a cell count that are not those of the card."""
    card = run.card
    charges = shown.status is Status.CHARGING or shown.flows
    counts = shown.counts_cells and (card.end_v is not None or shown.cells != 0)
    if charges and counts and shown.cells != card.cells:
        yield _stop("guard_cells", shown=shown.cells, cells=card.cells)
    if run.state not in CONFIRMED or not charges:
        return
    if shown.set_a is not None and not at_most(shown.set_a, run.current_a + SET_OVER_A):
        yield _stop("guard_set_amps", shown_a=shown.set_a, card_a=run.current_a)
    end_v = NICKEL_END_V if card.end_v is None else card.end_v
    if shown.set_end_v is not None and not at_most(shown.set_end_v, end_v + END_TOLERANCE_V):
        yield _stop("guard_set_end", shown_v=shown.set_end_v, card_v=end_v)
    elif shown.set_end_v is not None and card.end_v is not None and shown.set_end_v < end_v - END_TOLERANCE_V:
        what = reason("guard_set_end_low", shown_v=shown.set_end_v, card_v=end_v)
        yield Finding(Alarm.CARE, what, reason("do_compare_card"))
