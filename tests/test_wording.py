"""Every reason that the core can give has its sentence."""

import ast
from pathlib import Path

import pytest

import iterum
from iterum.core.permit.facts import FACTS
from iterum.web.words import each_cell, unbroken
from iterum.wording import SENTENCES

SOURCES = sorted(Path(iterum.__file__).parent.glob("core/**/*.py")) + sorted(
    Path(iterum.__file__).parent.glob("services/*.py")
)


def codes(path):
    """Codes that stand as they are in a call of `reason` or `Reason`, and the fixed heads of those put together."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("reason", "Reason") and node.args:
            first = node.args[0]
            if isinstance(first, ast.Constant):
                yield first.value
            elif isinstance(first, ast.JoinedStr) and isinstance(first.values[0], ast.Constant):
                yield first.values[0].value + "*"


@pytest.mark.parametrize("path", SOURCES, ids=lambda path: path.stem)
def test_every_code_has_a_sentence(path):
    for code in codes(path):
        known = any(item.startswith(code[:-1]) for item in SENTENCES) if code.endswith("*") else code in SENTENCES
        assert known, code


def test_every_fact_about_a_pack_has_its_sentence_and_what_forbids_or_slows_an_act_its_fix():
    assert set(FACTS) <= set(SENTENCES)
    mended = {code for code, fact in FACTS.items() if fact.forbids or fact.max_rate_c}
    assert {f"fix_{code}" for code in mended} <= set(SENTENCES)


def test_cells_that_read_the_same_are_told_once_and_an_odd_one_stands_out():
    assert each_cell((3.77, 3.772, 3.768, 3.77)) == "4 × 3.77"
    assert each_cell((4.19, 4.08, 4.19)) == "4.19 4.08 4.19"
    assert each_cell((4.5, 4.5), 1) == "4.5 4.5"
    assert each_cell(()) == ""


def test_no_tag_is_broken_at_its_hyphen():
    assert unbroken("On <b>: T-02, charger-1-1 at 4-5 V") == (
        'On &lt;b&gt;: <span class="nobr">T-02</span>, <span class="nobr">charger-1-1</span> at 4-5 V')  # fmt: skip
