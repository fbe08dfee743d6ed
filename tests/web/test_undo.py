"""Taking back, as the pages offer it."""

from dataclasses import replace

import pytest

from tests.conftest import NOON


def renamed(bench, tag, name):
    old = next(pack for pack in bench.desk.session().packs if pack.id == tag)
    with bench.parts["store"].undoable("a name", NOON) as act:
        bench.desk.save_pack(replace(old, name=name), tag, NOON)
    return act.key


def test_nothing_of_a_batch_in_hand_is_taken_back(bench):
    bench.begin()
    held, free = renamed(bench, "P-08", "held"), renamed(bench, "P-01", "free")
    refused = bench.visitor.post(f"/files/undo/{held}", back="/packs").seen.said
    assert "Not undone" in refused
    assert "P-08" in refused
    assert "Taken back" in bench.visitor.post(f"/files/undo/{free}", back="/packs").seen.said


@pytest.mark.parametrize(("page", "address", "fields"), [
    ("/heats", "/heats/gone", {"key": ""}),
    ("/heats", "/heats/move", {"key": "", "by_min": "10", "rest": "yes"}),
    ("/packs", "/packs/retire", {"id": "P-01"}),
    ("/kit", "/kit/board/retire", {"id": "Four"}),
    ("/kit", "/kit/charger/retire", {"id": "twin"}),
])  # fmt: skip
def test_a_page_offers_the_way_back_of_what_is_gone_and_one_press_takes_it(page, address, fields, visitor, demo_app):
    if "key" in fields:
        fields = {**fields, "key": demo_app.extensions["iterum"]["desk"].heats()[0].key}
    before = visitor.get(page).seen.page.main.get_text()
    gone = visitor.post(address, **fields)
    undo, _ = gone.seen.form("^Undo")
    back = visitor.post(undo, back=page)
    assert "Taken back" in back.seen.said
    assert visitor.get(page).seen.page.main.get_text() == before
    assert visitor.post(undo, back=page).status_code == 200  # pressed twice: it is said, and nothing happens
