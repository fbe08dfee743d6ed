"""Whatever an act changed is taken back, exactly, but for what was used since."""

from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.core.reasons import NotThere
from iterum.core.season.health import ChargeRecord
from iterum.core.things.ledger import Entry, EntryKind
from iterum.core.things.packs import Pack, Reading
from iterum.demo import demo_session
from iterum.exchange.heats import Heat
from iterum.services.desk import Desk
from iterum.services.logbook import LogBook
from iterum.store.database import Store
from iterum.store.undo import KEPT, WATCHED
from tests.conftest import NOON, SOAK, even

ONLY_RISES = (("meeting", "revision"), ("plans", "revision"))


def everything(store):
    """All rows of all tables, as the database holds them, but for the count of changes; a null is a null."""
    with store.engine.connect() as connection:
        return {
            table.name: [
                {
                    name: None if value == "null" else value
                    for name, value in row.items()
                    if (table.name, name) not in ONLY_RISES
                }
                for row in connection.exec_driver_sql(f"SELECT * FROM {table.name}").mappings()
            ]
            for table in WATCHED
        }


ACTS = {
    "import": lambda desk, book: desk.write(
        replace(demo_session(), packs=(*demo_session().packs[3:9], even("NEW", 3.8)), wanted=()), NOON
    ),
    "retire": lambda desk, book: desk.retire(Pack, "P-01", NOON),
    "read": lambda desk, book: desk.record_reading("P-02", Reading.of_cells((3.81, 3.82, 3.83, 3.84)), NOON),
    "heats": lambda desk, book: desk.set_heats(
        [Heat(NOON + timedelta(minutes=30), heat.wish) for heat in desk.heats()[:2]], NOON
    ),
    "log": lambda desk, book: book.take_charges(
        [("P-03", ChargeRecord(NOON - timedelta(days=at), 1000.1 + at, 40.0)) for at in range(5)], [], {}
    ),
    "rules": lambda desk, book: desk.set_rules(replace(desk.session().rules, rate_c=0.7), NOON),
    "move": lambda desk, book: desk.move("P-04", None, NOON),
    "back": lambda desk, book: desk.move_back(None),
    "filled": lambda desk, book: desk.note_source(
        Entry(desk.session().kit.sources[0].id, NOON, EntryKind.TOLD, 12.345678901234567)
    ),
}


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    store = Store(tmp_path_factory.mktemp("undo") / "kept.sqlite3")
    desk = Desk(store)
    desk.write(demo_session(), NOON)
    yield store, desk, LogBook(store, desk)
    store.close()


@settings(max_examples=8 * SOAK)
@given(st.lists(st.sampled_from(sorted(ACTS)), min_size=1, max_size=6))
def test_acts_taken_back_last_first_leave_every_row_as_it_was(kept, names):
    store, desk, book = kept
    seen, keys = [everything(store)], []
    for name in names:
        with store.undoable(name, NOON) as act:
            ACTS[name](desk, book)
        keys.append(act.key)
        seen.append(everything(store))
    for key in reversed(keys):
        assert everything(store) == seen.pop()
        if key is not None:
            assert desk.undo(key, NOON).stayed == 0
            with pytest.raises(NotThere):
                desk.undo(key, NOON)  # once
    assert everything(store) == seen.pop()


def test_what_was_used_since_stays_and_is_counted(kept):
    store, desk, _ = kept
    with store.undoable("two packs", NOON) as act:
        desk.save_pack(even("USED", 3.8), None, NOON)
        desk.save_pack(even("FRESH", 3.8), None, NOON)
    desk.record_reading("USED", Reading.of_cells((3.9,) * 4), NOON)
    undone = desk.undo(act.key, NOON)
    tags = {pack.id for pack in desk.session().packs}
    assert "USED" in tags
    assert "FRESH" not in tags
    assert (undone.what, undone.stayed) == ("two packs", 1)
    assert len(desk.readings("USED")) == 1  # the act's own reading is gone, the later one stands


def test_taking_back_can_be_taken_back(kept):
    store, desk, _ = kept
    with store.undoable("retired", NOON) as act:
        desk.retire(Pack, "P-05", NOON)
    gone = everything(store)
    with store.undoable("taken back", NOON) as again:
        desk.undo(act.key, NOON)
    desk.undo(again.key, NOON)
    assert everything(store) == gone


def test_an_act_that_fails_can_not_be_taken_back_for_it_did_nothing(kept):
    store, desk, _ = kept
    before = everything(store), len(desk.acts())
    with pytest.raises(NotThere), store.undoable("nothing", NOON) as act:
        desk.retire(Pack, "NOBODY", NOON)
    assert (everything(store), len(desk.acts()), act.key) == (*before, None)


def test_only_the_latest_acts_are_kept(kept):
    store, desk, _ = kept
    for _ in range(KEPT + 5):
        with store.undoable("rate", NOON):
            ACTS["rules"](desk, None)
    assert len(desk.acts()) == KEPT
