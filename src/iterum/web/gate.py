"""The gate before every page: by the first door everything, by the second what was paired, as its role says."""

from flask import Flask, Response, g, render_template, request
from flask.sessions import SecureCookieSessionInterface
from werkzeug.exceptions import HTTPException
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.say import Words, say
from iterum.services.sharing import Moved
from iterum.web.context import now, rehearsal
from iterum.web.doors import names_of
from iterum.web.pilots import not_theirs
from iterum.web.troubles import TROUBLES
from iterum.web.who import is_shared, may, phone, phone_cookie, pilot_asking, sharing
from iterum.web.words import few_tags

LOCAL_HOSTS = ("127.0.0.1", "localhost")
UNPAIRED = frozenset({"share.pairing", "share.pair", "share.authority", "share.calendar", "static", "style_sheet",
                      "offline.worker", "offline.shell", "offline.no_link"})  # fmt: skip
"""What a device is shown before it is paired: how that is done, and no data."""
_MOVED = (
    "It asks from another address than before. Somebody at the bench has to say that it is the same device: on "
    "Iterum’s own screen, page On my phone, beside the number {number}. Then reload this page."
)
OUT_OF_REACH = frozenset({"rehearse.begin", "rehearse.end"})
_ONLY_BENCH = Words(
    "It was paired for work at the bench. Kit, rules, files and planning are done on Iterum’s own "
    "machine, or with a device that may do everything."
)

_OTHERS = (
    "{what}: not {pilot}’s. This device acts on {pilot}’s packs, and on batches that are {pilot}’s to see to. "
    "Stop, and Something’s wrong, are open to everybody."
)


class SecureWhereItIs(SecureCookieSessionInterface):
    """A cookie that came by TLS goes back by TLS alone."""

    def get_cookie_secure(self, app: Flask) -> bool:  # noqa: ARG002
        """Whether this request came by TLS."""
        return request.is_secure


def admit() -> AnyResponse | tuple[str, int] | None:
    """Before anything else is done with a request."""
    if rehearsal() is not None and (request.blueprint == "share" or request.endpoint in OUT_OF_REACH):
        return _page(
            say("Not in a rehearsal"), say("A rehearsal is not shared, and begins no other. Leave it first."), 403
        )
    if not is_shared():
        return None if _host() in LOCAL_HOSTS else _unknown_host()
    return _admit_shared()


def _admit_shared() -> AnyResponse | tuple[str, int] | None:
    """By the second door: what may be seen unpaired, and what a paired device may do."""
    shared = sharing().shared
    if shared is None or not sharing().is_open(now()):
        return Response(say("Iterum is not shared any more.\n"), 403, mimetype="text/plain")
    if _host() not in names_of(shared):
        return _unknown_host()
    if request.endpoint in UNPAIRED:
        return None
    agent, address = request.headers.get("User-Agent", ""), request.remote_addr or ""
    known = sharing().known(request.cookies.get(phone_cookie(), ""), agent, address, now())
    if isinstance(known, Moved):
        return _page(say("This device has a new address"), _MOVED.format(number=known.number), 403)
    g.phone = known
    if known is None:
        return not_paired()
    if request.endpoint is not None and not may(request.endpoint, request.method):
        return _page(say("Not with this device"), _ONLY_BENCH, 403)
    return _refuse_others()


def _refuse_others() -> tuple[str, int] | None:
    """A pilot's device acts on what is that pilot's: packs of others are left to them."""
    if request.endpoint is None or request.method in ("GET", "HEAD", "OPTIONS") or pilot_asking() is None:
        return None
    form = request.form
    packs = [*form.getlist("packs"), *form.getlist("pack")]
    key = (request.view_args or {}).get("key")
    others = not_theirs(request.endpoint, form, packs, key if isinstance(key, int) else None)
    if not others:
        return None
    return _page(say("Not yours"), say(_OTHERS, what=few_tags(others), pilot=pilot_asking()), 403)


def _host() -> str:
    """The name that was asked for, without its port; empty for what is none."""
    try:
        return request.host.rpartition(":")[0] or request.host
    except HTTPException:
        return ""


def _unknown_host() -> Response:
    return Response(say("Iterum answers only to its own names.\n"), 400, mimetype="text/plain")


def not_paired() -> tuple[str, int]:
    """What a device sees that is not paired, whatever it asks for."""
    return _page(say("This device is not paired"), "", 403)


def _page(title: str, text: str, code: int) -> tuple[str, int]:
    paired = phone() is not None
    page = render_template("share/closed.html", title=title, text=text, troubles=TROUBLES, paired=paired)
    return page, code
