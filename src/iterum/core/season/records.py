"""What is kept of batches: runs, acts, readings, findings, incidents, logged charges."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from iterum.core.season.health import ChargeRecord
from iterum.core.season.outlook import Expected, Observation
from iterum.core.season.run import OPEN, Act, State, next_act
from iterum.core.season.watching import Finding
from iterum.core.sizing.dial import DialCard
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.packs import Reading


@dataclass(frozen=True)
class KeptReading:
    """A reading as it was written down. `corrected_by` is the key of the reading that replaced it, if any."""

    key: int
    pack_id: str
    reading: Reading
    entered_at: datetime
    origin: str
    corrects: int | None
    corrected_by: int | None

    @property
    def read_at(self) -> datetime:
        """When it was read: its own time, or that of writing it down where it has none."""
        return self.reading.taken_at or self.entered_at


@dataclass(frozen=True)
class KeptRun:
    """One batch in hand, or over. before_v : rest volts of each pack's cells, by tag, as it went on.

    choice : what was chosen, whole. source, source_part : what it is charged from, and the part of its Wh that arrives.
    stopped : whether its charge was stopped before it had ended by itself. channel : empty where packs only even out.
    """

    key: int
    begun_at: datetime
    packs: tuple[str, ...]
    family: str
    board: str | None
    channel: str
    current_a: float
    rate_c: float
    card: DialCard
    expected: Expected | None
    before_v: Mapping[str, tuple[float, ...]]
    state: State
    state_at: datetime
    charging_at: datetime | None
    paused_min: float
    ended_at: datetime | None
    driven: bool
    heard_at: datetime | None
    choice: Choice
    source: str | None
    source_part: float
    stopped: bool
    kind: Kind = Kind.CHARGE
    tended_by: str | None = None
    """The pilot who sees to it, where it holds packs of several."""

    @property
    def place(self) -> str:
        """Tag of its channel; of its board where no channel has it."""
        return self.channel or self.board or ""

    @property
    def next_act(self) -> Act | None:
        """The act that leads on; None where it waits for the charger or is over."""
        return next_act(self.state, self.card.evens_out_min > 0, self.kind)

    def over_by(self, moment: datetime) -> bool:
        """Whether its charge had ended, or it was given up, before a moment."""
        over_at = self.ended_at or (None if self.state in OPEN else self.state_at)
        return over_at is not None and over_at < moment

    def minute(self, moment: datetime) -> float:
        """Minutes of charging at a moment, pauses left out; 0 before it began."""
        if self.charging_at is None:
            return 0.0
        until = self.ended_at or (self.state_at if self.state is State.PAUSED else moment)
        return max((until - self.charging_at) / timedelta(minutes=1) - self.paused_min, 0.0)


@dataclass(frozen=True)
class KeptEvent:
    """One act, as it was done or skipped, by whom."""

    run_key: int
    at: datetime
    act: str
    state: State
    skipped: bool
    by: str
    note: str | None


@dataclass(frozen=True)
class KeptObservation:
    """One reading with its time and origin."""

    key: int
    run_key: int
    at: datetime
    origin: str
    seen: Observation


@dataclass(frozen=True)
class KeptFinding:
    """A finding since when, and when it held last. gone_at : None while it holds; seen_at : when somebody said so."""

    key: int
    run_key: int
    finding: Finding
    since: datetime
    last: datetime
    gone_at: datetime | None
    seen_at: datetime | None


@dataclass(frozen=True)
class Incident:
    """Something went wrong: what was seen, which packs, which runs, which of them Iterum could stop."""

    at: datetime
    kind: str
    packs: tuple[str, ...]
    runs: tuple[int, ...]
    stopped: tuple[str, ...]
    note: str | None = None


@dataclass(frozen=True)
class KeptFlight:
    """Who flew in a heat, as somebody said. at : when it was said. name : of the heat, None for one without."""

    at: datetime
    heat_at: datetime
    family: str
    name: str | None
    packs: tuple[str, ...]
    pilot: str | None = None


@dataclass(frozen=True)
class LoggedCharge:
    """One charge of one pack in the log."""

    key: int
    pack_id: str
    run_key: int | None
    origin: str
    record: ChargeRecord
