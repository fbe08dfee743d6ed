"""Server time of each page, with the demo data and with 500 packs (goal: under 50 ms at the median)."""

from datetime import UTC, datetime, timedelta

import pytest

from benchmarks.sessions import random_session
from iterum.core.things.packs import Reading
from iterum.demo import demo_session
from iterum.web import create_app

NOW = datetime(2026, 6, 13, 9, 0, tzinfo=UTC)
PAGES = ("/measure", "/match", "/charge", "/put-away", "/packs", "/kit", "/rules", "/files", "/wrong")


@pytest.fixture(scope="module", params=["demo", "500 packs"])
def client(request, tmp_path_factory):
    app = create_app(tmp_path_factory.mktemp("pages") / "bench.sqlite3", lambda: NOW)
    desk = app.extensions["iterum"]["desk"]
    desk.write(demo_session() if request.param == "demo" else random_session(500), NOW)
    yield app.test_client()
    desk.close()


@pytest.mark.parametrize("path", PAGES)
@pytest.mark.benchmark(group="pages")
def test_page(benchmark, client, path):
    answer = benchmark(client.get, path)
    assert answer.status_code == 200


COUNTS = (60, 500)
PARTS = {
    "read the session": lambda desk: desk.session(NOW),
    "and match": lambda desk: desk.matching(NOW),
    "and place and size the groups": lambda desk: desk.placed(NOW),
}


@pytest.fixture(scope="module", params=COUNTS)
def measured(request, tmp_path_factory):
    """An application with so many packs, and a change: one pack read again, a hundredth of a volt lower each time."""
    app = create_app(tmp_path_factory.mktemp("measured") / "bench.sqlite3", lambda: NOW)
    desk = app.extensions["iterum"]["desk"]
    desk.write(random_session(request.param), NOW)
    read = [pack for pack in desk.session().packs if pack.reading and pack.reading.cell_v]
    times = iter(range(1, 10_000))

    def change():
        at = next(times)
        pack = read[at % len(read)]
        volts = tuple(round(cell_v - 0.001 * (at % 7), 3) for cell_v in pack.reading.cell_v)
        desk.record_reading(pack.id, Reading.of_cells(volts, NOW + timedelta(seconds=at)), NOW + timedelta(seconds=at))

    yield app, desk, change, request.param
    desk.close()


@pytest.mark.parametrize("path", ["/match", "/rules"])
def test_page_right_after_a_reading(benchmark, measured, path):
    app, _, change, count = measured
    client = app.test_client()
    client.get(path)
    benchmark.group = f"right after a reading, {count} packs"
    benchmark.pedantic(client.get, (path,), setup=change, rounds=15)


@pytest.mark.parametrize("part", PARTS)
def test_share_of_each_part(benchmark, measured, part):
    """What of the page's time goes into which part; each line holds those before it."""
    _, desk, change, count = measured
    desk.placed(NOW)
    benchmark.group = f"shares right after a reading, {count} packs"
    benchmark.pedantic(PARTS[part], (desk,), setup=change, rounds=15)
