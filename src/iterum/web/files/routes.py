"""Addresses of the Files page: import a session file, export one, the published schema."""

import json
from collections.abc import Mapping
from pathlib import Path
from tempfile import TemporaryDirectory

from flask import Blueprint, Response, current_app, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.fields import BadInput, Fault
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import Words, kept, say
from iterum.exchange.session import dumps, parse
from iterum.exchange.shape import schema
from iterum.services.importing import preview_import
from iterum.store.archive import schema as line_schema
from iterum.store.copies import copy
from iterum.store.merge import Taken
from iterum.web.context import archives, desk, links, now, undoable
from iterum.web.figures import whole
from iterum.web.frame import go_back_to
from iterum.wording import about

ROWS = {
    "packs": Words("packs"),
    "readings": Words("readings"),
    "charges": Words("charges"),
    "runs": Words("batches"),
    "incidents": Words("incidents"),
    "observations": Words("figures of chargers"),
    "boards": Words("boards"),
    "chargers": Words("chargers"),
    "supplies": Words("supplies"),
    "sources": Words("sources"),
    "ledger": Words("bookings of sources"),
    "wishes": Words("heats"),
    "plans": Words("plans"),
    "devices": Words("devices"),
    "house_rules": Words("house rules"),
    "flights": Words("heats flown"),
}  # fmt: skip
"""What rows of an archive are called; others go with these."""
ACTS_SHOWN = 12
"""Acts on the page that can be taken back, the latest."""

blueprint = Blueprint("files", __name__, url_prefix="/files", template_folder="templates")


def _render(**shown: object) -> str:
    """The page, with where the data lies and its newest copy."""
    parts = current_app.extensions["iterum"]
    return render_template("files/page.html", path=parts["store"].path, copied=parts["copies"].latest(),
                           acts=desk().acts()[:ACTS_SHOWN], **shown)  # fmt: skip


@blueprint.get("")
def page() -> str:
    """Import and export."""
    return _render(faults=(), preview=None, text="", name="")


@blueprint.get("/session.json")
def export() -> Response:
    """Everything in use, as a session file."""
    return _download(dumps(desk().session(now()).counted_from(now().astimezone())), "iterum-session.json")


@blueprint.get("/copy.sqlite3")
def take_copy() -> Response:
    """A whole copy of everything that is kept, checked, to take away."""
    store = current_app.extensions["iterum"]["store"]
    with TemporaryDirectory() as folder:
        to = Path(folder) / "copy.sqlite3"
        copy(store.path, to)
        data = to.read_bytes()
    name = f"iterum-{now().astimezone():%Y-%m-%d-%H%M}.sqlite3"
    return Response(data, mimetype="application/vnd.sqlite3",
                    headers={"Content-Disposition": f"attachment; filename={name}"})  # fmt: skip


@blueprint.get("/archive.jsonl")
def archive() -> Response:
    """Everything that is kept, as an archive."""
    name = f"iterum-{now().astimezone():%Y-%m-%d}.jsonl"
    head = {"Content-Disposition": f"attachment; filename={name}"}
    return Response(archives().text(now()), mimetype="application/jsonl", headers=head)


@blueprint.get("/archive.schema.json")
def archive_schema() -> Response:
    """The JSON Schema of one line of an archive."""
    return _download(json.dumps(line_schema(), indent=1, ensure_ascii=False) + "\n", "iterum-archive.schema.json")


@blueprint.post("/archive")
def take_archive() -> str | AnyResponse | tuple[str, int]:
    """Take an archive in: all of it or nothing, and nothing twice."""
    upload = request.files.get("archive")
    try:
        if upload is None or not upload.filename:
            raise BadInput([Fault("", say("Choose an archive first."))])
        with undoable(kept("An archive brought in")) as told:
            told.text = _told(archives().take(upload.read()))
    except BadInput as bad:
        return _render(faults=(), archive_faults=bad.faults, preview=None, text="", name=""), 422
    links().renew()
    return redirect(url_for("files.page"))


def _told(taken: Taken) -> str:
    """What came of an archive, in words."""
    parts = [_counted(taken.new, say("New")), _counted(taken.here, say("Here already")),
             _counted(taken.left_out, say("Not taken, what holds on this bench stays"))]  # fmt: skip
    return say("Taken in. ") + " ".join(part for part in parts if part)


def _counted(counts: Mapping[str, int], what: str) -> str:
    told = [f"{say(words)} {counts[name]}" for name, words in ROWS.items() if counts.get(name)]
    return f"{what}: {', '.join(told)}." if told else ""


@blueprint.get("/session.schema.json")
def export_schema() -> Response:
    """The published JSON Schema of the session file."""
    return _download(json.dumps(schema(), indent=1, ensure_ascii=False) + "\n", "iterum-session.schema.json")


def _download(text: str, name: str) -> Response:
    return Response(text, mimetype="application/json", headers={"Content-Disposition": f"attachment; filename={name}"})


@blueprint.post("/preview")
def preview() -> str | tuple[str, int]:
    """What importing a file would change; nothing is changed yet."""
    upload = request.files.get("file")
    raw = upload.read() if upload and upload.filename else request.form.get("text", "").encode()
    name = (upload.filename or "") if upload else ""
    return _preview(raw, name)


def _preview(raw: bytes, name: str) -> str | tuple[str, int]:
    try:
        if not raw.strip():
            raise BadInput([Fault("", say("Choose a session file first, or paste its text."))])
        session = parse(raw, now())
    except BadInput as bad:
        text = raw.decode("utf-8", "replace")
        return _render(faults=bad.faults, preview=None, text=text, name=name), 422
    shown = preview_import(desk().session(now()), session)
    return _render(faults=(), preview=shown, text=dumps(session), name=name, revision=desk().revision())


@blueprint.post("/import")
def take() -> str | AnyResponse | tuple[str, int]:
    """Take the file in: all of it or nothing."""
    text = request.form.get("text", "")
    try:
        session = parse(text, now())
    except BadInput:
        return _preview(text.encode(), "")
    with undoable(kept("A session file brought in")) as told:
        taken = desk().write(session, now(), expected_revision=request.form.get("revision", -1, type=whole))
        told.text = say("Imported: {packs} packs and the kit of the file.", packs=len(session.packs))
        if not taken:
            told.text, told.kind = say("Something was changed meanwhile. Look at the changes again."), "care"
    if not taken:
        return _preview(text.encode(), "")
    return redirect(url_for("packs.page"))


@blueprint.post("/undo/<int:key>")
def undo(key: int) -> AnyResponse:
    """Take an act back: what it changed is as before, but for what was used since."""
    try:
        with undoable(kept("Taken back")) as told:
            undone = desk().undo(key, now())
            told.text = say("Taken back: {what}.", what=undone.what)
            if undone.stayed:
                told.text += say(
                    " {stayed} of {back} entries stay: they were used since.",
                    stayed=undone.stayed,
                    back=undone.back + undone.stayed,
                )
        links().renew()
    except NotThere:
        flash(say("That was undone already, or too much was done since."), "care")
    except Unsafe as held:
        flash(say("Not undone: ") + " ".join(map(about, held.reasons)), "care")
    return redirect(go_back_to(request.form.get("back", "")))
