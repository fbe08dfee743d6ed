"""Addresses of the Put away page: what must go up or down, where, how long, and done by when."""

from datetime import timedelta

from flask import Blueprint, render_template

from iterum.core.permit.permit import Way
from iterum.core.things.packs import Condition
from iterum.core.things.volts import THERE_V
from iterum.web.choices import choice_fields
from iterum.web.context import bench, desk, log_book, now
from iterum.web.put_away.views import ladder

blueprint = Blueprint("put_away", __name__, url_prefix="/put-away", template_folder="templates")


@blueprint.get("")
def page() -> str:
    """The plan for tonight, and what lies full since when."""
    session = desk().session(now())
    packs = [pack for pack in session.packs if pack.condition is Condition.OK and pack.chemistry.joins]
    as_it_is = bench()
    plan = desk().to_storage(now())
    names = {channel.id: channel.name or channel.id for _, channel in session.kit.channels()}
    names |= {board.id: board.name or board.id for board in session.kit.all_boards()}
    return render_template(
        "put_away/page.html",
        plan=plan,
        pic=ladder(plan, names, THERE_V, now()),
        apart=[pack for pack in session.packs if pack.condition is not Condition.OK],
        ways=Way,
        names=names,
        full=sorted(log_book().full_since().items(), key=lambda item: item[1]),
        unmeasured=[pack for pack in packs if pack.reading is None],
        done_at=now() + timedelta(minutes=plan.done_min),
        at=lambda minute: now() + timedelta(minutes=minute),
        choice_fields=choice_fields,
        there_v=THERE_V,
        in_hand=sorted(as_it_is.in_hand),
    )
