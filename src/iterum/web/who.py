"""Who asks: somebody at this machine, or a paired device; and where that one may go.

Whatever stands in no list here is for this machine and for devices that may do everything: a new page is closed to
others until somebody opens it.
"""

from fnmatch import fnmatchcase
from typing import cast

from flask import current_app, g, request

from iterum.services.sharing import Role, Sharing
from iterum.store.phones import Phone
from iterum.web.doors import SHARED

BENCH_READS = (
    "start", "static", "style_sheet", "script", "scanned", "places", "offline.*", "share.authority",
    "bench.*", "measure.*", "match.*", "charge.*", "run.*", "wrong.*", "put_away.*",
    "plan.page", "plan.sheet", "plan.progress", "plan.calendar_out", "heats.page", "heats.calendar_out",
    "packs.page", "packs.health", "packs.history", "packs.tag", "log.page", "use.page", "what_if.page",
    "rehearse.lesson",
)  # fmt: skip
BENCH_ACTS = (
    "look", "bench.check_round", "bench.flown", "measure.*", "match.move", "charge.keep", "run.*", "wrong.write_down",
    "wrong.stop_all", "use.timer", "offline.*",
)  # fmt: skip
"""What a device of the bench may look at, and what it may do."""


def sharing() -> Sharing:
    """Who is let in."""
    return cast(Sharing, current_app.extensions["iterum"]["sharing"])


def phone_cookie() -> str:
    """The name of the cookie that holds a device's token."""
    return f"{current_app.config['SESSION_COOKIE_NAME']}_phone"


def is_shared() -> bool:
    """Whether this request came by the second door."""
    return bool(request.environ.get(SHARED))


def phone() -> Phone | None:
    """The paired device that asks; None on this machine."""
    return cast("Phone | None", g.get("phone"))


def pilot_asking() -> str | None:
    """The pilot whose device asks; None for this machine and for devices that are nobody's own."""
    asking = phone()
    return asking.pilot if asking is not None and asking.role == Role.PILOT else None


def may(endpoint: str, method: str = "GET") -> bool:
    """Whether who asks may go there."""
    asking = phone()
    if asking is None or asking.role == Role.ALL:
        return True
    allowed = BENCH_READS if method in ("GET", "HEAD", "OPTIONS") else BENCH_ACTS
    return any(fnmatchcase(endpoint, pattern) for pattern in allowed)
