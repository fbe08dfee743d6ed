"""Server time of each page, with the demo data and with 500 packs (goal: under 50 ms at the median)."""

import re
from datetime import UTC, datetime

import pytest

from benchmarks.sessions import random_session
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


@pytest.mark.parametrize("path", ["/match", "/rules"])
@pytest.mark.benchmark(group="pages after a change")
def test_page_after_a_change(benchmark, client, path):
    """Nothing kept from before: a reading was just written down."""
    token = re.search(r'name="csrf-token" content="([^"]+)"', client.get("/kit").text)[1]

    def change():
        client.post("/match/move", data={"csrf_token": token, "to": "all-back"})

    benchmark.pedantic(client.get, (path,), setup=change, rounds=15)
