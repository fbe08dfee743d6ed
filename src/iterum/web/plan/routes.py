"""Addresses of the Plan page."""

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.exceptions import BadRequest
from werkzeug.wrappers import Response

from iterum.core.planning.search import Prefer
from iterum.core.session import Wish
from iterum.exchange.faults import structural_faults
from iterum.exchange.results import batches_from, plan_document
from iterum.services.planning import Follow, PlanJob
from iterum.store.repository import KeptPlan
from iterum.web.context import desk, now, plan_desk
from iterum.web.plan.views import plan_page

blueprint = Blueprint("plan", __name__, url_prefix="/plan", template_folder="templates")

SECONDS = (2.0, 5.0, 20.0)
COMPARE = "compare"
PREFERENCES = {
    Prefer.SOONEST: "All full soonest",
    Prefer.GENTLEST: "Gentlest on the packs",
    Prefer.FEWEST_VISITS: "Fewest visits to the bench",
}


def _kept(job: PlanJob | None) -> PlanJob | None:
    """Keep a finished search's plan; the job while it runs, else None."""
    if job is None or job.running:
        return job
    plan_desk().job = None
    if job.defect is not None:
        raise job.defect
    for prefer, answer in reversed(job.answers.items()):  # the first is taken last, so it is the one in force
        document = plan_document(answer.plan, answer.whys, answer.relaxed, answer.changed)
        desk().keep_plan(KeptPlan(job.begun_at, prefer.value, document, job.revision))
    return None


@blueprint.get("")
def page() -> str:
    """The latest plan, or what to do first; a search that runs shows how far it is."""
    job = _kept(plan_desk().job)
    plans = desk().latest_plans()
    session = desk().session()
    shown = plan_page(plans[0], session, desk().revision()) if plans else None
    chosen = request.args.get("batch", type=int)
    more = {"job": job, "chosen": chosen, "faults": {}, "typed": {}, "plans": plans, **_choices()}
    return render_template("plan/page.html", shown=shown, wishes=session.wanted, **more)


def _choices() -> dict[str, object]:
    families = dict.fromkeys(pack.family for pack in desk().session().packs)
    return {"preferences": PREFERENCES, "seconds": SECONDS, "families": list(families), "compare": COMPARE}


@blueprint.post("")
def begin() -> Response:
    """Start a search from what is true now."""
    asked = request.form.get("prefer", Prefer.SOONEST.value)
    preferences = tuple(Prefer) if asked == COMPARE else tuple(item for item in Prefer if item == asked)
    seconds = min(max(request.form.get("seconds", 5.0, type=float), 0.5), 60.0)
    if not preferences:
        raise BadRequest("No such preference.")
    follow = None
    kept = desk().latest_plan()
    if kept is not None and request.form.get("follow") == "yes":
        follow = Follow(batches_from(kept.document), (now() - kept.made_at).total_seconds() / 60)
    job = plan_desk().begin(PlanJob(desk().session(), preferences, seconds, now(), desk().revision(), follow))
    job.wait(0.4)  # a small session is planned by then, and the page arrives whole
    return redirect(url_for("plan.page"))


@blueprint.get("/progress")
def progress() -> str | tuple[str, int, dict[str, str]]:
    """How far the search is; when it has ended, the page is asked for anew."""
    job = plan_desk().job
    if job is None or not job.running:
        return "", 200, {"HX-Redirect": url_for("plan.page")}
    return render_template("plan/progress.html", job=job)


@blueprint.post("/stop")
def stop() -> Response:
    """Take the best so far."""
    job = plan_desk().job
    if job is not None:
        job.stop()
        job.wait(10)
    return redirect(url_for("plan.page"))


@blueprint.post("/take")
def take() -> Response:
    """Take one of the plans that were compared."""
    for kept in desk().latest_plans():
        if kept.prefer == request.form.get("prefer"):
            desk().keep_plan(kept)
            flash(f"Taken: {PREFERENCES[Prefer(kept.prefer)].lower()}.")
            return redirect(url_for("plan.page"))
    raise KeyError("prefer")


@blueprint.get("/sheet")
def sheet() -> str:
    """The run sheet: one page to print, to be followed without any screen."""
    kept = desk().latest_plan()
    if kept is None:
        raise KeyError("plan")
    session = desk().session()
    shown = plan_page(kept, session, desk().revision())
    volts = {pack.id: pack.cell_v for pack in session.packs}
    return render_template("plan/sheet.html", shown=shown, volts=volts, rules=session.rules, chemistries=_full_volts())


def _full_volts() -> dict[str, float]:
    session = desk().session()
    return {pack.family: session.rules.full_v(pack.chemistry) * pack.cells for pack in session.packs}


@blueprint.post("/wishes")
def wishes() -> Response | tuple[str, int]:
    """Add a wish, or take one away."""
    session = desk().session()
    gone = request.form.get("gone", type=int)
    if gone is not None:
        kept = [wish for index, wish in enumerate(session.wanted) if index != gone]
        desk().set_wishes(kept)
        flash("No longer asked for. Ask again below to have it back.")
        return redirect(url_for("plan.page"))
    typed = {name: request.form.get(name, "").strip() for name in ("count", "class", "at_min", "name")}
    document: dict[str, object] = {"class": typed["class"]}
    if typed["name"]:
        document["name"] = typed["name"]
    for name in ("count", "at_min"):
        try:
            value = float(typed[name].replace(",", "."))
            document[name] = int(value) if value.is_integer() else value
        except ValueError:
            document[name] = typed[name]
    faults = {fault.place: fault.mend for fault in structural_faults(document, "wanted")}
    if faults:
        shown = desk().latest_plan()
        page_shown = plan_page(shown, session, desk().revision()) if shown else None
        more = {"job": plan_desk().job, "chosen": None, "faults": faults, "typed": typed, **_choices()}
        return render_template("plan/page.html", shown=page_shown, wishes=session.wanted, **more), 422
    count, at_min = int(float(typed["count"])), float(typed["at_min"].replace(",", "."))
    wish = Wish(count, typed["class"], at_min, typed["name"] or None)
    desk().set_wishes([*session.wanted, wish])
    flash(f"Asked for: {wish.count} full by minute {wish.at_min:g}.")
    return redirect(url_for("plan.page"))
