"""A database of before opens, whole, whatever happens on the way."""

import shutil
from dataclasses import replace
from pathlib import Path

import pytest
from sqlalchemy import Engine, create_engine, event, inspect

from iterum.core.planning.history import Past
from iterum.core.planning.planner import Planner
from iterum.core.planning.record import Offer, PlanRecord, record_of
from iterum.core.reasons import reason
from iterum.core.season.run import State
from iterum.core.things.kit import DEFAULT_LEAD_MOHM
from iterum.demo import demo_session
from iterum.services.archiving import Archives
from iterum.services.desk import Desk
from iterum.services.logbook import LogBook, Query
from iterum.services.running import RunDesk
from iterum.store.database import Store
from iterum.store.documents import from_document, to_document
from iterum.store.troubles import StoreTrouble
from iterum.store.versions import FIRST, VERSION, lacking
from iterum.web.app import create_app
from tests.conftest import NOON
from tests.devices.bench import links_of


class Died(Exception):
    """The process ends at a statement."""


KEPT = Path(__file__).parent / "before" / "0017.sqlite3"
"""The demo, planned, with one batch that was stopped and logged and one in hand; written when plans held sentences."""


@pytest.fixture
def path(tmp_path):
    return Path(shutil.copy(KEPT, tmp_path / "bench.sqlite3"))


def test_plan_runs_and_log_of_before_are_read(path):
    store = Store(path)
    desk = Desk(store)
    plan = desk.latest_plan().plan
    assert (len(desk.session().packs), len(plan.batches), plan.visits > 0) == (32, len(plan.reasons), True)
    assert all(batch.end_min >= batch.full_min > batch.lead_min for batch in plan.batches)
    assert {item.wish.name for item in plan.wanted} >= {"Pylon heat 1", "Tow 1"}
    over, in_hand = RunDesk(store, desk, links_of(store)).latest()[::-1]
    assert (over.state, over.packs, over.expected.minutes > 0) == (State.CHECKED, ("P-12",), True)
    assert (in_hand.state, in_hand.choice.packs, in_hand.card.cells) == (State.PLANNED, ("T-01",), 6)
    (row,) = LogBook(store, desk).entries(Query(kind="charges", pack_id="P-12"))
    assert row["charge_mah"] == 500
    store.close()
    visitor = create_app(path, lambda: NOON).test_client()
    for address in ("/plan", "/plan?batch=0", "/plan/sheet", "/bench", "/run/1", "/run/2", "/log", "/measure"):
        assert visitor.get(address).status_code == 200, address


def test_a_plan_whose_tags_bore_their_round_is_read():
    planner = Planner(demo_session())
    record = record_of(
        planner.plan(), past=Past(done=planner.plan().batches[:1]), offers=[Offer(reason("replan_same"))]
    )
    assert {number for batch in record.batches for number in batch.rounds} >= {1, 2}

    def before(batch):
        named = [tag if number == 1 else f"{tag} ↻{number}" for tag, number in batch.pop("charges")]
        return batch | {"packs": named}

    document = to_document(record) | {"version": 2}
    document["batches"] = [before(batch) for batch in document["batches"]]
    document["past"]["done"] = [before(batch) for batch in document["past"]["done"]]
    document["offers"][0]["plan"] = {name: document[name] for name in document if name not in ("offers", "version")}
    kept = from_document(PlanRecord, document)
    assert kept == replace(record, offers=(replace(record.offers[0], plan=replace(record, offers=())),))


def test_an_archive_of_before_is_taken_in(store):
    Archives(store).take((KEPT.parent / "0017.jsonl").read_bytes())
    desk = Desk(store)
    assert len(desk.session().packs) == 32
    assert len(desk.latest_plan().plan.batches) > 0
    assert LogBook(store, desk).entries(Query(kind="charges", pack_id="P-12"))[0]["charge_mah"] == 500


def without(path, *statements):
    """The same database as it was when it had less."""
    engine = create_engine(f"sqlite:///{path}")
    with engine.connect() as connection:
        for statement in statements:
            connection.exec_driver_sql(statement)
        connection.commit()
    engine.dispose()


def test_what_a_database_of_before_lacks_is_added_with_its_default(path):
    without(path, "ALTER TABLE packs DROP COLUMN memory", "ALTER TABLE packs DROP COLUMN cells_confirmed",
            "ALTER TABLE boards DROP COLUMN lead_mohm", "DROP TABLE incidents", "DROP INDEX ix_runs_state")  # fmt: skip
    store = Store(path)
    session = Desk(store).session()
    assert {(one.memory, one.cells_confirmed) for one in session.packs} == {(None, False)}
    assert {board.lead_mohm for board in session.kit.boards} == {DEFAULT_LEAD_MOHM}
    with store.engine.connect() as connection:
        assert list(lacking(connection)) == []
        assert inspect(connection).has_table("incidents")
    store.close()


@pytest.mark.parametrize(("version", "told"), [(VERSION + 1, "newer"), (FIRST - 1, "trial version")])
def test_a_database_of_another_version_is_left_as_it_is(path, version, told):
    without(path, f"PRAGMA user_version = {version}")
    before = path.read_bytes()
    with pytest.raises(StoreTrouble, match=told):
        Store(path)
    assert path.read_bytes() == before


def test_one_that_dies_on_the_way_leaves_the_database_as_it_was_and_is_done_the_next_time(path):
    without(path, *(f"ALTER TABLE packs DROP COLUMN {name}" for name in ("memory", "pins", "cycles", "timer_s")))
    left, died = [0], 0

    def die(*_args):
        left[0] -= 1
        if left[0] < 0:
            raise Died

    event.listen(Engine, "before_cursor_execute", die)
    try:
        for statements in range(400):
            left[0] = statements
            try:
                Store(path).close()
                break
            except Died:
                died += 1
    finally:
        event.remove(Engine, "before_cursor_execute", die)
    assert died >= 50
    copies = [item for item in path.parent.iterdir() if ".before-" in item.name]
    assert [item.suffix for item in copies] == [".sqlite3"]
    for file in (path, copies[0]):
        store = Store(file)
        assert len(Desk(store).session().packs) == 32
        store.close()
