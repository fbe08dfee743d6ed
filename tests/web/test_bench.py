"""The bench: what really hangs there comes before the plan, and the acts of a day bring plan, log and packs with them."""

import re
from dataclasses import replace
from datetime import timedelta

import pytest

from iterum.core.permit.permit import permit_of
from iterum.core.planning.rounds import ChargeKey
from iterum.core.season.agenda import Do
from iterum.core.season.outlook import COOL, WARM
from iterum.core.season.run import State
from iterum.core.things.choice import Kind
from iterum.core.things.packs import Reading
from iterum.web.places import EVERY_PAGE, PLACES
from tests.web.conftest import PACKS, planned, searched, spoken


def rows(bench):
    """Each channel as somebody hears it, by name."""
    page = bench.visitor.get("/bench").seen.page
    listed = [spoken(item) for item in page.select("#rows > ul > li")]
    return {row.split()[0]: row for row in listed}


def now_card(bench):
    return spoken(bench.visitor.get("/bench").seen.page.find(attrs={"aria-label": "Now"}))


def heat(bench, number=0):
    return bench.desk.heats()[number]


def test_every_page_has_one_place_and_every_place_opens(visitor):
    endpoints = [page.endpoint for page in EVERY_PAGE]
    assert len(set(endpoints)) == len(endpoints)
    assert [place.name for place in PLACES] == ["Bench", "Packs", "Kit", "Log", "Practice", "Settings"]
    page = visitor.get("/").text if visitor.get("/").status_code == 200 else visitor.get("/bench").text
    for number, place in enumerate(PLACES, start=1):
        to = re.search(rf'<a href="([^"]+)"[^>]*data-place="{number}"[^>]*><b>(\w+)</b>', page)
        assert to is not None
        assert to[2] == place.name
        assert visitor.get(to[1]).status_code == 200


def test_an_open_step_is_left_alone_while_somebody_types_and_made_anew_when_its_charge_ends(bench):
    def asked_anew(key):
        page = bench.visitor.get(f"/bench?open={key}").seen.page
        return page.find(id="rows")["hx-get"]

    def refreshes(address):
        answer = bench.visitor.client.get(address)
        assert 'class="row-step"' not in answer.text  # it is not among the parts that replace themselves
        return "HX-Refresh" in answer.headers

    key = bench.begin()
    typing = asked_anew(key)
    bench.act(key, "inspect", looked=list(PACKS))  # from elsewhere: what is typed here stays
    assert not refreshes(typing)
    live = bench.charging(packs=("T-02", "T-05"), board="Four", channel="Twin-2")
    charging = asked_anew(live)
    assert not refreshes(charging)
    bench.act(live, "stop")
    assert refreshes(charging)
    assert refreshes(asked_anew(live).replace("rows=4", "rows=3"))


def test_an_empty_bench_asks_for_what_is_missing(newcomer):
    assert "An empty bench" in newcomer.get("/bench").text


def test_a_row_says_what_hangs_on_its_channel_and_can_be_stopped_there(bench):
    assert "Free" in rows(bench)["Twin-1"]
    key = bench.begin()
    row = rows(bench)["Twin-1"]
    assert "Inspect" in row
    assert "Stop" not in row
    bench.charging(key)
    row = rows(bench)["Twin-1"]
    assert re.search(r"\d+ min", row)
    assert "V/cell" in row
    action, values = bench.visitor.get("/bench").seen.form("^Stop Twin-1$")
    bench.visitor.post(action, **{name: value[0] for name, value in values.items()})
    assert bench.state(key) is State.STOPPED
    assert "Stopped · remove" in rows(bench)["Twin-1"]


def test_what_hangs_on_the_bench_comes_before_what_is_planned(bench):
    planned(bench.visitor)
    key = bench.charging()
    bench.act(key, "stop")
    assert "Remove and measure" in now_card(bench)


def test_where_plan_and_bench_part_it_says_so_and_one_act_plans_again(bench):
    planned(bench.visitor)
    assert "Plan and bench differ" not in bench.visitor.get("/bench").text
    here = [batch.channel for batch in bench.desk.latest_plan().plan.batches if set(batch.packs) == {"T-02", "T-05"}]
    channel = "Twin-1" if "Small-1" in here else "Small-1"  # wherever the plan has them, or has them not
    key = bench.charging(packs=("T-02", "T-05"), board="Four", channel=channel)
    page = bench.visitor.get("/bench")
    assert f"T-02, T-05 went on {channel}, and the plan does not know of it." in page.text
    action, values = page.seen.form("^Plan again")
    made_at = bench.desk.latest_plan().made_at
    answer = bench.visitor.post(action, **{name: value[0] for name, value in values.items()})
    assert answer.request.path == "/bench"  # where it was asked for
    searched(bench.parts)
    assert "Plan and bench differ" not in bench.visitor.get("/bench").text
    held = [set(batch.packs) for batch in bench.desk.latest_plan().plan.batches]
    assert {"T-02", "T-05"} in held
    assert made_at <= bench.desk.latest_plan().made_at
    assert bench.state(key) is State.CHARGING


def test_a_plan_that_still_got_better_says_so_and_is_searched_on_from_the_bench(bench):
    planned(bench.visitor)
    kept = bench.desk.latest_plan()
    for hurried in (False, True):
        bench.desk.keep_plan(replace(kept, plan=replace(kept.plan, hurried=hurried)))
        pages = [bench.visitor.get(address) for address in ("/bench", "/plan")]
        assert ["still finding better plans" in page.text for page in pages] == [hurried, hurried]
    action, values = pages[0].seen.form("^Search for 20 s")
    bench.visitor.post(action, **{name: value[0] for name, value in values.items()} | {"seconds": "0.5"})
    searched(bench.parts)
    assert bench.desk.latest_plan().made_at >= kept.made_at


# ------------------------------------------------------------------ the check round


def test_one_round_checks_every_batch_and_all_are_due_together_from_then_on(bench):
    first = bench.charging()
    bench.pass_time(6)
    second = bench.charging(packs=("T-02", "T-05"), board="Four", channel="Twin-2")
    bench.pass_time(4.5)
    assert "Check round" in now_card(bench)
    assert "2 cool" in now_card(bench)
    action, values = bench.visitor.get("/bench").seen.form("^All 2 cool")
    bench.visitor.post(action, **{name: value[0] for name, value in values.items()})
    due = {item.run.key: item.check_at for item in bench.runs.in_hand(bench.clock())}
    assert abs(due[first] - due[second]) < timedelta(seconds=1)
    assert due[first] > bench.clock() + timedelta(minutes=5)
    felt = [item.seen.touch for item in bench.runs.look(second, bench.clock()).seen if item.seen.touch]
    assert felt == [COOL, COOL]


def test_the_batch_that_is_not_cool_is_said_in_the_same_act(bench):
    first = bench.charging()
    second = bench.charging(packs=("T-02", "T-05"), board="Four", channel="Twin-2")
    answer = bench.visitor.post("/bench/cool", **{f"felt-{first}": "warm", f"felt-{second}": "cool"})
    assert "warm. Touch them again" in answer.text
    assert {item.seen.touch for item in bench.runs.look(first, bench.clock()).seen if item.seen.touch} == {WARM}
    answer = bench.visitor.client.post("/bench/cool", data={f"felt-{second}": "hot", "csrf_token": token(bench)})
    assert answer.location.endswith("/wrong?see=swelling")
    assert "A pack swells, smells or is hot" in bench.visitor.get(answer.location).text
    bench.pass_time(0.5)
    assert bench.state(second) is State.STOPPED  # hot stops by itself
    assert bench.state(first) is State.CHARGING


def token(bench):
    return re.search(r'name="csrf-token" content="([^"]+)"', bench.visitor.get("/bench").text)[1]


# ------------------------------------------------------------------ heats


def gone_by(bench, minutes):
    """The clock goes on until so many minutes after the first heat."""
    bench.clock.seconds += (heat(bench).at - bench.clock()).total_seconds() + 60 * minutes


def test_a_heat_flown_as_planned_is_one_act_and_its_packs_come_back_as_flown(bench):
    planned(bench.visitor, prefer="steadiest")
    flies = bench.parts["day"].planned_for(heat(bench))
    assert flies
    gone_by(bench, 15)
    page = bench.visitor.get("/bench").seen
    action, values = page.form("flown as planned$")
    answer = bench.visitor.post(action, **{name: value[0] for name, value in values.items()})
    assert "Let them rest" in answer.text
    packs = {pack.id: pack for pack in bench.desk.session(bench.clock()).packs}
    for tag in flies:
        assert packs[tag].reading is None
        told = [item.code for item in permit_of(packs[tag], bench.desk.session().rules).reasons]
        assert "flown_since" in told
    assert bench.parts["day"].untold(bench.clock()) == ()
    logged = bench.visitor.get("/log?kind=flights").seen.page.find("tbody").find_all("tr")
    assert [spoken(item) for item in logged[0]("td")][1] == heat(bench).wish.name
    assert all(tag in spoken(logged[0]) for tag in flies)
    assert not re.search("who flew", bench.visitor.get("/bench").text)


def test_who_did_not_fly_is_full_in_the_next_plan(bench):
    planned(bench.visitor, prefer="steadiest")
    one, *rest = bench.parts["day"].planned_for(heat(bench))
    gone_by(bench, 15)
    bench.visitor.post("/bench/flown", key=heat(bench).key, packs=rest)
    searched(bench.parts)
    past = bench.desk.latest_plan().plan.past.flown
    assert [set(item.packs) for item in past if item.heat.name == heat(bench).wish.name] == [set(rest)]
    assert one not in {tag for item in past for tag in item.packs}


def test_a_planned_batch_of_packs_that_flew_asks_to_measure_them_first(bench):
    planned(bench.visitor, prefer="steadiest")
    flies = bench.parts["day"].planned_for(heat(bench))
    gone_by(bench, 15)
    kept = bench.desk.latest_plan()
    again = replace(kept.plan.batches[-1], charges=tuple(ChargeKey(tag, 1) for tag in flies), end_min=1e4)
    again = replace(again, start_min=kept.minute(bench.clock()))
    kept = replace(kept, plan=replace(kept.plan, batches=(again,), reasons=((),)))
    bench.visitor.post("/bench/flown", key=heat(bench).key, packs=list(flies[:2]))
    searched(bench.parts)
    bench.desk.keep_plan(kept)
    card = now_card(bench)
    assert "Start this batch" not in card
    assert all(part in card for part in ("Measure", *flies[:2]))


def test_a_measured_pack_counts_again_and_undo_takes_the_flight_back(bench):
    planned(bench.visitor)
    gone_by(bench, 5)
    tags = [pack.id for pack in bench.desk.session().packs if pack.family == heat(bench).wish.family][:2]
    bench.visitor.post("/bench/flown", key=heat(bench).key, packs=tags)
    bench.clock.seconds += 1200
    bench.desk.record_reading(tags[0], Reading.of_cells((3.75,) * 4, bench.clock()), bench.clock())
    packs = {pack.id: pack for pack in bench.desk.session().packs}
    assert packs[tags[0]].reading is not None
    assert packs[tags[1]].reading is None
    act = next(item for item in bench.desk.acts() if "flown" in item.what)
    bench.visitor.post(f"/files/undo/{act.key}")
    packs = {pack.id: pack for pack in bench.desk.session().packs}
    assert all(packs[tag].flown_at is None for tag in tags)
    assert bench.parts["day"].flights() == ()


def test_nobody_says_by_a_key_that_nobody_flew(bench):
    gone_by(bench, 15)  # without a plan
    page = bench.visitor.get("/bench").seen
    assert page.link("^Say who flew").endswith("#flown")
    with pytest.raises(StopIteration):
        page.form("^Nobody flew")


def test_a_heat_to_come_cannot_have_been_flown(bench):
    planned(bench.visitor)
    assert bench.visitor.post("/bench/flown", key=heat(bench).key, **{"as": "planned"}).status_code == 404
    assert bench.parts["day"].flights() == ()


def test_a_pack_of_another_class_cannot_have_flown(bench):
    planned(bench.visitor)
    gone_by(bench, 5)
    other = next(pack.id for pack in bench.desk.session().packs if pack.family != heat(bench).wish.family)
    assert bench.visitor.post("/bench/flown", key=heat(bench).key, packs=[other]).status_code == 404
    assert bench.parts["day"].flights() == ()


def test_a_delay_moves_the_heat_and_all_after_it(bench):
    before = [item.at for item in bench.desk.heats()]
    answer = bench.visitor.post("/bench/delay", key=heat(bench, 1).key, by_min="20")
    after = [item.at for item in bench.desk.heats()]
    assert after[0] == before[0]
    assert after[1:] == [moment + timedelta(minutes=20) for moment in before[1:]]
    assert f"and {len(before) - 2} after it" in answer.text


@pytest.mark.parametrize("by_min", ["0", "-5", "nan", "99999"])
def test_no_heat_is_delayed_by_nonsense(bench, by_min):
    before = bench.desk.heats()
    assert bench.visitor.post("/bench/delay", key=heat(bench).key, by_min=by_min).status_code == 404
    assert bench.desk.heats() == before


def test_a_day_that_is_called_off_has_no_heats_and_what_charges_goes_on(bench):
    planned(bench.visitor)
    key = bench.charging()
    answer = bench.visitor.post("/bench/off")
    assert "Bring every pack to storage." in answer.text
    assert bench.desk.heats() == ()
    assert bench.state(key) is State.CHARGING
    page = bench.visitor.get("/bench")
    assert "Plan and bench differ" not in page.text
    stored = [todo.stored for todo in bench.runs.agenda(bench.clock()) if todo.do is Do.STORE]
    ends_v = [item.choice.end_v for item in stored if item.kind is not Kind.BALANCE]
    assert set(ends_v) == {item.target_v for item in stored if item.kind is not Kind.BALANCE}
    address, sent = page.seen.form("Start this batch")  # the first of them, and no charge to full
    bench.visitor.post(address, **sent)
    begun = bench.runs.open()[-1]
    assert (begun.kind, set(begun.packs)) == (stored[0].kind, set(stored[0].batch.packs))
    bench.act(begun.key, "give up")
    assert "Every pack is at its storage volts about" in page.seen.said
    bench.act(key, "stop")
    bench.visitor.post(f"/run/{key}/after", expected="stopped", skip="yes")
    assert re.search(r"(charge|discharge) to \d\.\d\d V/cell|balance only|Measure", now_card(bench))
    bench.visitor.post("/bench/failed", charger=bench.desk.session().kit.channel("Twin-1")[0].id)
    assert bench.desk.latest_plan().plan.batches == ()  # nothing that comes later plans to charge again
    bench.visitor.post("/plan", prefer="soonest", seconds="0.5")
    searched(bench.parts)
    assert bench.desk.latest_plan().plan.batches  # but a person may


# ------------------------------------------------------------------ a charger fails


def test_a_charger_that_failed_is_stopped_marked_and_planned_without(bench):
    planned(bench.visitor)
    live, waiting = bench.charging(), bench.begin(("T-02", "T-05"), "Four", "Twin-2")
    twin = bench.desk.session().kit.channel("Twin-1")[0].id
    answer = bench.visitor.post("/bench/failed", charger=twin)
    assert "is marked as failed" in answer.text
    assert bench.state(live) is State.STOPPED
    assert bench.state(waiting) is State.DROPPED
    assert [item.id for item in bench.desk.session().kit.chargers if item.failed] == [twin]
    searched(bench.parts)
    kept = bench.desk.latest_plan()
    to_come = [batch for batch in kept.plan.batches if batch.lead_min > kept.minute(bench.clock())]
    assert to_come
    assert not [batch for batch in to_come if batch.channel.startswith("Twin")]
    refused = bench.visitor.post("/run", packs=["P-03"], channel="Twin-1")
    assert "is marked as failed" in refused.text
    assert "Failed" in rows(bench)["Twin-2"]
    bench.visitor.post("/bench/works", charger=twin)
    assert not any(item.failed for item in bench.desk.session().kit.chargers)


def test_nothing_but_a_charger_can_fail(bench):
    assert bench.visitor.post("/bench/failed", charger="nothing").status_code == 404
    assert not any(item.failed for item in bench.desk.session().kit.chargers)


def test_everything_is_stopped_by_two_acts_from_any_page(bench):
    keys = [bench.charging(), bench.charging(packs=("T-02", "T-05"), board="Four", channel="Twin-2")]
    wrong = bench.visitor.get("/kit").seen.link("Something")
    action, values = bench.visitor.get(wrong).seen.form("^Stop everything")
    answer = bench.visitor.post(action, **{name: value[0] for name, value in values.items()})
    assert {bench.state(key) for key in keys} == {State.STOPPED}
    assert "Stopped: Twin-1, Twin-2" in answer.text
    assert "Stop everything" not in answer.text
