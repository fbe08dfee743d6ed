"""The demo's year: some 600 charges, in which three packs have a story that the pages tell."""

from iterum.core.season.health import Advice
from iterum.demo.season import FADES, RAN_LOW, RESTS_BADLY
from iterum.services.logbook import Query
from iterum.wording import sentence
from tests.conftest import NOON


def test_three_packs_have_a_story_and_the_others_are_well(demo_app):
    book = demo_app.extensions["iterum"]["log"]
    assert 580 < len(book.entries(Query(), None)) < 660
    told = book.all_health(NOON)
    said = {
        tag: " ".join(map(sentence, health.reasons)) for tag, health in told.items() if health.advice is not Advice.KEEP
    }
    assert said.keys() == {FADES, RESTS_BADLY, RAN_LOW, "T-03"}
    assert "of its label" in said[FADES]
    assert "rest" in said[RESTS_BADLY]
    assert "80 %" in said[RAN_LOW]


def test_it_teaches_nothing_of_a_curve_and_its_trend_is_drawn(demo_app, visitor):
    taught = [pack.id for pack in demo_app.extensions["iterum"]["desk"].session().packs if pack.learned is not None]
    assert taught == ["L-02"]
    page = visitor.get(f"/packs/health?id={FADES}").seen.page
    assert len(page.find(class_="trend")("circle") if page.find(class_="trend") else page.main("circle")) > 10
