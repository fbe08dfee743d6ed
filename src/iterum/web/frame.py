"""The frame round every page: top strip, six places."""

from datetime import timedelta
from math import ceil
from typing import Any
from urllib.parse import urlsplit

from flask import current_app, get_flashed_messages, request, url_for

from iterum.core.say import LANGUAGE, say, say_many
from iterum.core.season.run import LIVE
from iterum.core.things.choice import Kind
from iterum.core.things.rules import first_time
from iterum.core.things.session import Session
from iterum.guardian.clock import parted_words
from iterum.web.context import desk, links, now, rehearsal, runs
from iterum.web.degrees import fahrenheit
from iterum.web.next_up import todos
from iterum.web.places import PLACES, WORK
from iterum.web.played import lesson_cue
from iterum.web.real import real_next
from iterum.web.troubles import TROUBLES
from iterum.web.who import may, sharing
from iterum.wording.languages import NAMES

SEEN_LATELY = timedelta(minutes=2)


def go_back_to(address: str) -> str:
    """A page of this application to go back to; anything else becomes the start."""
    parts = urlsplit(address)
    safe = not parts.scheme and not parts.netloc and address.startswith("/") and not address.startswith(("//", "/\\"))
    return address if safe else url_for("start")


def _below(session: Session) -> dict[str, str]:
    """What stands below the name of a place in the rail."""
    measured = sum(pack.reading is not None for pack in session.packs)
    count, channels = len(session.packs), sum(1 for _ in session.kit.channels())
    return {
        "Bench": _charged_below() or _planned_below(),
        "Packs": say("{measured} of {count} measured", measured=measured, count=count) if count else say("none yet"),
        "Kit": say_many("one channel", "{count} channels", channels) if channels else say("none yet"),
    }


def _charged_below() -> str:
    """What runs, where anything is in hand."""
    in_hand = runs().open()
    live = sum(run.state in LIVE and run.kind is Kind.CHARGE for run in in_hand)
    waiting = len(in_hand) - live
    parts = [
        say("{live} charging", live=live) if live else "",
        say("{waiting} in a batch", waiting=waiting) if waiting else "",
    ]
    return ", ".join(part for part in parts if part)


def _planned_below() -> str:
    kept = desk().latest_plan()
    if kept is None:
        return say("not planned yet")
    return say_many("one visit planned", "{count} visits planned", kept.plan.visits)


def _phones_in() -> int:
    """Paired devices that were seen a moment ago; only asked where the bench is shared."""
    if not sharing().is_open(now()):
        return 0
    return sum(item.gone_at is None and now() - item.seen_at < SEEN_LATELY for item in sharing().phones())


def _messages() -> list[tuple[str, str]]:
    """What the last act has to say; it waits where a page is only fetched ahead and nobody sees it yet."""
    return [] if request.headers.get("X-Unseen") else get_flashed_messages(with_categories=True)  # type: ignore[return-value]


def energy_left(session: Session) -> tuple[float, float]:
    """Wh that sources with a budget still have for new batches, and that they had when filled."""
    finite = [source for source in session.kit.sources if source.usable_wh is not None]
    left_wh = sum(max((item.usable_wh or 0.0) - session.bench.reserved_wh(item.id), 0.0) for item in finite)
    return left_wh, sum((source.energy_wh or 0.0) * source.usable_part for source in finite)


def frame() -> dict[str, Any]:
    """What base.html shows on every page, errors included."""
    session = desk().session(now())
    open_runs = runs().open()
    finite = [source for source in session.kit.sources if source.usable_wh is not None]
    left_wh, whole_wh = energy_left(session)
    ahead = [heat for heat in desk().heats() if heat.at > now()]
    room = (request.blueprint or "") if request else ""
    mine = rehearsal()
    here = next((one for one in PLACES if request and one.page_of(room, request.endpoint or "")), None)
    return {
        "session": session,
        "todos": todos(),
        "first_time": first_time(session.rules),
        "places": [place for place in PLACES if any(may(page.endpoint) for page in place.pages)],
        "opens": {
            place.name: url_for(page.endpoint)
            for place in PLACES
            for page in reversed(place.pages)
            if may(page.endpoint)
        },
        "below": _below(session),
        "work_order": WORK,
        "place": here,
        "page_here": here.page_of(room, request.endpoint or "") if here and request else None,
        "may": may,
        "shared": sharing().shared if sharing().is_open(now()) else None,
        "phones_in": _phones_in(),
        "asking": len(sharing().moved()) if sharing().is_open(now()) else 0,
        "room": room,
        "now": now(),
        "speed": mine.clock.speed if mine else current_app.extensions["iterum"]["speed"],
        "rehearsal": mine,
        "lesson_cue": lesson_cue(),
        "real_next": real_next(),
        "alarms_on": any(run.state in LIVE for run in open_runs),
        "open_runs": open_runs,
        "watched": bool(open_runs or links().devices()),
        "clock_told": parted_words(current_app.extensions["iterum"]["clock"]),
        "watch": current_app.extensions["iterum"]["watch"],
        "troubles_offline": TROUBLES,
        "bank_wh": left_wh if finite else None,
        "bank_part": left_wh / whole_wh if whole_wh else 0.0,
        "bank_names": f"· {finite[0].name or finite[0].id}"
        if len(finite) == 1
        else say("in {finite} sources", finite=len(finite)),
        "next_heat": ahead[0] if ahead else None,
        "next_heat_min": ceil((ahead[0].at - now()) / timedelta(minutes=1)) if ahead else None,
        "language": LANGUAGE.get(),
        "languages": NAMES,
        "theme": "night" if request.cookies.get("iterum_theme") == "night" else "day",
        "fahrenheit": fahrenheit(),
        "keys_on": request.cookies.get("iterum_keys") != "off",
        "messages": _messages,
        "here": request.full_path if request.query_string else request.path,
    }
