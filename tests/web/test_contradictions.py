"""What one screen says, no other contradicts: each pair of figures that was seen to differ, held by a test of its own."""

import re
from dataclasses import replace

from click.testing import CliRunner

from iterum.cli import main
from iterum.core.permit.permit import permits
from iterum.core.season.run import State
from iterum.core.season.watching import HOT_STOP_C
from iterum.core.things.packs import Condition
from iterum.exchange.session import dumps
from iterum.wording import sentence
from tests.conftest import NOON, pack
from tests.web.conftest import planned


def test_a_group_that_may_not_be_charged_is_counted_as_ready_nowhere(visitor):
    visitor.post("/match/move", pack="P-12", to="with:P-01", **{"class": "lipo-4S"})
    page = visitor.get("/match?class=lipo-4S").text
    assert "not as it is" in page
    assert page.count("card-refused") >= 1
    assert "P-12" not in visitor.get("/bench").seen.said.partition("Channel")[0]  # Now asks for nothing that is refused


def test_visits_are_one_number_on_every_page(visitor, demo_app):
    page = planned(visitor)
    plan = demo_app.extensions["iterum"]["desk"].latest_plan().plan
    shown = re.search(r"<dt>\s*(\d+)\s*</dt>\s*<dd>\s*visits? to the bench", page)
    assert int(shown[1]) == plan.visits


def test_full_is_one_moment_and_balanced_another_and_each_is_called_by_its_name(bench):
    key = bench.charging()
    page = bench.visitor.get(f"/run/{key}").text
    full, balanced = re.search(r"(?s)Full at about\s+(\d\d:\d\d).*?Balanced by about (\d\d:\d\d)", page).groups()
    assert full < balanced
    (held,) = (item for item in bench.runs.in_hand(bench.clock()) if item.run.key == key)
    assert held.ends_at.astimezone().strftime("%H:%M") == balanced  # when it comes off


def test_what_may_be_joined_in_one_order_only_is_told_with_that_order(newcomer):
    """Plugged in second, the one that is fuller would give its whole surge to the one that is there."""
    said = newcomer.get("/what-if?a_count=10&a_label_c=75&b_label_c=75&b_v=3.85&charge_c=2").seen.said
    assert "May be joined" in said
    assert re.findall(r"Main lead of (\w+)", said)[-1] == "B"


def test_where_packs_are_not_joined_no_minutes_until_charging_stand_beside(newcomer):
    page = newcomer.get("/what-if?a_count=4&a_v=3.5&b_count=1&b_v=4.15").text
    assert "Not joined as they are" in page
    assert "until charging may start" not in re.sub(r"\s+", " ", page)
    assert "until charging may start" in re.sub(r"\s+", " ", newcomer.get("/what-if?a_count=2&b_count=0").text)


def test_a_swollen_pack_is_not_told_free_again(bench):
    key = bench.charging()
    hurt = bench.runs.look(key, bench.clock()).run.packs[0]
    bench.visitor.post("/wrong", see="swelling", runs=[str(key)], packs=[hurt])
    text = bench.visitor.post(f"/run/{key}/after", expected=State.STOPPED.value, skip="yes").text
    assert "The packs are free again" not in text
    assert f"not charged again: {hurt}" in text
    assert {one.id: one.condition for one in bench.desk.session().packs}[hurt] is Condition.DAMAGED


def test_hot_is_stop_and_warm_is_half_the_amps_on_every_page(bench):
    """Hot to the hand or over 50 degrees: stop, off, outside, kept apart until judged. Warm: half the amps."""
    key = bench.charging()
    bench.visitor.post(f"/run/{key}/check", temperature_c="52")
    page = bench.visitor.get(f"/run/{key}").text
    help_page = bench.visitor.get("/wrong?see=swelling").text
    for text in (page, help_page):
        said = re.sub(r"<[^>]+>", " ", text).lower()
        assert "never again" not in said
    assert bench.state(key) is State.STOPPED
    assert HOT_STOP_C == 50
    assert "half the amps" not in re.sub(r"<[^>]+>", " ", page).lower()


def test_a_count_that_cannot_be_is_explained_alike_by_page_and_command(visitor, demo_app, tmp_path):
    """16.0 V on a pack that is called 3S: page, card and `check` give the same reason."""
    desk = demo_app.extensions["iterum"]["desk"]
    wrong = replace(
        pack("X-1", chemistry="lipo", cells=3, mah=1800),
        reading=replace(pack("Y", 4.0, 4.0, 4.0, 4.0).reading, cell_v=()),
    )
    session = desk.session()
    desk.write(replace(session, packs=(*session.packs, wrong)), NOON)
    reasons = permits(desk.bench(NOON))["X-1"].reasons
    assert reasons
    for path in ("/packs?id=X-1", "/measure?pack=X-1", "/charge?packs=X-1"):
        text = re.sub(r"\s+", " ", visitor.get(path).seen.said)
        assert any(sentence(item)[:40] in text for item in reasons), path
    file = tmp_path / "bench.json"
    file.write_text(dumps(desk.session()))
    said = CliRunner().invoke(main, ["check", str(file)]).output
    assert any(sentence(item)[:40] in re.sub(r"\s+", " ", said) for item in reasons)


def test_whatever_is_refused_to_be_joined_is_shown_for_exactly_these_packs(visitor):
    """Match and the runs that fill nothing lead to the same picture, and it says what would flow."""
    visitor.post("/match/move", pack="P-12", to="with:P-01", **{"class": "lipo-4S"})
    for path in ("/match?class=lipo-4S", "/charge/other?packs=P-01&packs=P-12"):
        links = re.findall(r'href="(/match/join\?[^"]*)">Show me what would flow', visitor.get(path).text)
        assert any("P-12" in link and "P-0" in link for link in links), path
        shown = next(link for link in links if "P-12" in link).replace("&amp;", "&")
        assert re.search(r"C\b", visitor.get(shown).text)
        assert "P-12" in visitor.get(shown).text
