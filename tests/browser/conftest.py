"""Fixtures of the browser tests: one Chromium for all, a server and a database for each."""

import shutil

import pytest

from tests.browser.bench import PHONE, WIDE, chromium, running
from tests.conftest import NOON


@pytest.fixture(scope="session")
def browser():
    with chromium() as found:
        yield found


@pytest.fixture
def address(tmp_path, demo_file):
    shutil.copy(demo_file, tmp_path / "demo.sqlite3")
    with running(tmp_path / "demo.sqlite3", lambda: NOON) as found:
        yield found


@pytest.fixture
def empty_address(tmp_path):
    with running(tmp_path / "empty.sqlite3", lambda: NOON) as found:
        yield found


@pytest.fixture
def open_page(browser):
    """Opens pages that fail the test on any script error or request to elsewhere."""
    contexts = []

    def opened(size=WIDE, theme="day", touch=False):
        context = browser.new_context(viewport=size, has_touch=touch, is_mobile=touch)
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(8000)
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
        return page

    yield opened
    problems = [problem for context in contexts for page in context.pages for problem in page.problems]
    for context in contexts:
        context.close()
    assert [text for text in problems if "status of 4" not in text] == []


@pytest.fixture
def page(open_page):
    return open_page()


@pytest.fixture
def phone(open_page):
    return open_page(PHONE, touch=True)
