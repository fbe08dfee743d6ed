"""Addresses of the Use page: amps against the chain, minutes to the reserve, the timer, and what a recharge says."""

from dataclasses import replace
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.reading.numbers import figure_of
from iterum.core.reasons import NotThere
from iterum.core.say import Words, say
from iterum.core.season.flight import USABLE_PART, Part, flight, timer_from_recharge
from iterum.web.context import desk, log_book, now

blueprint = Blueprint("use", __name__, url_prefix="/use", template_folder="templates")

UNITS = {"a": "A", "v": "V", "reserve": "%"}
RANGES = {"average_a": (0.01, 1000.0), "peak_a": (0.01, 2000.0), "esc_a": (0.1, 2000.0), "esc_v": (1.0, 100.0),
          "plug_a": (0.1, 2000.0), "reserve": (0.0, 80.0), "escs": (1, 16)}  # fmt: skip


def _typed() -> tuple[dict[str, float], dict[str, str]]:
    typed, faults = {}, {}
    for name, (low, high) in RANGES.items():
        text = request.args.get(name, "").strip()
        if not text:
            continue
        value = figure_of(text, UNITS.get(name.rsplit("_", 1)[-1], ""))
        if value is None:
            faults[name] = say("{value} is no number", value=repr(text))
            continue
        if not low <= value <= high:
            faults[name] = say("must be {low:g} to {high:g}, got {value:g}", low=low, high=high, value=value)
        typed[name] = value
    return typed, faults


@blueprint.get("")
def page() -> str | tuple[str, int]:
    """What a load does to a pack."""
    session = desk().session()
    by_id = {pack.id: pack for pack in session.packs}
    pack = by_id.get(request.args.get("pack", "")) or next(iter(session.packs), None)
    typed, faults = _typed()
    result: Any = None
    again = None
    if pack is not None and "average_a" in typed and not faults:
        count = int(typed.get("escs", 1))
        esc = Part(Words("speed controller"), typed.get("esc_a"), typed.get("esc_v"), count)
        parts = [esc, Part(Words("plug"), typed.get("plug_a"))]
        usable = 1 - typed["reserve"] / 100 if "reserve" in typed else USABLE_PART
        full_v = session.rules.full_v(pack.chemistry) * pack.cells
        peak_a = max(typed.get("peak_a", typed["average_a"]), typed["average_a"])
        result = flight(pack, full_v, typed["average_a"], peak_a, parts, usable)
    if pack is not None and pack.timer_s:
        _, charges = log_book().health_of(pack, now())
        last = next((item.record for item in charges if item.record.charge_mah), None)
        if last is not None and last.charge_mah:
            again = (last, timer_from_recharge(pack, pack.timer_s, last.charge_mah))
    answer = render_template("use/page.html", packs=session.packs, pack=pack, typed=request.args, faults=faults,
                             result=result, again=again)  # fmt: skip
    return (answer, 422) if faults else answer


@blueprint.post("/timer")
def timer() -> Response:
    """Set a pack's flight timer."""
    pack_id, timer_s = request.form.get("pack", ""), request.form.get("timer_s", 0, type=int)
    pack = next((item for item in desk().session().packs if item.id == pack_id), None)
    if pack is None or not 10 <= timer_s <= 36_000:
        raise NotThere("pack", "pack")
    desk().save_pack(replace(pack, timer_s=timer_s, reading=None), pack.id, now())
    flash(say("Timer of {pack}: {timer_s}:{timer_s2:02}.", pack=pack.id, timer_s=timer_s // 60, timer_s2=timer_s % 60))
    return redirect(url_for("use.page", pack=pack.id))
