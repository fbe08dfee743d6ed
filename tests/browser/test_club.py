"""A day of four pilots at one table, lived in four browsers at once, each pressing only what Now says to that pilot."""

import re
import threading
from contextlib import contextmanager

import pytest
from playwright.sync_api import TimeoutError, expect
from werkzeug.serving import make_server

from iterum.core.season.run import LIVE
from iterum.demo import demo_session
from iterum.services.desk import Desk
from iterum.services.sharing import Role, Shared
from iterum.store.database import Store
from iterum.web.doors import SHARED
from tests.browser.bench import NEXT, PHONE, _Silent, pad, patient, ready, running
from tests.browser.test_day import Clock
from tests.conftest import SOAK
from tests.devices.bench import met, served

PILOTS = ("Ada", "Ben", "Cleo", "Dov")
STEPS = ("All of these are OK", "OK, and plugged in", "All plugged in", "They have equalised", "^Compare ",
         "^Start ", "Log it without|Go on without")  # fmt: skip


@contextmanager
def second_door(app):
    """The same application by its second door, where only paired devices come in; its address."""

    def through(environ, start):
        return app({**environ, SHARED: True}, start)

    server = make_server("127.0.0.1", 0, through, threaded=True, request_handler=_Silent)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    sharing = app.extensions["iterum"]["sharing"]
    sharing.shared = Shared(None, True, server.port, ("127.0.0.1",))
    try:
        yield f"http://127.0.0.1:{server.port}", sharing
    finally:
        server.shutdown()
        server.server_close()


class Device:
    """A pilot's phone."""

    def __init__(self, browser, door, pilot, at):
        address, sharing = door
        self.pilot, self.address = pilot, address
        self.page = patient(browser.new_context(viewport=PHONE, has_touch=True).new_page())
        self.page.on("dialog", lambda dialog: dialog.accept())
        offer = sharing.offer(Role.PILOT, at, pilot)
        self.page.goto(f"{address}/share/pair?code={offer.secret}")
        self.page.get_by_label("What this device is called").fill(f"{pilot}’s phone")
        self.page.get_by_role("button", name="Pair it").click()
        expect(self.page.get_by_role("heading", name="Bench", exact=True)).to_be_attached()

    def does_what_is_due(self):
        """Press what Now says, where it is due and this pilot's; whether there was anything."""
        page = self.page
        page.goto(f"{self.address}/bench")
        when, button = page.locator("#now-card .next-when"), page.locator("#now-card #primary")
        if not when.count() or "in " in when.inner_text() or not button.count():
            return False
        words = button.inner_text()
        if "who flies" in words.lower():
            return False
        if words.startswith("Measure"):
            return self.measures()
        if words.startswith("Say who flew"):
            button = page.get_by_role("button", name=re.compile("not flown$")).first
        page.wait_for_timeout(800)  # what starts or signs is not taken in the first moment of a page
        button.click()
        ready(page)
        if words.startswith("Look at"):  # its heat begins, or it is balanced
            stop = page.locator(".row-opened .btn-stop")
            if not stop.count():
                return False
            page.wait_for_timeout(800)
            stop.first.click()
            ready(page)
        self.goes_on()
        return True

    def goes_on(self):
        """Step by step, as far as hands go."""
        page = self.page
        for _ in range(8):
            if "open=" not in page.url and "/run/" not in page.url:
                return
            step = next((found for found in map(self._button, STEPS) if found.count()), None)
            if step is None:
                return
            if "OK, and" in step.first.inner_text():
                page.get_by_role("checkbox", name="all five, yes").check()
            page.wait_for_timeout(800)
            try:
                step.first.click(timeout=3000)
            except TimeoutError:  # the row was made again meanwhile
                return
            page.wait_for_timeout(150)
            ready(page)

    def _button(self, words):
        return self.page.locator("main .row-step, main .steps").get_by_role("button", name=re.compile(words))

    def measures(self):
        """Type rest volts of a pack that has flown, cell by cell."""
        page = self.page
        page.locator("#now-card #primary").click()
        ready(page)
        cells = 6 if self.pilot == "Cleo" else 4
        for digit in "374" * cells:
            pad(page).get_by_role("button", name=digit, exact=True).tap()
        for _ in range(2):  # once more where the volts are asked about
            button = pad(page).get_by_role("button", name=NEXT)
            if button.count():
                button.tap()
                page.wait_for_timeout(250)
                ready(page)
            if not pad(page).get_by_role("button", name="Confirm").count():
                break
        return True


class Club:
    """The table: its application, its chargers, four phones and the steward's screen."""

    def __init__(self, address, app, clock, devices, steward):
        self.address, self.clock, self.begun = address, clock, clock()
        self.parts, self.devices, self.steward = app.extensions["iterum"], devices, steward

    def pass_time(self, minutes):
        """Put the clock forward bit by bit, looking at every charge as the server does."""
        for _ in range(round(minutes * 4)):
            self.clock.ahead_s += 15
            self.parts["watcher"].watch(self.clock())

    @property
    def minute(self):
        return (self.clock() - self.begun).total_seconds() / 60

    def due(self):
        """The pilots who have something to do now."""
        now = self.clock()
        owners = {pack.id: pack.pilot for pack in self.parts["desk"].session().packs}
        due = [item for item in self.parts["runs"].agenda(now) if item.at <= now]
        tags = [tag for item in due for part in (item.run, item.batch, item) if part is not None for tag in part.packs]
        return {owners[tag] for tag in tags} | {heat.wish.pilot for heat in self.parts["day"].untold(now)}

    def until(self, minute):
        """Everybody does what is due, and the clock goes on, until a minute of the day."""
        while self.minute < minute:
            job = self.parts["plan_desk"].job
            if job is not None and job.running:
                job.wait(10)
            due = self.due()
            if any([device.does_what_is_due() for device in self.devices if device.pilot in due]):
                continue
            self.pass_time(1.5)

    def by_the_steward(self, summary, button):
        page = self.steward
        page.goto(f"{self.address}/bench")
        page.get_by_text(summary, exact=True).first.click()
        page.wait_for_timeout(800)
        page.get_by_role("button", name=button, exact=True).first.click()
        ready(page)


@pytest.fixture
def club(tmp_path, browser):
    clock, session, made = Clock(), demo_session("club"), []
    path = tmp_path / "club.sqlite3"
    store = Store(path)
    Desk(store).write(session, clock())
    store.close()
    with served(clock, session) as bench, running(path, clock, made=made.append) as address:
        parts = made[0].extensions["iterum"]
        met(parts["links"], parts["desk"], bench.port, clock())
        with second_door(made[0]) as door:
            devices = [Device(browser, door, pilot, clock()) for pilot in PILOTS]
            steward = patient(browser.new_context().new_page())
            steward.on("dialog", lambda dialog: dialog.accept())
            yield Club(address, made[0], clock, devices, steward)
            for page in (*(device.page for device in devices), steward):
                page.context.close()


WHOLE = SOAK > 1
"""Twelve heats take ten minutes of everybody's hands: `make soak` lives all of them, `make test` the first hour."""
LATE, FAILED, HOME, END = (58, 100, 150, 225) if WHOLE else (12, 20, 28, 40)


@pytest.mark.slow
def test_a_day_of_four_pilots_with_twelve_heats(club):
    club.steward.goto(f"{club.address}/bench")  # the first plan is made on arrival
    club.until(LATE)
    club.by_the_steward("Delay a heat", "10 min")  # one is late, and all after it
    club.until(FAILED)
    runs = [run for run in club.parts["runs"].open() if run.channel.startswith("Solo")]
    club.by_the_steward("A charger failed", "Ben’s Solo")
    assert all(club.parts["runs"].look(run.key, club.clock()).run.state not in LIVE for run in runs)
    club.until(HOME)
    club.steward.goto(f"{club.address}/table")
    club.steward.get_by_role("article", name="Dov").get_by_role("button", name="Goes home").click()
    ready(club.steward)
    gone_at = club.clock()
    club.until(END)
    owners = {pack.id: pack.pilot for pack in club.parts["desk"].session().packs}
    begun = club.parts["runs"].latest()
    assert {owners[tag] for run in begun for tag in run.packs} >= {"Ada", "Ben", "Cleo"}
    for run in begun:
        pilots = {owners[tag] for tag in run.packs}
        assert len(pilots) == 1 or pilots <= {"Ada", "Ben"}  # they said so, nobody else did
        assert not (run.channel.startswith("Solo") and pilots != {"Ben"})
        assert run.begun_at < gone_at or "Dov" not in pilots
    if WHOLE:
        flown = {one.pilot: len(one.flown) for one in club.parts["table"].accounts(club.clock())}
        assert min(flown[pilot] for pilot in ("Ada", "Ben", "Cleo")) >= 2, flown
        assert sum(flown.values()) >= 7, flown
