"""Docs that cannot lie: whatever the program has by introspection, the docs name."""

import re
import tomllib
from pathlib import Path

import pytest

from iterum.cli import COMMANDS, main
from iterum.core.reasons import Reason
from iterum.core.season.cautions import CAUTIONS
from iterum.core.season.run import diagram
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.limit_kinds import KINDS
from iterum.exchange.shape import PARTS, schema
from iterum.wording import sentence

ROOT = Path(__file__).parents[1]
README = (ROOT / "README.md").read_text()
FORMAT = (ROOT / "docs/session-file.md").read_text()


@pytest.mark.parametrize("name", [name for part in PARTS for name in schema()["$defs"][part]["properties"]])
def test_every_field_of_the_file_is_documented(name):
    assert f"`{name}`" in FORMAT


@pytest.mark.parametrize("name", sorted(COMMANDS))
def test_every_command_and_option_is_documented(name):
    assert f"iterum {name}" in FORMAT
    for parameter in main.get_command(None, name).params:
        for option in getattr(parameter, "opts", ()):
            assert not option.startswith("--") or option in FORMAT, option


@pytest.mark.parametrize("name", sorted(KINDS))
def test_every_limit_is_documented(name):
    assert f"`{name}`" in FORMAT


@pytest.mark.parametrize("chemistry", CHEMISTRIES.values(), ids=lambda item: item.name)
def test_every_table_names_its_source_in_the_docs(chemistry):
    named = re.search(r"doi:\S+?(?= |\))|estimate", chemistry.table.source if chemistry.table else "estimate")
    assert named[0] in (ROOT / "docs/sources.md").read_text()


def test_every_dependency_has_its_reason():
    decisions = (ROOT / "docs/decisions.md").read_text()
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())
    groups = [project["project"]["dependencies"], *project["dependency-groups"].values()]
    names = {re.match(r"[\w-]+", text)[0] for group in groups for text in group}
    assert {name for name in names if name not in decisions} == set()


def test_every_picture_is_shown_and_every_link_leads_somewhere():
    pictures = {f"docs/screenshots/{path.name}" for path in (ROOT / "docs/screenshots").iterdir()}
    assert pictures <= set(re.findall(r"\]\(([^)]+)\)", README))
    assert len(pictures) < 20
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for link in re.findall(r"\]\(([^):]+)\)", page.read_text()):
            assert (page.parent / link).exists(), (page, link)


def test_lock_files_hold_hashes_and_no_addresses():
    for path in ROOT.glob("requirements*.lock"):
        text = path.read_text()
        assert "://" not in text
        assert text.count("==") <= text.count("--hash=sha256:")


def test_the_diagram_of_the_run_is_that_of_its_table():
    assert f"```mermaid\n{diagram()}\n```" in (ROOT / "docs/run.md").read_text()


@pytest.mark.parametrize("caution", CAUTIONS, ids=lambda item: item.code)
def test_every_caution_stands_in_the_docs_with_where_it_shows_and_on_what_it_rests(caution):
    row = next(
        line for line in (ROOT / "docs/cautions.md").read_text().splitlines() if sentence(Reason(caution.code)) in line
    )
    assert all(str(where) in row for where in caution.where)
    assert caution.rests_on in row


@pytest.mark.parametrize(
    "page", [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))], ids=lambda page: page.name
)
def test_every_part_of_the_code_that_is_named_is_there(page):
    rooms = "core|web|exchange|store|services|devices|wording|cli|demo"
    named = re.findall(rf"`((?:{rooms})/[\w/.]+)`", re.sub(r"new `[^`]+`", "", page.read_text()))
    assert [name for name in named if not (ROOT / "src/iterum" / name).exists()] == []


def test_no_line_of_a_template_style_or_script_is_too_long_to_read():
    web = ROOT / "src/iterum/web"
    files = [*web.rglob("*.html"), *(web / "static/css").glob("*.css"), *(web / "static/js").glob("*.js")]
    assert len(files) > 60
    assert [path.name for path in files if max(map(len, path.read_text().splitlines())) > 140] == []
