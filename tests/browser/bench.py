"""A running Iterum and a headless Chromium, for the browser tests and for the pictures in the docs."""

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from shutil import which

from playwright.sync_api import Browser, Playwright, sync_playwright
from werkzeug.serving import WSGIRequestHandler, make_server

from iterum.web import create_app

FLAGS = ("--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync")  # fmt: skip
WIDE = {"width": 1280, "height": 800}
PHONE = {"width": 390, "height": 844}


class _Silent(WSGIRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_request(self, *_arguments: object) -> None:
        """Requests are not what a test prints."""


@contextmanager
def running(database: Path, clock: Callable[[], datetime], watch: bool = False, speed: float = 1.0) -> Iterator[str]:
    """The application served from a thread; gives its address."""
    app = create_app(database, clock, watch=watch, speed=speed)
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
        app.extensions["iterum"]["links"].close()
        app.extensions["iterum"]["desk"].close()


@contextmanager
def chromium() -> Iterator[Browser]:
    """Debian's Chromium, headless, with a profile of its own."""
    with sync_playwright() as playwright:
        browser = launched(playwright)
        yield browser
        browser.close()


def launched(playwright: Playwright, path: str | None = None) -> Browser:
    """A Chromium. path : of what starts it, where it is not Debian's own on this host."""
    return playwright.chromium.launch(executable_path=path or which("chromium"), args=list(FLAGS))
