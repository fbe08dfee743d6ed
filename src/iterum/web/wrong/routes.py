"""Something's wrong: what do you see, and what to do now, in order. And the list of keys."""

from flask import Blueprint, flash, g, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.reasons import NotThere
from iterum.core.say import say
from iterum.core.season.run import LIVE
from iterum.web.context import came_late, day, desk, incidents, now, runs
from iterum.web.figures import whole
from iterum.web.keys import KEYS
from iterum.web.plan.routes import plan_again
from iterum.web.troubles import TROUBLES

blueprint = Blueprint("wrong", __name__, url_prefix="/wrong", template_folder="templates")


@blueprint.get("")
def page() -> str:
    """Four choices, or the acts for one of them and what to write down."""
    chosen = next((item for item in TROUBLES if item.key == request.args.get("see")), None)
    return render_template(
        "wrong/page.html", troubles=TROUBLES, chosen=chosen, in_hand=runs().open(), packs=desk().session().packs,
        done=request.args.get("done") == "yes", live=LIVE,
    )  # fmt: skip


@blueprint.post("")
def write_down() -> Response:
    """Stop the batches named, keep hurt packs apart, write the incident down, and plan again without them."""
    kind = request.form.get("see", "")
    if kind not in {item.key for item in TROUBLES}:
        raise NotThere("trouble", "see")
    late = came_late()
    keys = [] if late else request.form.getlist("runs", type=whole)  # no charger is stopped for what was long ago
    tags = request.form.getlist("packs")
    note = request.form.get("note", "").strip() or None
    incident = incidents().incident(kind, keys, tags, note, now())
    if incident.stopped:
        flash(say("Stopped: {stopped:list}.", stopped=incident.stopped))
    stopped = [runs().look(key, now()).run for key in keys]
    by_hand = [run.channel for run in stopped if run.channel and run.channel not in incident.stopped]
    if by_hand:
        flash(say("Iterum cannot stop {by_hand:list}: stop it at the charger.", by_hand=by_hand), "care")
    if late:
        g.pop("now")  # it happened then; what follows from it is planned from the present
    if plan_again():
        flash(say("The plan is being made again without them."))
    return redirect(url_for("wrong.page", see=kind, done="yes"))


@blueprint.post("/stop")
def stop_all() -> Response:
    """Stop everything that charges, before anything is asked."""
    off, not_off = day().stop_all(now())
    if off:
        flash(say("Stopped: {off:list}. Look at the packs before anything else.", off=off))
    for place, why in not_off:
        flash(
            say(
                "{place} was not stopped by Iterum ({why}). Stop it at the charger, or pull its plug.",
                place=place,
                why=why,
            ),
            "care",
        )
    if not off and not not_off:
        flash(say("Nothing is charging."))
    return redirect(url_for("wrong.page"))


@blueprint.get("/keys")
def keys() -> str:
    """Every single key, and the switch for them."""
    return render_template("wrong/keys.html", keys=KEYS)
