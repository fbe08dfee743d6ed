"""Addresses of the Heats page: enter, paste from a table, import and export iCalendar."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta

from flask import Blueprint, Response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.fields import BadInput, Fault
from iterum.core.reasons import NotThere
from iterum.core.say import kept, retold, say, say_many
from iterum.core.season.moments import is_of_our_time, local
from iterum.core.things.session import USED_FRACTION, Wish
from iterum.exchange.heats import AHEAD, COLUMNS, Heat, calendar_text, heat_from, parse_calendar, parse_table
from iterum.web.context import desk, now, undoable
from iterum.web.figures import figure, whole
from iterum.web.heats.board import board
from iterum.web.pilots import pilots
from iterum.web.plan.routes import plan_again

blueprint = Blueprint("heats", __name__, url_prefix="/heats", template_folder="templates")

USUAL_AWAY_MIN = "12"


def _today() -> date:
    return now().astimezone().date()


def _families() -> list[str]:
    return list(dict.fromkeys(pack.family for pack in desk().session().packs))


def _render(
    typed: Mapping[str, str] | None = None,
    faults: Mapping[str, str] | None = None,
    pasted: str = "",
    paste_faults: Sequence[Fault] = (),
    changed: str | None = None,
    picked: int | None = None,
) -> str:
    heats = desk().heats()
    blank = {"time": "", "name": "", "class": "", "packs": "", "away": USUAL_AWAY_MIN, "worth": "1",
             "uses": f"{100 * USED_FRACTION:g}", "needs": "", "pilot": "", "final": ""}  # fmt: skip
    return render_template(
        "heats/page.html",
        heats=heats,
        families=_families(),
        pilots=pilots(),
        typed={**blank, **(typed or {})},
        faults=faults or {},
        pasted=pasted,
        paste_faults=paste_faults,
        changed=changed,
        columns=COLUMNS,
        board=board(heats, now()),
        picked=picked,
        over=[heat.at + timedelta(minutes=heat.wish.fly_min or 0) < now() for heat in heats],
    )


def _texts_of(heat: Heat) -> dict[str, str]:
    """A heat as it stands in the form."""
    wish, at = heat.wish, heat.at.astimezone()
    today = at.date() == _today()
    return {
        "time": at.strftime("%H:%M" if today else "%Y-%m-%d %H:%M"),
        "name": wish.name or "",
        "class": wish.family,
        "packs": str(wish.count),
        "away": "" if wish.fly_min is None else f"{wish.fly_min:g}",
        "worth": f"{wish.value:g}",
        "uses": f"{100 * wish.used_fraction:g}",
        "needs": "" if wish.need_fraction is None else f"{100 * wish.need_fraction:g}",
        "pilot": wish.pilot or "",
        "final": "yes" if wish.final else "",
    }


@blueprint.get("")
def page() -> str:
    """The day's heats in order of time, and three ways to bring in more."""
    change, pick = request.args.get("change"), request.args.get("pick")
    if change:
        return _render(_texts_of(_heat(change)[0]), changed=change)
    places = [place for place, heat in enumerate(desk().heats()) if heat.key == pick]
    return _render(picked=places[0] if places else None)


def _heat(key: str) -> tuple[Heat, int]:
    """The heat with this key, and its place among all. Raises NotThere where it was changed or taken away meanwhile."""
    for place, heat in enumerate(desk().heats()):
        if heat.key == key:
            return heat, place
    raise NotThere("heat", key)


@blueprint.post("")
def save() -> str | AnyResponse | tuple[str, int]:
    """Add a heat, or change one; every fault at its field, nothing typed is lost."""
    changed = request.form.get("key") or None
    heats = list(desk().heats())
    try:
        heat = heat_from(request.form, _today(), local)
    except BadInput as bad:
        return _render(request.form, {fault.place: fault.mend for fault in bad.faults}, changed=changed), 422
    if heat.wish.pilot and heat.wish.pilot not in pilots():
        return _render(request.form, {"pilot": say("is none of the pilots at the table")}, changed=changed), 422
    if changed is not None:
        was, number = _heat(changed)
        old = was.wish
        heats[number] = replace(heat, wish=replace(heat.wish, rest_min=old.rest_min))
    else:
        heats.append(heat)
    with undoable(kept("{heat} is saved", heat=_named(heat))) as told:
        desk().set_heats(heats, now())
        told.text = " ".join((say("{heat} is saved.", heat=_named(heat)), _follow()))
    return redirect(url_for("heats.page"))


def _follow() -> str:
    """Have the plan follow the heats; what is said of it."""
    return say("The plan is being made again.") if plan_again() else say("No plan has them yet.")


def _named(heat: Heat) -> str:
    return heat.wish.name or f"{heat.at.astimezone():%H:%M}"


@blueprint.post("/move")
def move() -> AnyResponse:
    """A heat slips, or comes early, by some minutes; with `rest` so do all after it."""
    moved = shift(
        request.form.get("key", ""), request.form.get("by_min", 0.0, type=figure), request.form.get("rest") == "yes"
    )
    if request.form.get("picked") != "yes":
        return redirect(url_for("heats.page"))
    return redirect(url_for("heats.page", pick=moved.key))


def shift(key: str, by_min: float, rest: bool) -> Heat:
    """Move a heat, and with `rest` all after it, and say so; the plan follows. Raises NotThere."""
    _, number = _heat(key)
    heats = list(desk().heats())
    if abs(by_min) > 24 * 60:
        raise NotThere("heat", "by_min")
    last = len(heats) if rest else number + 1
    for at in range(number, last):
        moved = heats[at].at + timedelta(minutes=by_min)
        if not is_of_our_time(moved) or moved - now() > AHEAD:
            raise NotThere("day", str(moved.year))
        heats[at] = replace(heats[at], at=moved)
    name, after = _named(heats[number]), last - number - 1
    if after > 0:
        what = kept("{heat} and {after} after it moved by {by_min:+g} min", heat=name, after=after, by_min=by_min)
    else:
        what = kept("{heat} moved by {by_min:+g} min", heat=name, by_min=by_min)
    with undoable(what) as told:
        desk().set_heats(heats, now())
        told.text = f"{retold(what)}. {_follow()}"
    return heats[number]


@blueprint.post("/gone")
def gone() -> AnyResponse:
    """Take a heat away."""
    heat, number = _heat(request.form.get("key", ""))
    heats = [*desk().heats()[:number], *desk().heats()[number + 1 :]]
    what = kept("{heat} is deleted", heat=_named(heat))
    with undoable(what) as told:
        desk().set_heats(heats, now())
        told.text = f"{retold(what)}. {_follow()}"
    return redirect(url_for("heats.page"))


@blueprint.post("/paste")
def paste() -> str | AnyResponse | tuple[str, int]:
    """Heats from a pasted table: all of them, or none and every fault."""
    text = request.form.get("table", "")
    try:
        heats = parse_table(text, _today(), local)
    except BadInput as bad:
        return _render(pasted=text, paste_faults=bad.faults), 422
    return _take(heats)


@blueprint.post("/calendar")
def calendar_in() -> str | AnyResponse | tuple[str, int]:
    """Heats from an iCalendar file."""
    upload = request.files.get("file")
    try:
        if upload is None or not upload.filename:
            raise BadInput([Fault("", say("Choose an .ics file first."))])
        families = _families()
        family = request.form.get("class") or (families[0] if families else "lipo-4S")
        usual = Wish(request.form.get("packs", 1, type=whole) or 1, family, 0.0)
        heats = parse_calendar(upload.read(), usual, _today(), local)
    except BadInput as bad:
        return _render(paste_faults=bad.faults), 422
    return _take(heats)


def _take(heats: Sequence[Heat]) -> AnyResponse:
    """Add heats to those there are; one at the same time with the same name takes the old one's place."""
    new = {(heat.at, heat.wish.name, heat.wish.pilot) for heat in heats}
    others = [heat for heat in desk().heats() if (heat.at, heat.wish.name, heat.wish.pilot) not in new]
    with undoable(kept("{count} heats brought in", count=len(heats))) as told:
        desk().set_heats([*others, *heats], now())
        told.text = " ".join((say_many("One heat is saved.", "{count} heats are saved.", len(heats)), _follow()))
    return redirect(url_for("heats.page"))


@blueprint.get("/heats.ics")
def calendar_out() -> Response:
    """The heats as an iCalendar file."""
    text = calendar_text(desk().heats(), _stamp())
    return Response(text, mimetype="text/calendar", headers={"Content-Disposition": "attachment; filename=heats.ics"})


def _stamp() -> datetime:
    return now().replace(microsecond=0)
