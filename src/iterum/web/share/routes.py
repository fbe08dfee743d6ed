"""Addresses of the page On my phone: open, close, pair, forget; and what a device sees before it is paired."""

from datetime import timedelta
from typing import Any

from flask import Blueprint, Response, current_app, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from iterum.core.reasons import NotThere
from iterum.core.say import Words, say
from iterum.core.season.moments import begin_of
from iterum.services.sharing import CALENDAR, DIGITS, MOST_TRIES, NotPaired, Offer, Role
from iterum.web.context import now
from iterum.web.doors import SecondDoor
from iterum.web.figures import whole
from iterum.web.gate import not_paired
from iterum.web.pictures.code import code_svg
from iterum.web.pilots import pilots
from iterum.web.plan.calendar import bench_calendar
from iterum.web.troubles import TROUBLES
from iterum.web.who import phone_cookie, sharing

blueprint = Blueprint("share", __name__, url_prefix="/share", template_folder="templates")

ROLES_SAID = {
    Role.BENCH: Words("at the bench"),
    Role.ALL: Words("everything"),
    CALENDAR: Words("reads the visits"),
}
KEPT_S = 400 * 86_400
"""How long a browser keeps a cookie at most."""


def _door() -> SecondDoor:
    door: SecondDoor = current_app.extensions["iterum"]["door"]
    return door


def _ways(offer: Offer | None) -> list[tuple[str, Any]]:
    """(address, code to scan) of the way in, where the bench is shared and a code is open."""
    shared = sharing().shared
    if shared is None or offer is None:
        return []
    path = url_for("share.pairing", code=offer.secret)
    return [(plain, code_svg(whole_url)) for plain, whole_url in zip(shared.urls(), shared.urls(path), strict=True)]


@blueprint.get("")
def page() -> str:
    """Whether the bench is shared, how a device comes in, and which are."""
    offer = sharing().offered(now())
    digits = f"{offer.digits[: DIGITS // 2]} {offer.digits[DIGITS // 2 :]}" if offer else ""
    return render_template("share/page.html", shared=sharing().shared, ways=_ways(offer), offer=offer, digits=digits,
                           phones=sharing().phones(), roles=Role, moved=sharing().moved(), wrong=sharing().wrong(),
                           pilots=pilots(), tries=MOST_TRIES, roles_said=ROLES_SAID)  # fmt: skip


@blueprint.get("/ways.json")
def ways() -> dict[str, object]:
    """The same for a command in a terminal."""
    shared, offer = sharing().shared, sharing().offered(now())
    path = url_for("share.pairing", code=offer.secret) if offer else "/share/pair"
    return {
        "shared": shared is not None, "addresses": shared.urls() if shared else [],
        "ways": shared.urls(path) if shared else [], "digits": offer.digits if offer else "",
        "fingerprint": shared.fingerprint if shared else "",
    }  # fmt: skip


@blueprint.post("/open")
def open_door() -> AnyResponse:
    """Share, for today or until it is closed."""
    today = now().astimezone().date()
    until = begin_of(today + timedelta(days=1)) if request.form.get("until") != "closed" else None
    try:
        _door().open(until, plain=request.form.get("plain") == "yes")
    except OSError as error:
        flash(say("Not shared: {strerror}.", strerror=error.strerror or error), "care")
        return redirect(url_for("share.page"))
    sharing().offer(Role.BENCH, now())
    return redirect(url_for("share.page"))


@blueprint.post("/close")
def close_door() -> AnyResponse:
    """Share no more. Who is paired stays so, for the next time."""
    _door().close()
    flash(say("Shared no more. Paired devices come in again when you open it."))
    return redirect(url_for("share.page"))


@blueprint.post("/offer")
def offer() -> AnyResponse:
    """A new code for one more device."""
    pilot = request.form.get("pilot") or None
    if pilot is not None and pilot not in pilots():
        raise NotThere("pilot", pilot)
    role = Role.ALL if request.form.get("role") == Role.ALL else Role.PILOT if pilot else Role.BENCH
    sharing().offer(role, now(), pilot if role is Role.PILOT else None)
    return redirect(url_for("share.page"))


@blueprint.post("/same")
def same() -> AnyResponse:
    """A device that asks from a new address is the same one."""
    key = request.form.get("key", -1, type=whole)
    let_in = sharing().is_same(key, request.form.get("number", ""), now())
    if let_in:
        flash(say("It is let in at its new address."))
    else:
        flash(say("It does not ask any more."), "care")
    return redirect(url_for("share.page"))


@blueprint.post("/forget")
def forget() -> AnyResponse:
    """Let a device in no more."""
    sharing().forget(request.form.get("key", -1, type=whole), now())
    flash(say("Forgotten: it has to be paired again."))
    return redirect(url_for("share.page"))


@blueprint.post("/calendar")
def new_calendar() -> AnyResponse:
    """An address that a calendar subscribes to; it is shown once."""
    shared = sharing().shared
    if shared is None or not shared.addresses:
        flash(say("Share the bench first: a calendar asks at its address."), "care")
        return redirect(url_for("share.page"))
    path = url_for("share.calendar", secret=sharing().calendar(now()))
    host = shared.urls(path)[-1] if shared.named else shared.urls(path)[0]
    flash(
        say(
            "Subscribe to {host} in the phone’s calendar. It shows times and tags; Forget it below revokes it.",
            host=host,
        )
    )
    return redirect(url_for("share.page"))


# ---------------------------------------------------------------------------------------- for those outside


@blueprint.get("/calendar/<secret>.ics")
def calendar(secret: str) -> Response | tuple[str, int]:
    """The visits, for a calendar that holds the secret."""
    if not sharing().may_read_calendar(secret, request.remote_addr or "", now()):
        return not_paired()
    return Response(bench_calendar(), mimetype="text/calendar")


@blueprint.get("/pair")
def pairing() -> str:
    """The way in for a device: by the code it scanned, or by digits."""
    return _pairing_page(request.args.get("code", ""))


def _pairing_page(code: str, why: str = "", name: str = "") -> str:
    shared = sharing().shared
    return render_template("share/pair.html", code=code, why=why, name=name, troubles=TROUBLES,
                           shared=shared)  # fmt: skip


@blueprint.post("/pair")
def pair() -> AnyResponse | tuple[str, int]:
    """Pair this device, once for each code."""
    if sharing().shared is None:
        return not_paired()
    code, name = request.form.get("digits", "").strip() or request.form.get("code", ""), request.form.get("name", "")
    agent, address = request.headers.get("User-Agent", ""), request.remote_addr or ""
    try:
        token = sharing().pair(code, name, agent, address, now())
    except NotPaired as error:
        return _pairing_page("", str(error), name), 403
    answer = redirect(url_for("start"))
    answer.set_cookie(phone_cookie(), token, max_age=KEPT_S, secure=request.is_secure, httponly=True, samesite="Strict")
    return answer


@blueprint.get("/authority.crt")
def authority() -> Response | tuple[str, int]:
    """Iterum's own authority, to install on a phone."""
    authority = _door().authority
    if authority is None:
        return not_paired()
    return Response(authority.der, mimetype="application/x-x509-ca-cert",
                    headers={"Content-Disposition": "attachment; filename=iterum-authority.crt"})  # fmt: skip
