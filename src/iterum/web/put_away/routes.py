"""Addresses of the Put away page: what lies above or below storage volts."""

from flask import Blueprint, render_template

from iterum.core.packs import Condition, Pack
from iterum.web.context import desk

blueprint = Blueprint("put_away", __name__, url_prefix="/put-away", template_folder="templates")


def _side(pack: Pack) -> str:
    """Which way a measured pack must go before it is put away."""
    chemistry = pack.chemistry
    volts = round(pack.cell_v or 0.0, 3)
    return "down" if volts > chemistry.storage_high_v else "up" if volts < chemistry.storage_low_v else "there"


@blueprint.get("")
def page() -> str:
    """Packs by the way they must go."""
    packs = [pack for pack in desk().session().packs if pack.condition is Condition.OK and pack.chemistry.joins]
    sides: dict[str, list[Pack]] = {"down": [], "up": [], "there": []}
    for pack in packs:
        if pack.reading is not None:
            sides[_side(pack)].append(pack)
    return render_template(
        "put_away/page.html", sides=sides, unmeasured=[pack for pack in packs if pack.reading is None]
    )
