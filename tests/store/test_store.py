"""What is kept: readings that are facts, changes that are whole or not at all."""

from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy.exc import IntegrityError

from iterum.core.things.kit import Board, Source
from iterum.core.things.packs import Reading
from iterum.core.things.session import Session
from iterum.demo import demo_session
from iterum.services.desk import Desk
from iterum.store.database import Store
from iterum.store.rows import TagTaken
from tests.conftest import NOON, even, pack


def test_foreign_keys_are_on_and_the_log_is_written_ahead(store):
    with store.engine.connect() as connection:
        assert connection.exec_driver_sql("PRAGMA foreign_keys").scalar() == 1
        assert connection.exec_driver_sql("PRAGMA journal_mode").scalar() == "wal"
        with pytest.raises(IntegrityError):
            connection.exec_driver_sql("INSERT INTO hand_moves (pack_key, moved_at) VALUES (99, '2026-01-01')")


def test_everything_of_a_session_is_there_again_after_a_restart(tmp_path):
    path = tmp_path / "kept.sqlite3"
    store = Store(path)
    Desk(store).write(demo_session(), NOON)
    store.close()
    again = Desk(Store(path))
    demo = demo_session()
    packs = sorted(demo.packs, key=lambda item: item.id)
    read_now = [replace(one, reading=one.reading and replace(one.reading, taken_at=NOON)) for one in packs]
    assert again.session() == replace(demo, packs=tuple(read_now), starts_at=NOON)
    again.close()


def test_a_correction_stands_beside_what_it_corrects(desk):
    desk.save_pack(pack("P", cells=2), None, NOON)
    wrong = desk.record_reading("P", Reading.of_cells((3.48, 3.84), NOON), NOON)
    desk.record_reading("P", Reading.of_cells((3.84, 3.84), NOON), NOON + timedelta(minutes=1), corrects=wrong)
    newest, oldest = desk.readings("P")
    assert (oldest.reading.cell_v, oldest.corrected_by) == ((3.48, 3.84), newest.key)
    assert (newest.reading.cell_v, newest.corrects) == ((3.84, 3.84), wrong)
    assert desk.session().packs[0].reading.cell_v == (3.84, 3.84)


def test_the_reading_in_force_is_the_latest_by_its_own_time(desk):
    desk.save_pack(pack("P", cells=1), None, NOON)
    desk.record_reading("P", Reading.of_cells((3.9,), NOON), NOON)
    desk.record_reading("P", Reading.of_cells((3.7,), NOON - timedelta(hours=2)), NOON + timedelta(minutes=1))
    assert desk.session().packs[0].reading.cell_v == (3.9,)


def test_a_change_that_fails_half_way_leaves_nothing(desk):
    wrong = even("Q", 3.9)
    object.__setattr__(wrong, "cells", None)  # no pack can be made so
    twice = Session(packs=(even("P", 3.8), wrong))
    with pytest.raises(IntegrityError):
        desk.write(twice, NOON)
    assert desk.session() == Session()


def test_an_import_is_not_taken_over_what_changed_meanwhile(desk):
    before = desk.revision()
    desk.save_pack(even("P", 3.8), None, NOON)
    assert not desk.write(demo_session(), NOON, expected_revision=before)
    assert [item.id for item in desk.session().packs] == ["P"]


def test_a_tag_is_used_once_also_by_retired_things(desk):
    desk.save_pack(even("P", 3.8), None, NOON)
    desk.retire(type(even("P", 3.8)), "P", NOON)
    with pytest.raises(TagTaken):
        desk.save_pack(even("P", 3.8), None, NOON)


def test_what_is_retired_can_be_brought_back_with_its_readings(desk):
    desk.save_pack(even("P", 3.8), None, NOON)
    desk.save_kit_item(Board("B", 4), None)
    before = desk.session()
    for kind, tag in ((type(before.packs[0]), "P"), (Board, "B")):
        desk.retire(kind, tag, NOON)
    assert (desk.session().packs, desk.session().kit.boards) == ((), ())
    for kind, tag in ((type(before.packs[0]), "P"), (Board, "B")):
        desk.retire(kind, tag, None)
    assert desk.session() == before


def test_a_channel_taken_off_a_charger_can_be_put_back(desk):
    desk.write(demo_session(), NOON)
    before = desk.session()
    twin = next(item for item in before.kit.chargers if item.id == "twin")
    desk.save_kit_item(replace(twin, channels=twin.channels[:1]), known_as="twin")
    assert desk.removed_channels() == (("twin", "Twin-2"),)
    assert "Twin-2" not in {channel.id for _, channel in desk.session().kit.channels()}
    desk.put_channel_back("Twin-2")
    assert desk.session() == before


def test_whoever_is_fed_by_a_source_follows_its_new_tag(desk):
    desk.write(demo_session(), NOON)
    bank = next(item for item in desk.session().kit.sources if item.id == "bank")
    desk.save_kit_item(replace(bank, id="big"), known_as="bank")
    assert {item.id: item.fed_by for item in desk.session().kit.chargers}["small"] == "big"
    assert isinstance(bank, Source)


def test_a_move_by_hand_is_forgotten_when_its_pack_is_measured_anew(desk):
    desk.write(demo_session(), NOON)
    group = next(item for item in desk.matching(NOON)[0].groups if item.family == "lipo-4S")
    desk.move(group.packs[0].id, None, NOON)
    assert [move.pack_id for move in desk.matching(NOON)[1]] == [group.packs[0].id]
    desk.record_reading(group.packs[0].id, group.packs[0].reading, NOON)
    assert desk.matching(NOON)[1] == ()
