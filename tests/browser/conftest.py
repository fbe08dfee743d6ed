"""Fixtures of the browser tests: one Chromium for all, a server and a database for each."""

import re
import shutil

import pytest
from playwright.sync_api import expect, sync_playwright

from iterum.core.season.outlook import Observation
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.services.desk import Desk
from iterum.services.running import RunDesk
from iterum.services.watching import TYPED, Watcher
from iterum.store.database import Store
from iterum.web import create_app
from tests.browser.bench import PHONE, WIDE, launched, patient, running, started
from tests.conftest import NOON
from tests.devices.bench import links_of
from tests.web.conftest import Visitor, planned


@pytest.fixture(scope="session")
def playwright():
    """One for all tests of a process: it cannot be started twice."""
    with sync_playwright() as library:
        yield library


@pytest.fixture(scope="session")
def browser(playwright):
    opened = launched(playwright)
    yield opened
    opened.close()


@pytest.fixture
def address(tmp_path, demo_file):
    shutil.copy(demo_file, tmp_path / "demo.sqlite3")
    with running(tmp_path / "demo.sqlite3", lambda: NOON) as served_at:
        yield served_at


@pytest.fixture(scope="session")
def file_with_runs(tmp_path_factory, demo_file):
    """The demo with a batch that charges, one to be inspected, and one to be checked after."""
    path = tmp_path_factory.mktemp("runs") / "demo.sqlite3"
    shutil.copy(demo_file, path)
    store = Store(path)
    runs = RunDesk(store, Desk(store), links_of(store))
    keys = [runs.begin(Choice(packs, board, channel), NOON) for packs, board, channel in (
        (("P-08", "P-11"), "Four", "Twin-1"), (("T-01",), None, "Twin-2"), (("P-12",), None, "Small-1"))]  # fmt: skip
    for key in (keys[0], keys[2]):
        started(runs, key, NOON)
    seen = Observation(0, pack_v=15.6, current_a=3.6, charge_mah=10, cell_v=(3.90, 3.90, 3.90, 3.85), by_hand=True)
    watcher = Watcher(store, Desk(store), runs)
    watcher.observe(keys[0], TYPED, seen, NOON)
    watcher.watch(NOON)
    runs.act(keys[2], Act.STOP, State.CHARGING, NOON)
    store.close()
    return path


def with_a_plan(bench, path):
    """The same bench, with a plan."""
    shutil.copy(bench, path)
    app = create_app(path, lambda: NOON)
    planned(Visitor(app))
    app.extensions["iterum"]["desk"].close()
    return path


@pytest.fixture(scope="session")
def planned_file(tmp_path_factory, demo_file):
    return with_a_plan(demo_file, tmp_path_factory.mktemp("planned") / "demo.sqlite3")


@pytest.fixture(scope="session")
def planned_file_with_runs(tmp_path_factory, file_with_runs):
    return with_a_plan(file_with_runs, tmp_path_factory.mktemp("planned") / "demo.sqlite3")


@pytest.fixture
def planned_address(tmp_path, planned_file):
    """The demo with a plan."""
    shutil.copy(planned_file, tmp_path / "demo.sqlite3")
    with running(tmp_path / "demo.sqlite3", lambda: NOON) as served_at:
        yield served_at


@pytest.fixture
def planned_address_with_runs(tmp_path, planned_file_with_runs):
    """The demo with these batches in hand, and a plan for the rest."""
    shutil.copy(planned_file_with_runs, tmp_path / "demo.sqlite3")
    with running(tmp_path / "demo.sqlite3", lambda: NOON) as served_at:
        yield served_at


@pytest.fixture
def empty_address(tmp_path):
    with running(tmp_path / "empty.sqlite3", lambda: NOON) as served_at:
        yield served_at


PATIENCE_MS = 30_000
"""A machine that does other things too is slow at times; what never comes fails all the same."""
expect.set_options(timeout=PATIENCE_MS)
EXPECTED = re.compile("status of 4|^htmx:(afterRequest|sendAbort)")
"""What is refused on purpose, and what a newer question, or the next page, made needless; a lost one is a sendError."""


@pytest.fixture
def open_page(browser):
    """Opens pages that fail the test on any script error or request to elsewhere."""
    contexts = []

    def opened(size=WIDE, theme="day", touch=False, workers="allow", language="en"):
        more = {"has_touch": touch, "is_mobile": touch, "service_workers": workers, "locale": language}
        context = browser.new_context(viewport=size, reduced_motion="reduce", **more)
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(PATIENCE_MS)
        page.problems = []
        page.on("pageerror", lambda error: page.problems.append(str(error)))
        page.on("console", lambda message: page.problems.append(message.text) if message.type == "error" else None)
        page.on(
            "request",
            lambda request: (
                None
                if "127.0.0.1" in request.url or request.url.startswith("data:")
                else page.problems.append(request.url)
            ),
        )
        page.theme = theme
        return patient(page)

    yield opened
    problems = [problem for context in contexts for page in context.pages for problem in page.problems]
    for context in contexts:
        context.close()
    assert [text for text in problems if not EXPECTED.search(text)] == []


@pytest.fixture
def page(open_page):
    return open_page()


@pytest.fixture
def phone(open_page):
    return open_page(PHONE, touch=True)
