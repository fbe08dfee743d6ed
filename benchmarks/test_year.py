"""A year of logs: 60 packs, 5,000 charges, 500,000 readings (goals: pages under 50 ms, server under 200 MB)."""

import json
import os
import random
import socket
import subprocess
import sys
import time
import urllib.request
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import insert

from benchmarks.sessions import random_session
from iterum.guardian.guardian import Guardian
from iterum.services.desk import Desk
from iterum.services.links import Links
from iterum.services.running import RunDesk
from iterum.store import tables
from iterum.store.database import Store
from iterum.web import create_app

NOW = datetime(2026, 6, 13, 9, 0, tzinfo=UTC)
CHARGES, READINGS, PACKS = 5_000, 500_000, 60
PAGES = ("/measure", "/match", "/plan", "/heats", "/charge", "/put-away", "/packs", "/log", "/log?kind=readings",
         "/log?kind=acts", "/log?pack=P-000", "/log/report", "/packs/health?id=P-000", "/use?pack=P-000", "/run/alarms",
         "/run/1", "/run/1/live", "/kit", "/rules", "/wrong")  # fmt: skip
LIMIT_MB = 200


def fill(path):
    """Runs of four packs each through a year, 400 readings a run, the log of each pack."""
    rng, store = random.Random(1), Store(path)
    desk = Desk(store)
    desk.write(random_session(PACKS), NOW - timedelta(days=366))
    runs = RunDesk(store, desk, Links(store, Guardian(lambda: NOW)))
    first = runs.begin(["P-000"], None, "c0", None, NOW - timedelta(days=365))
    with store.reading() as repository:
        keys = {row.id: row.key for row in repository._rows(tables.packs.select())}
        card = repository.runs.get(first).card
    tags = sorted(keys)
    count, each = CHARGES // 4, READINGS // (CHARGES // 4)
    t_min = [n * 0.5 for n in range(80)]
    expected = {
        "cells": 4,
        "t_min": t_min,
        "cell_v": [3.8 + 0.005 * n for n in range(80)],
        "current_a": [7.2] * 80,
        "charge_mah": [60.0 * n for n in range(80)],
        "low_min": 38,
        "high_min": 42,
        "balance_min": 20,
        "end_v": 4.2,
        "timer_min": 90,
        "dialled_a": 7.2,
    }
    with store.engine.begin() as connection:
        for number in range(count):
            at = NOW - timedelta(days=365 * (1 - number / count), minutes=90)
            packs = rng.sample(tags, 4)
            values = {
                "begun_at": at,
                "packs": packs,
                "family": "lipo-4S",
                "channel": "c0",
                "current_a": 7.2,
                "rate_c": 1.0,
                "card": vars(card),
                "expected": expected,
                "before_v": {tag: [3.8] * 4 for tag in packs},
                "state": "checked after",
                "state_at": at,
                "charging_at": at,
                "paused_min": 0.0,
                "ended_at": at + timedelta(minutes=40),
                "driven": False,
            }
            key = connection.execute(insert(tables.runs).values(values).returning(tables.runs.c.key)).scalar_one()
            connection.execute(
                insert(tables.run_events),
                [
                    {
                        "run_key": key,
                        "at": at,
                        "act": act,
                        "state": "checked after",
                        "skipped": act == "inspect",
                        "by": "you",
                    }
                    for act in ("inspect", "plug in", "even out", "read back", "start", "finish", "check after")
                ],
            )
            connection.execute(
                insert(tables.observations),
                [
                    {
                        "run_key": key,
                        "at": at + timedelta(seconds=6 * n),
                        "at_min": n / 10,
                        "origin": "charger",
                        "pack_v": 15.2 + n * 0.004,
                        "current_a": 7.2,
                        "charge_mah": 12.0 * n,
                        "cell_v": [3.8 + n * 0.001] * 4,
                        "temperature_c": 22.0,
                        "by_hand": n % 100 == 99,
                    }
                    for n in range(each)
                ],
            )
            connection.execute(
                insert(tables.charges),
                [
                    {
                        "pack_key": keys[tag],
                        "run_key": key,
                        "at": at,
                        "origin": "run",
                        "charge_mah": rng.uniform(700, 1400),
                        "minutes": 40.0,
                        "rate_c": 1.0,
                        "before_v": [3.78] * 4,
                        "after_v": [4.19] * 4,
                        "resistance_mohm": [6.0 + number / 900] * 4,
                    }
                    for tag in packs
                ],
            )
    store.close()


@pytest.fixture(scope="module")
def year(tmp_path_factory):
    path = tmp_path_factory.mktemp("year") / "iterum.sqlite3"
    fill(path)
    return path


@pytest.fixture(scope="module")
def client(year):
    app = create_app(year, lambda: NOW)
    yield app.test_client()
    app.extensions["iterum"]["desk"].close()


@pytest.mark.parametrize("path", PAGES)
@pytest.mark.benchmark(group="pages with a year of logs")
def test_page(benchmark, client, path):
    answer = benchmark(client.get, path)
    assert answer.status_code == 200


def test_memory_of_the_server(year, capsys):
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "iterum", "serve", "--port", str(port), "--data", str(year.parent)]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        for _ in range(100):
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{port}/kit", timeout=1)
                break
            except OSError:
                time.sleep(0.2)
        for _ in range(3):
            for path in PAGES:
                urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=20).read()
        status = Path(f"/proc/{process.pid}/status").read_text()
        process.terminate()
    held_mb = {
        name: int(line.split()[1]) / 1024
        for line in status.splitlines()
        for name in ("VmHWM", "VmRSS")
        if line.startswith(name)
    }
    with capsys.disabled():
        print(json.dumps({name: round(value) for name, value in held_mb.items()}), os.cpu_count(), "cores")
    assert held_mb["VmHWM"] < LIMIT_MB
