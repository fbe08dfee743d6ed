"""What a page costs, in counts and not in time: one look at the store, no question twice, each pack judged once."""

import threading
from collections import Counter

import pytest
from sqlalchemy import Engine, event

from iterum.core.permit.permit import permit_of
from tests.web.conftest import planned

PAGES = ("/measure", "/match", "/plan", "/heats", "/bench", "/charge?packs=P-12", "/put-away", "/packs", "/kit", "/rules",
         "/files", "/log", "/use", "/what-if", "/wrong")  # fmt: skip


@pytest.fixture
def asked():
    """Every statement that reaches a database, with its values, and how often."""
    counted = Counter()

    def note(_connection, _cursor, statement, values, *_more):
        counted[statement, str(values)] += 1

    event.listen(Engine, "before_cursor_execute", note)
    yield counted
    event.remove(Engine, "before_cursor_execute", note)


def test_a_page_looks_once_and_asks_nothing_twice(visitor, asked):
    planned(visitor)
    for path in PAGES:
        asked.clear()
        assert visitor.get(path).status_code == 200
        looks = [text for text, _ in asked.elements() if text.startswith("BEGIN")]
        assert (path, looks) == (path, ["BEGIN"])
        assert (path, [text for (text, _), times in asked.items() if times > 1]) == (path, [])


def test_after_a_reading_only_the_pack_that_was_read_is_judged_anew(visitor):
    for thread in threading.enumerate():
        if thread.name == "planning":  # of a page that another test opened: it judges packs of its own
            thread.join(60)
    for path in ("/measure", "/match", "/bench"):
        visitor.get(path)
    before = permit_of.cache_info().misses
    visitor.post("/measure", pack="P-08", **{f"cell{cell}": "3.81" for cell in range(1, 5)})
    for path in ("/match", "/bench", "/packs"):
        visitor.get(path)
    assert permit_of.cache_info().misses - before <= 4  # as typed, as written down, and what a charge would make of it
