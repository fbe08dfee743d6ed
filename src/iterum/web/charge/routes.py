"""Addresses of the dial card."""

from datetime import timedelta

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.permit.facts import Act
from iterum.core.permit.permit import permits
from iterum.core.things.limit_kinds import KINDS
from iterum.web.charge.other import other_page
from iterum.web.charge.views import dial_page, hidden
from iterum.web.choices import choice_fields, choice_from
from iterum.web.context import bench, desk

blueprint = Blueprint("charge", __name__, url_prefix="/charge", template_folder="templates")


@blueprint.get("")
def page() -> str | Response:
    """The dial card of a group; the bench where none is named."""
    choice = choice_from(request.args)
    if not choice.packs:
        return redirect(url_for("bench.page"))
    shown = dial_page(bench(), choice)
    template = "charge/dial.html" if request.headers.get("HX-Request") else "charge/page.html"
    return render_template(
        template,
        shown=shown,
        begun=choice_fields(hidden(shown)) if shown.sizing else {},
        chosen=choice_fields(choice),
        rules=bench().rules,
        limit_kinds=KINDS,
        minutes_of=lambda value: timedelta(minutes=value),
    )


@blueprint.get("/other")
def other() -> str | Response:
    """Evening out without a charger, balancing alone, bringing down to given volts: what each comes to."""
    choice = choice_from(request.args)
    if not choice.packs:
        return redirect(url_for("bench.page"))
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
