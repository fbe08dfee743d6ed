"""What every route needs: the desk and the present moment."""

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import cast

from flask import current_app, flash, g

from iterum.core.say import retold
from iterum.core.things.bench import Bench
from iterum.services.archiving import Archives
from iterum.services.checking import Checks
from iterum.services.day import Day
from iterum.services.desk import Desk
from iterum.services.incidents import Incidents
from iterum.services.links import Links
from iterum.services.logbook import LogBook
from iterum.services.planning import PlanDesk
from iterum.services.rehearsing import Rehearsal
from iterum.services.running import RunDesk
from iterum.services.table import Table
from iterum.services.watching import Watcher
from iterum.services.work import Work


def desk() -> Desk:
    """The stored session of this application."""
    return cast(Desk, current_app.extensions["iterum"]["desk"])


def bench() -> Bench:
    """The bench as it is now."""
    return desk().bench(now())


def log_book() -> LogBook:
    """The log."""
    return cast(LogBook, current_app.extensions["iterum"]["log"])


def runs() -> RunDesk:
    """The batches in hand."""
    return cast(RunDesk, current_app.extensions["iterum"]["runs"])


def watcher() -> Watcher:
    """Eyes on every batch in hand."""
    return cast(Watcher, current_app.extensions["iterum"]["watcher"])


def incidents() -> Incidents:
    """What is done when something is wrong."""
    return cast(Incidents, current_app.extensions["iterum"]["incidents"])


def day() -> Day:
    """What a person says of the whole bench."""
    return cast(Day, current_app.extensions["iterum"]["day"])


def checks() -> Checks:
    """Checking packs after their charge."""
    return cast(Checks, current_app.extensions["iterum"]["checks"])


def work() -> Work:
    """Long computations beside the pages."""
    return cast(Work, current_app.extensions["iterum"]["work"])


def archives() -> Archives:
    """Everything of this bench, out and in."""
    return cast(Archives, current_app.extensions["iterum"]["archives"])


def table() -> Table:
    """What each pilot at the table had."""
    return cast(Table, current_app.extensions["iterum"]["table"])


def links() -> Links:
    """Chargers and checkers."""
    return cast(Links, current_app.extensions["iterum"]["links"])


def plan_desk() -> PlanDesk:
    """The search for a plan that runs on this server, if one does."""
    return cast(PlanDesk, current_app.extensions["iterum"]["plan_desk"])


def rehearsal() -> Rehearsal | None:
    """What this Iterum knows of itself where it is a rehearsal; None on the real bench."""
    return cast("Rehearsal | None", current_app.extensions["iterum"]["rehearsal"])


def now() -> datetime:
    """The moment of this request, with its zone: the same for everything that is asked in it."""
    if "now" not in g:
        g.now = current_app.extensions["iterum"]["clock"]()
    return cast(datetime, g.now)


def came_late() -> bool:
    """Whether this request is of a moment that is over: entered without the link, and sent when it was back."""
    return bool(g.get("late", False))


class Told:
    """What the page says once an act is done. Where nothing was changed it offers no way back."""

    text = ""
    kind = "message"


@contextmanager
def undoable(what: str) -> Iterator[Told]:
    """An act that one key takes back. what : was done, in words; the page says so, or the `text` that was set."""
    told = Told()
    with current_app.extensions["iterum"]["store"].undoable(what, now()) as act:
        yield told
    flash(told.text or f"{retold(what)}.", told.kind if act.key is None else f"undo-{act.key}")
