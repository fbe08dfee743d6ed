"""The core as others use it: the examples of the page, and names that are there when they are asked for."""

import doctest
import subprocess
import sys
from pathlib import Path

import pytest

import iterum.core
from iterum.core.fields import BadInput
from iterum.core.things.kit import Board, Channel
from iterum.core.things.packs import Condition, Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Wish

PAGE = Path(__file__).parents[1] / "docs/api.md"


def test_the_examples_of_the_page_hold():
    told = doctest.testfile(str(PAGE), module_relative=False, optionflags=doctest.REPORT_NDIFF)
    assert (told.failed, told.attempted > 15) == (0, True)


def test_every_public_name_is_on_the_page_or_is_made_of_what_is():
    for name in iterum.core.PUBLIC:
        assert getattr(iterum.core, name).__name__ == name
    text = PAGE.read_text()
    assert [name for name in ("Bench", "Pack", "Choice", "match", "size", "charge", "plan", "sentence") if name not in text] == []
    with pytest.raises(AttributeError, match="no attribute 'other'"):
        _ = iterum.core.other


def test_asking_for_a_pack_does_not_load_the_search():
    code = "import sys; from iterum.core import Pack; sys.exit('numba' in sys.modules or 'numpy' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_a_script_that_plans_is_run_once(tmp_path):
    script = tmp_path / "script.py"
    script.write_text(
        "from iterum.core import *\n"
        "from iterum.core import Bench, Channel, Charger, Kit, Pack, Reading, plan\n"
        "packs = tuple(Pack(f'P{n}', 'lipo', 4, 1500, reading=Reading.of_cells((3.7 + n / 100,) * 4)) for n in range(9))\n"
        "kit = Kit((), (Charger('C', (Channel('C-1', 10, 200), Channel('C-2', 10, 200))),))\n"
        "print('planned', len(plan(Bench(packs, kit), seconds=2.5).batches))\n"
    )
    done = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, check=True)
    assert (done.stdout, done.stderr) == ("planned 9\n", "")


@pytest.mark.parametrize(
    ("made", "places"),
    [
        (lambda: Pack("", "lipo", 0, 5), ["id", "cells", "capacity_mah"]),
        (lambda: Pack("P", "zinc", 4, 1500), ["chemistry"]),
        (lambda: Pack("P", "lipo", 4, 1500, bought_on="last May"), ["bought_on"]),
        (lambda: Pack("P", "lipo", 4, 1500, resistance_mohm=(5.0, -1.0, 5.0, 5.0)), ["resistance_mohm"]),
        (lambda: Pack("P", "lipo", 4, float("nan")), ["capacity_mah"]),
        (lambda: Pack("P", "lipo", "4", 1500), ["cells"]),
        (lambda: Pack("P", "lipo", 4.5, 1500), ["cells"]),
        (lambda: Pack(7, "lipo", True, 1500), ["id", "cells"]),
        (lambda: Pack("P", "lipo", None, 1500, resistance_mohm=9), ["cells", "resistance_mohm"]),
        (lambda: Pack("P", "lipo", 4, 1500, condition="puffed"), ["condition"]),
        (lambda: HouseRules(rate_c=0.0, match_by="gap"), ["rate_c", "match_by"]),
        (lambda: Reading(-1.0), ["pack_v"]),
        (lambda: Board("B", 0, max_current_a=0.0), ["ports", "max_current_a"]),
        (lambda: Channel("C", 10.0, float("inf")), ["max_power_w"]),
        (lambda: Wish(0, "lipo-4S", 10.0, fly_min=0.0), ["count", "fly_min"]),
    ],
)
def test_nothing_is_made_with_figures_that_nobody_can_have(made, places):
    with pytest.raises(BadInput) as told:
        made()
    assert [fault.place for fault in told.value.faults] == places


def test_a_pack_that_is_said_to_be_damaged_in_a_word_is_not_charged():
    hurt = Pack("D", "lipo", 4, 1500, condition="damaged", reading=Reading.of_cells((3.8,) * 4))
    assert hurt.condition is Condition.DAMAGED
    assert iterum.core.match(iterum.core.Bench((hurt,))).groups == ()


def test_a_list_is_taken_as_it_was_when_it_was_given():
    told_mohm = [5.0, 5.0, 6.0, 5.0]
    pack = Pack("P", "lipo", 4, 1500, resistance_mohm=told_mohm)
    told_mohm[0] = -1.0
    assert pack.resistance_mohm == (5.0, 5.0, 6.0, 5.0)
