"""Addresses of the Packs page."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.permit.facts import Act
from iterum.core.permit.permit import Permit, permit_of, permits
from iterum.core.reading.words import MOST_ALIKE
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import Words, kept, say
from iterum.core.season.box import Standing
from iterum.core.season.health import DISPOSAL, Advice
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.packs import Condition, Pack
from iterum.core.things.tags import next_tag, tags_from
from iterum.exchange.csv_table import csv_text
from iterum.exchange.sense import pack_sense
from iterum.exchange.session import pack_document, part_from
from iterum.store.rows import TagTaken
from iterum.web.context import bench, desk, log_book, now, runs, undoable
from iterum.web.figures import whole
from iterum.web.forms import as_text, document_from, faults_by_field, make_fields, texts_of
from iterum.web.heard import Heard, hear
from iterum.web.packs.views import STANDING_WORDS, box
from iterum.web.pictures import known_curve, trend
from iterum.web.pictures.labels import SHEETS, sheet_from
from iterum.web.pictures.labels import draw as draw_labels
from iterum.web.pilots import pilot_options
from iterum.wording import about, sentence

blueprint = Blueprint("packs", __name__, url_prefix="/packs", template_folder="templates")

CHEMISTRY_NAMES = tuple(
    (item.name, Words(f"{item.label}, {item.known_as}") if item.known_as else item.label)
    for item in CHEMISTRIES.values()
)
OPTIONS = {
    "chemistry": CHEMISTRY_NAMES,
    "condition": (("ok", Words("no damage")), ("damaged", Words("damaged: quarantined"))),
}


def _find(pack_id: str | None) -> Pack:
    for pack in desk().session().packs:
        if pack.id == pack_id:
            return pack
    raise NotThere("pack", pack_id)


@blueprint.get("")
def page() -> str:
    """Every pack with its verdict; retired ones below."""
    advice = desk().remember("advice", now(), lambda: log_book().all_health(now()))
    verdicts = list(permits(bench()).values())
    only = next((item for item in Standing if item.value == request.args.get("only")), None)
    since = log_book().full_since()
    shown = box(desk().session(now()), runs().in_hand(now()), runs().agenda(now()), since, only)
    picked = next((item for item in verdicts if item.pack.id == request.args.get("id")), None)
    return render_template(
        "packs/page.html",
        verdicts=verdicts,
        retired=desk().retired()[0],
        advice=advice,
        disposal=DISPOSAL,
        box=shown,
        standing_words=STANDING_WORDS,
        only=only,
        picked=picked,
        panel=_panel(picked) if picked else None,
    )


def _panel(picked: Permit) -> dict[str, Any]:
    """What the panel of one pack says: its health, its last charges, and the batch that has it."""
    told, charges = log_book().health_of(picked.pack, now())
    run = next((run for run in runs().open() if picked.pack.id in run.packs), None)
    records = [item.record for item in reversed(charges)]
    most_mah = max((item.record.charge_mah or 0.0 for item in charges[:4]), default=0.0)
    return {"health": told, "charges": charges[:4], "run": run, "most_mah": most_mah,
            "trend": trend.draw(picked.pack, records)}  # fmt: skip


ASKED, FIT = ("", Words("choose")), Condition.OK


def _form(
    texts: Mapping[str, str], faults: Mapping[str, str], known_as: str | None, label: str = "", count: str = "1",
    heard: Heard | None = None,
) -> str:  # fmt: skip
    asked = {} if texts.get("chemistry") else {"chemistry": (ASKED, *CHEMISTRY_NAMES)}
    options: dict[str, Sequence[tuple[str, str]]] = {**OPTIONS, **asked, **pilot_options()}
    return render_template("packs/edit.html", fields=make_fields("pack", texts, faults, options), known_as=known_as,
                           faults=faults, label=label, count=count, heard=heard)  # fmt: skip


@blueprint.get("/edit")
def edit() -> str:
    """The form for a new pack, for one like another, or for the one named."""
    known_as, like = request.args.get("id"), request.args.get("like")
    if known_as is not None:
        return _form(texts_of("pack", pack_document(_find(known_as))), {}, known_as)
    if like is not None:
        texts = texts_of("pack", pack_document(replace(_find(like), resistance_mohm=(), cycles=None, condition=FIT)))
        return _form({**texts, "id": next_tag(like, _tags())}, {}, None)
    return _form({**texts_of("pack", {}), "id": next_tag(_last_tag(), _tags())}, {}, None)


def _tags() -> set[str]:
    """Every tag that is used, by retired packs too."""
    return {pack.id for pack in (*desk().session().packs, *desk().retired()[0])}


def _last_tag() -> str:
    packs = desk().session().packs
    return packs[-1].id if packs else "A-00"


@blueprint.post("/label")
def from_label() -> str | tuple[str, int]:
    """The form filled in with what a label says; what it leaves open is asked there."""
    heard = hear(request.form.get("label", ""), "pack", request.form, as_asked=True)
    texts = {**texts_of("pack", {}), "id": next_tag(_last_tag(), _tags())}
    texts |= {name: as_text(value) for name, value in heard.fields.items() if name != "count"}
    if heard.told.unread:
        texts["note"] = " ".join(word.text for word in heard.told.unread)
    places = ASKED_AT if "chemistry" in heard.fields else {**ASKED_AT, "volts": "chemistry"}
    asks = {places.get(asked.code, asked.field or "label"): sentence(asked.why) for asked in reversed(heard.open)}
    if heard.told.faults:
        asks["label"] = " ".join(map(sentence, heard.told.faults))
    if heard.damage:  # until somebody says otherwise
        texts["condition"] = Condition.DAMAGED.value
    return _form(texts, asks, None, heard.told.text, str(heard.count), heard), 422 if heard.told.faults else 200


ASKED_AT = {
    "volts": "cells", "capacity": "capacity_mah", "thousands": "capacity_mah", "energy": "capacity_mah",
    "chemistry": "chemistry", "charge_rate": "max_charge_c", "rate": "max_charge_c", "amps": "discharge_c",
    "damage": "condition", "cells": "cells",
    "charge_which": "max_charge_c",
}  # fmt: skip
"""The field at which a question of a label is asked."""


@blueprint.post("/edit")
def save() -> str | AnyResponse | tuple[str, int]:
    """Add a pack, or several alike, or change one; every fault at its field, nothing typed is lost."""
    known_as = request.form.get("known_as") or None
    count = request.form.get("count", "1") if known_as is None else "1"
    document = document_from("pack", request.form)
    faults = faults_by_field("pack", document, pack_sense(document))
    number = whole(count) if count.isascii() and count.isdigit() else 0
    if not 1 <= number <= MOST_ALIKE:
        faults["count"] = say("From 1 to {most_alike}.", most_alike=MOST_ALIKE)
    if not faults:
        packs = [part_from("pack", {**document, "id": tag}) for tag in tags_from(document["id"], number)]
        what = (
            kept("{pack} is saved", pack=packs[0].id)
            if number == 1
            else kept("{first} to {last} are saved", first=packs[0].id, last=packs[-1].id)
        )
        try:
            with undoable(what):
                desk().save_packs(packs, known_as, now())
        except TagTaken as taken:
            faults = {"id": say("{tag} is used already, by a pack in use or a retired one.", tag=taken.tag)}
        except Unsafe as held:
            faults = {"id": " ".join(map(about, held.reasons))}
        else:
            return redirect(url_for("packs.page"))
    return _form(request.form, faults, known_as, count=count), 422


@blueprint.post("/retire")
def retire() -> AnyResponse:
    """Take a pack out of use, or bring it back."""
    pack_id = request.form.get("id", "")
    back = request.form.get("back") == "yes"
    try:
        with undoable(
            kept("{pack_id} is back in use", pack_id=pack_id) if back else kept("{pack_id} is retired", pack_id=pack_id)
        ):
            desk().retire(Pack, pack_id, None if back else now())
    except Unsafe as held:
        flash(" ".join([say("Not retired:"), *map(about, held.reasons)]), "care")
        return redirect(url_for("packs.page"))
    return redirect(url_for("packs.page"))


@blueprint.get("/history")
def history() -> str:
    """Every reading of a pack, corrected ones included."""
    pack_id = request.args.get("id", "")
    return render_template("packs/history.html", pack=_find(pack_id), readings=desk().readings(pack_id))


ACT_WORDS = {
    Act.JOIN: (Words("Share a board"), Words("Match")),
    Act.CHARGE: (Words("Charge"), Words("Charge it")),
    Act.STORE: (Words("Storage voltage"), Words("To storage")),
    Act.BALANCE: (Words("Balance only"), Words("Balance it")),
    Act.DISCHARGE: (Words("Discharge"), Words("Discharge it")),
}
"""Each act as the page of a pack names it, and what its button says."""


@blueprint.get("/health")
def health() -> str:
    """One pack over time: capacity, resistance, spread, cycles, age, and what to do with it."""
    pack = _find(request.args.get("id", ""))
    told, charges = log_book().health_of(pack, now())
    picture = trend.draw(pack, [item.record for item in reversed(charges)], trend.PHONE_WIDTH)
    other = url_for("charge.other", packs=[pack.id])
    links = {
        Act.JOIN: url_for("match.page", **{"class": pack.family}),  # type: ignore[arg-type]  # a name that Python keeps
        Act.CHARGE: url_for("charge.page", packs=[pack.id]),
        Act.STORE: f"{other}#store",
        Act.BALANCE: f"{other}#balance",
        Act.DISCHARGE: f"{other}#down",
    }
    return render_template("packs/health.html", pack=pack, health=told, charges=charges[:40], picture=picture,
                           curve=known_curve.draw(pack), permit=permits(bench())[pack.id], acts=ACT_WORDS, links=links,
                           held=pack.id in bench().in_hand,
                           disposal=DISPOSAL, retire=Advice.RETIRE)  # fmt: skip


@blueprint.post("/forget")
def forget() -> AnyResponse:
    """Forget what a pack's charges taught of it."""
    pack = _find(request.form.get("id"))
    with undoable(kept("What was learned of {pack} is forgotten", pack=pack.id)) as told:
        desk().forget_learned(pack.id, now())
        told.text = say(
            "What was learned of {pack} is forgotten; its charges from now on teach it again.", pack=pack.id
        )
    return redirect(url_for("packs.health", id=pack.id))


@blueprint.get("/tag")
def tag() -> AnyResponse:
    """Where the code on a label leads: the pack's page."""
    return redirect(url_for("packs.health", id=_find(request.args.get("id", "")).id))


LABEL_FIELDS = {
    "columns": Words("Columns"),
    "rows": Words("Rows"),
    "width_mm": Words("Label wide"),
    "height_mm": Words("Label high"),
    "left_mm": Words("From the left edge"),
    "top_mm": Words("From the top edge"),
    "across_mm": Words("From label to label, across"),
    "down_mm": Words("From label to label, down"),
    "page_width_mm": Words("Page wide"),
    "page_height_mm": Words("Page high"),
}


@blueprint.get("/labels")
def labels() -> str:
    """Sheets of labels to print, each with a code that opens the pack on a paired phone."""
    chosen = request.args.getlist("id")
    packs = [pack for pack in desk().session().packs if not chosen or pack.id in chosen]
    size = request.args.get("size", "")
    size = size if size in SHEETS else next(iter(SHEETS))
    sheet, wrong = sheet_from(request.args, SHEETS[size])
    skip = min(max(request.args.get("skip", 0, type=whole), 0), sheet.columns * sheet.rows - 1)
    return render_template("packs/labels.html", pages=draw_labels(packs, sheet, skip) if packs else [], sheet=sheet,
                           sheets=SHEETS, size=size, wrong=wrong, skip=skip, chosen=chosen, typed=request.args,
                           labels_of=LABEL_FIELDS)  # fmt: skip


@blueprint.get("/packs.csv")
def export_csv() -> Response:
    """The packs as a table for a spreadsheet."""
    rules = desk().session().rules
    rows = []
    for pack in desk().session().packs:
        verdict = permit_of(pack, rules)
        document = pack_document(replace(pack, reading=None))
        volts = pack.reading.cell_v if pack.reading else ()
        rows.append({**document, "cell_volts": " ".join(map(str, volts)), "verdict": verdict.level.value})
    return Response(
        csv_text(rows), mimetype="text/csv", headers={"Content-Disposition": "attachment; filename=packs.csv"}
    )
