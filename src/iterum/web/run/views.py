"""What the run page shows: the step in hand, the charge card, what is wrong."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from iterum.core.electrical.joining import PORT, joining
from iterum.core.reading.numbers import figure_of
from iterum.core.say import Words, say
from iterum.core.season.cautions import FALLS_BACK, cautions_at
from iterum.core.season.records import KeptEvent, KeptFinding, KeptRun
from iterum.core.season.run import LIVE, LOOKS, OPEN, SKIPPABLE, Act, State
from iterum.core.season.watching import Alarm, next_check_min
from iterum.core.things.choice import Kind
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.session import Session
from iterum.services.running import RunLook
from iterum.web.match.join import JoinStep, join_steps
from iterum.web.pictures import charge_card

STEPS = (
    (Act.INSPECT, Words("Inspect")),
    (Act.PLUG_IN, Words("Plug in")),
    (Act.EVEN_OUT, Words("Equalise")),
    (Act.READ_BACK, Words("Confirm settings")),
    (Act.START, Words("Charge")),
    (Act.CHECK, Words("Check after")),
)
START_WORDS = {Kind.BALANCE: Words("Balance"), Kind.DOWN: Words("Discharge")}
"""What stands for "Charge" where nothing is filled."""


@dataclass(frozen=True)
class RunStep:
    """One step of the six: done, skipped, here, or to come."""

    name: str
    how: str


@dataclass(frozen=True)
class RunPage:
    """Everything the page shows of one run."""

    look: RunLook
    packs: tuple[Pack, ...]
    steps: tuple[RunStep, ...]
    act: Act | None
    skippable: bool
    cautions: tuple[str, ...]
    looks: tuple[str, ...]
    plugs: tuple[JoinStep, ...]
    wait_s: float
    wrong: tuple[KeptFinding, ...]
    card: charge_card.ChargeCard | None
    small: charge_card.ChargeCard | None
    panels: tuple[charge_card.CellPanel, ...]
    next_check_at: datetime | None
    check_late: bool
    full_at: datetime | None
    balanced_at: datetime | None
    put_in_mah: float | None
    names: Mapping[str, str]
    felt: Mapping[str, str]

    @property
    def live(self) -> bool:
        """Whether amps flow, or would if somebody went on."""
        return self.look.run.state in LIVE

    @property
    def over(self) -> bool:
        """Whether nobody has anything to do any more."""
        return self.look.run.state not in OPEN


def wrongs(findings: Sequence[KeptFinding]) -> tuple[KeptFinding, ...]:
    """Findings, the worst first."""
    order = list(Alarm)
    return tuple(sorted(findings, key=lambda item: -order.index(item.finding.alarm)))


def run_page(look: RunLook, session: Session, now: datetime) -> RunPage:
    """Everything the page shows."""
    run = look.run
    by_id = {pack.id: pack for pack in session.packs}
    packs = tuple(by_id[tag] for tag in run.packs if tag in by_id)
    act = run.next_act
    plugs, wait_s = _joining(packs, look, session)
    waited_s = (now - run.state_at).total_seconds() if run.state is State.PLUGGED_IN else 0.0
    card = small = None
    next_at = full_at = balanced_at = None
    late = False
    if run.expected is not None and look.outlook is not None and run.charging_at is not None:
        seen = [item.seen for item in look.seen]
        due_min = next_check_min(seen)
        if run.state in LIVE:
            next_at = now + timedelta(minutes=due_min - look.minute)
            late = due_min < look.minute
            full_at = now + timedelta(minutes=look.outlook.left_min)
            balanced_at = full_at + timedelta(minutes=run.expected.balance_min)
        begun = now - timedelta(minutes=look.minute) if run.state in LIVE else run.charging_at
        drawn: dict[str, Any] = {"expected": run.expected, "seen": seen, "ahead": look.outlook, "minute": look.minute,
                                 "charging_at": begun, "next_check_min": due_min}  # fmt: skip
        if run.kind is Kind.CHARGE:
            card = charge_card.draw(**drawn)
            small = charge_card.draw(**drawn, width=charge_card.PHONE_WIDTH)
    put_in = [item.seen.charge_mah for item in look.seen if item.seen.charge_mah is not None]
    board, place = session.kit.board(run.board), session.kit.channel(run.channel)
    channel = place[1] if place else None
    board_name = (board.name or board.id) if board else run.board or ""
    return RunPage(
        look=look,
        packs=packs,
        steps=_steps(run, look.events),
        act=act,
        skippable=act in SKIPPABLE,
        cautions=_cautions(run, act, session),
        looks=LOOKS,
        plugs=plugs,
        wait_s=max(wait_s - waited_s, 0.0),
        wrong=wrongs([item for item in look.findings if run.state in LIVE or item.finding.alarm is Alarm.STOP]),
        card=card,
        small=small,
        panels=charge_card.panels(run.expected, [item.seen for item in look.seen]) if run.expected else (),
        next_check_at=next_at,
        check_late=late,
        full_at=full_at,
        balanced_at=balanced_at,
        put_in_mah=put_in[-1] if put_in else None,
        names={
            run.board or "": board_name,
            run.channel: (channel.name or channel.id) if channel else run.channel or board_name,
        },
        felt={tag: "" for tag in run.packs}
        | {item.seen.pack_id: item.seen.touch for item in look.seen if item.seen.pack_id and item.seen.touch},
    )


def _cautions(run: KeptRun, act: Act | None, session: Session) -> tuple[str, ...]:
    """What to mind at this step; of a bank that drops its volts, until amps flow."""
    if act is None:
        return ()
    source = next((item for item in session.kit.sources if item.id == run.source), None)
    falls_back = source is not None and source.falls_back and act in (Act.PLUG_IN, Act.READ_BACK, Act.START)
    return (*(cautions_at(FALLS_BACK) if falls_back else ()), *cautions_at(act.value))


def _joining(packs: Sequence[Pack], look: RunLook, session: Session) -> tuple[tuple[JoinStep, ...], float]:
    """The plugs in their order and how long to wait after the last, by the volts with which the packs came."""
    run = look.run
    wait_s = run.card.evens_out_min * 60
    if len(packs) < 2 or run.state not in (State.PLANNED, State.INSPECTED, State.PLUGGED_IN):
        return (), wait_s
    if any(pack.reading is None for pack in packs):
        return (), wait_s
    board = session.kit.board(run.board)
    rate_c = run.rate_c if run.kind is Kind.CHARGE else 0.0
    verdict = joining(packs, session.rules, board.port if board else PORT, rate_c)
    return join_steps(verdict, session.rules, run.kind), wait_s


def _steps(run: KeptRun, events: Sequence[KeptEvent]) -> tuple[RunStep, ...]:
    done = {event.act: event.skipped for event in events}
    evens_out = run.card.evens_out_min > 0
    here = run.next_act
    steps = []
    for act, name in STEPS:
        if act is Act.EVEN_OUT and not evens_out:
            continue
        if run.kind is Kind.EVEN_OUT and act in (Act.READ_BACK, Act.START):
            continue
        name = START_WORDS.get(run.kind, name) if act is Act.START else name  # noqa: PLW2901
        how = "skipped" if done.get(act.value) else "done" if act.value in done else ""
        if act is here or (act is Act.START and run.state in LIVE):
            how = "here"
        steps.append(RunStep(name, how))
    return tuple(steps)


def reading_from_volts(text: str, cells: int) -> tuple[float, ...]:
    """Cell volts typed in one field: "4.19 4,20 4.19 4.19", or 419 420 .... Raises ValueError with the mend."""
    words = text.replace(";", " ").split()
    if not words:
        return ()
    values = []
    for word in words:
        value = figure_of(word, "V")
        if value is None:
            raise ValueError(say("{word} is no number of volts", word=repr(word)))
        values.append(value / 100 if value > 100 else value)
    if len(values) != cells:
        raise ValueError(say("one value for each of {cells} cells, got {values}", cells=cells, values=len(values)))
    if any(not 0.5 <= value <= 4.6 for value in values):
        raise ValueError(say("a cell has 0.5 to 4.6 V"))
    return Reading.of_cells(tuple(values)).cell_v
