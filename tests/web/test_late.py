"""What a device kept without the link: taken once, as of its own moment, and never over what is known by then."""

from datetime import timedelta

import pytest

from iterum.core.season.run import Act, State
from tests.conftest import NOON

KEY = "0123456789abcdef0123456789abcdef"
CELLS = {f"cell{number}": "3.80" for number in range(1, 5)}


def kept(minutes, key=KEY, sent_min=0):
    """What was entered at a minute of the day after noon, sent when it is `sent_min` there."""
    return {"kept_id": key, "kept_s": str((sent_min - minutes) * 60)}


def readings(app, tag):
    return app.extensions["iterum"]["desk"].readings(tag)


def test_it_is_taken_once_with_its_own_time(demo_app, visitor):
    before = len(readings(demo_app, "P-13"))
    for _ in range(3):
        assert visitor.post("/measure", pack="P-13", **CELLS, **kept(-20)).status_code == 200
    taken = readings(demo_app, "P-13")
    assert len(taken) == before + 1
    assert taken[0].entered_at == taken[0].reading.taken_at == NOON - timedelta(minutes=20)
    visitor.post("/measure", pack="P-13", **CELLS, **kept(-10, KEY[::-1]))
    assert len(readings(demo_app, "P-13")) == before + 2


def test_a_question_takes_nothing_and_its_id_stays_good(demo_app, visitor):
    before = len(readings(demo_app, "P-13"))
    odd = {**CELLS, "cell2": "3.55"}
    assert visitor.post("/measure", pack="P-13", **odd, **kept(-5)).status_code == 422
    assert len(readings(demo_app, "P-13")) == before
    assert visitor.post("/measure", pack="P-13", **CELLS, **kept(-5)).status_code == 200
    assert len(readings(demo_app, "P-13")) == before + 1


def test_who_read_the_pack_later_is_believed(demo_app, visitor):
    visitor.post("/measure", pack="P-13", **{name: "3.90" for name in CELLS})
    visitor.post("/measure", pack="P-13", **CELLS, **kept(-30))
    desk = demo_app.extensions["iterum"]["desk"]
    assert next(pack for pack in desk.session().packs if pack.id == "P-13").reading.cell_v == (3.9,) * 4
    assert len(readings(demo_app, "P-13")) == 2


def test_an_age_that_no_entry_can_have_is_refused(demo_app, visitor):
    for bad in (
        kept(90),
        kept(-25 * 60),
        kept(0, "x"),
        *({"kept_id": KEY[::-1], "kept_s": said} for said in ("noon", "", "inf", "-1", "1e300", "nan")),
    ):
        assert visitor.post("/measure", pack="P-12", **CELLS, **bad).status_code == 400


def test_a_check_of_a_batch_that_was_stopped_meanwhile_is_kept_as_what_it_was(bench):
    key = bench.charging()
    bench.pass_time(10)
    bench.act(key, "stop")
    before = len(bench.runs.look(key, bench.clock()).seen)
    said = bench.visitor.post(f"/run/{key}/check", expected="charging", pack_v="15.6", **kept(8, sent_min=10)).seen.said
    assert "The batch is stopped by now" in said
    seen = bench.runs.look(key, bench.clock()).seen
    assert len(seen) == before + 1
    assert any(item.at == NOON + timedelta(minutes=8) and item.seen.by_hand for item in seen)
    assert [event.act for event in bench.runs.look(key, bench.clock()).events][-1] == Act.STOP.value


@pytest.mark.parametrize("path", ["/run/1/act", "/packs/retire"])
def test_acts_of_a_charger_and_others_are_never_taken_late(path, bench):
    key = bench.charging()
    bench.pass_time(5)
    events = len(bench.runs.look(key, bench.clock()).events)
    bench.visitor.post(path.replace("1", str(key)), act="pause", expected="charging", id="P-01", **kept(2, sent_min=5))
    late = [event for event in bench.runs.look(key, bench.clock()).events[events:] if event.at != bench.clock()]
    assert late == []


def test_what_went_wrong_is_written_down_late_and_no_charger_is_stopped_for_it_then(bench):
    key = bench.charging()
    bench.pass_time(10)
    tag = bench.runs.look(key, bench.clock()).run.packs[0]
    bench.visitor.post("/wrong", see="swelling", runs=key, packs=tag, **kept(2, sent_min=10))
    assert bench.runs.look(key, bench.clock()).run.state is State.CHARGING
    with bench.parts["store"].reading() as repository:
        incident = repository.runs.incidents()[0]
    assert (incident.at, incident.packs, incident.stopped) == (NOON + timedelta(minutes=2), (tag,), ())
    bench.visitor.post(
        "/wrong", see="swelling", runs=key, packs=tag, kept_id=KEY[::-1], kept_s="now"
    )  # with the link: at once, and by the bench's clock
    assert bench.runs.look(key, bench.clock()).run.state is State.STOPPED


def test_a_script_is_told_where_to_go_next(visitor):
    answer = visitor.client.post(
        "/measure", data={"csrf_token": visitor.token, "pack": "P-13", **CELLS}, headers={"X-Kept": "1"}
    )
    assert (answer.status_code, answer.mimetype) == (200, "text/plain")
    assert answer.text.startswith("/measure?pack=")


def test_a_page_that_is_fetched_ahead_does_not_take_the_message_meant_for_who_sees_the_next(visitor):
    visitor.client.post("/measure", data={"csrf_token": visitor.token, "pack": "P-13", **CELLS})
    told = "P-13 is saved."
    assert told not in visitor.get("/measure?pack=P-12", headers={"X-Unseen": "yes"}).text
    assert told in visitor.get("/measure?pack=P-12").text
    assert told not in visitor.get("/measure?pack=P-12").text
