"""The recipes of the docs, each followed to the letter in a copy of the code, linted, tried, and its rooms tested."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import iterum
from tests.conftest import SOAK

SOURCE = Path(iterum.__file__).parent
ROOT = Path(__file__).parents[1]
RECIPES = (ROOT / "docs/recipes.md").read_text()
BLOCK = re.compile(
    r"In (?:a new )?`(?P<path>[^`]+)`(?:, (?P<how>before|after|instead of) `(?P<mark>[^`]+)`)?:\n\n```\w+\n(?P<code>.*?)\n```",
    re.S,
)
ROOMS = {
    "A chemistry": "core/permit",
    "A house rule": "core/sizing/test_sizing.py",
    "A page": "web/test_assets.py",
    "A charger driver": "devices/test_log_lines.py",
    "A limit on the amps": "core/sizing/test_sizing.py",
    "A field of a pack": "core/things",
    "A preference of the planner": "core/planning/test_by_hand.py",
    "A unit": "core/reading",
    "A language": "web/test_assets.py",
}
"""The tests of what each touches; `make soak` runs all that are done in a moment."""
TRIED = {
    "A chemistry": """
        from iterum.exchange.session import from_document
        from iterum.wording import family_label
        file = {"format": "iterum-session", "version": 1, "rules": {"end_v": {"lto": 2.75}},
                "packs": [{"id": "P", "chemistry": "lto", "cells": 4, "capacity_mah": 2000, "pack_volts": 9.0}]}
        from iterum.core.permit.permit import permits
        (verdict,) = permits(from_document(file).bench).values()
        assert 0.3 < verdict.soc.value < 0.6, verdict.soc
        assert family_label(verdict.pack.family) == "4S LTO"
        assert "LTO, titanate" in visitor.get("/packs/edit").text
        """,
    "A house rule": """
        from dataclasses import replace
        from iterum.core.sizing.size import size
        from iterum.core.things.choice import Choice
        from iterum.demo import demo_session
        assert "How far beyond the predicted minutes" in visitor.get("/rules").text
        session = demo_session()
        longer, shorter = (
            size(replace(session.bench, rules=replace(session.rules, timer_factor=factor)),
                 Choice(("P-08",), None, "Twin-1")).dial.timer_min
            for factor in (1.9, 1.1))
        assert longer > shorter
        from iterum.exchange.session import dumps, parse
        changed = replace(session, rules=replace(session.rules, timer_factor=1.2))
        assert parse(dumps(changed)).rules.timer_factor == 1.2
        """,
    "A page": """
        assert "Label every pack." in visitor.get("/tips").text
        """,
    "A limit on the amps": """
        from dataclasses import replace
        from iterum.core.amps.limits import limits_of
        from iterum.core.season.upkeep import down_limits
        from iterum.core.things.setup import Setup
        from iterum.demo import demo_session
        from iterum.web.pictures.pinch import draw
        bench = demo_session().bench
        thin = replace(next(one for one in bench.packs if one.id == "P-08"), connector="jst")
        setup = bench.setup(None, "Twin-1")
        named = {limit.name: limit for limit in limits_of([thin], setup, bench.rules)}
        assert named["pack_plug"].current_a <= 5
        assert "pack_plug" in {limit.name for limit in down_limits([thin], setup, bench.rules)}
        from iterum.core.planning.problem import Problem
        from iterum.core.planning.tables import tables_of
        from iterum.core.things.session import Session
        tables = tables_of(Problem(Session((thin,), bench.kit, bench.rules)))
        assert tables.limit_c.min() <= 5 / thin.capacity_ah
        """,
    "A field of a pack": """
        assert "Weight" in visitor.get("/packs/edit").text
        from iterum.demo import demo_session
        from iterum.exchange.session import dumps, parse
        from iterum.services.desk import Desk
        from iterum.store.database import Store
        from dataclasses import replace
        import json
        moment = datetime(2026, 6, 13, tzinfo=UTC)
        session = demo_session()
        heavy = replace(session, packs=(replace(session.packs[0], weight_g=187.5), *session.packs[1:]))
        assert parse(dumps(heavy)).packs[0].weight_g == 187.5
        store = Store(pathlib.Path(sys.argv[1]) / "other.sqlite3")
        Desk(store).write(heavy, moment)
        assert {one.id: one.weight_g for one in Desk(store).session().packs}[session.packs[0].id] == 187.5
        from iterum.services.archiving import Archives
        assert '"weight_g":187.5' in Archives(store).text(moment)
        from iterum.exchange.shape import schema
        assert "weight_g" in json.dumps(schema())
        """,
    "A preference of the planner": """
        from iterum.core.planning.planner import Planner
        from iterum.core.planning.score import Prefer
        from iterum.demo import demo_session
        from iterum.core.things.session import Session
        session = demo_session()
        all_of_it = Session(session.packs, session.kit, session.rules)
        planner = Planner(all_of_it, Prefer("least-energy"))
        for _ in zip(range(2), planner.improve()):
            pass
        assert planner.plan().batches
        from click.testing import CliRunner
        from iterum.cli import main
        assert "least-energy" in CliRunner().invoke(main, ["plan", "--help"]).output
        """,
    "A unit": """
        from iterum.core.reading.numbers import figure_of
        from iterum.core.reading.reader import read
        assert figure_of("3600 kJ", "Wh") == 1000
        assert read("source", "3.6 kWh power station").understood == read("source", "12960 kJ power station").understood
        """,
    "A language": """
        page = visitor.get("/heats", headers={"Accept-Language": "nl, en"}).text
        assert "Een heat toevoegen" in page and '<html lang="nl-NL"' in page
        assert "Nederlands" in visitor.get("/heats").text
        from click.testing import CliRunner
        from iterum.cli import main
        assert CliRunner().invoke(main, ["--help"], env={"LC_ALL": "nl_NL.UTF-8"}).exit_code == 0
        """,
    "A charger driver": """
        from iterum.devices.drivers import charger_at
        assert charger_at("fixed:bench", 1.0).read("1").pack_v == 15.2
        """,
}
BEFORE = """
import sys, pathlib
from datetime import UTC, datetime
from iterum.web.app import create_app
visitor = create_app(pathlib.Path(sys.argv[1]) / "bench.sqlite3", lambda: datetime(2026, 6, 13, tzinfo=UTC)).test_client()
"""


def recipe(title):
    """The blocks of one recipe."""
    text = RECIPES[RECIPES.index(f"## {title}\n") :]
    return list(BLOCK.finditer(text.split("\n## ", 2)[0] if text.startswith("##") else text))


def follow(blocks, folder):
    for block in blocks:
        path, code = folder / block["path"], block["code"]
        if block["how"] is None:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(code + "\n")
            continue
        lines, mark = path.read_text().split("\n"), block["mark"]
        at = next(
            number for number, line in enumerate(lines) if line.startswith(mark) or (mark in line and mark.strip())
        )
        if block["how"] == "instead of":
            lines[at] = lines[at].replace(mark, code)
        else:
            lines.insert(at + (block["how"] == "after"), code)
        path.write_text("\n".join(lines))


def told_of_files(title):
    """How many files a recipe touches, by the table at the head of the page."""
    words = title.removeprefix("A ").lower()
    return int(re.search(rf"^\| an? {words} \| (\d+) \|$", RECIPES, re.M)[1])


@pytest.mark.parametrize("title", TRIED)
def test_a_recipe_adds_what_it_says(tmp_path, title):
    shutil.copytree(SOURCE, tmp_path / "iterum")  # with what was compiled: only what a recipe changes is compiled again
    blocks = recipe(title)
    touched = {block["path"] for block in blocks}
    assert len(touched) == told_of_files(title)
    follow(blocks, tmp_path / "iterum")
    environment = {**os.environ, "PYTHONPATH": str(tmp_path)}

    def run(*words):
        done = subprocess.run(words, check=False, cwd=ROOT, env=environment, capture_output=True, text=True)
        assert done.returncode == 0, (done.stdout + done.stderr)[-2000:]

    files = [str(tmp_path / "iterum" / path) for path in touched if path.endswith(".py")]
    run(sys.executable, "-m", "ruff", "check", "--config", str(ROOT / "pyproject.toml"), *files)
    script = BEFORE + re.sub(r"^ {8}", "", TRIED[title], flags=re.M)
    run(sys.executable, "-c", script, str(tmp_path))
    rooms = ["tests", "-m", "not slow"] if SOAK > 1 else [f"tests/{room}" for room in ROOMS[title].split()]
    run(sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", *rooms)
