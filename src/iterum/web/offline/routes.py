"""The worker that keeps Measure, Run and Something's wrong on the device, and what was kept
there, taken once.

A reading, a check or a mark that was entered without the link comes later with a random id and
its age, by the device's own clock: it is written as of that moment, and a second time not at all.
So a device whose clock is wrong files nothing under another day. What a charger must do is never
kept.
"""

import json
import re
from datetime import datetime, timedelta
from functools import wraps
from pathlib import Path
from typing import Any

from flask import Blueprint, Flask, Response, current_app, g, render_template, request
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.say import say
from iterum.store.database import TakenAlready
from iterum.web.assets import kept_files, version
from iterum.web.context import now
from iterum.web.troubles import TROUBLES

blueprint = Blueprint("offline", __name__, template_folder="templates")

KEPT = frozenset({"measure.save", "measure.looks_wrong", "run.check", "wrong.write_down"})
"""What may come late."""
LONGEST = timedelta(days=1)
AT_ONCE = "now"
"""The moment of what is sent with the link: the server's own, however a device's clock goes."""
_ID = re.compile(r"[0-9a-f-]{32,36}")


@blueprint.get("/worker.js")
def worker() -> Response:
    """The worker, from the root, so that it may answer for every page."""
    text = (Path(current_app.root_path) / "static" / "worker.js").read_text("utf-8")
    return Response(text, mimetype="text/javascript", headers={"Service-Worker-Allowed": "/"})


@blueprint.get("/shell.js")
def shell() -> Response:
    """What the worker keeps beside pages, and the name of this version of it."""
    told = json.dumps({"name": f"iterum-{version()}", "files": kept_files()})
    return Response(f"self.shell = {told};\n", mimetype="text/javascript")


@blueprint.get("/no-link")
def no_link() -> str:
    """What a page that is not kept shows without the link."""
    return render_template("offline/no_link.html", troubles=TROUBLES)


def late(app: Flask) -> None:
    """Take what was kept on a device at its own moment, and once; answer a script with where to
    go next.
    """
    for endpoint in KEPT:
        app.view_functions[endpoint] = _once(app.view_functions[endpoint])

    @app.after_request
    def next_page(answer: Response) -> Response:
        """A script that sends for a page is told where that would go, and goes there itself."""
        if request.headers.get("X-Kept") and answer.status_code in (301, 302, 303):
            answer.set_data(answer.headers.pop("Location"))
            answer.status_code, answer.mimetype = 200, "text/plain"
        return answer


def _once(view: Any) -> Any:
    @wraps(view)
    def taken(**values: Any) -> AnyResponse | str | tuple[str, int]:
        key, said = request.form.get("kept_id", ""), request.form.get("kept_s", "")
        if not key:
            return view(**values)  # type: ignore[no-any-return]
        at = now() if said == AT_ONCE else _moment(said)
        if not _ID.fullmatch(key) or at is None:
            return say(
                "What was kept has no id, or its age is not within a day. Was the clock of this device changed?"
            ), 400
        g.now, g.late = at, said != AT_ONCE
        try:
            with current_app.extensions["iterum"]["store"].once(key, at):
                return view(**values)  # type: ignore[no-any-return]
        except TakenAlready:
            return Response("taken already", mimetype="text/plain")

    return taken


def _moment(text: str) -> datetime | None:
    """When it was entered, by its age in seconds: not a day ago, and not in the future."""
    try:
        age = timedelta(seconds=float(text))
    except (ValueError, OverflowError):
        return None
    return now() - age if timedelta() <= age <= LONGEST else None
