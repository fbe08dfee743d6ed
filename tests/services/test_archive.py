"""Everything out and in: the same on an empty bench, nothing twice on another, all or nothing, and taken back."""

import io
import json
import re
import shutil
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import jsonschema
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from iterum.cli import main
from iterum.core.fields import BadInput
from iterum.core.season.health import ChargeRecord
from iterum.core.things.packs import Condition, Pack
from iterum.services.archiving import Archives
from iterum.services.desk import Desk
from iterum.services.logbook import LogBook, Query
from iterum.store.archive import schema
from iterum.store.database import Store
from iterum.web.app import create_app
from tests.conftest import NOON, SOAK, even
from tests.store.test_before import KEPT
from tests.store.test_undo import everything
from tests.web.conftest import Visitor

PAGES = ("/measure", "/match", "/plan", "/plan/sheet", "/heats", "/bench", "/run/1", "/run/2", "/put-away", "/packs", "/kit", "/rules",
         "/log", "/log?kind=acts", "/log?kind=measured", "/log/report", "/use", "/packs/health?id=P-12", "/files/session.json")  # fmt: skip


@pytest.fixture(scope="module")
def full(tmp_path_factory):
    """A bench with everything on it: plan, a batch over, one in hand, a log, a retired pack, a correction."""
    path = Path(shutil.copy(KEPT, tmp_path_factory.mktemp("full") / "bench.sqlite3"))
    store = Store(path)
    desk = Desk(store)
    desk.retire(Pack, "P-02", NOON)
    desk.set_rules(replace(desk.session().rules, rate_c=0.7), NOON)
    desk.set_air(19.5, NOON)
    yield store, Archives(store).text(NOON)
    store.close()


@pytest.fixture
def fresh(tmp_path):
    """An empty bench."""
    store = Store(tmp_path / "bench.sqlite3")
    yield store
    store.close()


def edited(text, table, number=0, **values):
    """The archive with other values in the nth row of a table."""
    lines = text.splitlines()
    at = [index for index, line in enumerate(lines) if json.loads(line).get("table") == table][number]
    lines[at] = json.dumps({**json.loads(lines[at]), **values})
    return "\n".join(lines).encode(), at + 1


def test_on_an_empty_bench_every_row_and_every_page_is_the_same(full, fresh):
    store, text = full
    taken = Archives(fresh).take(text.encode())
    assert everything(fresh) == everything(store)
    assert (taken.here, taken.left_out) == ({}, {})
    visitors = [create_app(one.path, lambda: NOON).test_client() for one in (store, fresh)]
    for page in PAGES:
        one, other = (
            re.sub(r'"(?:[\w-]+\.){2}[\w-]+"|value="\d+"', "", visitor.get(page).text) for visitor in visitors
        )
        assert len(one) > 500
        assert one == other, (
            page,
            [pair for pair in zip(one.split(), other.split(), strict=False) if pair[0] != pair[1]][:9],
        )


def test_every_line_fits_the_published_schema(full):
    check = jsonschema.Draft202012Validator(schema())
    for line in full[1].splitlines():
        check.validate(json.loads(line))


def test_taken_in_twice_nothing_is_new(full, fresh):
    Archives(fresh).take(full[1].encode())
    before = everything(fresh)
    again = Archives(fresh).take(full[1].encode())
    assert again.new == {}
    assert everything(fresh) == before


def bench_with(folder, name, charges, packs):
    store = Store(folder / f"{name}.sqlite3")
    desk = Desk(store)
    for tag in sorted(packs | {tag for tag, _ in charges}):
        desk.save_pack(even(tag, 3.8), None, NOON)
    LogBook(store, desk).take_charges(
        [(tag, ChargeRecord(NOON - timedelta(days=day), 900.0 + day, 40.0)) for tag, day in sorted(charges)], [], {}
    )
    return store


TAGS = st.sampled_from("ABCD")
CHARGES = st.sets(st.tuples(TAGS, st.integers(1, 9)), max_size=8)


@settings(max_examples=4 * SOAK)
@given(CHARGES, CHARGES, st.sets(TAGS), st.sets(TAGS))
def test_two_benches_merged_hold_what_either_held_once(tmp_path_factory, mine, theirs, my_packs, their_packs):
    folder = tmp_path_factory.mktemp("two")
    one, other = bench_with(folder, "one", mine, my_packs), bench_with(folder, "other", theirs, their_packs)
    text = Archives(other).text(NOON).encode()
    for _ in range(2):
        Archives(one).take(text)
        desk = Desk(one)
        rows = LogBook(one, desk).entries(Query(), None)
        held = sorted((row["pack"], (NOON - row["at"]).days) for row in rows)
        assert held == sorted(mine | theirs)
        assert {pack.id for pack in desk.session().packs} == my_packs | their_packs | {tag for tag, _ in mine | theirs}
    one.close()
    other.close()


def test_what_holds_on_a_bench_stays_and_what_is_less_safe_wins(full, fresh):
    desk = Desk(fresh)
    desk.save_pack(replace(next(p for p in Desk(full[0]).session().packs if p.id == "P-12"), name="mine"), None, NOON)
    desk.set_rules(replace(desk.session().rules, rate_c=0.3), NOON)
    raw, _ = edited(full[1], "packs", 11, condition="damaged")
    assert json.loads(raw.splitlines()[_ - 1])["id"] == "P-12"
    taken = Archives(fresh).take(raw)
    now = {pack.id: pack for pack in Desk(fresh).session().packs}
    assert (now["P-12"].name, now["P-12"].condition) == ("mine", Condition.DAMAGED)
    assert Desk(fresh).session().rules.rate_c == 0.3
    assert taken.left_out.keys() >= {"house_rules", "runs"}  # the rules of there, and what is in hand there
    assert all(run.state.value == "checked after" for run in create_runs(fresh))


def create_runs(store):
    with store.reading() as repository:
        return repository.runs.latest(99)


@pytest.mark.parametrize(("table", "values", "says"), [
    ("packs", {"cells": "4"}, "integer"),
    ("packs", {"capacity_mah": -1}, "capacity"),
    ("packs", {"chemistry_name": "wood"}, "chemistry"),
    ("packs", {"colour": "red"}, "colour"),
    ("readings", {"pack_v": 1e300}, "pack_v|volts|V"),
    ("readings", {"cell_v": [3.8, "x"]}, "readings.*cell_v|cell_v.*no number"),
    ("readings", {"entered_at": "0001-01-01T00:00:00+00:00"}, "our time"),
    ("readings", {"entered_at": "2026-06-13T12:00:00"}, "zone"),
    ("readings", {"pack_key": 999}, "no line before"),
    ("charges", {"charge_mah": -5}, "mAh|charge"),
    ("runs", {"state": "asleep"}, "asleep"),
    ("runs", {"card": {}}, "read back|valid"),
    ("plans", {"document": {"version": 2, "batches": 5}}, "read back"),
    ("house_rules", {"values": {"rate_c": 1e9}}, "rate|read"),
    ("wishes", {"count": 2**70}, "less than"),
    ("sources", {"energy_wh": float("nan")}, "finite|JSON|number"),
])  # fmt: skip
def test_what_cannot_be_is_refused_with_its_place_and_nothing_is_taken(table, values, says, full, fresh):
    raw, _ = edited(full[1], table, -1, **values)
    before = everything(fresh)
    with pytest.raises(BadInput) as refused:
        Archives(fresh).take(raw)
    assert re.search(says, str(refused.value)), str(refused.value)
    assert everything(fresh) == before


@pytest.mark.parametrize("mangle", [
    lambda text: b"",
    lambda text: b"{}",
    lambda text: text[: len(text) // 2].encode(),
    lambda text: text.encode("utf-16"),
    lambda text: text.replace('"version":"00', '"version":"99', 1).encode(),
    lambda text: text.replace('"table":"packs"', '"table":"sqlite_master"', 1).encode(),
    lambda text: (text + text.split("\n", 1)[1]).encode(),
    lambda text: text.encode() + b"[" * 100_000,
    lambda text: text.encode() + b'\n"\\ud800"',
])  # fmt: skip
def test_a_file_that_is_none_is_refused(mangle, full, fresh):
    before = everything(fresh)
    with pytest.raises(BadInput):
        Archives(fresh).take(mangle(full[1]))
    assert everything(fresh) == before


def test_another_pack_with_the_same_tag_is_told_and_nothing_is_taken(full, fresh):
    Desk(fresh).save_pack(even("P-12", 3.8, cells=6), None, NOON)
    with pytest.raises(BadInput, match="rename one of them"):
        Archives(fresh).take(full[1].encode())


def test_an_archive_is_taken_back_as_one(full, fresh):
    Desk(fresh).set_air(20, NOON)
    before = everything(fresh)
    with fresh.undoable("an archive", NOON) as act:
        Archives(fresh).take(full[1].encode())
    assert Desk(fresh).undo(act.key, NOON).stayed == 0
    assert everything(fresh) == before


def test_the_page_and_the_command_take_in_what_they_gave(full, fresh, tmp_path):
    source = create_app(full[0].path, lambda: NOON)
    raw = source.test_client().get("/files/archive.jsonl").data
    visitor = Visitor(create_app(fresh.path, lambda: NOON))
    answer = visitor.post("/files/archive", archive=(io.BytesIO(raw), "a.jsonl"))
    assert re.search(r"Taken in\. New: packs 32, readings \d+", answer.seen.said)
    assert everything(fresh) == everything(full[0])
    again = visitor.post("/files/archive", archive=(io.BytesIO(raw), "a.jsonl"))
    assert "packs 32" in again.seen.said
    assert "Here already:" in again.seen.said
    refused = visitor.post("/files/archive", archive=(io.BytesIO(raw[:-30]), "a.jsonl"))
    assert refused.status_code == 422
    assert "Nothing was taken" in refused.seen.said

    told = CliRunner().invoke(main, ["archive", str(tmp_path / "a.jsonl"), "--data", str(tmp_path / "none")])
    assert told.exit_code != 0
    shutil.copy(full[0].path, tmp_path / "iterum.sqlite3")
    told = CliRunner().invoke(main, ["archive", str(tmp_path / "a.jsonl"), "--data", str(tmp_path)])
    assert told.exit_code == 0, told.output
    other = tmp_path / "other"
    for says in (r"[1-9]\d* rows are new, 0 were here", r"^0 rows are new"):
        told = CliRunner().invoke(main, ["merge", str(tmp_path / "a.jsonl"), "--data", str(other)])
        assert re.search(says, told.output), told.output
    (tmp_path / "a.jsonl").write_text("{}")
    told = CliRunner().invoke(main, ["merge", str(tmp_path / "a.jsonl"), "--data", str(other)])
    assert "Nothing was taken" in told.output
    assert told.exit_code == 2
