"""Addresses of the bench: the page, what changes by itself, and the acts of a day."""

from dataclasses import replace
from hashlib import sha256
from typing import Any

from flask import Blueprint, flash, make_response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.planning.record import KeptPlan
from iterum.core.reasons import NotThere
from iterum.core.say import kept, say, say_many
from iterum.core.season.outlook import COOL, HOT, WARM
from iterum.core.season.run import LIVE
from iterum.exchange.heats import Heat
from iterum.web.begin.routes import questions
from iterum.web.bench.views import BenchPage, Seen, bench_page
from iterum.web.choices import choice_fields
from iterum.web.context import day, desk, now, plan_desk, runs, undoable
from iterum.web.figures import figure
from iterum.web.frame import energy_left
from iterum.web.heats.routes import shift
from iterum.web.next_up import agenda, todos, untold
from iterum.web.pilots import may_act_on
from iterum.web.plan.routes import made_first, parted, plan_again
from iterum.web.run.routes import step_of
from iterum.wording import about

blueprint = Blueprint("bench", __name__, url_prefix="/bench", template_folder="templates")

DELAYS_MIN = (10, 20, 30)


def _shown() -> BenchPage:
    session = desk().session(now())
    in_hand = runs().in_hand(now())
    left_wh, whole_wh = energy_left(session)
    seen = Seen(
        in_hand=in_hand,
        looks={item.run.key: runs().look(item.run.key, now()) for item in in_hand if item.run.state in LIVE},
        todos=agenda(),
        kept=desk().latest_plan(),
        heats=desk().heats(),
        left_wh=left_wh,
        whole_wh=whole_wh,
    )
    shown = bench_page(session.kit, seen, now(), parted())
    return replace(shown, live=tuple(item for item in shown.live if may_act_on(item.run)))


def _searching() -> bool:
    job = plan_desk().job
    return job is not None and job.running


def _open() -> tuple[int | None, bool]:
    """Which batch's row is open, and whether its step takes the key that else belongs to Now."""
    opened = request.args.get("open", type=int)
    run = next((run for run in runs().open() if run.key == opened and may_act_on(run)), None) if opened else None
    return (None, False) if run is None else (run.key, run.next_act is not None)


def _rows() -> dict[str, Any]:
    """The rows, and which of them is open: its step stands below it."""
    opened, has_step = _open()
    return {
        "shown": _shown(),
        "searching": _searching(),
        "kept": desk().latest_plan(),
        "evening": desk().is_called_off(now()),
        "open": opened,
        "has_step": has_step,
        "choice_fields": choice_fields,
    }


def _acts() -> dict[str, object]:
    """What the acts of the day are about."""
    kept = desk().latest_plan()
    changed = () if kept is None else kept.plan.changed
    return {
        "untold": untold(),
        "ahead": [heat for heat in desk().heats() if heat.wish.is_heat and heat.at > now()],
        "delays": DELAYS_MIN,
        "changed": [about(item, lambda minute: _clock(kept, minute)) for item in changed],
        "session_packs": desk().session().packs,
    }


def _clock(kept: KeptPlan | None, minute: float) -> str:
    return f"{kept.moment(minute).astimezone():%H:%M}" if kept is not None else ""


@blueprint.get("")
def page() -> str:
    """What to do now, every channel, and the day; on an empty bench, the questions that fill it."""
    session = desk().session()
    if not session.packs or not session.kit.chargers:
        return questions()
    made_first()
    rows = _rows()
    key = rows["open"]
    step = step_of(key) if key else None
    return_to = url_for("bench.page", open=key)
    was = step["shown"].look.run.state.value if step and step["shown"].live else None
    return render_template(
        "bench/page.html", meaning=_meaning(), step=step, was=was, return_to=return_to, **rows, **_acts()
    )  # fmt: skip


def _meaning() -> str:
    """What the card of Now says, without the minutes that only count down."""
    up = next(iter(todos()), None)
    if up is None:
        return f"nothing {_searching()}"
    late = up.at < now()
    told = (up.title, up.on, up.off, up.button, up.href, sorted(up.fields), late, up.at.strftime("%H:%M"))
    return sha256(repr(told).encode()).hexdigest()[:12]


@blueprint.get("/now")
def now_card() -> str | tuple[str, int]:
    """The card of Now, where it means something else than what was seen."""
    if request.args.get("seen") == _meaning():
        return "", 204
    opened, has_step = _open()
    return render_template(
        "bench/now.html", todos=todos(), meaning=_meaning(), searching=_searching(), open=opened, has_step=has_step
    )  # fmt: skip


@blueprint.get("/live")
def live() -> Response:
    """What changes by itself: asked for every few seconds. The whole page where there are other rows by now, or where
    the open batch, of which nothing is being typed, does not charge any more. was : its state when the page was made.
    """
    rows = _rows()
    answer = make_response(render_template("bench/rows.html", polled=True, **rows))
    was, shown = request.args.get("was"), rows["shown"].rows
    went_on = was and was not in {row.seen_state for row in shown if row.key == rows["open"]}
    if went_on or request.args.get("rows", type=int) != len(shown):
        answer.headers["HX-Refresh"] = "true"
    return answer


@blueprint.post("/cool")
def check_round() -> Response:
    """A check round: every batch that charges was felt; one that is not cool is said in the same act."""
    felt: dict[int, str] = {}
    for run in runs().open():
        told = request.form.get(f"felt-{run.key}")
        if told in (COOL, WARM, HOT):
            felt[run.key] = told
    odd = day().check_round(felt, now())
    if any(felt[run.key] == HOT for run in odd):
        return redirect(url_for("wrong.page", see="swelling"))
    for run in odd:
        flash(say("{packs:list}: warm. Touch them again in a few minutes; hot means stop.", packs=run.packs), "care")
    if felt:
        flash(say_many("Checked: one batch.", "Checked: {count} batches.", len(felt)))
    return redirect(url_for("bench.page"))


def _heat() -> Heat:
    """The heat that the form names. Raises NotThere where it is none any more."""
    key = request.form.get("key", "")
    heat = next((item for item in desk().heats() if item.key == key), None)
    if heat is None:
        raise NotThere("heat", key)
    return heat


def _name(heat: Heat) -> str:
    return heat.wish.name or say("{family:family} at {at:%H:%M}", family=heat.wish.family, at=heat.at.astimezone())


def _again() -> str:
    """Have the plan made again; what is said of it."""
    return say("The plan is being made again.") if plan_again() else ""


@blueprint.post("/flown")
def flown() -> Response:
    """A heat was flown: by whom was planned, in one act, or by those that are ticked."""
    heat = _heat()
    planned = request.form.get("as") == "planned"
    packs = day().planned_for(heat) if planned else tuple(request.form.getlist("packs"))
    with undoable(kept("{name} is flown", name=_name(heat))) as told:
        day().flown(heat, packs, now())
        who = ", ".join(packs) if packs else say("nobody")
        rest = [say("Let them rest {rest_min:g} min, then measure them.", rest_min=heat.wish.rest_min)] if packs else []
        told.text = " ".join([say("{heat}: {who} flew.", heat=_name(heat), who=who), *rest, _again()])
    return redirect(url_for("bench.page"))


@blueprint.post("/delay")
def delay() -> Response:
    """A heat is later, and all after it; the plan follows."""
    by_min = request.form.get("by_min", 0.0, type=figure)
    if not by_min > 0:
        raise NotThere("delay", "by_min")
    shift(request.form.get("key", ""), by_min, True)
    return redirect(url_for("bench.page"))


@blueprint.post("/off")
def call_off() -> Response:
    """The day is called off: no heats any more; what charges is ended well, then everything is put away."""
    with undoable(kept("The day is over")) as told:
        plan_desk().drop()  # what is searched is for heats that are gone
        day().call_off(now())
        live = [run for run in runs().open() if run.state in LIVE]
        full = [say("What charges may go on until it is full, or be stopped: nobody flies it.")] if live else []
        told.text = " ".join([say("The day is over."), *full, say("Bring every pack to storage.")])
    return redirect(url_for("bench.page"))


@blueprint.post("/failed")
def failed() -> Response:
    """A charger has failed: its batches are stopped or given up, it is marked, and the plan goes on without it."""
    came = day().charger_failed(request.form.get("charger", ""), now())
    for channel, why in came.not_off:
        flash(
            say(
                "{channel} was not stopped by Iterum ({why}). Pull the plug of {charger} now.",
                channel=channel,
                why=why,
                charger=came.charger,
            ),
            "care",
        )
    stopped = say_many(
        "One batch stopped: pull its plug, then remove the packs.",
        "{count} batches stopped: pull its plug, then remove the packs.",
        len(came.off),
    )
    flash(
        " ".join(
            (say("{charger} is marked as failed.", charger=came.charger), *([stopped] if came.off else []), _again())
        ),
        "care",
    )
    return redirect(url_for("bench.page"))


@blueprint.post("/works")
def works() -> Response:
    """A charger works again."""
    charger = request.form.get("charger", "")
    day().works_again(charger)
    flash(" ".join((say("{charger} counts again.", charger=charger), _again())))
    return redirect(url_for("kit.page"))
