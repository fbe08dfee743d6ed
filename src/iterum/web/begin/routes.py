"""An empty bench asks for packs, a charger, and where the energy comes from; a board where there is one."""

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.exceptions import NotFound
from werkzeug.wrappers import Response

from iterum.core.fields import BadInput
from iterum.core.say import kept, say
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.kit import Source, Supply
from iterum.exchange.log_csv import read_table
from iterum.exchange.pack_table import PACK_MEANINGS, guessed_packs, packs_from
from iterum.store.rows import TagTaken
from iterum.web.context import desk, now, undoable
from iterum.web.heard import Heard, feed_from, hear, save

blueprint = Blueprint("begin", __name__, url_prefix="/begin", template_folder="templates")

SHOWN_ROWS = 12
"""Labels of a table that are shown as they are understood, before its rows are taken."""
QUESTIONS = {"packs": "pack", "charger": "charger", "source": "source", "board": "board"}
"""The questions, and of what kind each asks."""


@blueprint.get("")
def page() -> str:
    """The questions, those that are answered with what was written down."""
    return questions()


def questions(question: str | None = None, heard: Heard | None = None, faults: tuple[str, ...] = ()) -> str:
    """The page of the questions. question : which is asked now, None for the first that is open."""
    kit = desk().session().kit
    feeds: list[Supply | Source] = [*kit.supplies, *kit.sources]
    mains = request.values.get("mains") == "yes"
    done = {
        "packs": ", ".join(_alike()),
        "charger": ", ".join(item.name or item.id for item in kit.chargers),
        "source": ", ".join([item.name or item.id for item in feeds] or (["mains"] if mains else [])),
        "board": ", ".join(item.name or item.id for item in kit.boards),
    }
    here = question or next((name for name in ("packs", "charger", "source") if not done[name]), "board")
    ready = bool(done["packs"] and done["charger"])
    loose = [charger.id for charger in kit.chargers if charger.fed_by is None] if feeds else []
    return render_template(
        "begin/page.html", heard=heard, faults=faults, done=done, here=here, ready=ready, mains=mains, feeds=feeds,
        loose=loose,
    )  # fmt: skip


def _alike() -> list[str]:
    """The packs that are written down, those of a kind in one."""
    kinds: dict[tuple[str, float], list[str]] = {}
    for pack in desk().session().packs:
        kinds.setdefault((pack.family, pack.capacity_mah), []).append(pack.id)
    return [
        say("{tags} to {tags2}", tags=tags[0], tags2=tags[-1]) if len(tags) > 1 else tags[0] for tags in kinds.values()
    ]


@blueprint.get("/heard/<question>")
def heard(question: str) -> str:
    """What is understood of a line while it is typed."""
    if question not in QUESTIONS:
        raise NotFound
    told = hear(request.args.get("label", ""), QUESTIONS[question], request.args)
    return render_template("begin/heard.html", heard=told, name=question)


@blueprint.post("/feed")
def feed() -> Response:
    """Connect the chargers that hang on nothing yet to a supply or a source, as was asked."""
    tag = request.form.get("tag", "")
    if tag in desk().session().kit.feeder_ids():
        with undoable(kept("The chargers hang on {tag}", tag=tag)):
            feed_from(tag)
    return redirect(url_for("begin.page"))


@blueprint.post("/<question>")
def answer(question: str) -> str | Response | tuple[str, int]:
    """Write down what a line says, once it was shown; what it leaves open is asked first."""
    if question not in QUESTIONS:
        raise NotFound
    text = request.form.get("label", "").strip()
    if not text and question in ("source", "board"):
        return redirect(url_for("measure.page") if question == "board" else url_for("begin.page", mains="yes"))
    told = hear(text, QUESTIONS[question], request.form)
    if told.told.kind == "mains":
        return redirect(url_for("begin.page", mains="yes"))
    if not told.ready or not told.seen:
        return questions(question, told), 422 if not told.ready else 200
    _, faults = save(told)
    if faults:
        return questions(question, told, tuple(faults)), 422
    if told.told.kind == "board" and question == "board":
        return redirect(url_for("measure.page"))
    return redirect(url_for("begin.page", mains=request.values.get("mains")))


# ---------------------------------------------------------------------- a table of packs


@blueprint.get("/table")
def table() -> str:
    """Where a table of packs is pasted or chosen."""
    empty = {"text": "", "headings": [], "meaning": {}, "meanings": PACK_MEANINGS, "faults": [], "heard": []}
    return render_template("begin/table.html", **empty)


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
        empty = {"headings": [], "meaning": {}, "meanings": PACK_MEANINGS, "heard": []}
        return render_template("begin/table.html", text=text, faults=faults, **empty), 422
    said = {heading: request.form[f"column-{number}"] for number, heading in enumerate(headings)
            if f"column-{number}" in request.form}  # fmt: skip
    meaning = said or guessed_packs(headings)
    shown = {"text": raw.decode("utf-8-sig") if raw else text, "headings": headings, "meaning": meaning,
             "meanings": PACK_MEANINGS, "first": rows[0], "count": len(rows)}  # fmt: skip
    labels = [place for place, heading in enumerate(headings) if meaning.get(heading) == "label"]
    shown["heard"] = [hear(row[place], "pack", {}, as_asked=True) for row in rows[:SHOWN_ROWS] for place in labels
                      if place < len(row)]  # fmt: skip
    shown["chemistries"] = [(item.name, item.label) for item in CHEMISTRIES.values()]
    if not said:
        return render_template("begin/table.html", faults=[], **shown)
    session = desk().session()
    used = {pack.id for pack in (*session.packs, *desk().retired()[0])}
    packs, faults = packs_from(headings, rows, meaning, request.form.get("chemistry") or None, used)
    if not faults:
        try:
            with undoable(kept("{packs} packs are saved", packs=len(packs))):
                desk().save_packs(packs, None, now())
        except TagTaken as taken:
            faults = [say("{tag} is used already.", tag=taken.tag)]
        else:
            flash(say("{packs} packs of {rows} rows.", packs=len(packs), rows=len(rows)))
            return redirect(url_for("packs.page"))
    return render_template("begin/table.html", faults=faults, **shown), 422
