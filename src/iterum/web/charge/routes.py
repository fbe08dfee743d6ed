"""Addresses of the dial card."""

from datetime import timedelta

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.permit.facts import Act
from iterum.core.permit.permit import permits
from iterum.web.charge.other import other_page
from iterum.web.charge.views import dial_page, hidden
from iterum.web.choices import choice_fields, choice_from
from iterum.web.context import bench, desk, now, runs
from iterum.web.run.views import run_page
from iterum.wording import LIMIT_NAMES

blueprint = Blueprint("charge", __name__, url_prefix="/charge", template_folder="templates")


@blueprint.get("")
def page() -> str:
    """The dial card of a group, or the list of groups when none is named."""
    choice = choice_from(request.args)
    if not choice.packs:
        return _groups()
    shown = dial_page(bench(), choice)
    template = "charge/dial.html" if request.headers.get("HX-Request") else "charge/page.html"
    return render_template(
        template,
        shown=shown,
        begun=choice_fields(hidden(shown)) if shown.sizing else {},
        chosen=choice_fields(choice),
        rules=bench().rules,
        limit_names=LIMIT_NAMES,
        minutes_of=lambda value: timedelta(minutes=value),
    )


def _groups() -> str:
    """What is in hand, what the plan has next, and every group's dial card."""
    in_hand = [run_page(runs().look(run.key, now()), desk().session(), now()) for run in runs().open()]
    kept = desk().latest_plan()
    held = {tag for item in in_hand for tag in item.look.run.packs}
    begun = {frozenset(run.packs) for run, _ in runs().since(kept.made_at, now())} if kept else set()
    taken = {place for item in in_hand for place in (item.look.run.channel, item.look.run.board) if place}
    ahead = []
    for batch in kept.plan.batches if kept else ():
        waits = frozenset(batch.packs) not in begun and not held & set(batch.packs)
        if kept and waits and batch.end_min > 0:
            waits_for = next((place for place in (batch.channel, batch.board) if place in taken), None)
            ahead.append((batch, kept.moment(batch.start_min), batch.choice, waits_for))
    by_time = sorted(ahead, key=lambda item: item[1])
    alone = [pack for pack in bench().free_packs if _is_lone(pack.id)]
    return render_template(
        "charge/groups.html", placed=desk().placed(now()), in_hand=in_hand, ahead=by_time[:8], alone=alone,
        choice_fields=choice_fields,
    )  # fmt: skip


def _is_lone(tag: str) -> bool:
    """Whether a pack may be charged and is in no group: its card is opened from here, with no detour."""
    verdict = permits(bench())[tag]
    grouped = {pack.id for group in desk().matching(now())[0].groups for pack in group.packs}
    return verdict.charges and not verdict.full and tag not in grouped


@blueprint.get("/other")
def other() -> str:
    """Evening out without a charger, balancing alone, bringing down to given volts: what each comes to."""
    choice = choice_from(request.args)
    if not choice.packs:
        return _groups()
    ids, here = list(choice.packs), bench()
    shown = other_page(here, choice)
    return render_template(
        "charge/other.html", shown=shown, ids=ids, choice=choice, choice_fields=choice_fields,
        names={channel.id: channel.name or channel.id for _, channel in here.kit.channels()},
        store_reasons=permits(here)[ids[0]].acts[Act.STORE].reasons,
    )  # fmt: skip


@blueprint.post("/keep")
def keep() -> Response:
    """Keep this choice as the session's group, so that it goes into the exported file."""
    choice = choice_from(request.form)
    shown = dial_page(bench(), choice)
    if shown.sizing is not None:
        desk().choose_group(shown.sizing.settled)
    return redirect(url_for("charge.page", **choice_fields(choice)))
