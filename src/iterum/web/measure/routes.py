"""Addresses of the Measure page."""

from dataclasses import replace
from datetime import datetime
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.permit.permit import Permit, permit_of
from iterum.core.reasons import NotThere
from iterum.core.say import say
from iterum.core.season.run import ON_BOARD
from iterum.core.things.packs import Condition, Pack
from iterum.devices.driver import LinkLost, Refused
from iterum.web.context import desk, links, log_book, now, runs
from iterum.web.degrees import own_degrees
from iterum.web.measure.views import (
    AirAsked,
    Typed,
    look_at,
    next_to_measure,
    read_pins,
    read_temperature,
    read_total,
    read_typed,
    reading_of,
)
from iterum.web.tabs import chosen_class, class_tabs
from iterum.wording.figures import degrees

blueprint = Blueprint("measure", __name__, url_prefix="/measure", template_folder="templates")


def _pack(pack_id: str | None) -> Pack:
    for pack in desk().session().packs:
        if pack.id == pack_id:
            return pack
    raise NotThere("pack", pack_id)


def _by_total(pack: Pack) -> bool:
    """Whether only the total is read: as was asked for, and always of packs without a balance plug."""
    return request.values.get("total") == "yes" or not pack.chemistry.joins


def _typed(pack: Pack, texts: list[str]) -> Typed:
    return read_total(texts[0]) if _by_total(pack) else read_typed(texts, pack.cells)


def _typed_texts(pack: Pack) -> list[str]:
    if _by_total(pack):
        return [request.form.get("cell1", "")]
    return [request.form.get(f"cell{number}", "") for number in range(1, pack.cells + 1)]


@blueprint.get("")
def page() -> str:
    """The pack to measure now, and the queue of its class."""
    return _page(None, None)


def _page(pack: Pack | None, texts: list[str] | None, confirm: bool = False, air: AirAsked | None = None) -> str:
    session = desk().session(now())
    if not session.packs:
        return render_template("measure/none.html")
    on_board = _on_board()
    tabs = class_tabs(session.packs, lambda item: item.reading is not None or item.id in on_board)
    asked = pack or (_pack(request.args["pack"]) if request.args.get("pack") else None)
    family = asked.family if asked else chosen_class(request.args.get("class"), tabs)
    queue = [item for item in session.packs if item.family == family]
    at_rest = [item for item in queue if item.id not in on_board]
    current = asked or next_to_measure(queue, None, on_board) or (at_rest or queue)[0]
    by_total = _by_total(current)
    if texts is None:
        volts = current.reading.cell_v if current.reading else ()
        texts = [f"{value:.2f}" for value in volts] or [""] * current.cells
        if by_total:
            texts = [f"{current.reading.pack_v:.2f}" if current.reading else ""]
    typed = _typed(current, texts)
    warmth = request.form.get("temperature", "") if pack else ""
    temperature_c, warmth_fault = read_temperature(warmth)
    shown = look_at(current, typed, session.rules, temperature_c, by_total)
    if not any(texts):
        shown = replace(shown, faults={})
    history = desk().readings(current.id)
    following = next_to_measure(queue, current.id, on_board)
    others = [item for item in session.packs if item.family != family]
    beyond = None if following else next_to_measure(others, None, on_board)
    verdict = permit_of(current, session.rules)
    lone = verdict.charges and not verdict.full and (len(queue) == 1 or not current.chemistry.joins)
    return render_template(
        "measure/page.html",
        pack=current,
        typed=typed,
        warmth=warmth,
        warmth_fault=warmth_fault,
        look=shown,
        confirm=confirm,
        odd_cells=[cell for item in shown.questions if (cell := item.numbers.get("cell"))] if pack else [],
        by_total=by_total,
        verdicts=[permit_of(item, session.rules) for item in queue],
        tabs=tabs,
        family=family,
        following=following,
        beyond=beyond,
        history=history,
        position=queue.index(next(item for item in queue if item.id == current.id)) + 1,
        queue=queue,
        done=request.args.get("done") == "yes",
        alone=lone and current.id not in on_board,
        still_full=sorted(log_book().full_since().items(), key=lambda item: item[1]),
        has_checker=links().checker() is not None,
        air=air or AirAsked.of(desk().air_c(now())),
        waits=_waits(current, on_board),
        asks_pins=by_total and current.chemistry.joins and current.cells > 1,
        pins=request.form.get("pins", "") if pack else current.pins or "",
        pins_fault=read_pins(request.form.get("pins", ""))[1] if pack else "",
        asks_chemistry=_doubts_chemistry(shown.verdict or verdict),
        doubted=() if any(texts) or current.reading is None else verdict.reasons,
    )


def _doubts_chemistry(verdict: Permit) -> bool:
    return any(item.code in ("life_doubt", "life_possible") for item in verdict.reasons)


def _as_answered(pack: Pack) -> Pack:
    """The pack with what was answered beside its volts: pins that were counted, a label that was read again."""
    pins, _ = read_pins(request.form.get("pins", ""))
    confirmed = request.form.get("chemistry_confirmed") == "yes"
    return replace(pack, pins=pins or pack.pins, chemistry_confirmed=pack.chemistry_confirmed or confirmed)


def _waits(pack: Pack, on_board: set[str]) -> tuple[datetime, str] | None:
    """When and where a pack is charged next by the plan; None where it is on a charger, or no plan has it."""
    kept = desk().latest_plan()
    if kept is None or pack.id in on_board:
        return None
    ahead = [batch for batch in kept.plan.batches if pack.id in batch.packs and kept.moment(batch.lead_min) > now()]
    first = min(ahead, key=lambda batch: batch.lead_min, default=None)
    return None if first is None else (kept.moment(first.start_min), first.channel)


@blueprint.post("/air")
def air() -> str | Response | tuple[str, int]:
    """Write down what the air is today."""
    air_c, fault = read_temperature(request.form.get("air_c", ""))
    pack = _pack(request.form.get("pack"))
    if air_c is None:
        fault = fault or say("Type degrees, such as {own_degrees}.", own_degrees=own_degrees(12.0))
        asked = AirAsked(request.form.get("air_c", ""), desk().air_c(now()) is not None, fault)
        return _page(pack, None, air=asked), 422
    desk().set_air(air_c, now())
    flash(say("The air is {air_c} today.", air_c=degrees(air_c)))
    return redirect(url_for("measure.page", pack=pack.id))


def _on_board() -> set[str]:
    """Tags of packs on a charger now."""
    return {tag for run in runs().open() if run.state in ON_BOARD for tag in run.packs}


@blueprint.post("/checker")
def from_checker() -> str | Response | tuple[str, int]:
    """Read the pack with the cell checker; it is looked at, questioned and written down like typed volts."""
    pack = _pack(request.form.get("pack"))
    checker = links().checker()
    try:
        if checker is None:
            raise Refused(say("no cell checker is kept under Kit"))
        volts = checker.check(pack.id)
    except (LinkLost, Refused) as error:
        flash(say("The cell checker: {error}.", error=error), "care")
        return redirect(url_for("measure.page", pack=pack.id))
    texts = [f"{value:.2f}" for value in volts[: pack.cells]]
    texts += [""] * (pack.cells - len(texts))
    return _page(pack, texts)


@blueprint.post("/preview")
def preview() -> str:
    """The verdict on what is typed so far; nothing is saved."""
    pack = _as_answered(_pack(request.form.get("pack")))
    typed, by_total = _typed(pack, _typed_texts(pack)), _by_total(pack)
    temperature_c, _ = read_temperature(request.form.get("temperature", ""))
    shown = look_at(pack, typed, desk().session().rules, temperature_c, by_total)
    return render_template("measure/verdict.html", pack=pack, look=shown, confirm=False, by_total=by_total)


@blueprint.post("")
def save() -> str | Response | tuple[str, int]:
    """Write the reading down, questioned first where it looks odd, and go to the next pack."""
    known = _pack(request.form.get("pack"))
    pack = _as_answered(known)
    texts = _typed_texts(pack)
    typed, by_total = _typed(pack, texts), _by_total(pack)
    temperature_c, warmth_fault = read_temperature(request.form.get("temperature", ""))
    look = look_at(pack, typed, desk().session().rules, temperature_c, by_total)
    confirmed = request.form.get("confirmed") == ",".join(texts)
    _, pins_fault = read_pins(request.form.get("pins", ""))
    if not typed.complete or warmth_fault or pins_fault or look.impossible or (look.questions and not confirmed):
        return _page(pack, texts, confirm=bool(look.questions) and not look.impossible), 422
    reading = reading_of(typed, temperature_c, by_total, now())
    corrects = next((item for item in desk().readings(pack.id) if item.corrected_by is None), None)
    is_correction = request.form.get("correct") == "yes" and corrects is not None
    if pack != known:
        desk().save_packs([replace(pack, reading=None)], pack.id, now())
    desk().record_reading(pack.id, reading, now(), corrects.key if is_correction and corrects else None)
    queue = [item for item in desk().session().packs if item.family == pack.family]
    following = next_to_measure(queue, pack.id, _on_board())
    if following is None:
        flash(say("{pack} is saved. Every pack of this class is measured.", pack=pack.id))
        return redirect(url_for("measure.page", pack=pack.id, done="yes"))
    more: dict[str, Any] = {"total": "yes"} if by_total and following.chemistry.joins else {}
    return redirect(url_for("measure.page", pack=following.id, **more))


@blueprint.post("/wrong")
def looks_wrong() -> Response:
    """Mark a pack as damaged, or take that back."""
    pack = _pack(request.form.get("pack"))
    damaged = request.form.get("condition") != "ok"
    desk().set_condition(pack.id, Condition.DAMAGED if damaged else Condition.OK)
    if damaged:
        flash(
            say(
                "{pack} is quarantined: it joins no board and is not charged. Lay it outside, on sand or stone.",
                pack=pack.id,
            ),
            "care",
        )
    return redirect(url_for("measure.page", pack=pack.id))
