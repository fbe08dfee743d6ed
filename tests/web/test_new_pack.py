"""New packs and chargers from their labels: several at once, what is left open asked, nothing assumed, all or nothing."""

import pytest

from tests.web.conftest import Visitor


def packs(app):
    return {pack.id: pack for pack in app.extensions["iterum"]["desk"].session().packs}


def typed(visitor, question, label, **answers):
    """Type a line: it is shown first, and sent again as it was shown."""
    shown = visitor.post(f"/begin/{question}", label=label)
    if shown.status_code == 200 and not shown.history:
        assert shown.seen.page.find("input", attrs={"name": "seen"})["value"] == label
    return visitor.post(f"/begin/{question}", label=label, seen=" ".join(label.split()), **answers)


def filled(visitor, label):
    """What stands in the form once a label was read: values by field, and the page."""
    seen = visitor.post("/packs/label", label=label).seen
    form = seen.page.find("form", action="/packs/edit")
    values = {
        item["name"]: item.get("value", "")
        for item in form("input", attrs={"name": True})
        if item["name"] != "csrf_token"
    }
    for item in form("select"):
        chosen = item.find("option", selected=True) or item.find("option")
        values[item["name"]] = chosen["value"]
    return values, seen


def test_six_alike_are_written_down_with_their_tags_counted_up(empty_app, newcomer):
    values, seen = filled(newcomer, "6 x 650 3S 60C XT30")
    assert (values["count"], values["cells"], values["capacity_mah"], values["discharge_c"], values["connector"]) == (
        "6", "3", "650", "60", "XT30")  # fmt: skip
    assert values["chemistry"] == ""  # asked, never assumed
    assert "chemistry" in seen.refused()
    assert newcomer.post("/packs/edit", **values).status_code == 422
    done = newcomer.post("/packs/edit", **{**values, "chemistry": "lipo", "id": "R-08"})
    assert list(packs(empty_app)) == [f"R-{number:02}" for number in range(8, 14)]
    assert {(pack.cells, pack.capacity_mah, pack.discharge_c) for pack in packs(empty_app).values()} == {(3, 650, 60)}
    undo, _ = done.seen.form("^Undo")
    newcomer.post(undo, back="/packs")
    assert packs(empty_app) == {}


def test_a_tag_that_is_taken_takes_none(empty_app, newcomer):
    values, _ = filled(newcomer, "650 3S LiPo")
    newcomer.post("/packs/edit", **{**values, "id": "R-03"})
    refused = newcomer.post("/packs/edit", **{**values, "id": "R-01", "count": "5"})
    assert "id" in refused.seen.refused()
    assert list(packs(empty_app)) == ["R-03"]


def test_another_like_this_has_the_next_free_tag_and_nothing_of_its_history(demo_app, visitor):
    page = visitor.get("/packs/edit?like=P-01").seen.page
    values = {item["name"]: item.get("value", "") for item in page("input", attrs={"name": True})}
    like = packs(demo_app)["P-01"]
    assert (values["id"], values["capacity_mah"]) == ("P-15", f"{like.capacity_mah:g}")
    assert values["cycles"] == values["resistance_mohm"] == ""


@pytest.mark.parametrize(
    ("label", "asked"), [("14.4 V 3000", "chemistry"), ("LiPo 2200", "cells"), ("7.2V 3300", "chemistry")]
)
def test_what_a_label_leaves_open_is_asked_at_its_field(label, asked, newcomer):
    _, seen = filled(newcomer, label)
    assert asked in seen.refused()


def test_a_label_that_says_no_capacity_is_told_and_kept(newcomer):
    answer = newcomer.post("/packs/label", label="4S LiPo <b>")
    assert answer.seen.field("As its label says")["value"] == "4S LiPo <b>"
    assert "What is the capacity in mAh?" in answer.seen.refused()["capacity_mah"]
    assert "Not understood: “b”" in answer.seen.said
    assert answer.seen.field("Note").text.strip() == "b"  # kept, without a meaning


@pytest.mark.parametrize("count", ["0", "61", "many", "-1", "²", ""])
def test_a_count_that_is_none_is_refused(count, empty_app, newcomer):
    values, _ = filled(newcomer, "650 3S LiPo")
    assert newcomer.post("/packs/edit", **{**values, "count": count}).status_code == 422
    assert packs(empty_app) == {}


@pytest.mark.parametrize(("typed", "mah"), [
    ("15,000", 15000), ("15.000", 15000), ("15000 mAh", 15000), ("2.2 Ah", 2200), ("650,5", 650.5), ("1 500", 1500), ("250mAh", 250),
])  # fmt: skip
def test_a_field_takes_its_own_unit_and_thousands_as_they_are_written(typed, mah, empty_app, newcomer):
    values, _ = filled(newcomer, "650 3S LiPo")
    newcomer.post("/packs/edit", **{**values, "capacity_mah": typed, "max_charge_c": "1,5C"})
    (pack,) = packs(empty_app).values()
    assert (pack.capacity_mah, pack.max_charge_c) == (mah, 1.5)


@pytest.mark.parametrize("typed", ["15 V", "2 and 3", "many", "1-2", "15,000 C", "2 h", "5S"])
def test_what_is_no_figure_of_a_field_is_refused_with_what_was_typed(typed, empty_app, newcomer):
    values, _ = filled(newcomer, "650 3S LiPo")
    refused = newcomer.post("/packs/edit", **{**values, "capacity_mah": typed})
    assert "capacity_mah" in refused.seen.refused()
    assert refused.seen.field("Capacity")["value"] == typed
    assert packs(empty_app) == {}


def test_a_charger_from_its_label_in_one_line(empty_app, newcomer):
    label = "dual 400 W, 250 W a channel, 12 A, 6S, 0.1 to 12 A"
    seen = newcomer.post("/kit/charger", label=label, channels="1").seen
    values = {
        item["name"]: item.get("value", "")
        for item in seen.page.find("form", class_="form-grid")("input", attrs={"name": True})
    }
    assert (values["id"], values["channel0-id"], values["channel1-id"], values["total_power_w"]) == (
        "charger-1",
        "charger-1-1",
        "charger-1-2",
        "400",
    )
    done = newcomer.post("/kit/charger", **values)
    assert "charger-1 is saved" in done.seen.said
    (charger,) = empty_app.extensions["iterum"]["desk"].session().kit.chargers
    assert [(one.max_current_a, one.max_power_w, one.max_cells, one.min_current_a) for one in charger.channels] == [
        (12, 250, 6, 0.1)
    ] * 2
    refused = newcomer.post("/kit/charger", label="400 W", channels="1")
    assert refused.status_code == 422
    assert "How many amps does a channel give at most?" in refused.seen.said


def test_when_a_class_is_measured_the_next_one_is_a_key_away(empty_app):
    newcomer = Visitor(empty_app)
    for label in ("2 x 1300 4S LiPo", "5000 6S LiPo"):
        typed(newcomer, "packs", label)
    for tag in ("A-01", "A-02"):
        page = newcomer.post("/measure", pack=tag, **{f"cell{n}": "3.80" for n in range(1, 5)}).seen
    assert "Match 4S LiPo" in page.said
    assert page.link("On to 6S LiPo, A-03") == "/measure?pack=A-03"


@pytest.mark.parametrize("question", ["packs", "charger", "source"])
def test_a_line_that_only_another_question_reads_is_written_down_there(empty_app, question):
    """The cursor goes on after each answer; who has more packs, or a second charger, types on."""
    newcomer, session = Visitor(empty_app), empty_app.extensions["iterum"]["desk"].session
    typed(newcomer, question, "2x 6S 5000 50C lipo")
    typed(newcomer, question, "dual 400W 12A 6S")
    made = session()
    assert [(pack.id, pack.cells) for pack in made.packs] == [("A-01", 6), ("A-02", 6)]
    assert [len(charger.channels) for charger in made.kit.chargers] == [2]
    assert "Which is it?" in newcomer.post(f"/begin/{question}", label="8 x 2200 3S 30C").seen.said
    assert typed(newcomer, question, "dual 300 W").status_code == 422
    assert (len(session().packs), len(session().kit.chargers)) == (2, 1)


def test_a_table_shows_what_is_understood_before_its_rows_are_taken(newcomer, empty_app):
    shown = newcomer.post(
        "/begin/table", text="tag;label\nR-1;4S 1500 LiPo 2C charge\nR-2;3S 2200 lipo Thunderclap\n"
    ).seen
    assert "2C = 3.0 A" in shown.said
    assert "Not understood: “Thunderclap”" in shown.said
    assert packs(empty_app) == {}


def test_a_log_shows_how_its_figures_are_read_before_it_is_taken(visitor):
    shown = visitor.post(
        "/log/import/columns", what="charges", text="pack;date;mAh\nP-01;2026-06-12 10:00;1.650\n"
    ).seen
    assert "1.650 read as 1650 mAh" in shown.said
