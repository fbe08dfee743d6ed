"""Whole copies, and what is said when the database cannot be used: one sentence and what to do, nothing eaten."""

import os
import re
import sqlite3
import subprocess
import sys
import threading
from datetime import timedelta

import pytest
from click.testing import CliRunner
from sqlalchemy import event

from iterum.cli import main
from iterum.core.things.packs import Reading
from iterum.services.desk import Desk
from iterum.store.copies import KEPT, DailyCopies, check, copy, restore
from iterum.store.database import Store
from iterum.store.troubles import StoreTrouble
from tests.conftest import NOON, even, free_port
from tests.web.conftest import Visitor


@pytest.fixture
def kept(tmp_path):
    """A store with one pack, and its path."""
    path = tmp_path / "it # is 100%.sqlite3"
    store = Store(path)
    Desk(store).save_pack(even("P", 3.8), None, NOON)
    yield store, path
    store.close()


def readings(path):
    store = Store(path)
    try:
        return len(Desk(store).readings("P"))
    finally:
        store.close()


def test_a_copy_is_of_one_moment_whoever_writes_meanwhile_and_comes_back_whole(kept, tmp_path):
    store, path = kept
    over, desk = threading.Event(), Desk(store)

    def write():
        at = 0
        while not over.is_set():
            at += 1
            desk.record_reading("P", Reading.of_cells((3.8,) * 4, NOON + timedelta(seconds=at)), NOON)

    writer = threading.Thread(target=write)
    writer.start()
    for number in range(8):
        copy(path, tmp_path / f"{number}.sqlite3")
        check(tmp_path / f"{number}.sqlite3")
    over.set()
    writer.join()
    in_all = len(desk.readings("P"))
    store.close()
    assert [item.name for item in tmp_path.glob("it*")] == [path.name]  # nothing lies beside it
    counts = [readings(tmp_path / f"{number}.sqlite3") for number in range(8)]
    assert counts == sorted(counts)
    assert counts[-1] <= in_all
    left = restore(tmp_path / "0.sqlite3", path, NOON)
    assert (readings(path), readings(left)) == (counts[0], in_all)


def test_a_copy_is_made_once_a_day_and_the_last_ones_stay(kept):
    _, path = kept
    copies = DailyCopies(path)
    for day in range(KEPT + 3):
        assert copies.keep(NOON + timedelta(days=day))
        assert not copies.keep(NOON + timedelta(days=day, hours=1))
    kept_days = sorted(item.name for item in copies.folder.iterdir())
    assert len(kept_days) == KEPT
    assert (NOON + timedelta(days=KEPT + 2)).date().isoformat() in kept_days[-1]
    check(copies.latest())


def cut(path):
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])


def scramble(path):
    data = bytearray(path.read_bytes())
    data[:100] = os.urandom(100)
    path.write_bytes(data)


def from_tomorrow(path):
    with sqlite3.connect(path) as database:
        database.execute("pragma user_version = 9999")
    database.close()


def of_another(path):
    path.unlink()
    with sqlite3.connect(path) as database:
        database.execute("create table notes (text)")
    database.close()


@pytest.mark.parametrize(
    ("spoil", "told"),
    [(cut, "damaged"), (scramble, "damaged"), (from_tomorrow, "newer Iterum"), (of_another, "no database of Iterum")],
)
def test_a_file_that_cannot_be_used_is_told_in_a_sentence_and_left_as_it_is(kept, tmp_path, spoil, told):
    store, path = kept
    store.close()
    copy(path, tmp_path / "good.sqlite3")
    spoil(path)
    before = path.read_bytes()
    with pytest.raises(StoreTrouble, match=f"{told}.*iterum restore"):
        check(path)
    with pytest.raises(StoreTrouble):
        restore(path, tmp_path / "good.sqlite3", NOON)
    assert path.read_bytes() == before
    assert readings(tmp_path / "good.sqlite3") == 1
    folder = path.rename(tmp_path / "iterum.sqlite3").parent
    ended = CliRunner().invoke(main, ["serve", "--data", str(folder), "--port", str(free_port())])
    assert (ended.exit_code, type(ended.exception)) == (2, SystemExit)
    assert told in ended.stderr


def test_two_servers_on_one_folder_are_one_too_many(tmp_path):
    port = free_port()
    first = subprocess.Popen([sys.executable, "-m", "iterum", "serve", "--data", str(tmp_path), "--port", str(port)],
                             stdout=subprocess.PIPE, text=True)  # fmt: skip
    assert str(port) in first.stdout.readline()
    second = CliRunner().invoke(main, ["serve", "--data", str(tmp_path), "--port", str(free_port())])
    first.terminate()
    first.wait(30)
    first.stdout.close()
    assert (second.exit_code, "runs on" in second.stderr) == (2, True)


@pytest.mark.parametrize(
    ("pragma", "told"), [("max_page_count = 1", "The disk is full"), ("query_only = ON", "may not be written")]
)
def test_what_was_typed_is_shown_again_when_it_cannot_be_saved(demo_app, pragma, told):
    visitor, store = Visitor(demo_app), demo_app.extensions["iterum"]["store"]
    store.engine.dispose()

    def strangle(connection, _record):
        connection.execute(f"PRAGMA {pragma}")

    event.listen(store.engine, "connect", strangle)
    for number in range(300):  # what is free in the last page is used first
        name = f"New {number}"
        answer = visitor.post("/packs/edit", id=name, chemistry="lipo", cells="4", capacity_mah="1000", note="x" * 200)
        if answer.status_code != 200:
            break
    event.remove(store.engine, "connect", strangle)
    store.engine.dispose()
    assert (answer.status_code, told in answer.text) == (507, True)
    address, typed = answer.seen.form("Send it again")
    assert typed["id"] == [name]
    assert name not in {pack.id for pack in Desk(store).session().packs}
    visitor.post(address, **typed)
    assert name in {pack.id for pack in Desk(store).session().packs}


def test_the_files_page_says_where_the_data_lies_and_gives_a_copy(demo_app, tmp_path):
    visitor = Visitor(demo_app)
    assert str(demo_app.extensions["iterum"]["store"].path) in visitor.get("/files").seen.said
    taken = tmp_path / "taken.sqlite3"
    taken.write_bytes(visitor.client.get("/files/copy.sqlite3").data)
    check(taken)
    assert re.search("P-01", str(Desk(Store(taken)).session().packs))
