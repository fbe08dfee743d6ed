"""An empty bench asks for packs, a charger, and where the energy comes from; a board where there is one."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.things.charger_label import ChargerLabel, read_charger
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.kit import Charger
from iterum.core.things.ledger import energy_of_label, limits_of_label
from iterum.core.things.pack_label import PackLabel, read_label
from iterum.core.things.tags import next_tag, tags_from
from iterum.exchange.faults import BadInput
from iterum.exchange.labels import charger_of
from iterum.exchange.log_csv import read_table
from iterum.exchange.pack_table import PACK_MEANINGS, guessed_packs, packs_from
from iterum.exchange.sense import kit_sense, pack_sense
from iterum.exchange.session import part_from
from iterum.services.desk import kit_items
from iterum.store.rows import TagTaken
from iterum.web.context import desk, now, undoable
from iterum.web.figures import whole
from iterum.web.forms import faults_by_field

blueprint = Blueprint("begin", __name__, url_prefix="/begin", template_folder="templates")

MAINS = ("mains", "mains power", "socket", "wall", "house")
"""Words for a source that has no end."""


@dataclass
class Asked:
    """What one question was answered with, what is wrong with it, and what it leaves open: (name, words, choices)."""

    text: str = ""
    fault: str = ""
    open: list[tuple[str, str, tuple[tuple[str, str], ...]]] = field(default_factory=list)


@blueprint.get("")
def page() -> str:
    """The questions, those that are answered with what was written down."""
    return _page({})


def _page(asked: Mapping[str, Asked]) -> str:
    session = desk().session()
    kit = session.kit
    done = {
        "packs": ", ".join(_alike()),
        "charger": ", ".join(item.name or item.id for item in kit.chargers),
        "source": ", ".join(item.name or item.id for item in kit.sources),
        "board": ", ".join(item.name or item.id for item in kit.boards),
    }
    open_now = next((name for name in ("packs", "charger", "source", "board") if name in asked), None)
    here = open_now or next((name for name in ("packs", "charger", "source") if not done[name]), "board")
    ready = bool(done["packs"] and done["charger"])
    return render_template("begin/page.html", asked=asked, done=done, here=here, ready=ready)


def _alike() -> list[str]:
    """The packs that are written down, those of a kind in one."""
    kinds: dict[tuple[str, float], list[str]] = {}
    for pack in desk().session().packs:
        kinds.setdefault((pack.family, pack.capacity_mah), []).append(pack.id)
    return [f"{tags[0]} to {tags[-1]}" if len(tags) > 1 else tags[0] for tags in kinds.values()]


@blueprint.post("/packs")
def packs() -> str | Response | tuple[str, int]:
    """Write down packs as their label says; what it leaves open is asked, and nothing assumed."""
    asked = Asked(request.form.get("label", "").strip())
    try:
        told = read_label(asked.text)
    except ValueError as error:
        return _of_another("packs", asked) or _refused("packs", asked, str(error))
    return _write_packs(told, asked)


def _write_packs(told: PackLabel, asked: Asked) -> str | Response | tuple[str, int]:
    chemistry = told.chemistry or request.form.get("chemistry") or None
    cells = told.cells or request.form.get("cells", type=whole)
    could = dict(told.could_be)
    if chemistry in could and cells is None:
        cells = could[chemistry]
    if chemistry not in CHEMISTRIES:
        likely = [name for name, _ in told.could_be] or list(CHEMISTRIES)
        choices = tuple((name, CHEMISTRIES[name].label) for name in likely)
        words = "The label does not name its chemistry. Which is it?"
        asked.open.append(("chemistry", words, (("", "say which"), *choices)))
    elif cells is None:
        asked.open.append(("cells", "How many cells? The balance plug’s wires, less one.", ()))
    if asked.open:
        return _page({"packs": asked}), 422
    session = desk().session()
    used = {pack.id for pack in (*session.packs, *desk().retired()[0])}
    first = next_tag(session.packs[-1].id if session.packs else "A-00", used)
    document = {"id": first, "chemistry": chemistry, "cells": cells, "capacity_mah": told.capacity_mah}
    more = {"connector": told.connector, "max_charge_c": told.max_charge_c, "discharge_c": told.discharge_c}
    document |= {name: value for name, value in more.items() if value is not None}
    faults = faults_by_field("pack", document, pack_sense(document))
    if faults:
        asked.fault = " ".join(f"{_sentence(mend)}" for mend in faults.values())
        return _page({"packs": asked}), 422
    tags = tags_from(first, told.count)
    made = [part_from("pack", {**document, "id": tag}) for tag in tags]
    with undoable(f"{tags[0]} is written down" if len(tags) == 1 else f"{tags[0]} to {tags[-1]} are written down"):
        desk().save_packs(made, None, now())
    return redirect(url_for("begin.page"))


@blueprint.post("/charger")
def charger() -> str | Response | tuple[str, int]:
    """Write down a charger as its label says."""
    asked = Asked(request.form.get("label", "").strip())
    try:
        told = read_charger(asked.text)
    except ValueError as error:
        return _of_another("charger", asked) or _refused("charger", asked, str(error))
    return _write_charger(told, asked)


def _write_charger(told: ChargerLabel, asked: Asked) -> str | Response | tuple[str, int]:
    tag = next_tag("charger-0", {item.id for item in kit_items(desk().session().kit)})
    document = charger_of(told, tag)
    feeders = sorted(desk().session().kit.feeder_ids())
    if len(feeders) == 1:
        document["fed_by"] = feeders[0]
    return _keep("charger", document, asked)


@blueprint.post("/source")
def source() -> str | Response | tuple[str, int]:
    """Write down where the energy comes from, and feed from it what hangs on nothing yet; mains needs nothing."""
    asked = Asked(request.form.get("label", "").strip())
    if asked.text.lower() in MAINS:
        return redirect(url_for("begin.page", mains="yes"))
    try:
        told = energy_of_label(asked.text)
    except ValueError as error:
        return _of_another("source", asked) or _refused("source", asked, f"{_sentence(str(error))} Or mains")
    tag = next_tag("source-0", {item.id for item in kit_items(desk().session().kit)})
    document: dict[str, Any] = {"id": tag, "energy_wh": told.energy_wh}
    more = {"voltage_v": told.voltage_v, "usable_fraction": told.usable_fraction}
    document |= {name: value for name, value in more.items() if value is not None}
    amps, watts = limits_of_label(asked.text)
    document |= {name: value for name, value in (("max_current_a", amps), ("max_power_w", watts)) if value}
    if not amps and not watts:
        flash(f"How many amps {tag} may give is not known: nothing holds the chargers down. Say it under Kit.", "care")
    return _keep("source", document, asked)


@blueprint.post("/board")
def board() -> str | Response | tuple[str, int]:
    """Write down a parallel board by its ports; without one every pack is charged alone."""
    asked = Asked(request.form.get("label", "").strip())
    if not asked.text:
        return redirect(url_for("measure.page"))
    ports = whole(asked.text) if asked.text.isascii() and asked.text.isdigit() else None
    if ports is None:
        asked.fault = "Say how many packs it takes, as in 6."
        return _page({"board": asked}), 422
    tag = next_tag("board-0", {item.id for item in kit_items(desk().session().kit)})
    return _keep("board", {"id": tag, "ports": ports}, asked)


def _keep(part: str, document: dict[str, Any], asked: Asked) -> str | Response | tuple[str, int]:
    """Save a piece of kit, or ask again."""
    faults = faults_by_field(part, document, kit_sense(part, document))
    if faults:
        asked.fault = " ".join(map(_sentence, faults.values()))
        return _page({part: asked}), 422
    item = part_from(part, document)
    with undoable(f"{item.id} is written down"):
        desk().save_kit_item(item, None)
        if part == "source":
            for one in desk().session().kit.chargers:
                if one.fed_by is None and isinstance(one, Charger):
                    desk().save_kit_item(replace(one, fed_by=item.id), one.id)
    if part == "board":
        return redirect(url_for("measure.page"))
    return redirect(url_for("begin.page"))


def _of_another(question: str, asked: Asked) -> str | Response | tuple[str, int] | None:
    """What this question cannot read and another one can is written down, or asked about, there: the cursor goes on
    after each answer, and who has more packs or chargers types them all the same. None where it is neither."""
    try:
        packs = read_label(asked.text)
    except ValueError:
        packs = None
    if question != "packs" and packs is not None and packs.cells is not None:
        return _write_packs(packs, asked)
    try:
        charger = read_charger(asked.text)
    except ValueError:
        return None
    return _write_charger(charger, asked) if question != "charger" else None


def _refused(question: str, asked: Asked, why: str) -> tuple[str, int]:
    asked.fault = _sentence(why)
    return _page({question: asked}), 422


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:].rstrip('.')}."


# ---------------------------------------------------------------------- a table of packs


@blueprint.get("/table")
def table() -> str:
    """Where a table of packs is pasted or chosen."""
    return render_template("begin/table.html", text="", headings=[], meaning={}, meanings=PACK_MEANINGS, faults=[])


@blueprint.post("/table")
def take_table() -> str | Response | tuple[str, int]:
    """Read a table of packs: first what its columns mean, then all of them or none."""
    sent = request.files.get("file")
    raw = sent.read() if sent and sent.filename else b""
    text = request.form.get("text", "")
    try:
        headings, rows = read_table(raw or text.encode())
    except BadInput as bad:
        faults = [str(fault) for fault in bad.faults]
        empty = {"headings": [], "meaning": {}, "meanings": PACK_MEANINGS}
        return render_template("begin/table.html", text=text, faults=faults, **empty), 422
    said = {heading: request.form[f"column-{number}"] for number, heading in enumerate(headings)
            if f"column-{number}" in request.form}  # fmt: skip
    meaning = said or guessed_packs(headings)
    shown = {"text": raw.decode("utf-8-sig") if raw else text, "headings": headings, "meaning": meaning,
             "meanings": PACK_MEANINGS, "first": rows[0], "count": len(rows)}  # fmt: skip
    shown["chemistries"] = [(item.name, item.label) for item in CHEMISTRIES.values()]
    if not said:
        return render_template("begin/table.html", faults=[], **shown)
    session = desk().session()
    used = {pack.id for pack in (*session.packs, *desk().retired()[0])}
    packs, faults = packs_from(headings, rows, meaning, request.form.get("chemistry") or None, used)
    if not faults:
        try:
            with undoable(f"{len(packs)} packs are written down"):
                desk().save_packs(packs, None, now())
        except TagTaken as taken:
            faults = [f"{taken.tag} is used already."]
        else:
            flash(f"{len(packs)} packs of {len(rows)} rows.")
            return redirect(url_for("packs.page"))
    return render_template("begin/table.html", faults=faults, **shown), 422
