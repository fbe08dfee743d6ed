"""A running Iterum and a headless Chromium, for the browser tests and for the pictures in the docs."""

import re
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from shutil import which
from typing import Any

from flask import Flask
from playwright.sync_api import Browser, Locator, Page, Playwright, expect, sync_playwright
from werkzeug.serving import WSGIRequestHandler, make_server

from iterum.core.say import say, translated
from iterum.core.season.lesson import Lesson
from iterum.core.season.run import Act, State
from iterum.devices.sim_server import SimServer
from iterum.exchange.lessons import lessons
from iterum.services.links import CHARGER
from iterum.services.rehearsing import Rehearsal, RehearsalClock, laid_out
from iterum.services.running import RunDesk
from iterum.web import create_app
from iterum.web.serve import meet

FLAGS = ("--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync")  # fmt: skip
# The shell is the same browser without what nobody sees when there is no screen: a page costs it a third less.
CHROMIUM = which("chromium-headless-shell") or which("chromium")
WIDE = {"width": 1280, "height": 800}
PHONE = {"width": 390, "height": 844}


class _Silent(WSGIRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_request(self, *_arguments: object) -> None:
        """Requests are not what a test prints."""


def started(runs: RunDesk, key: int, at: datetime) -> None:
    """Take a batch through every act up to the charge; what the charger should read back is passed over."""
    state = State.PLANNED
    for act in (Act.INSPECT, Act.PLUG_IN, Act.EVEN_OUT, Act.READ_BACK, Act.START):
        state = runs.act(key, act, state, at, skipped=act is Act.READ_BACK).state


@contextmanager
def running(
    database: Path, clock: Callable[[], datetime], watch: bool = False, speed: float = 1.0,
    rehearsal: Rehearsal | None = None, made: Callable[[Flask], None] = lambda _app: None,
) -> Iterator[str]:  # fmt: skip
    """The application served from a thread; gives its address. rehearsal : with its simulated charger met. made : is
    told the application."""
    app = create_app(database, clock, watch=watch, speed=speed, rehearsal=rehearsal)
    made(app)
    if rehearsal is not None:
        meet(app, ((CHARGER, f"127.0.0.1:{rehearsal.bench.port}"),), confirmed=True)
    server = make_server("127.0.0.1", 0, app, threaded=True, request_handler=_Silent)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.port}"
    finally:
        server.shutdown()
        thread.join()
        server.server_close()
        if watch:
            app.extensions["iterum"]["watch"].stop()
        app.extensions["iterum"]["rehearsals"].end()
        app.extensions["iterum"]["links"].close()
        app.extensions["iterum"]["desk"].close()


@contextmanager
def playing(lesson: Lesson, folder: Path, at: datetime, real: str = "http://127.0.0.1:9") -> Iterator[str]:
    """The bench of a lesson with its simulated charger, as its process lays it out; gives its address. real : of the real bench."""
    database, clock = folder / lesson.id / "iterum.sqlite3", RehearsalClock(at, 1)
    database.parent.mkdir()
    laid_out(lesson, database, at)
    bench = SimServer(lesson.truth, "127.0.0.1", 0, 1.0, clock.monotonic)
    bench.start()
    mine = Rehearsal(real, clock, bench, lesson, lessons())
    try:
        with running(database, clock, watch=True, rehearsal=mine) as address:
            yield address
    finally:
        bench.close()


def ready(page: Page) -> None:
    """Wait until keys act on the page that is there."""
    page.locator("html[data-ready], html:not(:has(script[type=module]))").wait_for(state="attached")


def held(page: Page) -> None:
    """Wait until the page takes acts that sign, start or change a charge: not in its first moment."""
    expect(page.locator("button[aria-disabled=true]")).to_have_count(0)


def patient(page: Page) -> Page:
    """Go somewhere, or press a key, only as a person would: when the page has come. A script's hands are faster."""
    goto, press, typed = page.goto, page.keyboard.press, page.keyboard.type

    def arrive(*arguments: Any, **more: Any) -> Any:
        answer = goto(*arguments, **more)
        ready(page)
        return answer

    def pressed(key: str, **more: Any) -> None:
        ready(page)
        held(page)
        press(key, **more)

    def written(text: str, **more: Any) -> None:
        ready(page)
        typed(text, **more)

    page.goto = arrive  # type: ignore[method-assign]
    page.keyboard.press = pressed  # type: ignore[method-assign]
    page.keyboard.type = written  # type: ignore[method-assign]
    return page


def named(*texts: str) -> re.Pattern[str]:
    """One of these sentences as a page has it in the language that is spoken, whatever its values are."""
    told = (re.escape(translated(text)) for text in texts)
    return re.compile("|".join(re.sub(r"\\{.*?\\}|</?\w+>", ".*", text) for text in told))


@contextmanager
def turning(page: Page) -> Iterator[None]:
    """What is done within leads to another page, or the same one again: come out when keys act there.

    Without it the next line may still read, or type into, the page that is being left.
    """
    ready(page)
    with page.expect_navigation():
        yield
    ready(page)


def taken_in_hand(page: Page) -> int:
    """Take the next planned batch in hand, look at each pack and plug them in; the key of its run."""
    with turning(page):
        page.get_by_role("button", name=named("Start this batch", "Start this batch at {current_a} A")).first.click()
    for box in page.locator("[name=looked][type=checkbox]").all():
        box.check()
    with turning(page):
        page.get_by_role("button", name=named("All looked at", "OK, and plugged in")).click()
    if page.get_by_role("button", name=named("All plugged in")).count():
        with turning(page):
            page.get_by_role("button", name=named("All plugged in")).click()
    return key_of(page)


def key_of(page: Page) -> int:
    """The key of the batch whose step is shown."""
    return int(re.search(r"(?:run/|open=)(\d+)", page.url)[1])  # type: ignore[index]


def tick_one(page: Page) -> None:
    """A pack alone needs its own tick before it counts as looked at."""
    if page.get_by_role("button", name="OK, and plugged in").count():
        page.get_by_role("checkbox", name="all five, yes").check()


def plugged_in(page: Page, *tags: str) -> None:
    """From the dial card of these packs to the board, as on any day."""
    page.goto("/".join(page.url.split("/")[:3]) + "/charge?" + "&".join(f"packs={tag}" for tag in tags))
    for name in ("Start this batch", "All of these are OK|OK, and plugged in", "All plugged in"):
        button = page.get_by_role("button", name=re.compile(name))
        if button.count():
            tick_one(page)
            with turning(page):
                button.click()


def compared_and_started(page: Page) -> None:
    """What the charger shows is what the card says; then the start, which may be the same act."""
    compare = page.get_by_role("button", name=named("Compare and start", "Compare with the card"))
    at_once = say("Compare and start") in compare.inner_text()
    with turning(page):
        compare.click()
    if not at_once:
        with turning(page):
            page.get_by_role("button", name=named("Start {channel}")).click()


# ------------------------------------------------------------------ what a page says, as somebody hears it read out

NEXT = re.compile("^(Next|Confirm)")


def amps(page: Page) -> Locator:
    """What is to be dialled."""
    return page.get_by_role("status", name="Amps to set")


def state_of(page: Page) -> Locator:
    """Where a batch stands."""
    return page.get_by_role("status", name=say("State"))


def read_now(page: Page, tag: str) -> Locator:
    """The tag of the pack that is being measured."""
    return page.get_by_role("heading", name=tag, exact=True)


def pad(page: Page) -> Locator:
    """The page's own digits."""
    return page.get_by_role("group", name="Number pad")


def places(page: Page) -> Locator:
    """The six places."""
    return page.get_by_role("navigation", name="Places")


def tap_to(page: Page, place: str, name: str) -> None:
    """Go to a page of a place by two taps, or one where the place is open already."""
    row = page.get_by_role("navigation", name=place, exact=True)
    if not row.count():
        places(page).get_by_role("link", name=place).tap()
    row.get_by_role("link", name=name, exact=True).tap()


@contextmanager
def chromium() -> Iterator[Browser]:
    """Debian's Chromium, headless, with a profile of its own."""
    with sync_playwright() as playwright:
        browser = launched(playwright)
        yield browser
        browser.close()


def launched(playwright: Playwright, path: str | None = None) -> Browser:
    """A Chromium. path : of what starts it, where it is not Debian's own on this host."""
    return playwright.chromium.launch(executable_path=path or CHROMIUM, args=list(FLAGS))
