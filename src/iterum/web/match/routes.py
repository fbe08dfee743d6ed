"""Addresses of the Match page."""

from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import say
from iterum.core.sizing.arrange import Placed, answer, choice_of
from iterum.core.things.choice import Choice
from iterum.core.things.rules import HouseRules
from iterum.web.choices import choice_fields
from iterum.web.context import bench, desk, now
from iterum.web.figures import whole
from iterum.web.match.join import JoinPage, join_page
from iterum.web.match.views import groups_to_move_to, match_page
from iterum.web.tabs import chosen_class, class_tabs
from iterum.wording import about

blueprint = Blueprint("match", __name__, url_prefix="/match", template_folder="templates")


@blueprint.get("")
def page() -> str:
    """The voltage ladder of one class, its groups and its left-out packs."""
    session = desk().session()
    if not any(pack.reading for pack in session.packs):
        return render_template("match/none.html", packs=session.packs)
    matching, moves = desk().matching(now())
    grouped = {pack.id for group in matching.groups for pack in group.packs}
    tabs = class_tabs(session.packs, lambda pack: pack.id in grouped)
    family = chosen_class(request.args.get("class"), tabs) or ""
    page_number = request.args.get("page", 0, type=whole)
    rules = bench().rules
    shown = match_page(
        session, matching, desk().placed(now(), family), family, page_number, lambda one: _joined(one, rules)
    )
    return render_template(
        "match/page.html",
        shown=shown,
        tabs=tabs,
        moves={move.pack_id: move for move in moves},
        targets=lambda pack: groups_to_move_to(shown.cards, pack),
        picked=request.args.get("pack"),
        choice_fields=choice_fields,
        charge_of=lambda left: choice_fields(choice) if (choice := choice_of(left)) else None,
    )


def _joined(placed: Placed, rules: HouseRules) -> JoinPage | None:
    """How a group evens out; None for one that is never joined."""
    if placed.group is not None and placed.group.reasons:
        return None
    sizing = placed.sizing
    board, rate_c = (sizing.setup.board, sizing.rate_c) if sizing else (None, None)
    return join_page(placed.packs, board, rules, rate_c)


@blueprint.get("/join")
def join() -> str:
    """How one group evens out, and the steps to plug it in."""
    packs = bench().members(tuple(dict.fromkeys(request.args.getlist("packs"))))
    if len(packs) < 2:
        raise NotThere("group", "of one pack")
    ids, family = [pack.id for pack in packs], packs[0].family
    _, sizing, _ = answer(bench(), Choice(tuple(ids)))
    board, rate_c = (sizing.setup.board, sizing.rate_c) if sizing else (None, None)
    try:
        shown = join_page(packs, board, bench().rules, rate_c)
    except Unsafe as refusal:
        return render_template("match/join.html", shown=None, refusals=refusal.reasons, ids=ids, family=family)
    return render_template("match/join.html", shown=shown, ids=ids, family=family, offered=sizing is not None)


@blueprint.post("/move")
def move() -> Response:
    """Move a pack by hand to the group of another, out, or back to where it was."""
    pack_id = request.form.get("pack", "")
    target = request.form.get("to", "")
    try:
        if target == "back":
            desk().move_back(pack_id)
        elif target == "all-back":
            desk().move_back(None)
        else:
            desk().move(pack_id, target.removeprefix("with:") or None, now())
            _say_verdict(pack_id)
    except Unsafe as refusal:
        flash(say("Not moved. ") + " ".join(about(item) for item in refusal.reasons), "care")
    query: dict[str, Any] = {"class": request.form.get("class", ""), "pack": pack_id}
    return redirect(url_for("match.page", **query))


def _say_verdict(pack_id: str) -> None:
    for group in desk().matching(now())[0].groups:
        if any(pack.id == pack_id for pack in group.packs) and not group.allowed:
            flash(
                say(
                    "{pack_id} is moved, but this group may not be charged: {about}",
                    pack_id=pack_id,
                    about=about(group.reasons[0]),
                ),
                "care",
            )
