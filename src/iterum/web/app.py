"""The application: rooms, safety of the browser side, and errors mapped to pages in one place."""

import logging
import secrets
from collections.abc import Callable
from contextlib import ExitStack
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

from flask import Flask, Response, g, redirect, render_template, request, url_for
from flask_wtf.csrf import CSRFError, CSRFProtect
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge
from werkzeug.routing import IntegerConverter, Map
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.fields import BadInput
from iterum.core.reasons import Busy, NotThere, Unsafe
from iterum.core.say import say
from iterum.core.season.cautions import cautions_at
from iterum.guardian.guardian import Guardian
from iterum.services.archiving import Archives
from iterum.services.checking import Checks
from iterum.services.day import Day
from iterum.services.desk import Desk
from iterum.services.incidents import Incidents
from iterum.services.links import Guard, Links
from iterum.services.logbook import LogBook
from iterum.services.planning import PlanDesk
from iterum.services.rehearsing import Rehearsal, Rehearsals
from iterum.services.running import RunDesk, Told
from iterum.services.sharing import Sharing
from iterum.services.table import Table
from iterum.services.watch import Watch
from iterum.services.watching import Watcher
from iterum.services.work import Work
from iterum.store.archive import MAX_BYTES
from iterum.store.copies import DailyCopies
from iterum.store.database import Store
from iterum.store.troubles import StoreTrouble, trouble_of
from iterum.web import (
    begin,
    bench,
    charge,
    files,
    heats,
    kit,
    log,
    match,
    measure,
    offline,
    packs,
    plan,
    put_away,
    rehearse,
    rules,
    run,
    share,
    table,
    use,
    what_if,
    wrong,
)
from iterum.web.assets import KEPT_S, add_assets, asset, version
from iterum.web.degrees import own_words
from iterum.web.doors import SecondDoor
from iterum.web.figures import MOST
from iterum.web.frame import frame, go_back_to
from iterum.web.gate import SecureWhereItIs, admit, not_paired
from iterum.web.languages import own_language, script_words, tongue
from iterum.web.pilots import is_theirs, marks_of, may_act_on, pilot_mark
from iterum.web.places import EVERY_PAGE
from iterum.web.spoken import Spoken
from iterum.web.turns import account_of
from iterum.web.who import is_shared, may, phone
from iterum.web.words import FILTERS, MACROS
from iterum.wording import about
from iterum.wording.figures import degree_unit, degrees_apart
from iterum.wording.languages import NAMES

MAX_REQUEST_BYTES = 5_000_000
ROOMS = (
    begin,
    bench,
    measure,
    match,
    plan,
    heats,
    table,
    charge,
    run,
    put_away,
    log,
    use,
    packs,
    kit,
    rules,
    files,
    what_if,
    wrong,
    share,
    rehearse,
    offline,
)

CONTENT_SECURITY_POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "font-src 'self'",
        "img-src 'self' data:",  # Bootstrap draws its select arrow from a data address
        "connect-src 'self'",
        "form-action 'self'",
        "base-uri 'none'",
        "frame-ancestors 'none'",
    )
)


class _Key(IntegerConverter):
    """A number in an address, no larger than the database counts."""

    def __init__(self, url_map: Map) -> None:
        super().__init__(url_map, max=MOST)


def secret_key(folder: Path) -> str:
    """The key that signs sessions, made on the first start and kept beside the database."""
    path = folder / "secret.key"
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_hex(32))
    return path.read_text()


def create_app(
    database: Path,
    clock: Callable[[], datetime],
    watch: bool = False,
    speed: float = 1,
    rehearsal: Rehearsal | None = None,
    guard: Guard | None = None,
) -> Flask:
    """The application on one database. `clock` gives the present moment.

    watch : whether a thread writes down what the guardian tells. speed : of the clock, against
    the browser's own. rehearsal : what it knows of itself where it is one; None on the real
    bench. guard : the guardian; without one, it is one of this process that looks when the watch
    does.
    """
    app, secret = Flask(__name__, static_url_path=f"/static/{version()}"), secret_key(database.parent)
    app.config.update(
        SECRET_KEY=secret,
        # Ours alone: a browser sends cookies to every server of this machine, whichever its port.
        SESSION_COOKIE_NAME=f"iterum_{sha256(secret.encode()).hexdigest()[:12]}",
        MAX_CONTENT_LENGTH=MAX_REQUEST_BYTES,
        MAX_FORM_MEMORY_SIZE=MAX_REQUEST_BYTES,
        MAX_FORM_PARTS=2000,
        TRUSTED_HOSTS=None,  # the gate knows which door was asked, and which names that one has
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        WTF_CSRF_TIME_LIMIT=None,  # a page left open over lunch must still be able to save
    )
    store = Store(database)
    if guard is None:
        guard = Guardian(now_of(app))
    desk, links = Desk(store), Links(store, guard, since=clock())
    runs = RunDesk(store, desk, links)
    watcher = Watcher(store, desk, runs)
    copies = DailyCopies(database)
    app.extensions["iterum"] = {
        "store": store, "copies": copies,
        "desk": desk, "plan_desk": PlanDesk(), "clock": clock, "links": links, "runs": runs, "speed": speed,
        "log": LogBook(store, desk),
        "watch": Watch(watcher, clock, copies),
        "watcher": watcher, "incidents": Incidents(store, runs), "checks": Checks(desk, runs),
        "day": Day(store, desk, runs, watcher),
        "archives": Archives(store), "table": Table(store), "sharing": Sharing(store),
        "rehearsal": rehearsal, "rehearsals": Rehearsals(database), "work": Work(),
    }  # fmt: skip
    app.extensions["iterum"]["door"] = SecondDoor(app, app.extensions["iterum"]["sharing"], database.parent, clock)
    if watch:
        app.extensions["iterum"]["watch"].start()
    app.jinja_env.add_extension(Spoken)
    app.jinja_env.filters.update(FILTERS)
    app.jinja_env.globals.update(MACROS, cautions_at=cautions_at, asset=asset)
    app.jinja_env.globals.update(pilot_mark=pilot_mark, marks_of=marks_of, may_act_on=may_act_on, is_theirs=is_theirs)
    app.jinja_env.globals.update(
        degree_unit=degree_unit, degrees_apart=degrees_apart, tongue=tongue, script_words=script_words
    )
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.url_map.converters["int"] = _Key
    app.session_interface = SecureWhereItIs()
    app.before_request(admit)
    app.before_request(_let_archives_in)  # before the form is read for its token
    CSRFProtect(app)
    for room in ROOMS:
        app.register_blueprint(room.blueprint)
    offline.late(app)
    app.context_processor(frame)
    add_assets(app)
    _add_small_routes(app)
    _add_errors(app)
    own_language(app)
    own_words(app)
    app.after_request(_protect)
    _look_once(app, store)
    if rehearsal is not None and rehearsal.first is not None:
        account_of(app, rehearsal)
    return app


def now_of(app: Flask) -> Callable[[], datetime]:
    """The present moment of an application, by the clock that it has when it is asked."""

    def now() -> datetime:
        moment: datetime = app.extensions["iterum"]["clock"]()
        return moment

    return now


def _let_archives_in() -> None:
    """A whole archive is larger than anything else that is sent."""
    if request.endpoint == "files.take_archive":
        request.max_content_length = MAX_BYTES


def _look_once(app: Flask, store: Store) -> None:
    """Everything that one request asks of the store is of one moment."""

    @app.before_request
    def begin() -> None:
        g.look = ExitStack()
        g.look.enter_context(store.snapshot())

    @app.teardown_request
    def end(_error: BaseException | None) -> None:
        if "look" in g:
            g.pop("look").close()


def _add_small_routes(app: Flask) -> None:
    @app.get("/")
    def start() -> AnyResponse:
        return redirect(url_for("bench.page"))

    @app.get("/p/<path:tag>")
    def scanned(tag: str) -> AnyResponse:
        """Where the code of a label leads: the batch that has the pack, or Measure."""
        parts = app.extensions["iterum"]
        tags = [pack.id for pack in parts["desk"].session().packs]
        known = next(
            (one for one in tags if one == tag), next((one for one in tags if one.lower() == tag.lower()), None)
        )
        if known is None:
            raise NotThere("pack", tag)
        run = next((run for run in parts["runs"].open() if known in run.packs), None)
        return redirect(url_for("run.page", key=run.key) if run else url_for("measure.page", pack=known))

    @app.get("/places.json")
    def places() -> list[dict[str, str]]:
        """Where the palette can go: packs, batches in hand, pages."""
        parts = app.extensions["iterum"]
        packs = parts["desk"].session().packs
        in_hand = [
            (
                say("{packs:list} on {place}", packs=run.packs, place=run.place),
                say("batch"),
                url_for("run.page", key=run.key),
            )
            for run in parts["runs"].open()
        ]
        measured = [(pack.id, pack.name or say("measure"), url_for("measure.page", pack=pack.id)) for pack in packs]
        health = [
            (say("{pack} health", pack=pack.id), say("over time"), url_for("packs.health", id=pack.id))
            for pack in packs
        ]
        pages = [(say(page.name), say("page"), url_for(page.endpoint)) for page in EVERY_PAGE if may(page.endpoint)]
        rows = (*pages, *in_hand, *measured, *health)
        return [{"name": name, "kind": kind, "to": to} for name, kind, to in rows]

    @app.post("/look")
    def look() -> AnyResponse:
        """Day or night, degrees, and whether single keys act: kept in cookies, so that pages
        arrive right.
        """
        answer = redirect(go_back_to(request.form.get("back", "")))
        for name, allowed in (
            ("theme", ("day", "night")),
            ("keys", ("on", "off")),
            ("degrees", ("C", "F")),
            ("language", tuple(NAMES)),
        ):
            if request.form.get(name) in allowed:
                answer.set_cookie(
                    f"iterum_{name}", request.form[name], max_age=31_536_000, samesite="Strict", httponly=True
                )
        return answer


def _protect(answer: Response) -> Response:
    answer.headers["Content-Security-Policy"] = CONTENT_SECURITY_POLICY
    answer.headers["X-Content-Type-Options"] = "nosniff"
    answer.headers["Referrer-Policy"] = "same-origin"
    answer.headers["Cross-Origin-Opener-Policy"] = "same-origin"
    answer.headers["Cross-Origin-Resource-Policy"] = "same-origin"
    asset = request.endpoint in ("static", "style_sheet", "script") and answer.status_code < 400
    answer.headers["Cache-Control"] = f"public, max-age={KEPT_S}, immutable" if asset else "no-store"
    return answer


def _error_page(code: int, title: str, text: str) -> tuple[str, int]:
    if is_shared() and phone() is None:  # the frame of a page holds data
        return not_paired()[0], code
    return render_template("error.html", title=title, text=text), code


def _add_errors(app: Flask) -> None:
    _add_answers(app)
    _add_troubles(app)


def _add_answers(app: Flask) -> None:
    """What is an answer, each with its page."""

    @app.errorhandler(CSRFError)
    def forged(_error: CSRFError) -> tuple[str, int]:
        return _error_page(
            400,
            say("Not saved"),
            say("The page was opened before Iterum last started. Go back, reload it and save again."),
        )

    @app.errorhandler(RequestEntityTooLarge)
    def too_large(_error: RequestEntityTooLarge) -> tuple[str, int]:
        size_mb = MAX_REQUEST_BYTES // 1_000_000
        return _error_page(
            413,
            say("Too large"),
            say("A file may have {size_mb} MB at most. Export a smaller session.", size_mb=size_mb),
        )

    @app.errorhandler(NotThere)
    def gone(_error: NotThere) -> tuple[str, int]:
        return _error_page(
            404, say("Not here any more"), say("What this page was about was renamed or retired. See Packs or Kit.")
        )

    @app.errorhandler(Unsafe)
    def unsafe(refusal: Unsafe) -> tuple[str, int]:
        return _error_page(409, say("Not done: it is not safe"), " ".join(map(about, refusal.reasons)))

    @app.errorhandler(BadInput)
    def bad_input(bad: BadInput) -> tuple[str, int]:
        return _error_page(422, say("Not saved"), "; ".join(map(str, bad.faults)))

    @app.errorhandler(Busy)
    def busy(error: Busy) -> tuple[str, int]:
        return _error_page(
            409, say("Something else came first"), say("{error}. Go back, look again, and try once more.", error=error)
        )

    @app.errorhandler(HTTPException)
    def refused(error: HTTPException) -> Any:
        if error.code is None or error.code < 400:
            return error
        if error.code == 405 and request.method == "GET":  # a form's address, gone back to: its page stands above
            return redirect(request.path.rstrip("/").rpartition("/")[0] or "/")
        texts = {404: (say("Nothing here"), say("This address has no page. Take a step from the rail instead."))}
        title, text = texts.get(error.code, (error.name, error.description or ""))
        return _error_page(error.code, title, text)


def _add_troubles(app: Flask) -> None:
    """What is none: a database that cannot be used, a defect."""

    @app.errorhandler(StoreTrouble)
    def not_saved(trouble: StoreTrouble) -> tuple[str, int]:
        """What was typed stands on the page, to be sent again once the trouble is gone."""
        typed = [(name, value) for name, value in request.form.items(multi=True) if name != "csrf_token"]
        page = app.jinja_env.get_template("not_saved.html")  # without the frame, which asks the store
        return page.render(text=str(trouble), typed=typed, to=request.path, done=isinstance(trouble, Told)), 507

    @app.errorhandler(Exception)
    def defect(error: Exception) -> tuple[str, int]:
        trouble = trouble_of(error, app.extensions["iterum"]["store"].path)
        if trouble is not None:
            return not_saved(trouble)
        logging.getLogger("iterum").exception("a defect at %s", request.path, exc_info=error)
        return _error_page(
            500, say("A defect in Iterum"), say("Nothing was saved. The log of the server says what happened.")
        )
