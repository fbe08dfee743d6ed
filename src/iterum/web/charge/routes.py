"""Addresses of the dial card."""

from datetime import timedelta

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.session import GroupChoice
from iterum.web.charge.views import RATES, Choice, dial_page
from iterum.web.context import desk, now, runs
from iterum.web.run.views import run_page
from iterum.wording import LIMIT_NAMES

blueprint = Blueprint("charge", __name__, url_prefix="/charge", template_folder="templates")


@blueprint.get("")
def page() -> str:
    """The dial card of a group, or the list of groups when none is named."""
    session = desk().session()
    ids = request.args.getlist("packs")
    if not ids:
        return _groups()
    shown = dial_page(session, ids, Choice.from_query(request.args))
    until = request.args.get("until", type=float)
    template = "charge/dial.html" if request.headers.get("HX-Request") else "charge/page.html"
    return render_template(
        template,
        shown=shown,
        rates=RATES,
        until=until,
        rules=session.rules,
        limit_names=LIMIT_NAMES,
        minutes_of=lambda value: timedelta(minutes=value),
    )


def _groups() -> str:
    """What is in hand, what the plan has next, and every group's dial card."""
    in_hand = [run_page(runs().look(run.key, now()), desk().session(), now()) for run in runs().open()]
    kept = desk().latest_plan()
    held = {tag for item in in_hand for tag in item.look.run.packs}
    begun = {frozenset(run.packs) for run, _ in runs().since(kept.made_at, now())} if kept else set()
    ahead = []
    for batch in kept.document["batches"] if kept else ():
        waits = frozenset(batch["packs"]) not in begun and not held & set(batch["packs"])
        if kept and waits and batch["end_min"] > 0:
            ahead.append((batch, kept.made_at + timedelta(minutes=batch["start_min"])))
    by_time = sorted(ahead, key=lambda item: item[1])
    placed = [item for item in desk().placed() if not held & {pack.id for pack in item.packs}]
    return render_template("charge/groups.html", placed=placed, in_hand=in_hand, ahead=by_time[:8])


@blueprint.post("/keep")
def keep() -> Response:
    """Keep this choice as the session's group, so that it goes into the exported file."""
    ids = request.form.getlist("packs")
    choice = Choice.from_query(request.form)
    shown = dial_page(desk().session(), ids, choice)
    if shown.setup is not None and shown.sizing is not None:
        board = shown.setup.board.id if shown.setup.board else None
        current_a = shown.sizing.current_a
        desk().choose_group(GroupChoice(tuple(shown.ids), board, shown.setup.channel.id, current_a))
    query = {name: value for name, value in vars(choice).items() if value}
    return redirect(url_for("charge.page", packs=ids, **query))
