"""Addresses of the page Table: pilots, the rule by which common kit is shared, and everybody's account."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.fields import BadInput
from iterum.core.planning.score import Prefer
from iterum.core.planning.shares import PilotShare, shares_of
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import kept, retold, say
from iterum.core.things.pilots import Pilot, Shape, terms_of
from iterum.core.things.rules import RULES, Affects, School, chosen_school
from iterum.services.planning import make_plan
from iterum.store.rows import TagTaken
from iterum.web.context import archives, desk, now, table, undoable
from iterum.web.pilots import pilots
from iterum.web.plan.routes import plan_again
from iterum.wording import about

blueprint = Blueprint("table", __name__, url_prefix="/table", template_folder="templates")

EFFECT_S = 1.5
"""Seconds of search for what another rule would do to today."""
RULE = next(rule for rule in RULES if rule.affects is Affects.TABLE)


def _shares() -> tuple[PilotShare, ...]:
    """What the plan in force does for each pilot."""
    kept = desk().latest_plan()
    return () if kept is None else shares_of(desk().session(), kept.plan.wanted, kept.plan.batches)


def _page(texts: Mapping[str, str] | None = None, faults: Mapping[str, str] | None = None, code: int = 200) -> Any:
    session = desk().session()
    changed = request.args.get("change") if texts is None else texts.get("known_as")
    known = pilots().get(changed or "")
    if texts is None:
        free = next((shape for shape in Shape if all(shape != one.shape for one in session.pilots)), Shape.CIRCLE)
        texts = {"id": known.id, "mark": known.mark, "shape": known.shape} if known else {"shape": free}
    shows = ("packs", session.packs), ("heats", [wish for wish in session.wanted if wish.is_heat])
    counts = {pilot.id: {name: sum(item.pilot == pilot.id for item in items) for name, items in shows}
              for pilot in session.pilots}  # fmt: skip
    page = render_template(
        "table/page.html",
        pilots=session.pilots,
        counts=counts,
        agreed=terms_of(session.pilots, session.rules.table),
        nobodys=[pack.id for pack in session.packs if pack.pilot is None],
        shapes=list(Shape),
        typed=texts,
        faults=faults or {},
        changed=known,
        rule=RULE,
        chosen=chosen_school(RULE, session.rules),
        shares={share.pilot: share for share in _shares()},
        accounts={account.pilot: account for account in table().accounts(now())},
        heats=_heats(),
    )
    return page if code == 200 else (page, code)


def _heats() -> dict[str, list[tuple[Any, Any]]]:
    """By pilot, each heat of the plan with its moment."""
    kept = desk().latest_plan()
    told: dict[str, list[tuple[Any, Any]]] = {}
    for item in kept.plan.wanted if kept is not None else ():
        if item.wish.is_heat and item.wish.pilot and kept is not None:
            told.setdefault(item.wish.pilot, []).append((kept.moment(item.wish.at_min), item))
    return told


@blueprint.get("")
def page() -> Any:
    """Who is at the table, the rule, and what each gets."""
    return _page()


@blueprint.post("")
def save() -> Any:
    """Write a pilot down, or change one; every fault at its field, nothing typed is lost."""
    form = request.form
    known_as = form.get("known_as") or None
    before = pilots().get(known_as or "")
    try:
        pilot = Pilot(
            form.get("id", "").strip(), form.get("mark", "").strip(), Shape(form.get("shape", Shape.CIRCLE)),
            tuple(tag for tag in form.getlist("shares_with") if tag in pilots()),
            before.gone if before else False,
        )  # fmt: skip
        with undoable(kept("{pilot} is at the table", pilot=pilot.id)):
            desk().save_pilot(pilot, known_as)
    except BadInput as bad:
        return _page(form, {fault.place: fault.mend for fault in bad.faults}, 422)
    except TagTaken:
        return _page(form, {"id": say("is at the table already")}, 422)
    except ValueError:
        return _page(form, {"shape": say("is none of the shapes")}, 422)
    return redirect(url_for("table.page"))


def _pilot() -> Pilot:
    """The pilot that the form names. Raises NotThere."""
    found = pilots().get(request.form.get("id", ""))
    if found is None:
        raise NotThere("pilot", request.form.get("id"))
    return found


@blueprint.post("/home")
def home() -> AnyResponse:
    """A pilot goes home, or is back: what is theirs leaves the plan, or comes back into it."""
    pilot = _pilot()
    gone = request.form.get("gone") == "yes"
    words = kept("{pilot} went home", pilot=pilot.id) if gone else kept("{pilot} is back", pilot=pilot.id)
    with undoable(words) as told:
        desk().save_pilot(replace(pilot, gone=gone), pilot.id)
        follows = say("The plan is being made again.") if plan_again() else ""
        told.text = f"{retold(words)}. {follows}"
    return redirect(url_for("table.page"))


@blueprint.post("/drop")
def drop() -> AnyResponse:
    """Take a pilot off the table who has nothing there."""
    pilot = _pilot()
    try:
        with undoable(kept("{pilot} is off the table", pilot=pilot.id)):
            desk().drop_pilot(pilot.id)
    except Unsafe as refusal:
        flash(" ".join(about(item) for item in refusal.reasons), "care")
    return redirect(url_for("table.page"))


@blueprint.post("/packs")
def give() -> AnyResponse:
    """Say whose packs these are: all that have no pilot, or those that are ticked."""
    pilot, tags = _pilot(), set(request.form.getlist("packs"))
    mine = [pack for pack in desk().session().packs if pack.id in tags]
    with undoable(kept("{mine} packs are {pilot}’s", mine=len(mine), pilot=pilot.id)):
        for pack in mine:
            desk().save_pack(replace(pack, pilot=pilot.id, reading=None), pack.id, now())
    return redirect(url_for("table.page"))


@blueprint.post("/rule")
def choose() -> AnyResponse:
    """Choose the rule of the table; the plan follows."""
    school = next((one for one in RULE.schools if one.key == request.form.get("school")), None)
    if school is None:
        raise NotThere("rule", request.form.get("school"))
    with undoable(kept("The table is shared otherwise: {label}", label=school.label.lower())) as told:
        settings: dict[str, Any] = dict(school.settings)
        desk().set_rules(replace(desk().session().rules, **settings), now())
        told.text = f"{school.label}. {say('The plan is being made again.') if plan_again() else ''}"
    return redirect(url_for("table.page"))


@blueprint.get("/effects")
def effects() -> str:
    """What each rule that is not in force would do to today, for the page that stands already."""
    told = desk().remember("rules of the table", now(), lambda: {one.key: _effect(one) for one in RULE.schools})
    return render_template("table/effects.html", rule=RULE, effects=told)


def _effect(school: School) -> tuple[PilotShare, ...]:
    session = desk().session_at(now(), now())
    settings: dict[str, Any] = dict(school.settings)
    otherwise = replace(session, rules=replace(session.rules, **settings)).at_table()
    made = make_plan(otherwise, Prefer.STEADIEST, EFFECT_S)
    return shares_of(otherwise, made.plan.wanted, made.plan.batches)


@blueprint.get("/<pilot>/home.jsonl")
def take_home(pilot: str) -> Response:
    """A pilot's packs with their readings and charges, to be merged into the own bench. Raises NotThere."""
    if pilot not in pilots():
        raise NotThere("pilot", pilot)
    name = f"attachment; filename=iterum-{now().astimezone():%Y-%m-%d}-packs.jsonl"
    return Response(archives().of_pilot(pilot, now()), mimetype="application/x-ndjson",
                    headers={"Content-Disposition": name})  # fmt: skip
