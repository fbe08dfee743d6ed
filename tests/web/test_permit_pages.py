"""Pages offer what a permit allows and nothing else, and ask where it asks."""

import json

import pytest

from iterum.core.permit.facts import Act
from iterum.core.permit.permit import permits
from iterum.core.things.choice import Kind
from iterum.core.things.kit import Channel, Charger
from iterum.core.things.session import Session
from iterum.exchange.session import parse
from tests.benches import random_bench
from tests.conftest import NOON, SOAK, even, pack
from tests.test_one_answer import kit as board_and_charger
from tests.test_one_answer import total
from tests.web.conftest import Visitor, spoken

GIVES = Charger("duo", (Channel("duo-1", 20, 252, max_cells=6, discharge_power_w=20, discharge_current_a=2),
                         Channel("duo-2", 20, 252, max_cells=8)))  # fmt: skip


def kit():
    return board_and_charger(charger=GIVES)


ACTS = {Kind.CHARGE: Act.CHARGE, Kind.DOWN: Act.DISCHARGE, Kind.BALANCE: Act.BALANCE, Kind.EVEN_OUT: Act.JOIN}
PAGES = ("/", "/match", "/bench", "/put-away", "/packs", "/measure")

ODD = (
    even("A1", 3.73), even("A2", 3.74), even("A3", 3.73, condition="damaged"),
    pack("W1", 4.15, 4.15, 3.40), pack("W2", 4.19, 4.19, 3.05), even("F1", 3.31, 3),
    total("T1", 16.80, 5, "lipo"), total("T2", 13.05, 4, "lipo"), total("T3", 15.0, 4, "lipo"),
    even("C1", 4.24, 4), even("L1", 1.9, 4), total("N1", 4.2, 6, "nimh"), pack("U1", cells=4),
)  # fmt: skip


def begun_from(page):
    """(kind, tags) of every form of a page that takes packs in hand."""
    for form in page("form", attrs={"action": "/run"}):
        values = {}
        for field in form("input", attrs={"name": True}):
            values.setdefault(field["name"], []).append(field.get("value", ""))
        yield Kind(values.get("kind", ["charge"])[0]), values["packs"]


def offered(app, session):
    """(page, kind, tag) of everything that any page offers for any pack of this bench."""
    app.extensions["iterum"]["desk"].write(session, NOON)
    visitor = Visitor(app)
    tags = [one.id for one in session.packs]
    alone = [f"/{place}?{name}={tag}" for tag in tags
             for place, name in (("packs/health", "id"), ("charge/other", "packs"), ("charge", "packs"))]  # fmt: skip
    for address in (*PAGES, *alone):
        answer = visitor.get(address, follow_redirects=True)
        assert answer.status_code == 200, address
        for kind, members in begun_from(answer.seen.page):
            yield from ((address, kind, tag) for tag in members)


@pytest.mark.parametrize("air_c", [None, -10.0, 4.0, 48.0])
def test_no_page_offers_what_a_permit_forbids(empty_app, air_c):
    session = Session(ODD, kit()).in_air(air_c)
    found = list(offered(empty_app, session))
    bench = empty_app.extensions["iterum"]["desk"].bench(NOON)
    told = permits(bench)
    assert [item for item in found if not told[item[2]].may(ACTS[item[1]])] == []
    kinds = {kind for _, kind, _ in found}
    assert (Kind.CHARGE in kinds) == (air_c in (None, 4.0))
    assert {Kind.DOWN, Kind.BALANCE} <= kinds or air_c in (-10.0, 48.0)


@pytest.mark.parametrize("seed", range(3 * SOAK))
def test_nor_on_a_bench_that_nobody_thought_of(empty_app, seed):
    session = random_bench(seed)
    told = permits(session.bench)
    found = [item for item in offered(empty_app, session) if item[2] in told]
    assert [item for item in found if not told[item[2]].may(ACTS[item[1]])] == []


def test_the_page_of_a_pack_says_of_each_act_whether_how_fast_and_why(newcomer, empty_app):
    empty_app.extensions["iterum"]["desk"].write(Session(ODD, kit()), NOON)
    said = newcomer.get("/packs/health?id=W1").seen
    assert said.heads() == ["Share a board", "Charge", "Storage voltage", "Balance only", "Discharge"]
    assert "cell 3 is the low one" in said.said
    assert said.link("Balance it").endswith("#balance")
    assert len([item for item in said.page.find("main")("a") if spoken(item) == "Match"]) == 1  # the page itself
    assert "Count the pins of the balance plug of T1" in newcomer.get("/packs/health?id=T1").seen.said


def test_a_total_asks_for_the_pins_of_the_plug_and_what_is_counted_settles_it(newcomer, empty_app):
    desk = empty_app.extensions["iterum"]["desk"]
    desk.write(Session((pack("T", cells=5),), kit()), NOON)
    said = newcomer.get("/measure?pack=T&total=yes").seen
    assert "Pins of its balance plug" in said.said
    sent = {"pack": "T", "total": "yes", "cell1": "1680"}
    assert newcomer.post("/measure", **sent, pins="x").status_code == 422
    newcomer.post("/measure", **sent, pins="")
    assert not permits(desk.bench(NOON))["T"].charges
    newcomer.post("/measure", **sent, pins="5")
    (told,) = permits(desk.bench(NOON)).values()
    assert [item.code for item in told.against(Act.CHARGE)] == ["pins_disagree"]
    newcomer.post("/measure", **sent, pins="6")
    assert permits(desk.bench(NOON))["T"].charges


def test_cells_of_a_life_pack_ask_for_the_label_and_reading_it_again_settles_it(newcomer, empty_app):
    desk = empty_app.extensions["iterum"]["desk"]
    desk.write(Session((even("F", 3.31, 3),), kit()), NOON)
    assert not permits(desk.bench(NOON))["F"].charges
    assert "I read its label again: it is LiPo" in newcomer.get("/measure?pack=F").seen.said
    cells = {f"cell{number}": "331" for number in (1, 2, 3)}
    newcomer.post("/measure", pack="F", **cells, chemistry_confirmed="yes")
    assert permits(desk.bench(NOON))["F"].charges


def test_a_reading_brought_by_a_file_keeps_its_own_time(newcomer, empty_app):
    old = {"id": "A", "chemistry": "lipo", "cells": 4, "capacity_mah": 1500, "cell_volts": [3.73] * 4,
           "measured_at": "2026-06-01T08:00:00+00:00"}  # fmt: skip
    document = json.dumps({"format": "iterum-session", "version": 1, "packs": [old]})
    empty_app.extensions["iterum"]["desk"].write(parse(document.encode()), NOON)
    assert "last read Mon 1 Jun" in newcomer.get("/measure?pack=A").seen.said
    assert "more than 12 hours old" in newcomer.get("/packs/health?id=A").seen.said


def test_more_than_1c_without_a_label_is_an_own_decision_and_is_logged(newcomer, empty_app):
    desk, runs = empty_app.extensions["iterum"]["desk"], empty_app.extensions["iterum"]["runs"]
    desk.write(
        Session((even("A", 3.73), even("L", 3.73, max_charge_c=5), even("V", 3.73, chemistry="lihv")), kit()), NOON
    )
    for tag, offered in (("A", True), ("L", False), ("V", False)):
        assert ("My decision, no C on the label" in newcomer.get(f"/charge?packs={tag}").seen.said) is offered
    assert "2C is my decision" not in newcomer.get("/charge?packs=A&rate_c=2").seen.said
    page = newcomer.get("/charge?packs=A&own_rate_c=2")
    address, fields = page.seen.form("Start this batch")
    said = newcomer.post(address, **fields).seen.said
    assert "No charge rate on the label of A; 2C is my decision." in said
    assert (runs.open()[-1].current_a, runs.open()[-1].choice.own_rate_c) == (3.6, 2.0)
    assert "2C is my decision" in newcomer.get("/log?kind=acts").seen.said
    assert "possible for LiPo only" in newcomer.get("/charge?packs=V&own_rate_c=2").seen.said


def test_a_total_with_its_point_at_the_wrong_place_is_asked_about(newcomer, empty_app):
    desk = empty_app.extensions["iterum"]["desk"]
    desk.write(Session((pack("T", cells=3),), kit()), NOON)
    sent = {"pack": "T", "total": "yes", "pins": "4"}
    asked = newcomer.post("/measure", **sent, cell1="1.11")
    assert "1.11 V is not a 3S. Was 11.10 V meant?" in asked.seen.said
    assert desk.session().packs[0].reading is None
    newcomer.post("/measure", **sent, cell1="11.1 V")
    assert desk.session().packs[0].reading.pack_v == 11.1


def test_house_rules_work_out_the_amps_of_a_lower_end_for_li_ion(newcomer, empty_app):
    """30 W into 3S: 30 / 12.6 is 2.3 A, 30 / 12.3 is 2.4 A."""
    small = Charger("one", (Channel("one-1", 20, 30, max_cells=6),))
    packs = tuple(even(f"L{n}", 3.6, 3, chemistry="li-ion", mah=3500) for n in (1, 2))
    empty_app.extensions["iterum"]["desk"].write(Session(packs, board_and_charger(charger=small)), NOON)
    said = newcomer.get("/rules/effects").seen.said
    assert "Set 2.4 A." in said
    assert "Amps stay" not in said
