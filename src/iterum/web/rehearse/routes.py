"""Begin, steer and leave a rehearsal; on the real bench it is begun and ended, in the rehearsal it is steered."""

from dataclasses import replace
from datetime import timedelta
from threading import Timer

from flask import Blueprint, Response, current_app, flash, redirect, render_template, request, url_for
from werkzeug.exceptions import BadRequest
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.planning.rehearsed import Trouble
from iterum.core.reasons import Busy, NotThere
from iterum.core.say import Words, kept, say
from iterum.core.season.lesson import Lesson, outcome
from iterum.core.season.run import LIVE
from iterum.core.things.choice import Kind
from iterum.devices.driver import Refused
from iterum.exchange.lessons import lessons
from iterum.services.rehearsing import LEFT, SPEEDS, Rehearsal
from iterum.web.context import desk, log_book, now, plan_desk, rehearsal, runs, undoable, watcher
from iterum.web.figures import figure, whole
from iterum.web.frame import go_back_to
from iterum.web.next_up import todos
from iterum.web.pictures.curves import PHONE_WIDTH, draw_evening
from iterum.web.played import may_begin, played_on
from iterum.web.rehearse.day import CHOICES, day_page
from iterum.web.turns import happened
from iterum.web.who import is_shared
from iterum.web.words import clock

blueprint = Blueprint("rehearse", __name__, url_prefix="/rehearse", template_folder="templates")

TAKEN = {"heats": Words("Heats"), "rules": Words("House rules"), "kit": Words("Kit")}
LEAVE_S = 4.0
"""So long a page that is being left may still ask this process for something."""
MOST_SEED = 1_000_000
"""Days to draw from."""
DISTURBANCES = {
    "link": Words("The link to the charger is lost for a minute"),
    "lag": Words("A cell lags in a batch that charges"),
    "hot": Words("A pack of a batch that charges gets hot"),
    "sag": Words("The source sags"),
    "slip": Words("The next heat slips by 15 min"),
}


def _mine() -> Rehearsal:
    mine = rehearsal()
    if mine is None:
        raise Busy(say("this is the real bench: no time is stepped over here"))
    return mine


@blueprint.get("")
def page() -> str | AnyResponse:
    """On the real bench: begin or go back in. In a rehearsal: its speed, its steps, what may go wrong."""
    mine = rehearsal()
    if mine is not None and mine.lesson is not None:
        return redirect(url_for("rehearse.lesson", name=mine.lesson.id))
    rehearsals = current_app.extensions["iterum"]["rehearsals"]
    changed = rehearsals.changed(desk()) if mine is None else None
    account = mine.look(runs(), desk(), log_book()) if mine is not None else ()
    return render_template(
        "rehearse/page.html",
        changed=changed,
        account=account,
        turns=mine.turns if mine is not None else (),
        speeds=SPEEDS,
        running=rehearsals.running,
        url=rehearsals.url,
        choices=CHOICES,
        has_plan=desk().latest_plan() is not None,
        disturbances=DISTURBANCES,
        course=_lessons(),
        done=_done(),
    )


DONE = "iterum_lessons"
"""The cookie that lists what was done in lessons, on this browser alone."""


def _lessons() -> tuple[Lesson, ...]:
    mine = rehearsal()
    if mine is not None:
        return mine.course
    return lessons(current_app.extensions["iterum"]["store"].path.parent / "lessons")


def _done() -> dict[str, str]:
    """What was chosen last in each lesson."""
    pairs = (item.split(":") for item in request.cookies.get(DONE, "").split("|"))
    return {pair[0]: pair[1] for pair in pairs if len(pair) == 2}


@blueprint.get("/lesson/<name>")
def lesson(name: str) -> Response:
    """One situation; with a choice, or played with hands on its bench, what comes of it, or would have."""
    course = _lessons()
    at = next((number for number, item in enumerate(course) if item.id == name), None)
    if at is None:
        raise NotThere("lesson", name)
    mine = course[at]
    chosen = next((item for item in mine.options if item.id == request.args.get("choose")), None)
    told = outcome(mine, chosen) if chosen else None
    played = played_on(mine)
    if chosen is None and played is not None and played.judged is not None:
        chosen, told = played.judged.option, played.judged.outcome
    evening = told.evening if told else None
    rules = mine.session.rules
    pictures = (
        [draw_evening(evening, told.packs, rules, *wide) for wide in ((), (PHONE_WIDTH,))] if told and evening else []
    )
    done = _done()
    page = render_template("rehearse/lesson.html", lesson=mine, number=at + 1, course=course, chosen=chosen, told=told,
                           pictures=pictures, done=done, played=played, hands=may_begin(),
                           elsewhere=current_app.extensions["iterum"]["rehearsals"].elsewhere,
                           following=course[at + 1] if at + 1 < len(course) else None)  # fmt: skip
    answer = Response(page)
    if chosen:
        kept = "|".join(f"{key}:{value}" for key, value in {**done, mine.id: chosen.id}.items())
        answer.set_cookie(DONE, kept[:3000], max_age=31_536_000, samesite="Strict", httponly=True)
    return answer


@blueprint.get("/day")
def day() -> str | AnyResponse:
    """The plan in force, played by the model: what happens is drawn, what to do about it is asked."""
    kept = desk().latest_plan()
    if kept is None:
        flash(say("There is no plan to rehearse yet."))
        return redirect(url_for("plan.page"))
    seed = request.args.get("seed", 1, type=whole)
    if not 0 <= seed < MOST_SEED:
        raise BadRequest(say("No such day."))
    kinds = [kind for kind in Trouble if kind.value in request.args.getlist("kind")]
    if not kinds and "nothing" not in request.args:
        kinds = list(Trouble)
    acts = request.args.get("acts", "")
    key = f"day {seed} {acts} {','.join(kinds)}"
    session = desk().session_at(kept.made_at, now())
    shown = day_page(kept, session, seed, kinds, acts, lambda find: desk().remember(key, now(), find))
    return render_template("rehearse/day.html", shown=shown)


@blueprint.get("/next")
def up_next() -> Response:
    """What is next here, in a few words, for the mark of a rehearsal."""
    first = todos()[:1]
    words = f"{clock(first[0].at)} {first[0].short}" if first else say("nothing is due")
    return Response(words, mimetype="text/plain")


@blueprint.post("/begin")
def begin() -> AnyResponse:
    """Begin it on a copy of this bench, and go in."""
    if rehearsal() is not None:
        raise Busy(say("this is a rehearsal already"))
    if is_shared():
        raise Busy(say("a rehearsal is begun on Iterum’s own machine: it is not shared"))
    if "lesson" in request.form:
        return _begin_lesson(request.form["lesson"])
    speed = request.form.get("speed", 10.0, type=figure)
    if speed not in SPEEDS:
        raise BadRequest(say("No such speed."))
    url = current_app.extensions["iterum"]["rehearsals"].begin(request.host_url.rstrip("/"), speed, now())
    return redirect(f"{url}plan" if desk().latest_plan() else url)


def _begin_lesson(name: str) -> AnyResponse:
    mine = next((item for item in _lessons() if item.id == name), None)
    if mine is None:
        raise NotThere("lesson", name)
    real_url = request.host_url.rstrip("/")
    url = current_app.extensions["iterum"]["rehearsals"].begin(real_url, SPEEDS[0], now(), mine.id)
    return redirect(url.rstrip("/") + url_for(f"{mine.begins}.page"))


@blueprint.post("/end")
def end() -> AnyResponse:
    """End it from the real bench."""
    current_app.extensions["iterum"]["rehearsals"].end()
    flash(say("The rehearsal is over. Nothing of it was kept."))
    return redirect(url_for("rehearse.page"))


@blueprint.post("/take")
def take() -> AnyResponse:
    """Take heats, house rules or kit as they stand in the rehearsal into the real bench; nothing else comes over."""
    if rehearsal() is not None:
        raise Busy(say("this is a rehearsal: take its changes on the real bench"))
    what = request.form.get("what", "")
    if what not in TAKEN:
        raise BadRequest(say("Nothing of that name is taken."))
    changed = current_app.extensions["iterum"]["rehearsals"].changed(desk())
    with undoable(kept("{taken} of the rehearsal", taken=TAKEN[what])) as told:
        taken = changed.take(what, desk(), now())
        told.text = say("{taken} of the rehearsal taken. Plan again to follow.", taken=TAKEN[what])
        if not taken:
            told.text = say("Nothing to take: it is the same here.")
    return redirect(url_for("plan.page" if taken else "rehearse.page"))


@blueprint.post("/leave")
def leave() -> AnyResponse:
    """End it from within, and go back to the real bench: to a lesson where one is named."""
    mine, name = _mine(), request.form.get("lesson", "")
    known = any(item.id == name for item in mine.course)
    current_app.extensions["iterum"]["store"].path.with_name(LEFT).touch()
    Timer(LEAVE_S, current_app.extensions["iterum"]["over"].set).start()
    return redirect(mine.real_url + (url_for("rehearse.lesson", name=name) if known else url_for("rehearse.page")))


@blueprint.post("/speed")
def speed() -> AnyResponse:
    """Let time run faster or slower."""
    wanted = request.form.get("speed", 0.0, type=figure)
    if wanted not in SPEEDS:
        raise BadRequest(say("No such speed."))
    _mine().clock.run_at(wanted)
    return redirect(go_back_to(request.form.get("back", "")))


@blueprint.post("/step")
def step() -> AnyResponse:
    """To the next event: what is due next, or when a charge ends; a quarter of an hour where nothing is."""
    mine = _mine()
    plan_desk().take_best()  # time does not run ahead of a plan that is being made
    ahead = [item.at for item in runs().agenda(now()) if item.at > now() + timedelta(seconds=1)]
    ends = [item.ends_at for item in runs().in_hand(now()) if item.ends_at is not None and item.ends_at > now()]
    mine.step(min((*ahead, *ends), default=now() + timedelta(minutes=15)), watcher())
    return redirect(go_back_to(request.form.get("back", "")))


@blueprint.post("/disturb")
def disturb() -> AnyResponse:
    """Let something go wrong, as it does on a field."""
    mine, kind = _mine(), request.form.get("kind", "")
    if kind not in DISTURBANCES:
        raise BadRequest(say("No such disturbance."))
    if kind == "slip":
        heats = desk().heats()
        later = next((index for index, heat in enumerate(heats) if heat.at > now()), None)
        if later is not None:
            moved = [
                replace(heat, at=heat.at + timedelta(minutes=15)) if index == later else heat
                for index, heat in enumerate(heats)
            ]
            with undoable(kept("The next heat slips by 15 min")):
                desk().set_heats(moved, now())
            happened(DISTURBANCES[kind])
        return redirect(go_back_to(request.form.get("back", "")))
    live = [run.channel for run in runs().open() if run.state in LIVE and run.kind is Kind.CHARGE]
    try:
        with mine.bench.lock:
            mine.bench.bench.fault(kind, live[0] if live else "", "60" if kind == "link" else None)
    except (Refused, KeyError) as error:
        flash(say("Nothing to disturb: {error}.", error=error), "care")
    else:
        happened(DISTURBANCES[kind])
        flash(f"{DISTURBANCES[kind]}.", "care")
    return redirect(go_back_to(request.form.get("back", "")))
