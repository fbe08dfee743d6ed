"""Now: what to do next, as the strip tells it on every page and the card shows it on Plan and Charge."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

from flask import g, url_for

from iterum.core.permit.permit import Way, permits
from iterum.core.planning.batches import PlannedBatch
from iterum.core.say import Words, say
from iterum.core.season.agenda import PLANNED, Do, ToDo, rank
from iterum.core.season.outlook import COOL
from iterum.core.season.run import LIVE, Act
from iterum.core.season.storage import gap_of
from iterum.core.things.choice import Choice
from iterum.core.things.packs import Condition, Pack
from iterum.exchange.heats import Heat
from iterum.web.choices import choice_fields
from iterum.web.context import bench, day, desk, now, plan_desk, runs
from iterum.web.pilots import is_theirs, may_act_on, owners
from iterum.web.who import pilot_asking
from iterum.web.words import few_tags
from iterum.wording import family_label

SHOWN = 6
"""The card, and what comes after it."""
LEISURE = timedelta(minutes=10)
"""With so much time there is something else to do meanwhile."""
ACTS = {
    Act.INSPECT: Words("Inspect"),
    Act.PLUG_IN: Words("Plug in"),
    Act.EVEN_OUT: Words("Equalise"),
    Act.READ_BACK: Words("Confirm settings"),
    Act.START: Words("Start"),
}


WAY_WORDS = {
    Way.UP: Words("charge to {target_v:.2f} V/cell"),
    Way.DOWN: Words("discharge to {target_v:.2f} V/cell"),
    Way.BALANCE: Words("balance only, to {target_v:.2f} V/cell"),
}


@dataclass(frozen=True)
class NextUp:
    """One thing to do in words. href : where it is done; begin : the choice that its button takes in hand; later :
    the batch of the plan that may be put off; post : an address that its button asks for a change, with `fields`."""

    at: datetime
    title: str
    short: str
    todo: ToDo | None = None
    off: str = ""
    on: str = ""
    href: str = ""
    button: str = ""
    begin: dict[str, Any] | None = None
    later: int | None = None
    post: str = ""
    note: str = ""
    fields: Mapping[str, str] = field(default_factory=dict)

    @property
    def batch(self) -> PlannedBatch | None:
        """What goes on."""
        return self.todo.batch if self.todo else None

    @property
    def sets_amps(self) -> bool:
        """Whether amps are set for it: balancing alone takes what the balance leads pass."""
        stored = self.todo.stored if self.todo else None
        return self.batch is not None and (stored is None or stored.way is not Way.BALANCE)


def agenda() -> tuple[ToDo, ...]:
    """Everything to be done at the bench; asked for once a request."""
    if "agenda" not in g:
        g.agenda = runs().agenda(now())
    return tuple(g.agenda)


def todos() -> tuple[NextUp, ...]:
    """What is next, and what comes after it; asked for once a request."""
    if "todos" not in g:
        checks = [item for item in agenda() if item.do is Do.CHECK]
        listed = tuple(_in_words(item) for item in agenda() if item.do is not Do.CHECK)
        whole = [*listed, *_check_round(checks), *_untold()]
        place = {id(item): at for at, item in enumerate(listed)}
        first = sum(item.todo is not None and rank(item.todo, now()) < PLANNED for item in listed)
        ahead = sorted(whole[first:], key=lambda item: (not _is_due_check(item), item.at, place.get(id(item), 0)))
        listed = (*listed[:first], *ahead)
        if not listed or listed[0].at > now() + LEISURE:
            listed = (*_at_leisure(bool(listed)), *listed)
        if pilot_asking() is not None:
            listed = _own_first(listed)
        g.todos = listed[:SHOWN]
    return tuple(g.todos)


def _own_first(listed: Sequence[NextUp]) -> tuple[NextUp, ...]:
    """On a pilot's own device: what is that pilot's comes first, and what follows is told without its buttons."""
    own = [item for item in listed if _is_own(item)]
    others = [replace(item, button="", post="", begin=None, later=None) for item in listed if item not in own]
    first = (
        ()
        if own
        else (NextUp(now(), say("Nothing of yours is due"), say("nothing of yours"), href=url_for("bench.page")),)
    )
    return (*first, *own, *others)


def _is_own(item: NextUp) -> bool:
    """Whether it concerns the packs of the pilot whose device asks, or a batch that is theirs to see to."""
    todo, asking = item.todo, pilot_asking()
    if item.fields and item.post == url_for("bench.check_round"):
        return True  # only batches of this pilot are in it
    if todo is None:
        return item.post != url_for("plan.begin")  # what is told by its words alone concerns everybody
    if todo.run is not None and may_act_on(todo.run):
        return True
    packs = todo.batch.packs if todo.batch is not None else todo.packs
    return any(owners().get(tag) == asking for tag in packs)


def untold() -> list[tuple[Heat, tuple[str, ...]]]:
    """Heats that began and of which nobody said who flew, each with who was planned to; asked for once a request."""
    if "untold" not in g:
        g.untold = [(heat, day().planned_for(heat)) for heat in day().untold(now()) if is_theirs(heat)]
    return list(g.untold)


def _check_round(checks: Sequence[ToDo]) -> Iterator[NextUp]:
    """One round for every batch that charges, when the first of them is due: the others are felt with it."""
    if not checks:
        return
    first = min(checks, key=lambda item: item.at)
    live = [run for run in runs().open() if run.state in LIVE and may_act_on(run)]
    if not live:
        return
    names = _names()
    where = ", ".join(names.get(run.place, run.place) for run in live)
    button = say("All {live} cool", live=len(live)) if len(live) > 1 else say("{where} is cool", where=where)
    yield NextUp(first.at, say("Check round: touch every pack"), say("check {where}", where=where), first, on=where,
                 href=url_for("bench.page", _anchor="round"), button=button, post=url_for("bench.check_round"),
                 fields={f"felt-{run.key}": COOL for run in live})  # fmt: skip


def _is_due_check(item: NextUp) -> bool:
    """What charges is looked at before anything else goes on, however late that is."""
    return item.todo is not None and item.todo.do is Do.CHECK and item.at <= now()


def _untold() -> Iterator[NextUp]:
    """Heats that are over and of which nobody has said who flew."""
    for heat, planned in untold():
        over_at = heat.at + timedelta(minutes=heat.wish.fly_min or 0)
        if over_at > now():
            continue
        name = heat.wish.name or family_label(heat.wish.family)
        title, href = say("{name}: who flew?", name=name), url_for("bench.page", _anchor="flown")
        if not planned:  # nothing is said by a key that only meant to go on: a pack that flew must not count as full
            yield NextUp(over_at, title, title, on=name, href=href, button=say("Say who flew"))
            continue
        yield NextUp(over_at, title, title, on=few_tags(planned), href=href, button=say("Flown as planned"),
                     post=url_for("bench.flown"), fields={"key": heat.key, "as": "planned"})  # fmt: skip


def _names() -> dict[str, str]:
    kit = desk().session().kit
    named = {channel.id: channel.name or channel.id for _, channel in kit.channels()}
    return named | {board.id: board.name or board.id for board in kit.all_boards()}


def _in_words(item: ToDo) -> NextUp:
    names = _names()
    if item.do in (Do.FLY, Do.GIVEN_UP):
        return _heat(item)
    if item.batch is not None:
        return _swap(item, names)
    assert item.run is not None  # whatever is neither heat nor planned is about a batch in hand
    where = names.get(item.run.place, item.run.place)
    packs = few_tags(item.run.packs)
    href = url_for("bench.page", open=item.run.key)
    if item.do is Do.GO_ON:
        act = say(ACTS[item.act or Act.INSPECT])
        return NextUp(item.at, f"{act}: {where}", f"{act}, {where}", item, on=packs, href=href, button=act)
    if item.do is Do.READ_AFTER:
        title, button = say("Remove from {where}", where=where), say("Remove and measure")
    elif item.heat:
        title = say("Remove from {where} for {heat}", where=where, heat=item.heat)
        button = say("Look at {where}", where=where)
    else:
        title, button = say("Remove from {where}", where=where), say("Look at {where}", where=where)
    short = say("remove from {where}", where=where)
    return NextUp(item.at, title, short, item, off=packs, href=href, button=button)


def _swap(item: ToDo, names: dict[str, str]) -> NextUp:
    batch = item.batch
    assert batch is not None
    place = names.get(batch.channel, batch.channel)
    on = say("On {place}", place=place) + (f", {names.get(batch.board, batch.board)}" if batch.board else "")
    shown: dict[str, Any] = {"off": few_tags(item.off), "on": few_tags(batch.packs)}
    short = say("{place}: {packs} on", place=place, packs=shown["on"])
    if item.run is not None:
        href = url_for("bench.page", open=item.run.key)
        return NextUp(
            item.at,
            on,
            short,
            item,
            **shown,
            href=href,
            button=say("Remove first"),
        )
    if item.stored is not None:
        begin = choice_fields(item.stored.choice) | {"kind": item.stored.kind.value}
        note = say(WAY_WORDS[item.stored.way], target_v=item.stored.target_v)
        return NextUp(
            item.at,
            on,
            short,
            item,
            **shown,
            begin=begin,
            note=note,
            href=url_for("put_away.page"),
            button=say("Start this batch"),
        )
    unread = _unread(batch)
    if unread:  # flown, or charged, or not read for long: nothing begins before they are measured
        href, them = url_for("measure.page", pack=unread[0]), few_tags(unread)
        return NextUp(
            item.at,
            say("Measure, then start on {place}", place=place),
            say("measure {them}", them=them),
            replace(item, batch=None),
            on=them,
            href=href,
            button=say("Measure"),
        )
    kept = desk().latest_plan()
    number = kept.plan.batches.index(batch) if kept else None
    begin = choice_fields(batch.choice)
    href = url_for("charge.page", **begin)
    more: dict[str, Any] = {"begin": begin, "later": number, "href": href, "button": say("Start this batch"), **shown}
    return NextUp(item.at, on, short, item, **more)


def _unread(batch: PlannedBatch) -> tuple[str, ...]:
    """Packs of a batch that must be measured before it can begin."""
    packs = {pack.id: pack for pack in bench().packs}
    joins = len(batch.packs) > 1
    there = (packs[tag] for tag in batch.packs if tag in packs)
    return tuple(pack.id for pack in there if pack.reading is None or (joins and pack.stale))


def _heat(item: ToDo) -> NextUp:
    name = item.heat or say("Heat")
    if item.do is Do.GIVEN_UP:
        return NextUp(
            item.at,
            say("{name} cancelled", name=name),
            say("{name} cancelled", name=name),
            item,
            href=url_for("plan.page"),
            button=say("Why"),
        )
    odds = say("{met} of {of} days", met=item.met, of=item.of) if item.of else ""
    count = (
        say("{packs} of {wanted} packs", packs=len(item.packs), wanted=item.wanted)
        if len(item.packs) < item.wanted
        else few_tags(item.packs)
    )
    return NextUp(
        item.at,
        say("Fly {name}", name=name),
        say("fly {name}", name=name),
        item,
        on=count,
        href=url_for("plan.page"),
        note=odds,
        button=say("Who flies"),
    )


def _evening(free: Sequence[Pack]) -> NextUp | None:
    """To storage, where the day is over and a pack is not at its storage volts; None where it goes on."""
    at, rules = now(), desk().session().rules
    gaps = [gap for pack in free if (gap := gap_of(pack, rules)) is not None]
    away = few_tags([gap.pack.id for gap in gaps if gap.way is not Way.THERE])
    heats = [heat for heat in desk().heats() if heat.wish.is_heat]
    href = url_for("put_away.page")
    if away and desk().is_called_off(at):  # whatever has a channel stands in the agenda
        return NextUp(
            at,
            say("To storage"),
            say("{away} to storage", away=away),
            on=away,
            href=href,
            button=say("How far they are"),
        )
    if away and heats and all(heat.at < at for heat in heats):
        title, post = say("The heats are over: to storage"), url_for("bench.call_off")
        return NextUp(
            at, title, say("{away} to storage", away=away), on=away, href=href, post=post, button=say("Plan storage")
        )
    return None


def _at_leisure(has_more: bool) -> tuple[NextUp, ...]:
    """What can be done at once where nothing is due: the first thing that is missing for a plan, or the plan itself."""
    session, at = desk().session(now()), now()
    if not session.packs:
        return (NextUp(at, say("Your packs"), say("add packs"), href=url_for("begin.page"), button=say("Begin")),)
    if not any(True for _ in session.kit.channels()):
        return (NextUp(at, say("Your charger"), say("add a charger"), href=url_for("begin.page"), button=say("Save")),)
    asking, verdicts = pilot_asking(), permits(bench())
    free = [pack for pack in bench().free_packs if asking in (None, pack.pilot)]
    unread = [pack.id for pack in free if pack.reading is None and pack.condition is Condition.OK]
    if unread:
        href = url_for("measure.page", pack=unread[0])
        return (
            NextUp(
                at,
                say("Measure"),
                say("measure {unread}", unread=few_tags(unread)),
                on=few_tags(unread),
                href=href,
                button=say("Measure"),
            ),
        )
    if has_more:
        return ()
    evening = _evening(free)
    if evening is not None:
        return (evening,)
    needy = [pack.id for pack in free if verdicts[pack.id].charges and not verdicts[pack.id].full]
    if len(needy) == 1:
        begin = choice_fields(Choice((needy[0],)))
        href = url_for("charge.page", **begin)
        return (
            NextUp(
                at,
                say("Charge it alone"),
                say("charge {needy}", needy=needy[0]),
                on=needy[0],
                href=href,
                button=say("Details"),
            ),
        )
    if needy and plan_desk().job is None:
        return (
            NextUp(
                at,
                say("Plan the rest"),
                say("plan {needy}", needy=few_tags(needy)),
                on=few_tags(needy),
                post=url_for("plan.begin"),
                button=say("Plan it"),
                href=url_for("plan.page"),
            ),
        )
    return ()
