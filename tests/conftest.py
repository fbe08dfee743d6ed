"""What every test stands on: a clock that stands still, a database of its own, no network beyond this machine."""

import gc
import os
import shutil
import socket
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import ClassVar

import pytest
from flask import Flask
from hypothesis import HealthCheck, settings
from jinja2 import BytecodeCache
from sqlalchemy import Connection, Engine, event
from sqlalchemy.dialects.sqlite.pysqlite import SQLiteDialect_pysqlite
from werkzeug.routing import Rule

from iterum.core.reasons import Unsafe
from iterum.core.sizing.size import Judged, Sizing, charge, size
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice
from iterum.core.things.feed import feed_of
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.packs import Condition, Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup
from iterum.demo.live import load_demo
from iterum.services.desk import Desk
from iterum.store import database
from iterum.store.database import Store
from iterum.web import create_app

os.environ["PYBAMM_DISABLE_TELEMETRY"] = "true"


class Compiled(BytecodeCache):
    """Templates as they were compiled for the first application of this process: each test makes its own."""

    known: ClassVar[dict[str, bytes]] = {}

    def load_bytecode(self, bucket):
        if bucket.key + bucket.checksum in self.known:
            bucket.bytecode_from_string(self.known[bucket.key + bucket.checksum])

    def dump_bytecode(self, bucket):
        self.known[bucket.key + bucket.checksum] = bucket.bytecode_to_string()


Flask.jinja_options = {**Flask.jinja_options, "bytecode_cache": Compiled()}
BUILDER, BUILDERS = Rule._compile_builder, {}


def builder_of(rule: Rule, append_unknown: bool = True) -> object:
    """What builds the addresses of a route, as it was compiled for the first application: half of what making one takes."""
    key = (rule.rule, rule.subdomain, str(rule.defaults), append_unknown)
    if key not in BUILDERS:
        BUILDERS[key] = BUILDER(rule, append_unknown)
    return BUILDERS[key]


Rule._compile_builder = builder_of

MIGRATE = database.migrate
MIGRATED: dict[str, bytes] = {}


def migrated(engine: Engine, path: Path) -> None:
    """A new database is a copy of the first one of this process, which takes less time than making its tables."""
    if path.exists() or path.suffix != ".sqlite3":
        MIGRATE(engine, path)
        return
    if not MIGRATED:
        MIGRATE(engine, path)
        with engine.connect() as connection:
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        engine.dispose()
        MIGRATED["new"] = path.read_bytes()
    path.write_bytes(MIGRATED["new"])


database.migrate = migrated

STATEMENTS: dict[object, object] = {}
# A statement is compiled for a dialect, and each database has one of its own; they are all the same.
SQLiteDialect_pysqlite.__hash__ = lambda dialect: hash(type(dialect))
SQLiteDialect_pysqlite.__eq__ = lambda dialect, other: type(dialect) is type(other)


@event.listens_for(Engine, "engine_connect")
def _compiled_before(connection: Connection) -> None:
    """Statements as they were compiled for the first database of this process."""
    connection.execution_options(compiled_cache=STATEMENTS)


SOAK = int(os.environ.get("ITERUM_SOAK", "1"))
"""How many times as many random cases as usual: 1, or what `make soak` asks for."""

NOON = datetime(2026, 6, 13, 12, 0, tzinfo=UTC)

# A loaded machine is slow at times; that says nothing about a law.
settings.register_profile(
    "repeatable", max_examples=50 if SOAK == 1 else 20 * SOAK, derandomize=True, deadline=None, print_blob=True,
    suppress_health_check=[HealthCheck.too_slow],
)  # fmt: skip
settings.load_profile("repeatable")


def pytest_collection_finish() -> None:
    """What all tests share is not looked through again and again for what nobody needs any more."""
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


@pytest.fixture(autouse=True)
def _no_network(monkeypatch: pytest.MonkeyPatch) -> None:
    """Any test that reaches beyond this machine fails."""
    connect = socket.socket.connect

    def guarded(self: socket.socket, address: object) -> object:
        if isinstance(address, tuple) and address[0] not in ("127.0.0.1", "::1", "localhost"):
            raise AssertionError(f"a test reached for {address}")
        return connect(self, address)

    monkeypatch.setattr(socket.socket, "connect", guarded)


def free_port() -> int:
    """One that nobody listens at just now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def pack(pack_id: str, *cell_v: float, mah: float = 1800, chemistry: str = "lipo", **more: object) -> Pack:
    """A measured pack in one line."""
    cells = more.pop("cells", None) or len(cell_v)
    reading = Reading.of_cells(cell_v) if cell_v else None
    condition = Condition(more.pop("condition", "ok"))
    return Pack(pack_id, chemistry, cells, mah, reading=reading, condition=condition, **more)


def even(pack_id: str, cell_v: float, cells: int = 4, **more: object) -> Pack:
    """A measured pack whose cells all read the same."""
    return pack(pack_id, *[cell_v] * cells, **more)


def setup(
    board: Board | None = None, charger: Charger | None = None, kit: Kit | None = None, **channel: object
) -> Setup:
    """A channel with its feed; generous where nothing is said."""
    chosen = Channel(**{"id": "ch", "max_current_a": 200, "max_power_w": 10_000, "max_cells": 14, **channel})
    charger = charger or Charger("charger", (chosen,))
    return Setup(board, chosen, feed_of(charger, kit or Kit()))


BOARD = Board("B-6", 6)


def bench_of(packs: Sequence[Pack], where: Setup, rules: HouseRules | None = None) -> Bench:
    """A bench on which these packs are, and only this board, channel and feed."""
    feed = where.feed
    charger = replace(feed.charger, channels=(where.channel,))
    kit = Kit(
        boards=where.board.parts or (where.board,) if where.board else (),
        chargers=(charger,),
        supplies=feed.supplies,
        sources=(feed.source,) if feed.source else (),
    )
    return Bench(tuple(packs), kit, rules or HouseRules(rate_c=1.0))


def choice_for(packs: Sequence[Pack], where: Setup, **more: object) -> Choice:
    """These packs there."""
    board = where.board.id if where.board else None
    return Choice(tuple(pack.id for pack in packs), board, where.channel.id, **more)


def sized(packs: Sequence[Pack], where: Setup, rules: HouseRules | None = None, **more: object) -> Sizing:
    """What `size` answers for packs at a place."""
    return size(bench_of(packs, where, rules), choice_for(packs, where, **more))


def charged(packs: Sequence[Pack], where: Setup, rules: HouseRules | None = None, **more: object) -> Judged:
    """What `charge` answers for packs at a place."""
    return charge(bench_of(packs, where, rules), choice_for(packs, where, **more))


SLOW = ("browser", "web", "services", "planning", "published", "test_offers", "test_one_answer", "test_package", "test_cli",
        "test_recipes", "test_use_and_storage", "test_before", "test_log_lines", "test_devices", "test_joining",
        "test_matching")  # fmt: skip
"""Tests that take longer than one waits for while one works: `make check` leaves them out."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if any(part.removesuffix(".py") in SLOW for part in item.path.parts):
            item.add_marker("slow")


@pytest.fixture(scope="session")
def empty_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An empty database with all its tables, made once and copied for each test."""
    path = tmp_path_factory.mktemp("empty") / "empty.sqlite3"
    Store(path).close()
    return path


@pytest.fixture
def store(tmp_path: Path, empty_file: Path) -> Iterator[Store]:
    opened = Store(Path(shutil.copy(empty_file, tmp_path / "test.sqlite3")))
    yield opened
    opened.close()


@pytest.fixture
def desk(store: Store) -> Desk:
    return Desk(store)


@pytest.fixture(scope="session")
def demo_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A database with the demo in it, made once and copied for each test."""
    path = tmp_path_factory.mktemp("demo") / "demo.sqlite3"
    store = Store(path)
    load_demo(store, Desk(store), NOON)
    store.close()
    return path


@pytest.fixture
def demo_app(tmp_path: Path, demo_file: Path):
    shutil.copy(demo_file, tmp_path)
    app = create_app(tmp_path / demo_file.name, lambda: NOON)
    yield app
    app.extensions["iterum"]["rehearsals"].end()
    app.extensions["iterum"]["desk"].close()


@pytest.fixture
def empty_app(tmp_path: Path, empty_file: Path):
    shutil.copy(empty_file, tmp_path)
    app = create_app(tmp_path / empty_file.name, lambda: NOON)
    yield app
    app.extensions["iterum"]["rehearsals"].end()
    app.extensions["iterum"]["desk"].close()


@contextmanager
def refused(code):
    """Something unsafe is refused, and one of the reasons is this one, or begins with it."""
    with pytest.raises(Unsafe) as told:
        yield
    assert [item.code for item in told.value.reasons if item.code.startswith(code)], told.value
