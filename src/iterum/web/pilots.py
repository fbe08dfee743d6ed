"""Pilots on the pages: their marks, and what a pilot's own device may act on."""

from collections.abc import Iterable, Mapping, Sequence

from flask import g
from markupsafe import Markup, escape

from iterum.core.reasons import NotThere
from iterum.core.say import say
from iterum.core.season.records import KeptRun
from iterum.core.season.run import Act
from iterum.core.things.pilots import Pilot, Shape
from iterum.exchange.heats import Heat
from iterum.web.context import desk, now, runs
from iterum.web.who import pilot_asking

OUTLINES: Mapping[Shape, str] = {
    Shape.CIRCLE: "M12 1a11 11 0 1 1 0 22a11 11 0 1 1 0-22z",
    Shape.SQUARE: "M2 2h20v20H2z",
    Shape.TRIANGLE: "M12 0 24 23H0z",
    Shape.DIAMOND: "M12 0 24 12 12 24 0 12z",
    Shape.HEXAGON: "M6 2h12l6 10-6 10H6L0 12z",
    Shape.PENNANT: "M1 3h22l-5 9 5 9H1z",
}


def pilots() -> Mapping[str, Pilot]:
    """The pilots at the table by their tags; asked for once a request."""
    if "pilots" not in g:
        g.pilots = {pilot.id: pilot for pilot in desk().session().pilots}
    found: Mapping[str, Pilot] = g.pilots
    return found


def pilot_options() -> Mapping[str, Sequence[tuple[str, str]]]:
    """The pilots to choose from in a form; nothing where there are none."""
    named = [(tag, tag) for tag in pilots()]
    return {"pilot": (("", "nobody’s"), *named)} if named else {}


def owners() -> Mapping[str, str | None]:
    """By tag, whose each pack is; asked for once a request."""
    if "owners" not in g:
        g.owners = {pack.id: pack.pilot for pack in desk().session().packs}
    found: Mapping[str, str | None] = g.owners
    return found


def pilot_mark(pilot_id: str | None) -> Markup:
    """The mark of a pilot: letters in a shape, with the name for who cannot see it; nothing for nobody."""
    pilot = pilots().get(pilot_id or "")
    if pilot is None:
        return Markup("")
    name = escape(pilot.name or pilot.id)
    low = 17.5 if pilot.shape is Shape.TRIANGLE else 15.5
    return Markup(  # noqa: S704 (escaped)
        f'<svg class="pilot-mark" viewBox="0 0 24 24" role="img" aria-label="{name}"><title>{name}</title>'
        f'<path d="{OUTLINES[pilot.shape]}"/>'
        f'<text x="12" y="{low}" text-anchor="middle">{escape(pilot.mark)}</text></svg>'
    )


def marks_of(tags: Iterable[str]) -> Markup:
    """The marks of everybody whose packs these are, each once."""
    found = dict.fromkeys(owners().get(tag) for tag in tags) if pilots() else ()
    return Markup("").join(pilot_mark(pilot_id) for pilot_id in found)


# ---------------------------------------------------------------------------------------- whose it is


def tender_of(run: KeptRun) -> str | None:
    """The pilot who sees to a batch: whose packs it holds, or, of several, the one who was chosen."""
    return run.tended_by or tender_among(run.packs, owners())


def may_act_on(run: KeptRun) -> bool:
    """Whether whoever asks may act on a batch: everybody but a device of a pilot whom it is not for."""
    asking = pilot_asking()
    return asking is None or tender_of(run) == asking


def is_theirs(heat: Heat) -> bool:
    """Whether a heat concerns whoever asks."""
    asking = pilot_asking()
    return asking is None or heat.wish.pilot == asking


def not_theirs(endpoint: str, form: Mapping[str, str], packs: Sequence[str], key: int | None) -> tuple[str, ...]:
    """Packs, or a heat, of others that a request of a pilot's device would act on; none where it may.

    endpoint : that is asked for. form : what it sends; packs : those that it names. key : of the batch in its address.
    """
    asking, room = pilot_asking(), endpoint.partition(".")[0]
    stops = endpoint == "run.act" and form.get("act") == Act.STOP.value
    if asking is None or room == "wrong" or stops:
        return ()
    if endpoint == "match.move" and form.get("to") == "all-back":
        return (say("moves of everybody"),)
    if endpoint == "bench.flown":
        heat = next((item for item in desk().heats() if item.key == form.get("key")), None)
        return () if heat is None or is_theirs(heat) else (heat.wish.name or say("a heat"),)
    if endpoint == "bench.check_round":
        felt = (run for run in runs().open() if f"felt-{run.key}" in form)
        return tuple(tag for run in felt if not may_act_on(run) for tag in run.packs)
    if key is not None:
        try:
            run = runs().look(key, now()).run
        except NotThere:
            return ()
        return () if may_act_on(run) else run.packs
    if endpoint == "run.begin" and packs:
        return () if tender_among(packs, owners()) == asking else tuple(packs)
    return tuple(tag for tag in packs if owners().get(tag) != asking)


def tender_among(tags: Sequence[str], owned: Mapping[str, str | None]) -> str | None:
    """Who sees to a batch of these packs: whoever has most of them in it, the first of several.

    owned : by tag, whose each pack is.
    """
    counts: dict[str | None, int] = {}
    for tag in tags:
        counts[owned.get(tag)] = counts.get(owned.get(tag), 0) + 1
    return max(counts, key=lambda pilot: counts[pilot], default=None)
