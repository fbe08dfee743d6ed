"""Addresses of the Plan page."""

from collections.abc import Sequence
from dataclasses import replace

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug.exceptions import BadRequest
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.permit.permit import permits
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.history import Flown
from iterum.core.planning.record import KeptPlan, PlanRecord
from iterum.core.planning.score import PREFERENCES, Prefer
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import say
from iterum.core.season.agenda import BATCH_LONGEST
from iterum.core.season.as_it_went import locked, moved, true_batches
from iterum.core.season.run import OPEN
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.services.planning import Follow, PlanJob
from iterum.web.choices import choice_fields
from iterum.web.context import day, desk, now, plan_desk, runs
from iterum.web.figures import figure, whole
from iterum.web.frame import go_back_to
from iterum.web.plan.calendar import bench_calendar
from iterum.web.plan.views import PlanPage, chosen_batch, plan_page, timer_min
from iterum.wording import about, sentence

blueprint = Blueprint("plan", __name__, url_prefix="/plan", template_folder="templates")

FIRST_S = 4.0
"""Seconds of search for the plan that is made on arrival."""
SECONDS = (2.0, 5.0, 20.0)
COMPARE = "compare"
AGAIN_S = 3.0
"""How long a plan is looked for that is made again because something happened."""


def _running(job: PlanJob | None) -> PlanJob | None:
    """The job while it runs; when it has ended it has kept its plans, and a defect in it is raised here."""
    if job is None or job.running:
        return job
    plan_desk().job = None
    if job.defect is not None:
        raise job.defect
    return None


@blueprint.get("")
def page() -> str:
    """The latest plan, or what to do first; a search that runs shows how far it is."""
    made_first()
    plans = desk().latest_plans()
    session = desk().session()
    job = _running(plan_desk().job)
    shown = plan_page(plans[0], session, desk().revision(), now()) if plans else None
    number = request.args.get("batch", type=whole)
    chosen = chosen_batch(shown, session, number) if shown and number is not None else None
    following = shown is not None and _is_followed(shown)
    more = {
        "following": following,
        "preferences": PREFERENCES,
        "usual": _usual().value,
        "seconds": SECONDS,
        "compare": COMPARE,
        "heats": desk().heats(),
        "choice_fields": choice_fields,
    }
    return render_template("plan/page.html", shown=shown, job=job, chosen=chosen, plans=plans, **more)


def made_first() -> None:
    """Begin to make the first plan: nobody has to ask for it."""
    if not desk().latest_plans() and plan_desk().job is None and _is_ready(desk().session()):
        plan_desk().begin(plan_job((_usual(),), FIRST_S, False)).wait(0.1)


def parted() -> str:
    """Where plan and bench have parted, in words; empty where they agree or there is no plan."""
    kept = desk().latest_plan()
    if kept is None or _running(plan_desk().job) is not None or desk().is_called_off(now()):
        return ""
    begun = [run for run, _ in runs().since(kept.made_at, now())]
    batches = (*kept.plan.past.done, *kept.plan.batches)
    planned = {(frozenset(batch.packs), batch.channel) for batch in batches}
    others = [run for run in begun if (frozenset(run.packs), run.channel) not in planned]
    if others:
        return say(
            "{packs:list} went on {place}, and the plan does not know of it.",
            packs=others[-1].packs,
            place=others[-1].place,
        )
    stopped = [run for run in begun if run.stopped]
    if stopped and kept.revision != desk().revision():
        return say(
            "{packs:list} on {place} was stopped since the plan was made.",
            packs=stopped[-1].packs,
            place=stopped[-1].place,
        )
    if kept.revision != desk().revision():
        return say(
            "Packs, kit or heats changed since the plan was made at {made_at:%H:%M}.", made_at=kept.made_at.astimezone()
        )
    return ""


def _usual() -> Prefer:
    """What comes first where nobody said: the heats, surely met, where there are any."""
    return Prefer.STEADIEST if any(heat.wish.is_heat for heat in desk().heats()) else Prefer.SOONEST


def _is_ready(session: Session) -> bool:
    """Whether there is something to plan: a pack that needs charging, and a channel."""
    needy = any(verdict.charges and not verdict.full for verdict in permits(session.bench).values())
    return needy and any(True for _ in session.kit.channels())


def _is_followed(shown: PlanPage) -> bool:
    """Whether the plan in force is on its way: only batches of it were begun, none was stopped, and it is not over."""
    begun = [run for run, _ in runs().since(shown.kept.made_at, now())]
    planned = {frozenset(batch.packs) for batch in shown.plan.batches}
    as_planned = all(frozenset(run.packs) in planned and not run.stopped for run in begun)
    return bool(begun) and as_planned and shown.now_min < shown.plan.makespan_min


@blueprint.get("/visits.ics")
def calendar_out() -> Response:
    """The visits still to come and the checks that are due, as a calendar with alarms."""
    head = {"Content-Disposition": "attachment; filename=iterum-visits.ics"}
    return Response(bench_calendar(), mimetype="text/calendar", headers=head)


@blueprint.post("")
def begin() -> AnyResponse:
    """Start a search from what is true now."""
    asked = request.form.get("prefer", Prefer.SOONEST.value)
    preferences = tuple(Prefer) if asked == COMPARE else tuple(item for item in Prefer if item == asked)
    seconds = min(max(request.form.get("seconds", 5.0, type=figure), 0.5), 60.0)
    if not preferences:
        raise BadRequest(say("No such preference."))
    job = plan_desk().begin(plan_job(preferences, seconds, request.form.get("follow") == "yes"))
    job.wait(0.4)  # a small session is planned by then, and the page arrives whole
    return redirect(go_back_to(request.form.get("back", url_for("plan.page"))))


def plan_again() -> bool:
    """Begin to make the plan in force again from what is true now; False where there is none, or the day is off."""
    kept = desk().latest_plans()
    if kept and not desk().is_called_off(now()):
        plan_desk().begin(plan_job((Prefer(kept[0].prefer),), AGAIN_S, True))
        return True
    return False


def plan_job(preferences: tuple[Prefer, ...], seconds: float, following: bool) -> PlanJob:
    """A search from what is true now; following the plan in force where there is one and that is wished."""
    follow, starts_at = None, now()
    kept = desk().latest_plan()
    if kept is not None and following:
        starts_at = kept.made_at
        session = desk().session_at(starts_at, now())
        in_hand = [item for item in runs().since(starts_at - BATCH_LONGEST, now()) if not item[0].over_by(starts_at)]
        past = kept.plan.past
        batches = (*past.done, *kept.plan.batches)
        if in_hand:
            batches = true_batches(kept, in_hand, session, now())
        flown = _as_said((*past.flown, *kept.plan.heats), kept)
        follow = Follow(batches, kept.minute(now()), flown)
    else:
        in_hand = [item for item in runs().since(starts_at - BATCH_LONGEST, starts_at) if item[0].state in OPEN]
        if in_hand:
            nothing = KeptPlan(starts_at, preferences[0].value, PlanRecord(), desk().revision())
            batches = true_batches(nothing, in_hand, desk().session_at(starts_at, now()), starts_at)
            follow = Follow(batches, 0.0, tell=False)
    return PlanJob(
        desk().session_at(starts_at, now()), preferences, seconds, now(), desk().revision(), follow, desk().keep_plan
    )


def _as_said(flown: Sequence[Flown], kept: KeptPlan) -> tuple[Flown, ...]:
    """Who flew: as somebody said it, where it was said, else as it was planned."""
    told = list(day().flights(kept.made_at - BATCH_LONGEST))
    wishes = {(heat.at, heat.wish.family, heat.wish.name, heat.wish.pilot): heat.wish for heat in desk().heats()}
    made: list[Flown] = []
    for item in flown:
        asked = (item.heat.family, item.heat.name, item.heat.pilot)
        same = [one for one in told if (one.family, one.name, one.pilot) == asked]
        planned_at = kept.moment(item.heat.at_min)
        nearest = min(same, key=lambda one: abs(one.heat_at - planned_at), default=None)
        if nearest is None:
            made.append(item)
            continue
        told.remove(nearest)
        made.append(Flown(replace(item.heat, at_min=kept.minute(nearest.heat_at)), nearest.packs))
    for one in told:  # in no plan: it flew all the same
        wish = wishes.get((one.heat_at, one.family, one.name, one.pilot))
        if wish is not None:
            made.append(Flown(replace(wish, at_min=kept.minute(one.heat_at)), one.packs))
    return tuple(made)


@blueprint.get("/progress")
def progress() -> str | tuple[str, int, dict[str, str]]:
    """How far the search is; when it has ended, the page is asked for again."""
    job = plan_desk().job
    if job is None or not job.running:
        return "", 200, {"HX-Redirect": url_for("plan.page")}
    return render_template("plan/progress.html", job=job)


@blueprint.post("/stop")
def stop() -> AnyResponse:
    """Take the best so far."""
    plan_desk().take_best()
    return redirect(url_for("plan.page"))


@blueprint.post("/take")
def take() -> AnyResponse:
    """Take one of the plans that were compared."""
    for kept in desk().latest_plans():
        if kept.prefer == request.form.get("prefer"):
            desk().keep_plan(kept)
            flash(say("Now preferred: {words}.", words=Prefer(kept.prefer).words))
            return redirect(url_for("plan.page"))
    raise NotThere("plan", "prefer")


@blueprint.post("/offer")
def take_offer() -> AnyResponse:
    """Take an offer: its plan is in force, and what it asks for stands in the heats."""
    kept, number = desk().latest_plan(), request.form.get("offer", -1, type=whole)
    if kept is None or not 0 <= number < len(kept.plan.offers):
        raise NotThere("offer", number)
    offer = kept.plan.offers[number]
    if offer.plan is None:
        raise BadRequest(say("That is to be bought, or measured, first."))
    if kept.revision != desk().revision():
        flash(say("Something changed since it was offered. Plan again: the offers are made again."), "care")
        return redirect(url_for("plan.page"))
    desk().take_offer(kept, offer, now())
    flash(say("Taken. {sentence}", sentence=sentence(offer.reason, lambda minute: _clock(kept, minute))))
    return redirect(url_for("plan.page"))


@blueprint.get("/sheet")
def sheet() -> str:
    """The run sheet: one page to print, to be followed without any screen."""
    kept = desk().latest_plan()
    if kept is None:
        raise NotThere("plan", "latest")
    session = desk().session()
    shown = plan_page(kept, session, desk().revision(), now())
    ends_v = [_ends_v(batch, session.rules) for batch in kept.plan.batches]
    timers_min = [timer_min(batch, session) for batch in kept.plan.batches]
    return render_template("plan/sheet.html", shown=shown, rules=session.rules, ends_v=ends_v, timers_min=timers_min)


def _ends_v(batch: PlannedBatch, rules: HouseRules) -> float | None:
    """V of a whole pack at which the charge of a batch ends; None where it ends by a drop."""
    name, _, series = batch.family.rpartition("-")
    chemistry = CHEMISTRIES[name]
    if not chemistry.joins:
        return None
    return (batch.end_v or rules.full_v(chemistry)) * int(series.removesuffix("S"))


@blueprint.post("/batch")
def batch() -> AnyResponse:
    """Move one batch to another time or channel, or keep it where it is; the verdict at once, and nothing half done."""
    kept = desk().latest_plan()
    if kept is None:
        raise NotThere("plan", "latest")
    number = request.form.get("batch", -1, type=whole)
    session, now_min = desk().session_at(kept.made_at, now()), kept.minute(now())
    keep = request.form.get("keep")
    tags: frozenset[str] = frozenset()
    try:
        if keep is not None:
            changed = locked(session, kept, number, keep == "yes")
            flash(say("Kept where it is.") if keep == "yes" else say("Free again: planning again may move it."))
        else:
            start_min = request.form.get("start_min", type=figure)
            by_min = request.form.get("by_min", 0.0, type=figure)
            old = kept.plan.batches[number] if 0 <= number < len(kept.plan.batches) else None
            if old is None:
                raise NotThere("batch", number)
            start_min = (old.start_min if start_min is None else round(start_min)) + by_min
            changed = moved(session, kept, number, request.form.get("channel"), start_min, now_min)
            flash(
                say(
                    "Fits: {packs:list} from {clock}. It is kept there.", packs=old.packs, clock=_clock(kept, start_min)
                )
            )
        tags = frozenset(kept.plan.batches[number].packs)
        desk().keep_plan(changed)
        number = next(at for at, item in enumerate(changed.plan.batches) if set(item.packs) == tags)
    except Unsafe as refusal:
        why = " ".join(about(item, lambda minute: _clock(kept, minute)) for item in refusal.reasons)
        flash(say("Not moved: {why}", why=why), "care")
    return redirect(url_for("plan.page", batch=number, _anchor="chosen"))


def _clock(kept: KeptPlan, minute: float) -> str:
    return kept.moment(minute).astimezone().strftime("%H:%M")
