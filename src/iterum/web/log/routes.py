"""Addresses of the Log page: filter, export, import, the day's report."""

from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta

from flask import Blueprint, Response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.fields import BadInput, Fault
from iterum.core.say import Words, kept, say, say_many
from iterum.core.season.columns import OUT, READING_MEANINGS, guessed
from iterum.core.season.moments import begin_of, is_of_our_time, local
from iterum.exchange.csv_table import csv_text
from iterum.exchange.log_csv import CHARGE_MEANINGS, as_read, charges_from, observations_from, read_table
from iterum.services.logbook import PAGE, Query
from iterum.web.context import desk, log_book, now, runs, undoable
from iterum.web.figures import whole
from iterum.web.log.views import WEEKS, season
from iterum.web.run.views import run_page

blueprint = Blueprint("log", __name__, url_prefix="/log", template_folder="templates")

KINDS = (
    ("charges", Words("Charges")),
    ("readings", Words("Readings")),
    ("measured", Words("Measured")),
    ("acts", Words("Acts and skips")),
    ("flights", Words("Heats flown")),
    ("incidents", Words("Incidents")),
)


def _day(text: str | None, later: int = 0) -> datetime | None:
    """The first moment of a day, or of one some days later; None for what is no date of ours."""
    try:
        moment = begin_of(date.fromisoformat(text or "") + timedelta(days=later))
    except (ValueError, OverflowError):
        return None
    return moment if is_of_our_time(moment) else None


def _query() -> Query:
    args = request.args
    kind = args.get("kind", "charges")
    return Query(
        kind=kind if kind in dict(KINDS) else "charges",
        pack_id=args.get("pack") or None,
        since=_day(args.get("since")),
        until=_day(args.get("until"), 1),
        run_key=args.get("run", type=whole),
        skipped=args.get("skipped") == "yes",
    )


@blueprint.get("")
def page() -> str:
    """Entries of one kind, the newest first, a page at a time."""
    query, start = _query(), max(request.args.get("from", 0, type=whole), 0)
    rows = log_book().entries(query, PAGE + 1, start)
    asked = {name: value for name, value in request.args.items() if value and name != "from"}
    return render_template(
        "log/page.html", kinds=KINDS, query=query, rows=rows[:PAGE], more=len(rows) > PAGE, start=start, step=PAGE,
        asked=asked, args=request.args, packs=[pack.id for pack in desk().session().packs],
        season=season(log_book().weeks(now(), WEEKS, query.pack_id)) if query.kind == "charges" else None,
    )  # fmt: skip


@blueprint.get("/log.csv")
def export() -> Response:
    """All entries of one kind that the filter lets through, as CSV."""
    query = _query()
    rows = [{name: value.isoformat() if isinstance(value, datetime) else value for name, value in row.items()}
            for row in log_book().entries(query, None)]  # fmt: skip
    head = {"Content-Disposition": f"attachment; filename=iterum-{query.kind}.csv"}
    return Response(csv_text(rows), mimetype="text/csv", headers=head)


@blueprint.get("/report")
def report() -> str:
    """One day on one printable page, with its pictures."""
    asked = _day(request.args.get("day")) or now()
    day = asked.astimezone().date()
    told = log_book().report(begin_of(day), begin_of(day + timedelta(days=1)))
    session = desk().session()
    cards = [(run, events, run_page(runs().look(run.key, run.ended_at or now()), session, run.ended_at or now()))
             for run, events, _ in told.runs]  # fmt: skip
    return render_template("log/report.html", told=told, cards=cards)


# ---------------------------------------------------------------------------------------- bringing in


def _import_page(
    text: str = "",
    headings: Sequence[str] = (),
    meaning: Mapping[str, str] | None = None,
    what: str = "charges",
    faults: Sequence[Fault] = (),
    sample: Sequence[Sequence[str]] = (),
    rest: int = 0,
) -> str:
    meanings = READING_MEANINGS if what.isdigit() else CHARGE_MEANINGS
    return render_template(
        "log/import.html", text=text, headings=headings, meaning=meaning or {}, meanings=meanings, what=what,
        faults=faults[:50], more=max(len(faults) - 50, 0), sample=sample, rest=rest,
        millivolts=request.form.get("millivolts") == "yes", runs=runs().latest(30),
        as_read=lambda heading, text: as_read((meaning or {}).get(heading, ""), text, local),
    )  # fmt: skip


@blueprint.get("/import")
def import_page() -> str:
    """Choose a file and what it holds."""
    return _import_page()


@blueprint.post("/import/columns")
def columns() -> str | tuple[str, int]:
    """What each column means: remembered, or guessed from its heading; what nobody can know is asked."""
    upload = request.files.get("file")
    raw = upload.read() if upload and upload.filename else request.form.get("text", "").encode()
    what = request.form.get("what", "charges")
    try:
        headings, rows = read_table(raw)
    except BadInput as bad:
        return _import_page(raw.decode("utf-8", "replace"), what=what, faults=bad.faults), 422
    meanings = READING_MEANINGS if what.isdigit() else CHARGE_MEANINGS
    known = log_book().meaning(headings)
    return _import_page(raw.decode("utf-8-sig"), headings, known or guessed(headings, meanings), what, (), rows[:4])


@blueprint.post("/import")
def take() -> str | AnyResponse | tuple[str, int]:
    """Take the file in with these columns: all of it; or nothing, every fault, and the choice to take the rest."""
    text, what = request.form.get("text", ""), request.form.get("what", "charges")
    headings: list[str] = []
    rows: list[list[str]] = []
    meaning: dict[str, str] = {}
    try:
        headings, rows = read_table(text.encode())
        meaning = {heading: request.form.get(f"m-{at}", "") for at, heading in enumerate(headings)}
        with undoable(kept("A log brought in")) as told:
            told.text = _taken(what, headings, rows, meaning)
    except BadInput as bad:
        bad_lines = {fault.place.partition(",")[0] for fault in bad.faults if fault.place.startswith("line")}
        rest = len(rows) - len(bad_lines) if bad_lines and headings else 0
        return _import_page(text, headings, meaning, what, bad.faults, rows[:4], rest), 422
    return redirect(url_for("log.page"))


def _taken(what: str, headings: Sequence[str], rows: Sequence[Sequence[str]], meaning: Mapping[str, str]) -> str:
    """Save; what was done, in words. Raises BadInput."""
    unsaid = [heading for heading, name in meaning.items() if not name]
    if unsaid:
        mend = say("is not known; say what this column means, or choose to leave it out")
        raise BadInput([Fault(heading or say("(no heading)"), mend) for heading in unsaid])
    chosen = {heading: name for heading, name in meaning.items() if name != OUT}
    if len(set(chosen.values())) < len(chosen):
        raise BadInput([Fault("", say("two columns have the same meaning; leave one out"))])
    millivolts, the_rest = request.form.get("millivolts") == "yes", request.form.get("rest") == "yes"
    if what.isascii() and what.isdigit():
        readings = observations_from(headings, rows, chosen, local, millivolts, the_rest)
        count = log_book().take_readings(whole(what), readings, headings, meaning, now())
        saved = say_many(
            "One reading is saved with that charge.", "{count} readings are saved with that charge.", count
        )
        return saved + _left_out(len(rows) - count)
    tags = {pack.id for pack in desk().session().packs}
    charges = charges_from(headings, rows, chosen, local, tags, millivolts, the_rest)
    brought = log_book().take_charges(charges, headings, meaning)
    told = say(
        "Charges saved: {new}; filled with what they lacked: {filled}; already here: {here}.",
        new=brought.new,
        filled=brought.filled,
        here=brought.here,
    )
    return told + _left_out(len(rows) - len(charges))


def _left_out(count: int) -> str:
    return say_many(" One row is not taken.", " {count} rows are not taken.", count) if count else ""
