"""What the page tests share: a visitor, and the demo with a simulated charger beside it."""

import re
import time
from functools import cached_property

import pytest
from bs4 import BeautifulSoup

from iterum.core.season.run import State
from tests.conftest import NOON
from tests.devices.bench import Clock, met, served


class Seen:
    """A page as somebody hears it read out: what it says, its fields by label, its buttons, links and forms."""

    def __init__(self, html):
        self.page = BeautifulSoup(html, "lxml")

    @property
    def said(self):
        """All words in one line."""
        return spoken(self.page)

    def field(self, label):
        """The field that this label names."""
        marked = next(item for item in self.page("label") if spoken(item).startswith(label))
        return self.page.find(id=marked["for"])

    def refused(self):
        """Labels of the fields that are said to be wrong, each with a sentence that it points to."""
        wrong = self.page(attrs={"aria-invalid": "true"})
        return {field["name"]: spoken(self.page.find(id=field["aria-describedby"].split()[0])) for field in wrong}

    def link(self, words):
        """Where a link leads that says this."""
        return next(item["href"] for item in self.page("a") if re.search(words, spoken(item)))

    def form(self, words):
        """What a form sends whose button says this: its address, and values by name."""
        button = next(item for item in self.page("button") if re.search(words, item.get("aria-label") or spoken(item)))
        form = button.find_parent("form")
        values = {button["name"]: [button["value"]]} if button.has_attr("name") else {}
        for field in form("input", attrs={"name": True}):
            if field.get("type") not in ("checkbox", "radio") or field.has_attr("checked"):
                values.setdefault(field["name"], []).append(field.get("value", ""))
        return form["action"], values

    def heads(self, scope="row"):
        """Words of the heads of rows, or of columns."""
        return [spoken(item) for item in self.page("th", attrs={"scope": scope})]


def spoken(item):
    return re.sub(r"\s+", " ", item.get_text(" ")).strip()


class Answer:
    """What came back; its text with any white space as one blank; `seen` as somebody hears it."""

    def __init__(self, answer):
        self._answer, self.text = answer, re.sub(r"\s+", " ", answer.text)

    @cached_property
    def seen(self):
        return Seen(self._answer.text)

    def __getattr__(self, name):
        return getattr(self._answer, name)


TOKEN = 'name="csrf-token"'


class Visitor:
    """A browser's part of the talk: it keeps cookies and sends the token of the page."""

    def __init__(self, app):
        self.client, self._page = app.test_client(), ""

    @property
    def token(self):
        """That of the page that was seen last, or of one that is small."""
        if TOKEN not in self._page:
            self._page = self.client.get("/kit").text
        return re.search(rf'{TOKEN} content="([^"]+)"', self._page)[1]

    def get(self, path, **more):
        answer = Answer(self.client.get(path, **more))
        self._page = answer.text if TOKEN in answer.text else self._page
        return answer

    def post(self, path, **data):
        return Answer(self.client.post(path, data={"csrf_token": self.token, **data}, follow_redirects=True))


def planned(visitor, **more):
    """Plan and wait for it; the page."""
    visitor.post("/plan", **{"prefer": "soonest", "seconds": "0.5", **more})
    for _ in range(100):
        answer = visitor.get("/plan/progress")
        if answer.headers.get("HX-Redirect"):
            return visitor.get("/plan").text
        time.sleep(0.1)
    raise AssertionError("the search did not end")


def searched(parts, seconds=60):
    """Wait for the search that was begun; a page that has shown its end has let go of it already."""
    job = parts["plan_desk"].job
    if job is not None:
        job.wait(seconds)


PACKS, UNEVEN = ("P-08", "P-11", "P-06"), ("P-04", "P-08")


class Bench:
    """The demo with a simulated charger, its clock, and a visitor."""

    def __init__(self, app, server, clock):
        self.parts, self.server, self.clock = app.extensions["iterum"], server, clock
        self.parts["clock"] = clock
        self.watcher, self.checks = self.parts["watcher"], self.parts["checks"]
        self.runs, self.desk, self.links = self.parts["runs"], self.parts["desk"], self.parts["links"]
        self.links.guard.wait_s = 10  # a loaded machine is slow at times
        met(self.links, self.desk, server.port, clock())
        self.visitor = Visitor(app)

    def pass_time(self, minutes):
        for _ in range(round(minutes * 4)):
            self.clock.seconds += 15
            self.watcher.watch(self.clock())

    def begin(self, packs=PACKS, board="Six", channel="Twin-1"):
        answer = self.visitor.post("/run", packs=list(packs), board=board, channel=channel)
        return int(answer.seen.form("Looked at|All looked at|Nothing").__getitem__(0).split("/")[2])

    def begin_uneven(self):
        """Two packs that a strict rule on joining lets even out before they are charged."""
        self.visitor.post("/rules", rule="joining", school="join-2")
        return self.begin(UNEVEN, "Four", "Twin-1")

    def act(self, key, act, **more):
        return self.visitor.post(f"/run/{key}/act", act=act, expected=self.state(key).value, **more).text

    def state(self, key):
        return self.runs.look(key, self.clock()).run.state

    def charging(self, key=None, **more):
        key = self.begin(**more) if key is None else key
        self.act(key, "inspect", looked=list(self.runs.look(key, NOON).run.packs))
        self.act(key, "plug in")
        if self.runs.look(key, NOON).run.card.wait_min:
            self.act(key, "even out", skip="yes", note="they were level")
        shown = self.runs.shown_by_charger(self.runs.look(key, NOON).run)
        self.visitor.post(
            f"/run/{key}/read-back",
            expected=self.state(key).value,
            cells=str(shown.cells),
            pack_v=str(shown.pack_v),
            current_a=str(shown.current_a),
        )
        self.act(key, "start")
        assert self.state(key) is State.CHARGING
        return key


@pytest.fixture
def bench(demo_app):
    clock = Clock()
    with served(clock) as server:
        at_bench = Bench(demo_app, server, clock)
        yield at_bench
        at_bench.links.close()


@pytest.fixture
def visitor(demo_app):
    return Visitor(demo_app)


@pytest.fixture
def newcomer(empty_app):
    return Visitor(empty_app)
