"""What the bench shows: a row for each channel with what hangs on it, and the day from now on."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from iterum.core.planning.batches import later
from iterum.core.planning.record import KeptPlan
from iterum.core.say import Words, say
from iterum.core.season.agenda import Do, InHand, ToDo
from iterum.core.season.run import BEFORE_CHARGE, LIVE, Act, State
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.kit import Kit
from iterum.core.things.session import Wish
from iterum.exchange.heats import Heat
from iterum.services.running import RunLook
from iterum.web.pictures import lanes
from iterum.web.words import doing, few_tags
from iterum.wording import plain

STEP_WORDS = {
    Act.INSPECT: Words("Inspect"),
    Act.PLUG_IN: Words("Plug in"),
    Act.EVEN_OUT: Words("Equalise"),
    Act.READ_BACK: Words("Confirm settings"),
    Act.START: Words("Start"),
    Act.CHECK: Words("Remove, then measure"),
}
KIND_WORDS = {Kind.DOWN: Words("discharging"), Kind.BALANCE: Words("balancing"), Kind.EVEN_OUT: Words("equalising")}


@dataclass(frozen=True)
class Row:
    """One channel. state, below : in words. due : whether hands are needed there now. live : whether it may be stopped.

    key : of the batch that hangs on it, None for a channel that is free. next_choice : what goes on a free one next.
    """

    place: str
    name: str
    watts: str
    packs: tuple[str, ...]
    board: str
    state: str
    below: str
    due: bool = False
    live: bool = False
    key: int | None = None
    seen_state: str = ""
    bars: tuple[lanes.LaneBar, ...] = ()
    next_choice: Choice | None = None


@dataclass(frozen=True)
class BenchPage:
    """Rows of the channels, the lanes, and what charges. checks_at : when the next check round is due, None where
    nothing charges. energy : of the sources, in words. parted : where plan and bench differ, empty where they do not.
    stored_at : when every pack is at its storage volts, None before the evening.
    """

    rows: tuple[Row, ...]
    lanes: lanes.Lanes
    live: tuple[InHand, ...]
    checks_at: datetime | None
    energy: str
    parted: str
    stored_at: datetime | None


@dataclass(frozen=True)
class Seen:
    """What is known of the bench at one moment."""

    in_hand: Sequence[InHand]
    looks: Mapping[int, RunLook]
    todos: Sequence[ToDo]
    kept: KeptPlan | None
    heats: Sequence[Heat]
    left_wh: float
    whole_wh: float


def bench_page(kit: Kit, seen: Seen, now: datetime, parted: str) -> BenchPage:
    """Everything the page shows."""
    names = {item.id: item.name or item.id for item in kit.all_boards()}
    names |= {channel.id: channel.name or channel.id for _, channel in kit.channels()}
    waiting = [todo.batch for todo in seen.todos if todo.do is Do.SWAP and todo.batch is not None]
    stored = [todo.batch for todo in seen.todos if todo.do is Do.STORE and todo.batch is not None]
    planned = list(enumerate(stored))
    if seen.kept is not None:
        from_now = seen.kept.minute(now)
        planned += [
            (number, later(batch, -from_now)) for number, batch in enumerate(seen.kept.plan.batches) if batch in waiting
        ]
    drawn = lanes.draw(
        lanes.Day(
            in_hand=[item for item in seen.in_hand if item.run.state in LIVE],
            planned=planned,
            heats=_heats_of(seen, now),
            visits=[(todo.at - now) / timedelta(minutes=1) for todo in seen.todos if todo.do is not Do.FLY],
            left_wh=seen.left_wh,
            whole_wh=seen.whole_wh,
        ),
        now,
        names,
    )
    rows = [
        _row(channel.id, names, f"{plain(channel.max_power_w)} W" if channel.max_power_w else "", seen, drawn, now)
        for _, channel in kit.channels()
    ]
    broken = {channel.id for charger, channel in kit.channels() if charger.failed}
    rows = [replace(row, state=say("Failed")) if row.place in broken and row.key is None else row for row in rows]
    known = {channel.id for _, channel in kit.channels()}
    others = dict.fromkeys(item.run.place for item in seen.in_hand if item.run.place not in known)
    rows += [_row(place, names, "board", seen, drawn, now) for place in others]
    live = tuple(item for item in seen.in_hand if item.run.state in LIVE)
    due = [item.check_at for item in live if item.check_at is not None]
    stored_at = now + timedelta(minutes=max(batch.end_min for batch in stored)) if stored else None
    return BenchPage(tuple(rows), drawn, live, min(due, default=None), _energy(kit, seen), parted, stored_at)


def _heats_of(seen: Seen, now: datetime) -> list[tuple[datetime, Wish, int, bool]]:
    """Heats with the packs that the plan has for each."""
    planned = {(todo.heat, todo.at): todo for todo in seen.todos if todo.do in (Do.FLY, Do.GIVEN_UP)}
    heats = []
    for heat in seen.heats:
        todo = planned.get((heat.wish.name or "", heat.at))
        have = len(todo.packs) if todo else 0
        if heat.wish.is_heat and heat.at + timedelta(minutes=heat.wish.fly_min or 0) > now:
            if seen.kept is None or heat.at <= now:  # nothing is known against it
                have = heat.wish.count
            heats.append((heat.at, heat.wish, have, have >= heat.wish.count))
    return heats


def _energy(kit: Kit, seen: Seen) -> str:
    """What the sources have left, and what they can give, in words."""
    finite = [source.name or source.id for source in kit.sources if source.usable_wh is not None]
    told = (
        [
            say(
                "{finite:list}: {left_wh:.0f} of {whole_wh:.0f} Wh left",
                finite=finite,
                left_wh=seen.left_wh,
                whole_wh=seen.whole_wh,
            )
        ]
        if finite
        else []
    )
    told += [
        f"{source.name or source.id}: {source.power_limit_w:.0f} W"
        for source in kit.sources
        if source.usable_wh is None and source.power_limit_w is not None
    ]
    return " · ".join(told)


def _row(
    place: str, names: Mapping[str, str], watts: str, seen: Seen, drawn: lanes.Lanes, now: datetime
) -> Row:  # fmt: skip
    name, bars = names.get(place, place), drawn.bars.get(place, ())
    mine = [item for item in seen.in_hand if item.run.place == place]
    if not mine:
        starts = [todo for todo in seen.todos if todo.batch is not None and todo.batch.channel == place]
        first = min(starts, key=lambda todo: todo.at, default=None)
        if first is None or first.batch is None:
            return Row(place, name, watts, (), "", say("Free"), "", bars=bars)
        below = say("{packs} at {at:%H:%M}", packs=few_tags(first.batch.packs), at=first.at.astimezone())
        choice = first.batch.choice if first.do is Do.SWAP else None
        return Row(place, name, watts, (), "", say("Free"), below, bars=bars, next_choice=choice)
    item = mine[-1]
    run = item.run
    board = names.get(run.board, run.board) if run.board and run.board != place else ""
    state, below, due = _state(item, seen.looks.get(run.key), now)
    return Row(
        place, name, watts, run.packs, board, state, below, due, run.state in LIVE, run.key, run.state.value, bars
    )


def _state(item: InHand, look: RunLook | None, now: datetime) -> tuple[str, str, bool]:
    """A batch in words, a line below, and whether hands are needed there now."""
    run = item.run
    if run.state in BEFORE_CHARGE:
        act = run.next_act or Act.INSPECT
        since = say("since {state_at:%H:%M}", state_at=run.state_at.astimezone())
        if act is Act.EVEN_OUT and run.state is State.PLUGGED_IN:
            ends_at = run.state_at + timedelta(minutes=run.card.evens_out_min)
            if ends_at > now:
                return say("Equalising"), say("until {ends_at:%H:%M}", ends_at=ends_at.astimezone()), False
        return say(STEP_WORDS[act]), since, True
    if run.state in (State.DONE, State.STOPPED):
        since = say("since {ended_at:%H:%M}", ended_at=(run.ended_at or run.state_at).astimezone())
        word = say("Stopped") if run.stopped else say("Full") if run.kind is Kind.CHARGE else say("Done")
        return say("{state} · remove", state=word), since, True
    if look is None or look.outlook is None:
        return doing(run), "", False
    shown = look.latest if look.latest is not None and look.heard else None
    volts = shown.pack_v / run.card.cells if shown is not None and shown.pack_v else look.outlook.now_v
    parts = [say("{volts:.2f} V/cell", volts=volts)]
    if shown is not None and shown.temperature_c is not None:
        parts.append(f"{shown.temperature_c:.0f} °C")
    if shown is None:
        parts.append(say("not watched"))
    if run.kind is not Kind.CHARGE:
        parts.insert(0, say(KIND_WORDS[run.kind]) if run.kind in KIND_WORDS else "")
    word = say("Paused") if run.state is State.PAUSED else f"{max(round(look.outlook.left_min), 0)} min"
    if look.outlook.full and run.state is not State.PAUSED:
        word = say("Full") if run.kind is Kind.CHARGE else say("Done")
    return word, " · ".join(part for part in parts if part), False
