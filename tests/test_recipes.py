"""The four recipes of the docs, each followed to the letter in a copy of the code, and what it added tried."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import iterum

SOURCE = Path(iterum.__file__).parent
RECIPES = (Path(__file__).parents[1] / "docs/recipes.md").read_text()
BLOCK = re.compile(
    r"In (?:a new )?`(?P<path>[^`]+)`(?:, (?P<how>before|after|instead of) `(?P<mark>[^`]+)`)?:\n\n```\w+\n(?P<code>.*?)\n```",
    re.S,
)
MOST_FILES = {"A chemistry": 1, "A house rule": 2, "A page": 3, "A charger driver": 2}
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


@pytest.mark.parametrize("title", TRIED)
def test_a_recipe_adds_what_it_says(tmp_path, title):
    shutil.copytree(SOURCE, tmp_path / "iterum")  # with what was compiled: only what a recipe changes is compiled anew
    blocks = recipe(title)
    assert len({block["path"] for block in blocks}) == MOST_FILES[title]
    follow(blocks, tmp_path / "iterum")
    script = BEFORE + re.sub(r"^ {8}", "", TRIED[title], flags=re.M)
    environment = {**os.environ, "PYTHONPATH": str(tmp_path)}
    words = [sys.executable, "-c", script, str(tmp_path)]
    done = subprocess.run(words, check=False, env=environment, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]
