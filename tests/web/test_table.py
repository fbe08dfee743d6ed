"""The table on the pages: who is there, by which rule, what each device may do, and what goes home."""

import re
from dataclasses import replace
from datetime import timedelta

import pytest

from iterum.core.fields import BadInput
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.demo import demo_session
from iterum.exchange.session import dumps, parse
from iterum.services.archiving import Archives
from iterum.services.desk import Desk
from iterum.services.sharing import Role, Shared
from iterum.store.database import Store
from iterum.web import create_app
from tests.browser.bench import started
from tests.conftest import NOON
from tests.web.conftest import Visitor, planned
from tests.web.test_shared import HERE, Device


@pytest.fixture
def club_app(tmp_path):
    """The club table, shared."""
    app = create_app(tmp_path / "club.sqlite3", lambda: NOON)
    parts = app.extensions["iterum"]
    parts["desk"].write(demo_session("club"), NOON)
    parts["sharing"].shared = Shared(None, False, 8766, (HERE,), True, "AB CD")
    yield app
    parts["desk"].close()


@pytest.fixture
def club(club_app):
    return Visitor(club_app)


@pytest.fixture
def runs(club_app):
    return club_app.extensions["iterum"]["runs"]


def device_of(app, pilot, address="10.7.7.9"):
    sharing = app.extensions["iterum"]["sharing"]
    offer = sharing.offer(Role.PILOT if pilot else Role.BENCH, NOON, pilot)
    device = Device(app, address)
    answer = device.pair(offer.secret)
    cookie = re.search(r"(\w+_phone)=([^;]+)", answer.headers["Set-Cookie"])
    device.client.set_cookie(cookie[1], cookie[2], domain=HERE, secure=True)
    return device


def test_the_first_pilot_is_one_word_away_and_without_one_nothing_is_asked(visitor):
    assert "Pilots" in visitor.get("/bench").seen.said
    assert "Whose it is" not in visitor.get("/packs/edit").seen.said
    assert 'href="/table"' not in visitor.get("/plan").text
    visitor.get("/table")
    visitor.post("/table", id="Ada", mark="Ad", shape="circle")
    assert "Whose it is" in visitor.get("/packs/edit").seen.said
    assert 'href="/table"' in visitor.get("/plan").text


def test_what_is_wrong_with_a_pilot_is_told_at_its_field_and_nothing_is_lost(club):
    club.get("/table")
    page = club.post("/table", id="Eve", mark="Be", shape="square")
    assert page.status_code == 422
    assert "is that of Ben" in page.seen.said
    assert 'value="Eve"' in page.text
    assert club.post("/table", id="Ada", mark="Xx", shape="pennant").status_code == 422


def test_a_pilot_who_has_packs_stays_and_a_renamed_one_keeps_them(club, club_app):
    desk = club_app.extensions["iterum"]["desk"]
    club.get("/table")
    assert "Dov still has" in club.post("/table/drop", id="Dov").seen.said
    club.post("/table", known_as="Dov", id="David", mark="Da", shape="hexagon")
    session = desk.session()
    assert {one.id for one in session.pilots} == {"Ada", "Ben", "Cleo", "David"}
    assert {pack.pilot for pack in session.packs if pack.id.startswith("D-")} == {"David"}
    assert {wish.pilot for wish in session.wanted} == {"Ada", "Ben", "Cleo", "David"}


def test_who_is_off_the_table_is_named_by_nobody_any_more(club, club_app):
    desk = club_app.extensions["iterum"]["desk"]
    club.get("/table")
    club.post("/table", id="Eve", mark="Ev", shape="pennant")
    club.post("/table", known_as="Ada", id="Ada", mark="Ad", shape="circle", shares_with=["Ben", "Eve"])
    assert desk.session().pilots[0].shares_with == ("Ben", "Eve")
    club.post("/table/drop", id="Eve")
    assert desk.session().pilots[0].shares_with == ("Ben",)
    assert parse(dumps(replace(desk.session(), starts_at=None))).pilots == desk.session().pilots


def test_who_goes_home_leaves_the_plan_and_comes_back_by_one_key(club, club_app):
    desk = club_app.extensions["iterum"]["desk"]
    club.get("/table")
    club.post("/table/home", id="Cleo", gone="yes")
    assert [pilot.id for pilot in desk.session().here] == ["Ada", "Ben", "Dov"]
    assert "went home" in club.get("/packs").seen.said
    club.post("/table/home", id="Cleo", gone="no")
    assert len(desk.session().here) == 4


def test_another_rule_is_in_force_at_once_and_each_says_what_it_would_do(club, club_app):
    club.get("/table")
    club.post("/table/rule", school="by-need")
    assert club_app.extensions["iterum"]["desk"].session().rules.table == "by_need"
    assert "By need" in club.get("/table").seen.said
    assert "shared" not in club.get("/rules").seen.said.split("House rules")[1].split("capacity")[0]


def begun(runs, packs, board="Three", channel="Duo-1"):
    key = runs.begin(Choice(packs, board if len(packs) > 1 else None, channel), NOON)
    started(runs, key, NOON)
    return key


def test_a_pilots_device_acts_on_that_pilots_packs_and_stop_is_for_everybody(club_app, runs):
    theirs = begun(runs, ("B-01",), channel="Solo-1")
    ada = device_of(club_app, "Ada")
    assert "Bench" in ada.ask("/bench").text
    refused = ada.send(f"/run/{theirs}/act", page="/measure", act=Act.PAUSE.value, expected="charging")
    assert refused.status_code == 403
    assert "not Ada’s" in refused.text
    assert runs.look(theirs, NOON).run.state is State.CHARGING
    ada.send(f"/run/{theirs}/act", page="/measure", act=Act.STOP.value, expected="charging")
    assert runs.look(theirs, NOON).run.state is State.STOPPED


@pytest.mark.parametrize(("path", "mine", "theirs"), [
    ("/measure", {"pack": "A-01", "total": "15.2"}, {"pack": "B-01", "total": "15.2"}),
    ("/measure/wrong", {"pack": "A-01"}, {"pack": "B-01"}),
    ("/run", {"packs": "A-01", "channel": "Duo-1"}, {"packs": "B-01", "channel": "Duo-2"}),
    ("/use/timer", {"pack": "A-01", "timer_s": "240"}, {"pack": "C-01", "timer_s": "240"}),
    ("/match/move", {"pack": "A-01", "to": "back"}, {"pack": "D-01", "to": "back"}),
])  # fmt: skip
def test_every_act_asks_whose_it_is(club_app, path, mine, theirs):
    ada = device_of(club_app, "Ada")
    assert ada.send(path, page="/measure", **theirs).status_code == 403
    assert ada.send(path, page="/measure", **theirs | {"act": Act.STOP.value}).status_code == 403  # it stops nothing there
    assert ada.send(path, page="/measure", **mine).status_code != 403


def test_a_check_round_is_of_own_batches_alone(club_app, runs):
    mine, theirs = begun(runs, ("A-01",), channel="Duo-1"), begun(runs, ("B-01",), channel="Solo-1")
    ada = device_of(club_app, "Ada")
    sent = {f"felt-{mine}": "cool", "felt-x": "cool"}
    assert ada.send("/bench/cool", page="/measure", **sent).status_code == 302
    assert ada.send("/bench/cool", page="/measure", **sent, **{f"felt-{theirs}": "cool"}).status_code == 403


def test_moves_of_everybody_are_not_taken_back_by_one(club_app):
    ada = device_of(club_app, "Ada")
    assert ada.send("/match/move", page="/measure", pack="A-01", to="all-back").status_code == 403


def test_a_device_for_the_bench_and_the_steward_act_on_everybodys(club_app):
    bench = device_of(club_app, None)
    assert bench.send("/measure/wrong", page="/measure", pack="B-01").status_code == 302
    steward = Device(club_app, "10.7.7.8")
    assert steward.ask("/table").status_code == 403  # not paired
    ada = device_of(club_app, "Ada", "10.7.7.7")
    for path in ("/table", "/kit", "/share", "/files"):
        assert ada.ask(path).status_code == 403, path
    assert ada.ask("/wrong").status_code == 200
    assert ada.send("/wrong/stop", page="/measure").status_code == 302


def test_a_batch_of_two_pilots_is_seen_to_by_whoever_has_most_in_it_or_was_chosen(club_app, runs):
    key = runs.begin(Choice(("A-01", "A-02", "B-01"), "Three", "Duo-1"), NOON)
    ada, ben = device_of(club_app, "Ada"), device_of(club_app, "Ben", "10.7.7.6")
    assert ben.send(f"/run/{key}/act", page="/measure", act=Act.DROP.value, expected="planned").status_code == 403
    assert ada.send(f"/run/{key}/tender", page="/measure", pilot="Ben").status_code == 302
    assert ada.send(f"/run/{key}/act", page="/measure", act=Act.DROP.value, expected="planned").status_code == 403
    ben.send(f"/run/{key}/act", page="/measure", act=Act.DROP.value, expected="planned")
    assert runs.open() == ()


def test_a_pilots_phone_shows_that_pilots_next_act_first(club_app):
    steward = Visitor(club_app)
    planned(steward, prefer="steadiest", seconds="2")
    kept = club_app.extensions["iterum"]["desk"].latest_plan().plan
    for pilot in ("Ada", "Ben", "Cleo", "Dov"):
        said = device_of(club_app, pilot, f"10.7.7.{20 + len(pilot)}").ask("/bench/now").text
        mine = [batch for batch in kept.batches if any(tag.startswith(pilot[0]) for tag in batch.packs)]
        assert mine
        first = re.search(r"Start this batch|Nothing of yours", said)
        assert first, pilot


def test_what_goes_home_is_that_pilots_packs_and_merges_into_the_own_bench(club, club_app, tmp_path):
    parts = club_app.extensions["iterum"]
    key = begun(parts["runs"], ("A-01",), channel="Duo-1")
    parts["runs"].act(key, Act.STOP, State.CHARGING, NOON + timedelta(minutes=20))
    text = club.client.get("/table/Ada/home.jsonl").text
    assert '"B-01"' not in text
    assert '"pilot"' not in text
    home = Store(tmp_path / "home.sqlite3")
    desk = Desk(home)
    Archives(home).take(text.encode())
    assert {pack.id for pack in desk.session().packs} == {f"A-{number:02d}" for number in range(1, 10)}
    assert desk.session().pilots == ()
    again = Archives(home).take(text.encode())
    assert not again.new
    home.close()


def test_nothing_of_one_pilots_packs_is_lost_by_anothers_import(club_app, tmp_path):
    desk = club_app.extensions["iterum"]["desk"]
    mine = demo_session("club")
    theirs = replace(mine, packs=(replace(mine.packs[0], pilot="Ben", capacity_mah=900),))
    with pytest.raises(BadInput, match="Ada"):
        desk.write(theirs, NOON)
    assert desk.session().packs[0].capacity_mah == mine.packs[0].capacity_mah
    other = Store(tmp_path / "other.sqlite3")
    Desk(other).write(replace(mine, packs=(replace(mine.packs[0], pilot="Ben"),), wanted=()), NOON)
    text = Archives(other).text(NOON)
    other.close()
    with pytest.raises(BadInput, match="rename one"):
        club_app.extensions["iterum"]["archives"].take(text.encode())


def test_heats_of_two_pilots_at_one_time_are_flown_each_by_its_own(club_app):
    parts = club_app.extensions["iterum"]
    desk, day = parts["desk"], parts["day"]
    first = desk.heats()[0]
    twins = [replace(first, at=NOON, wish=replace(first.wish, pilot=pilot, name="Heat 1")) for pilot in ("Ada", "Ben")]
    desk.set_heats(twins, NOON)
    for heat, packs in zip(desk.heats(), (("A-01", "A-02", "A-03"), ("B-01", "B-02", "B-03")), strict=True):
        day.flown(heat, packs, NOON)
    assert {(item.pilot, item.packs[0]) for item in day.flights()} == {("Ada", "A-01"), ("Ben", "B-01")}
    accounts = {one.pilot: one.flown for one in parts["table"].accounts(NOON)}
    assert (accounts["Ada"], accounts["Ben"], accounts["Cleo"]) == (("Heat 1",), ("Heat 1",), ())
