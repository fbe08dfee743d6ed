"""A whole day at the bench in the browser, against the simulated charger in time-lapse; and two browsers at once."""

import re
import shutil
import time
from datetime import timedelta

import pytest
from playwright.sync_api import expect

from iterum.core.say import say, speaking
from iterum.core.season.run import State
from iterum.core.things.choice import Choice
from iterum.services.desk import Desk
from iterum.services.running import RunDesk
from iterum.services.watching import Watcher
from iterum.store.database import Store
from iterum.wording.languages import language
from tests.browser.bench import PHONE, compared_and_started, named, read_now, running, state_of, taken_in_hand, turning
from tests.conftest import NOON
from tests.devices.bench import links_of, met, served


class Clock:
    """The machine's own time for bench and server alike, put forward by the test instead of waiting."""

    def __init__(self):
        self.begun, self.ahead_s = time.monotonic(), 0.0

    def monotonic(self):
        return time.monotonic() - self.begun + self.ahead_s

    def __call__(self):
        return NOON + timedelta(seconds=self.monotonic())


class Place:
    """A bench, a server that watches it, and a look into what both hold."""

    def __init__(self, address, bench, store, clock):
        self.address, self.bench, self.store, self.clock = address, bench, store, clock
        self.links = links_of(store, clock)
        desk = Desk(store)
        self.runs = RunDesk(store, desk, self.links)
        self.watcher = Watcher(store, desk, self.runs)

    def pass_time(self, minutes, until=lambda: False):
        """Put the clock forward bit by bit, looking at every charge as the server does, until something is so."""
        for _ in range(round(minutes * 4)):
            if until():
                return
            self.clock.ahead_s += 15
            self.watcher.watch(self.clock())

    def run(self, key):
        return self.runs.look(key, self.clock()).run


@pytest.fixture
def place(tmp_path, demo_file):
    clock = Clock()
    path = tmp_path / "demo.sqlite3"
    shutil.copy(demo_file, path)
    with served(clock) as bench:
        store = Store(path)
        here = Place("", bench, store, clock)
        met(here.links, Desk(store), bench.port, clock())
        with running(path, clock, watch=True) as here.address:
            yield here
        here.links.close()
        store.close()


def take_in_hand(page, place):
    """Take the next planned batch in hand and bring it to charging, step by step, as a careful pilot does."""
    page.goto(f"{place.address}/bench")
    key = taken_in_hand(page)
    expect(state_of(page)).to_have_text(say("plugged in"))
    if place.run(key).card.wait_min:
        place.pass_time(20)
        page.goto(page.url)
        with turning(page):
            page.get_by_role("button", name=named("They have equalised")).click()
    compared_and_started(page)
    expect(state_of(page)).to_have_text(say("charging"))
    return key


def measured_and_planned(page, place):
    """Measure with the checker, look at the match, plan."""
    page.goto(f"{place.address}/measure?pack=P-02")
    with turning(page):
        page.get_by_role("button", name=named("Read it with the checker")).click()
    volts = [f"{value:.2f}" for value in place.bench.bench.check("P-02")]
    assert [box.input_value() for box in page.locator("[data-digits]").all()] == volts
    page.get_by_role("button", name=named("Next, {pack}")).click()
    expect(read_now(page, "P-02")).to_be_hidden()
    page.goto(f"{place.address}/match?class=lipo-4S")
    expect(page.get_by_role("img").first).to_be_visible()
    page.goto(f"{place.address}/plan")
    page.get_by_label(named("Try for")).select_option("2.0")
    page.get_by_role("button", name=named("Plan it", "Plan from now")).click()
    expect(page.get_by_role("heading", name=say("At the bench"))).to_be_visible(timeout=20_000)


def one_cell_lags(page, place, key):
    """It is found, said and stopped."""
    with place.bench.lock:
        place.bench.bench.fault("lag", place.run(key).channel, "2")
    place.pass_time(20, lambda: place.run(key).state is State.STOPPED)
    page.goto(f"{place.address}/run/{key}")
    expect(state_of(page)).to_have_text(say("stopped"))
    expect(page.get_by_label(say("What was done"))).to_contain_text(named("Cell {cell} is {spread_v:.2f|limit_v} V below the others, allowed {limit_v:.2f|spread_v}."))


def one_incident(page, place, key):
    """Stopped, kept apart, written down, and planned again without it."""
    hurt = place.run(key).packs[0]
    page.get_by_role("link", name=say("Something’s wrong")).click()
    page.get_by_role("link", name=say("A pack swells, smells or is hot")).click()
    page.get_by_label(hurt, exact=True).check()
    page.get_by_label(named("What happened")).fill("soft on one side")
    page.get_by_role("button", name=named("Stop, quarantine, save")).click()
    expect(page.get_by_text(named("Saved {now}. Quarantined packs are marked on Packs; the log holds the incident. <a>See it</a>"))).to_be_visible()
    page.goto(f"{place.address}/plan")  # it comes again by itself when the search has ended
    expect(page.get_by_role("heading", name=say("What changed"))).to_be_visible(timeout=30_000)
    expect(page.get_by_label(say("Left out"))).to_contain_text(hurt)
    assert hurt not in " ".join(page.locator(".todos").all_text_contents())


def off_and_logged(page, place, key):
    """Read every pack after its charge and write the log."""
    page.goto(f"{place.address}/run/{key}")
    first = place.run(key).packs[0]
    page.get_by_label(say("Cells of {tag} after, V", tag=first)).press("r")  # a key, although the field has the focus
    expect(page.get_by_label(say("Cells of {tag} after, V", tag=first))).not_to_have_value("")
    for tag in place.run(key).packs:
        cells = place.bench.bench.check(tag)
        page.get_by_label(say("Cells of {tag} after, V", tag=tag)).fill(" ".join(f"{value:.2f}" for value in cells))
    page.get_by_role("button", name=named("Save in the log")).click()
    expect(state_of(page)).to_have_text(say("checked after"))


@pytest.fixture(params=["en", "de"])
def spoken(request):
    """The day is the same in another language."""
    with speaking(language(request.param)):
        yield request.param


def test_a_whole_day(open_page, place, spoken):
    page = open_page(language=spoken)
    page.set_default_timeout(15_000)
    measured_and_planned(page, place)
    keys = [take_in_hand(page, place) for _ in range(3)]
    assert len({place.run(key).channel for key in keys}) == 3  # three batches at once
    live = [key for key in keys if place.run(key).state is State.CHARGING]
    one_cell_lags(page, place, live[-1])
    one_incident(page, place, live[0])
    place.pass_time(300, lambda: all(place.run(key).state in (State.DONE, State.STOPPED) for key in keys))
    for key in keys:
        off_and_logged(page, place, key)

    with place.store.reading() as repository:  # the log agrees with what the simulator says it did
        logged = {key: sum(item.record.charge_mah for item in repository.runs.charges(run_key=key)) for key in keys}
    for key in keys:
        channel = place.run(key).channel
        ends = [line.split() for line in place.bench.bench.log if line.startswith(("done", "stop"))]
        told_mah = [float(words[-1]) for words in ends if words[1] == channel]
        assert logged[key] == pytest.approx(told_mah[-1], rel=0.01, abs=30)
    page.goto(f"{place.address}/log?since={NOON.date()}")
    expect(page.locator(".log-table tbody tr")).to_have_count(sum(len(place.run(key).packs) for key in keys))
    page.goto(f"{place.address}/log?kind=incidents")
    expect(page.get_by_text("soft on one side")).to_be_visible()
    page.goto(f"{place.address}/log/report")
    expect(page.locator(".report-card svg")).to_have_count(3)
    page.goto(f"{place.address}/put-away")
    expect(page.get_by_role("region", name=say("To the storage line"))).to_be_visible()


def test_two_browsers_on_one_batch_and_neither_loses_what_the_other_entered(open_page, place):
    one, two = open_page(), open_page()
    key = place.runs.begin(Choice(("P-04", "P-14"), "Four", "Twin-1"), NOON)
    for page in (one, two):
        page.goto(f"{place.address}/run/{key}")
    for box in one.locator("[name=looked]").all():
        box.check()
    one.get_by_role("button", name="All looked at").click()
    expect(state_of(one)).to_have_text("inspected")
    two.get_by_text("Skip the look").click()
    two.get_by_label("Why").fill("P-04 has a scratch")
    two.get_by_role("button", name="Skip it; the log shows that").click()
    expect(two.get_by_text("Meanwhile the batch is inspected. What you entered is kept")).to_be_visible()
    expect(two.get_by_label("What was done")).to_contain_text("P-04 has a scratch")
    events = place.runs.look(key, place.clock()).events
    assert [event.act for event in events] == ["inspect", "note to inspect"]
    assert not events[0].skipped

    one.get_by_role("button", name="All plugged in").click()
    one.get_by_role("button", name="Compare with the card").click()
    one.get_by_role("button", name=re.compile("^Start ")).click()
    expect(state_of(one)).to_have_text("charging")
    two.goto(f"{place.address}/run/{key}")
    one.get_by_label("Warmest pack").fill("24")
    two.get_by_label("Warmest pack").fill("25")
    one.get_by_role("button", name="Record the check").click()
    two.get_by_role("button", name="Record the check").click()
    expect(two.get_by_text("The check is saved.")).to_be_visible()
    checks = [item.seen.temperature_c for item in place.runs.look(key, place.clock()).seen if item.seen.by_hand]
    assert sorted(checks) == [24.0, 25.0]


def test_what_to_do_is_there_although_the_server_is_gone(open_page, tmp_path, demo_file):
    shutil.copy(demo_file, tmp_path / "demo.sqlite3")
    page = open_page(workers="block")  # a browser that has fetched nothing ahead
    with running(tmp_path / "demo.sqlite3", lambda: NOON) as address:
        page.goto(f"{address}/measure")
    page.problems = []
    page.keyboard.press("!")
    dialog = page.get_by_role("dialog", name="What do you see?")
    expect(dialog).to_be_visible()
    dialog.get_by_text("A pack swells, smells or is hot").click()
    expect(dialog.get_by_text("Step back and watch for smoke")).to_be_visible()
    page.problems = []


def test_an_act_of_a_charger_is_never_kept_and_says_that_it_was_not_sent(place, open_page):
    page = open_page(PHONE, touch=True, workers="block")  # what a worker asks for, no route stops
    key = place.runs.begin(Choice(("P-08",), None, "Twin-1"), place.clock())
    page.goto(f"{place.address}/run/{key}")
    page.get_by_role("button", name="OK, and plugged in").wait_for()
    page.route("**/act", lambda route: route.abort())
    page.get_by_role("checkbox", name="all five, yes").check()
    page.get_by_role("button", name="OK, and plugged in").tap()
    expect(page.get_by_text("Not sent: there is no link")).to_be_visible()
    assert page.evaluate("localStorage.getItem('iterum-kept')") in (None, "[]")
    page.problems.clear()
