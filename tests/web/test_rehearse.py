"""A rehearsal: the same application on a copy, that reaches nothing real; and the day's plan, played."""

import re
import shutil
import sqlite3
import time
import urllib.error
import urllib.parse
import urllib.request
from contextlib import closing, suppress
from datetime import timedelta
from http.cookiejar import CookieJar

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from iterum.core.season.run import State
from iterum.core.things.choice import Choice
from iterum.core.things.rules import first_time
from iterum.services.desk import Desk
from iterum.services.rehearsing import RehearsalClock, Rehearsals, copied
from iterum.services.running import RunDesk
from iterum.store.database import Store
from iterum.web import create_app
from tests.conftest import NOON, SOAK
from tests.devices.bench import links_of
from tests.web.conftest import Seen, Visitor, planned


def dumped(path):
    """Everything that is kept, as text."""
    with closing(sqlite3.connect(path)) as database:
        return "\n".join(database.iterdump())


class Pilot:
    """A browser on the rehearsal: cookies, tokens, and what comes back."""

    def __init__(self, url):
        self.url = url.rstrip("/")
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))

    def ask(self, path, **fields):
        data = (
            urllib.parse.urlencode([*fields.items(), ("csrf_token", self.token())], doseq=True).encode()
            if fields
            else None
        )
        try:
            with self.opener.open(self.url + path, data, timeout=30) as answer:
                return answer.status, answer.read().decode()
        except urllib.error.HTTPError as error:
            return error.code, error.read().decode()

    def token(self):
        return re.search(r'name="csrf-token" content="([^"]+)"', self.ask("/kit")[1])[1]


@pytest.fixture(scope="module")
def planned_file(tmp_path_factory, demo_file):
    path = shutil.copy(demo_file, tmp_path_factory.mktemp("planned") / "real.sqlite3")
    app = create_app(path, lambda: NOON)
    planned(Visitor(app))
    app.extensions["iterum"]["store"].close()
    return path


@pytest.fixture
def real(tmp_path, planned_file):
    """The demo with a plan."""
    return shutil.copy(planned_file, tmp_path / "real.sqlite3")


@pytest.fixture
def rehearsal(real):
    rehearsals = Rehearsals(real)
    rehearsals.begin("http://127.0.0.1:9", 60, NOON)
    yield rehearsals
    rehearsals.end()


def test_every_page_is_marked_and_its_wrong_button_leads_to_the_real_bench(rehearsal):
    pilot = Pilot(rehearsal.url)
    for path in ("/measure", "/match", "/bench", "/plan", "/packs", "/kit", "/log", "/nowhere"):
        _, page = pilot.ask(path)
        assert "Nothing is real, nothing is logged" in page, path
        assert re.search(r'href="http://127\.0\.0\.1:9/wrong"\s+id="wrong"', page), path
    assert pilot.ask("/share")[0] == 403
    assert pilot.ask("/rehearse/begin", speed=10)[0] == 403


ACTS = {
    "measure": lambda tag: ("/measure", {"pack": tag, **{f"cell{n}": "3.80" for n in range(1, 5)}}),
    "wrong": lambda tag: ("/wrong", {"see": "swelling", "packs": tag}),
    "run": lambda tag: ("/run", {"packs": tag, "channel": "Twin-1"}),
    "down": lambda tag: ("/run", {"packs": tag, "kind": "bring down"}),
    "step": lambda _: ("/rehearse/step", {"back": "/plan"}),
    "rules": lambda _: ("/rules", {"rule": "rate", "school": "half"}),
    "pack": lambda _: ("/begin/packs", {"label": "2 x 650 3S LiPo"}),
    "heat": lambda _: ("/rehearse/disturb", {"kind": "slip"}),
    "source": lambda _: ("/kit/source/ledger", {"id": "bank", "act": "filled"}),
    "retire": lambda tag: ("/packs/retire", {"id": tag}),
    "undo": lambda _: ("/files/undo/1", {"back": "/"}),
}


@settings(max_examples=2 * SOAK, suppress_health_check=list(HealthCheck))
@given(st.lists(st.tuples(st.sampled_from(sorted(ACTS)), st.integers(0, 31)), min_size=8, max_size=16))
def test_whatever_is_done_in_it_the_real_bench_stays_as_it_was(rehearsal, real, walk):
    before = dumped(real)
    pilot = Pilot(rehearsal.url)
    tags = re.findall(r'id="case-([A-Z]-\d+)"', pilot.ask("/packs")[1])
    for act, number in walk:
        path, fields = ACTS[act](tags[number % len(tags)])
        status, page = pilot.ask(path, **fields)
        assert status < 500, (path, fields, page[:300])
    assert dumped(real) == before


def test_heats_rules_and_kit_of_it_are_taken_into_the_real_bench_each_by_itself_and_nothing_else(rehearsal, real):
    pilot = Pilot(rehearsal.url)
    pilot.ask("/rehearse/disturb", kind="slip")
    pilot.ask("/rules", rule="rate", school="half")
    pilot.ask("/begin/packs", label="2 x 650 3S LiPo")
    pilot.ask("/kit/board/retire", id="Four")
    app = create_app(real, lambda: NOON)
    app.extensions["iterum"]["rehearsals"] = rehearsal
    visitor, desk = Visitor(app), app.extensions["iterum"]["desk"]
    visitor.post("/kit/board/retire", id="Six")  # what is changed here meanwhile is no change of the rehearsal
    before, heats = desk.session(), desk.heats()
    said = visitor.get("/rehearse").seen.said
    assert "Take its heats Take its house rules Take its kit: Four" in said
    visitor.post("/rehearse/take", what="heats")
    assert desk.heats()[0].at == heats[0].at + timedelta(minutes=15)
    assert [heat.wish.name for heat in desk.heats()] == [heat.wish.name for heat in heats]
    assert desk.session().rules == before.rules
    visitor.post("/rehearse/take", what="rules")
    assert desk.session().rules.rate_c == 0.5
    assert desk.session().kit == before.kit
    visitor.post("/rehearse/take", what="kit")
    assert {board.id for board in before.kit.boards} - {board.id for board in desk.session().kit.boards} == {"Four"}
    assert desk.session().packs == before.packs
    said = visitor.get("/rehearse").seen.said
    assert "Take its" not in said, said[said.index("Take its") - 60 :][:160]
    assert "the same here" in visitor.post("/rehearse/take", what="heats").seen.said  # once is enough
    assert visitor.post("/rehearse/take", what="packs").status_code == 400
    app.extensions["iterum"]["store"].close()


def test_a_day_on_the_whole_bench_is_told_heat_by_heat_and_each_turn_has_its_price(real):
    store = Store(real)
    first = Desk(store).latest_plan()
    store.close()
    held = Rehearsals(real)
    pilot = Pilot(held.begin("http://127.0.0.1:9", 60, NOON))
    try:
        said = lambda: Seen(pilot.ask("/rehearse")[1]).said  # noqa: E731
        heats = [item for item in first.plan.wanted if item.wish.is_heat]
        begun, (name, have) = first.plan.batches[0], (heats[0].wish.name, heats[0].have)
        assert said().count("to come") == len(heats)
        pilot.ask("/rehearse/disturb", kind="slip")
        assert "The next heat slips by 15 min. It costs no heat anything." in said()
        pilot.ask("/run", packs=list(begun.packs), channel=begun.channel, board=begun.board)
        pilot.ask("/wrong", see="swelling", packs=begun.packs[0])
        assert f"{begun.packs[0]}: swelling. {name}: {have - 1} of {have} instead of {have} ." in said()
        while "Searching," in pilot.ask("/plan")[1]:  # on a loaded machine the first that it finds may be a worse one
            time.sleep(0.2)
        pilot.ask("/rehearse/step", back="/rehearse")  # time goes on when the plan without it is there
        assert f"The plan was made again. {name}: {have} of {have} instead of {have - 1} ." in said()
        for _ in range(60):  # nobody does anything: what was not full when it began does not fly
            pilot.ask("/rehearse/step", back="/rehearse")
            if "to come" not in said():
                break
        told = said()
        assert told.count("to come") == 0
        went = [int(have) for have in re.findall(r"\d\d:\d\d, \d+ of \d+ \d\d:\d\d, (\d+) of \d+", told)]
        assert "should have begun, and had not." in told
        turns = re.findall(r"([A-Z][a-z]+(?: [a-z]+)* \d+): (\d+) of \d+ instead of (\d+)", told)
        for item, flew in zip(heats, went, strict=True):  # each pack that did not fly was lost at one turn of them
            assert item.have + sum(int(now) - int(was) for heat, now, was in turns if heat == item.wish.name) == flew
        charged = {key.tag for batch in first.plan.batches for key in batch.charges}
        assert all(flew <= len(set(item.packs) - charged) for item, flew in zip(heats, went, strict=True))
    finally:
        held.end()


def test_who_has_left_it_is_not_led_back_in(rehearsal):
    assert rehearsal.running
    with suppress(urllib.error.URLError):  # no real bench is there to go back to
        Pilot(rehearsal.url).ask("/rehearse/leave", to="home")
    assert not rehearsal.running
    again = rehearsal.begin("http://127.0.0.1:9", 60, NOON)
    assert rehearsal.running
    assert "Nothing is real" in Pilot(again).ask("/kit")[1]


def test_it_reaches_no_device_but_the_simulated_one(rehearsal, tmp_path):
    (tmp_path / "charger.log").write_text("0;12.0\n")
    pilot = Pilot(rehearsal.url)
    for address in ("127.0.0.1:9", f"log:{tmp_path / 'charger.log'}?channel=Twin-1", "line://127.0.0.1:9"):
        _, page = pilot.ask("/kit/device", kind="charger", address=address, act="add")
        assert "Not added" in page, address
    _, page = pilot.ask("/kit")
    assert page.count("charger at") == 1


def test_a_copy_has_nothing_in_hand_and_nobody_paired(real):
    store = Store(real)
    runs = RunDesk(store, Desk(store), links_of(store))
    key = runs.begin(Choice(("P-12",), None, "Small-1"), NOON)
    store.close()
    copied(real, real.parent / "copy.sqlite3", NOON)
    copy = Store(real.parent / "copy.sqlite3")
    mine = RunDesk(copy, Desk(copy), links_of(copy))
    assert mine.open() == ()
    assert mine.look(key, NOON).run.state is State.DROPPED
    copy.close()
    assert RunDesk(Store(real), Desk(Store(real)), links_of(Store(real))).open() != ()


def test_time_runs_at_the_speed_that_is_chosen_and_never_back():
    seconds = [0.0]
    clock = RehearsalClock(NOON, 60, lambda: seconds[0])
    seconds[0] = 2.0
    assert clock() == NOON + timedelta(minutes=2)
    clock.run_at(1)
    seconds[0] = 4.0
    assert clock() == NOON + timedelta(minutes=2, seconds=2)
    clock.set_on(timedelta(minutes=5))
    assert clock.monotonic() == 7 * 60 + 2


def test_who_does_it_for_the_first_time_is_held_back_and_let_go_step_by_step(demo_app, visitor):
    desk = demo_app.extensions["iterum"]["desk"]
    visitor.post("/rules/first-time", act="on", back="/rehearse")
    assert first_time(desk.session().rules) == ("half the window", "identical packs only", "two packs at most")
    groups = desk.matching(NOON)[0].groups
    assert max(len(group.packs) for group in groups) == 2
    assert all(len({pack.capacity_mah for pack in group.packs}) == 1 for group in groups)
    for path in ("/measure", "/plan", "/kit"):
        assert "Beginner mode two packs at most" in visitor.get(path).seen.said
    left = [len(first_time(desk.session().rules))]
    while left[-1]:
        visitor.post("/rules/first-time", act="lift", back="/rules")
        left.append(len(first_time(desk.session().rules)))
    assert left == [3, 2, 1, 0]
    assert "Beginner mode two" not in visitor.get("/kit").seen.said
    assert desk.session().rules.max_packs is None


def test_todays_plan_is_played_and_every_decision_is_asked_and_accounted_for(visitor):
    assert "no plan to rehearse" in visitor.client.get("/rehearse/day", follow_redirects=True).text
    planned(visitor)
    assert "Nothing happened: the day is the plan" in visitor.get("/rehearse/day?nothing=yes").text
    acts, page = "", visitor.get("/rehearse/day?seed=7").text
    again = visitor.get("/rehearse/day?seed=7").text  # the same day again; a form's token changes with the second
    assert re.sub(r'(value|content)="[^"]{60,}"', "", page) == re.sub(r'(value|content)="[^"]{60,}"', "", again)
    assert "data-batch" not in page  # nothing on it moves the real plan
    while "Go on as planned" in page:
        acts += "g"
        page = visitor.get(f"/rehearse/day?seed=7&acts={acts}").text
    assert "What it came to" in page
    assert page.count("You went on.") == len(acts) >= 1
    assert len(re.findall("It cost ", page)) == len(acts)
    only = visitor.get("/rehearse/day?seed=7&kind=slip").text
    assert " min later." in only
    assert visitor.get("/rehearse/day?seed=-1").status_code == 400
    before = visitor.get("/log?kind=acts").text
    assert "Rehears" not in re.search(r"(?s)<main.*</main>", before)[0]
