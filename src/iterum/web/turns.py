"""The account of a day that is rehearsed on the whole bench: what each act, and each wait, makes of it."""

from flask import Flask, Response, g, request

from iterum.core.reasons import Reason, reason
from iterum.services.logbook import Query
from iterum.services.rehearsing import Rehearsal
from iterum.web.context import desk, log_book, now, runs


def account_of(app: Flask, mine: Rehearsal) -> None:
    """Look at the day before each act, for what came of itself, and after it, for what it brought."""

    @app.before_request
    def before() -> None:
        if request.method == "POST":
            mine.look(runs(), desk(), log_book())

    @app.after_request
    def after(answer: Response) -> Response:
        if request.method == "POST" and answer.status_code < 400:
            mine.look(runs(), desk(), log_book(), g.get("happened") or _done())
        return answer


def happened(what: str) -> None:
    """Something goes wrong in this request: it is told, also where it costs nothing."""
    g.happened = reason("turn_happened", what=what)


def _done() -> Reason | None:
    """What was done in this request, as far as anything was kept of it; None where only time went by."""
    if request.blueprint == "rehearse":
        return None
    acts = [item for item in desk().acts()[:1] if item.at >= now()]
    if acts:
        return reason("turn_done", what=acts[0].what)
    incidents = log_book().entries(Query("incidents", since=now()))
    if incidents:
        return reason("turn_act", act=incidents[0]["kind"], packs=incidents[0]["packs"] or incidents[0]["runs"])
    events = log_book().entries(Query("acts", since=now()), 1)
    if events:
        return reason("turn_act", act=events[0]["act"], packs=events[0]["packs"])
    return reason("turn_other")
