"""The link goes down in the middle of a class: nothing typed is lost, all of it arrives once, in order, with its time."""

import re
import shutil
import threading
from contextlib import contextmanager
from datetime import timedelta

import pytest
from playwright.sync_api import expect
from werkzeug.serving import make_server

from iterum.core.season.run import State
from iterum.core.things.choice import Choice
from iterum.core.things.packs import Condition
from iterum.services.desk import Desk
from iterum.services.running import RunDesk
from iterum.store.database import Store
from iterum.web import create_app
from tests.browser.bench import NEXT, PHONE, _Silent, pad, read_now, started
from tests.conftest import NOON, pack


class Link:
    """A server that can be lost and found again, at the same address, with the same data."""

    def __init__(self, path):
        self.path, self.port, self.minutes = path, 0, 0
        self.server = None

    def clock(self):
        return NOON + timedelta(minutes=self.minutes)

    def up(self):
        self.app = create_app(self.path, self.clock)
        self.server = make_server("127.0.0.1", self.port, self.app, threaded=True, request_handler=_Silent)
        self.port = self.server.port
        threading.Thread(target=self.server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
        return f"http://127.0.0.1:{self.port}"

    def down(self):
        self.server.shutdown()
        self.server.server_close()
        self.app.extensions["iterum"]["links"].close()
        self.app.extensions["iterum"]["store"].close()

    def charging(self, tag, channel):
        """Begin a batch of one pack by itself and start it."""
        parts = self.app.extensions["iterum"]
        runs = RunDesk(parts["store"], parts["desk"], parts["links"])
        key = runs.begin(Choice((tag,), None, channel), self.clock())
        started(runs, key, self.clock())
        return key

    @contextmanager
    def lost(self):
        self.down()
        yield
        self.up()


@pytest.fixture
def link(tmp_path):
    store = Store(tmp_path / "bench.sqlite3")
    desk = Desk(store)
    for number in range(14):
        desk.save_pack(pack(f"P-{number + 1:02}", cells=4), None, NOON)
    store.close()
    to_bench = Link(tmp_path / "bench.sqlite3")
    to_bench.address = to_bench.up()
    yield to_bench
    to_bench.down()


@pytest.fixture
def demo_link(tmp_path, demo_file):
    shutil.copy(demo_file, tmp_path / "demo.sqlite3")
    to_bench = Link(tmp_path / "demo.sqlite3")
    to_bench.address = to_bench.up()
    yield to_bench
    to_bench.down()


@pytest.fixture
def page(browser):
    context = browser.new_context(viewport=PHONE, has_touch=True, is_mobile=True)
    opened = context.new_page()
    opened.set_default_timeout(10_000)
    yield opened
    context.close()


def type_in(page, *cells):
    for digit in "".join(cells):
        pad(page).get_by_role("button", name=digit, exact=True).click()


def until(page, holds):
    for _ in range(200):
        if page.evaluate(holds):
            return
        page.wait_for_timeout(100)
    raise AssertionError(holds)


def ready(page, address):
    """The page with its worker, and the class's pages kept."""
    page.goto(f"{address}/measure?pack=P-01")
    until(page, "() => navigator.serviceWorker.controller !== null")
    page.reload()
    until(
        page,
        """async () => {
        const all = await (await caches.open((await caches.keys())[0])).keys();
        return all.filter((one) => one.url.includes('pack=P-')).length >= 14;
    }""",
    )


def readings(link):
    return {item.id: item.reading.cell_v for item in Desk(Store(link.path)).session().packs if item.reading}


def test_half_a_class_is_measured_without_the_link(link, page):
    ready(page, link.address)
    volts = {f"P-{number + 1:02}": f"3{80 + number}" for number in range(14)}

    def measure(tags):
        for tag in tags:
            expect(read_now(page, tag)).to_be_visible()
            type_in(page, *[volts[tag]] * 4)
            pad(page).get_by_role("button", name=NEXT).click()

    tags = list(volts)
    measure(tags[:4])
    expect(read_now(page, tags[4])).to_be_visible()
    with link.lost():
        measure(tags[4:11])
        expect(page.get_by_text("Kept here: 7 waiting", exact=True)).to_be_visible()
        assert set(readings(link)) == set(tags[:4])
        link.minutes = 3
    expect(page.get_by_text("Kept here")).to_have_count(0, timeout=20_000)
    page.goto(f"{link.address}/measure?pack={tags[11]}")
    measure(tags[11:])
    page.wait_for_load_state()
    expect(page.get_by_text("Every pack of this class is measured.")).to_be_visible()
    assert readings(link) == {tag: (float(text) / 100,) * 4 for tag, text in volts.items()}
    desk = Desk(Store(link.path))
    assert all(len(desk.readings(tag)) == 1 for tag in tags)  # once


def test_digits_come_back_after_a_reload_without_the_link(link, page):
    ready(page, link.address)
    type_in(page, "381", "38")
    with link.lost():
        page.reload()
        values = [page.get_by_label(f"Cell {number}, volts").input_value() for number in (1, 2)]
        assert values == ["3.81", "3.8"]


def test_what_was_kept_is_told_where_it_raises_a_question(link, page):
    ready(page, link.address)
    with link.lost():
        type_in(page, "381", "381", "381", "355")
        pad(page).get_by_role("button", name=NEXT).click()
        expect(page.get_by_text("Kept here: 1 waiting")).to_be_visible()
    page.get_by_text("with a question").wait_for(timeout=20_000)
    page.get_by_text("with a question").click()
    expect(page.get_by_role("listitem").filter(has_text="must be checked again")).to_be_visible()
    assert readings(link) == {}
    page.get_by_role("button", name="Delete it").click()
    expect(page.get_by_text("Kept here")).to_have_count(0)


def test_another_page_without_the_link_says_so_and_what_to_do(link, page):
    ready(page, link.address)
    with link.lost():
        page.goto(f"{link.address}/kit")
        expect(page.get_by_role("heading", name="No link to Iterum")).to_be_visible()
        expect(page.get_by_text("Smoke, hiss, sparks or fire")).to_be_visible()


def test_a_hand_check_and_what_went_wrong_are_kept_without_the_link_and_no_charger_is_told_later(demo_link, page):
    link = demo_link
    key = link.charging("P-12", "Small-1")
    page.goto(f"{link.address}/run/{key}")
    until(page, "() => navigator.serviceWorker.controller !== null")
    page.reload()
    until(
        page,
        """async () => {
        const all = await (await caches.open((await caches.keys())[0])).keys();
        return all.filter((one) => one.url.includes('see=')).length >= 4;
    }""",
    )
    with link.lost():
        link.minutes = 10
        page.reload()  # the page is the one that was kept
        page.get_by_label("Volts").fill("15.6")
        page.get_by_label("Amps").fill("1.4")
        page.get_by_role("button", name="Record the check").click()
        expect(page.get_by_text("Kept here: 1 waiting", exact=True)).to_be_visible()
        page.once("dialog", lambda asked: asked.accept())
        page.get_by_role("button", name=re.compile("^Stop ")).click()
        expect(page.get_by_role("alert").filter(has_text="Not sent").first).to_be_visible()
        page.get_by_role("link", name="Something’s wrong").click()
        page.get_by_role("link", name="A pack swells, smells or is hot").click()
        page.locator(".wrong-acts").wait_for()
        page.get_by_role("checkbox", name="P-12", exact=True).check()
        page.locator("#primary").click()
        expect(page.get_by_role("alert").filter(has_text="charger was not told")).to_be_visible()
        expect(page.get_by_text("Kept here: 2 waiting", exact=True)).to_be_visible()
    expect(page.get_by_text("Kept here")).to_have_count(0, timeout=20_000)
    store = Store(link.path)
    with store.reading() as repository:
        assert repository.runs.get(key).state is State.CHARGING  # nobody told the charger, so it is not called stopped
        observed = repository.runs.observations(key)
        incident = repository.runs.incidents()[0]
    seen = [item.seen for item in observed]
    assert [(item.pack_v, item.current_a, item.at_min) for item in seen if item.by_hand] == [
        (15.6, 1.4, pytest.approx(10, abs=0.5))
    ]
    assert (incident.packs, incident.stopped) == (("P-12",), ())
    assert {item.id: item.condition for item in Desk(store).session().packs}["P-12"] is Condition.DAMAGED


def test_enter_never_hands_the_digits_to_the_checker(address, open_page):
    page = open_page()
    page.goto(f"{address}/measure?pack=P-10")
    first = page.eval_on_selector(
        "#cells", "form => [...form.elements].find((item) => item.type === 'submit').className"
    )
    assert first == "enter-first"


def test_a_scanner_that_types_opens_the_pack_and_leaves_the_cells_alone(address, open_page):
    page = open_page()
    page.goto(f"{address}/measure?pack=P-13")
    page.keyboard.type("381")
    page.keyboard.press("h")  # no scanner: what follows is a digit and stays one
    page.keyboard.type("38")
    page.keyboard.type("https://iterum.local:8766/p/P-07\n", delay=5)
    expect(read_now(page, "P-07")).to_be_visible()
    page.goto(f"{address}/measure?pack=P-13")
    assert page.get_by_label("Cell 1, volts").input_value() == "3.81"  # kept as a draft
    assert page.get_by_label("Cell 2, volts").input_value() == "3.8"
