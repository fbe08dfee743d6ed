"""A batch from plan to log: its states, which act leads where, and what must be said before each.

The table `ACTS` is all there is to it; the diagram in the docs is drawn from it.
"""

from enum import StrEnum

from iterum.core.reasons import Unsafe, reason
from iterum.core.things.choice import Kind


class State(StrEnum):
    """Where a batch is."""

    PLANNED = "planned"
    INSPECTED = "inspected"
    PLUGGED_IN = "plugged in"
    EVENED_OUT = "evened out"
    READ_BACK = "set and read back"
    CHARGING = "charging"
    PAUSED = "paused"
    STOPPED = "stopped"
    DONE = "done"
    CHECKED = "checked after"
    DROPPED = "given up"


class Act(StrEnum):
    """What a person (or, for `finish` and `stop`, the charger) does."""

    INSPECT = "inspect"
    PLUG_IN = "plug in"
    EVEN_OUT = "even out"
    READ_BACK = "read back"
    START = "start"
    PAUSE = "pause"
    RESUME = "resume"
    STOP = "stop"
    FINISH = "finish"
    CHECK = "check after"
    DROP = "give up"


class Status(StrEnum):
    """What a channel says it does."""

    IDLE = "idle"
    CHARGING = "charging"
    DONE = "done"
    STOPPED = "stopped"
    FAULT = "fault"


S, A = State, Act
ACTS: dict[tuple[State, Act], State] = {
    (S.PLANNED, A.INSPECT): S.INSPECTED,
    (S.INSPECTED, A.PLUG_IN): S.PLUGGED_IN,
    (S.PLUGGED_IN, A.EVEN_OUT): S.EVENED_OUT,
    (S.EVENED_OUT, A.READ_BACK): S.READ_BACK,
    (S.PLUGGED_IN, A.READ_BACK): S.READ_BACK,
    (S.READ_BACK, A.START): S.CHARGING,
    (S.CHARGING, A.PAUSE): S.PAUSED,
    (S.PAUSED, A.RESUME): S.CHARGING,
    (S.CHARGING, A.FINISH): S.DONE,
    (S.CHARGING, A.STOP): S.STOPPED,
    (S.PAUSED, A.STOP): S.STOPPED,
    (S.DONE, A.CHECK): S.CHECKED,
    (S.STOPPED, A.CHECK): S.CHECKED,
    (S.PLANNED, A.DROP): S.DROPPED,
    (S.INSPECTED, A.DROP): S.DROPPED,
    (S.PLUGGED_IN, A.DROP): S.DROPPED,
    (S.EVENED_OUT, A.DROP): S.DROPPED,
    (S.READ_BACK, A.DROP): S.DROPPED,
}
"""From which state which act leads where; whatever is not here cannot be done."""
WITHOUT_CHARGER = {
    (S.EVENED_OUT, A.CHECK): S.CHECKED,
    **{step: to for step, to in ACTS.items() if step[1] not in (A.READ_BACK, A.START)},
}
"""The same for packs that only even out on a board: then they are measured again."""

CHARGER_DID: dict[tuple[State, Status], Act] = {
    (S.CHARGING, Status.DONE): A.FINISH,
    (S.CHARGING, Status.STOPPED): A.STOP,
    (S.CHARGING, Status.FAULT): A.STOP,
    (S.CHARGING, Status.IDLE): A.STOP,
    (S.PAUSED, Status.CHARGING): A.RESUME,
    (S.READ_BACK, Status.CHARGING): A.START,
}
"""What a charger has done by itself, by the state of the batch and what the channel shows."""

SKIPPABLE = frozenset({A.INSPECT, A.EVEN_OUT, A.READ_BACK, A.CHECK})
"""Acts that may be skipped; a skip is a choice, and is written down as one."""
BEFORE_CHARGE = (S.PLANNED, S.INSPECTED, S.PLUGGED_IN, S.EVENED_OUT, S.READ_BACK)
LIVE = (S.CHARGING, S.PAUSED)
OPEN = (*BEFORE_CHARGE, *LIVE, S.DONE, S.STOPPED)
"""States in which somebody still has something to do."""
ON_BOARD = (S.PLUGGED_IN, S.EVENED_OUT, S.READ_BACK, *LIVE)
"""States in which its packs hang on channel and board."""


def _acts(kind: Kind) -> dict[tuple[State, Act], State]:
    return WITHOUT_CHARGER if kind is Kind.EVEN_OUT else ACTS


def after(state: State, act: Act, skipped: bool = False, evens_out: bool = True, kind: Kind = Kind.CHARGE) -> State:
    """The state after an act. Raises Unsafe where it cannot be done now, or may not be skipped.

    evens_out : whether there is anything to even out; a pack alone, and packs that need no wait, are read back at once.
    kind : what the batch is there for.
    """
    too_soon = evens_out and (state, act) == (State.PLUGGED_IN, Act.READ_BACK)
    if (state, act) not in _acts(kind) or too_soon:
        raise Unsafe((reason("act_not_now", act=act.value, state=state.value),))
    if skipped and act not in SKIPPABLE:
        raise Unsafe((reason("act_not_skipped", act=act.value),))
    return _acts(kind)[state, act]


def next_act(state: State, evens_out: bool = True, kind: Kind = Kind.CHARGE) -> Act | None:
    """The act that leads on from a state, None where it waits for the charger or is over.

    evens_out : whether there is anything to even out. kind : what the batch is there for.
    """
    aside = {Act.DROP, Act.STOP, Act.PAUSE, Act.FINISH, *(() if evens_out else (Act.EVEN_OUT,))}
    onward = [act for (at, act) in _acts(kind) if at is state and act not in aside]
    return onward[0] if onward else None


def diagram() -> str:
    """The table as a Mermaid state diagram, for the docs."""
    names = {state: state.name.lower() for state in State}
    lines = ["stateDiagram-v2", "    [*] --> planned"]
    lines += [f"    state {chr(34)}{state.value}{chr(34)} as {names[state]}" for state in State if " " in state.value]
    lines += [f"    {names[low]} --> {names[high]}: {act.value}" for (low, act), high in ACTS.items()]
    return "\n".join([*lines, "    checked --> [*]", "    dropped --> [*]"])


# ---------------------------------------------------------------------------------------- inspecting

LOOKS = ("look_flat", "look_skin", "look_leads", "look_dry", "look_cool")
"""What to look at on every pack before it is charged (common practice, no source); each is a question in wording."""
