"""The command line: names, exit codes, tables, and one line per fault on standard error."""

import json
import subprocess
import sys
from copy import deepcopy
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from iterum.cli import main
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.exchange.session import dumps
from tests.conftest import even

SESSION = {
    "format": "iterum-session",
    "version": 1,
    "rules": {"rate_c": 1.0},
    "packs": [
        {"id": f"P-{n}", "chemistry": "lipo", "cells": 4, "capacity_mah": 1800, "cell_volts": [volts] * 4}
        for n, volts in (("01", 3.74), ("02", 3.76), ("03", 3.95), ("04", 4.19))
    ],
    "boards": [{"id": "B-6", "ports": 6, "max_current_a": 40, "port_fuse_a": 20}],
    "chargers": [{"id": "duo", "channels": [{"id": "duo-1", "max_current_a": 12, "max_power_w": 250, "max_cells": 6}]}],
    "group": {"packs": ["P-01", "P-02"], "board": "B-6", "channel": "duo-1"},
}

WHOLE = deepcopy(SESSION) | {
    "sources": [{"id": "bank", "voltage_v": 12.8, "max_current_a": 60, "energy_wh": 1280, "usable_fraction": 0.8}],
    "supplies": [{"id": "brick", "fed_by": "bank", "output_v": 24, "max_power_w": 600, "efficiency": 0.88}],
    "wanted": [{"count": 2, "class": "lipo-4S", "at_min": 60}],
}
WHOLE["chargers"][0] |= {
    "fed_by": "brick",
    "total_power_w": 400,
    "power_by_input_v": [[12, 300], [24, 400]],
    "efficiency": 0.87,
}
WHOLE["packs"][0] |= {"resistance_mohm": [6.0] * 4, "max_charge_c": 2.0, "discharge_c": 60, "capacity_now_mah": 1700}
WHOLE["group"] = {
    "packs": ["P-01", "P-02"],
    "board": "B-6",
    "channel": "duo-1",
    "current_a": 3.6,
    "plugged_last": "P-02",
}
WHOLE["rules"] = {"rate_c": 1.0, "setup_min": 3, "match": {"by": "volts_per_cell", "limit": 0.1}, "tail_fraction": 0.1,
                  "join_peak_c": 5.0, "join_over_s": 60, "max_capacity_ratio": 2.0, "end_v": {"lipo": 4.2}}  # fmt: skip


@pytest.fixture
def run(tmp_path):
    def run(command, document=SESSION, *options):
        path = tmp_path / "session.json"
        path.write_text(document if isinstance(document, str) else json.dumps(document))
        return CliRunner().invoke(main, [command, str(path), *options])

    return run


def changed(**parts):
    return deepcopy(SESSION) | parts


def test_check_names_each_pack_with_its_verdict(run):
    result = run("check", SESSION, "--json")
    assert result.exit_code == 0
    packs = json.loads(result.stdout)["packs"]
    assert {"id", "class", "soc", "lowest_v", "spread_v", "energy_wh", "verdict", "reasons"} <= packs[0].keys()
    assert (packs[0]["id"], packs[0]["class"], packs[0]["verdict"]) == ("P-01", "lipo-4S", "fit")
    assert packs[0]["energy_wh"] == pytest.approx(4 * 3.7 * 1.8)
    assert packs[3]["reasons"] == [{"code": "full", "text": "Full: 4.190 V/cell, full from 4.18 V/cell."}]


def test_match_groups_and_leaves_out_with_a_fix(run):
    result = json.loads(run("match", SESSION, "--json").stdout)
    (group,) = result["groups"]
    assert (group["packs"], group["spread_v"], group["allowed_v"]) == (["P-01", "P-02"], 0.02, 0.1)
    assert group["plug_in_order"] == ["P-01", "P-02"]
    assert {left["id"]: left["code"] for left in result["left_out"]} == {"P-03": "window_too_wide", "P-04": "full"}
    assert all(left["text"] and left["fix"] for left in result["left_out"])


def test_size_says_the_amps_and_every_limit(run):
    result = json.loads(run("size", SESSION, "--json").stdout)
    assert (result["current_a"], result["rate_c"], result["binding"], result["full_v"]) == (
        3.6, 1.0, "wanted_rate", 16.8
    )  # fmt: skip
    assert min(result["limits"], key=lambda limit: limit["current_a"])["name"] == result["binding"]
    assert result["shares"] == [{"id": name, "current_a": 1.8, "rate_c": 1.0} for name in ("P-01", "P-02")]
    assert result["dial"]["cells"] == 4


@pytest.mark.parametrize(
    ("command", "words"),
    [("check", ["P-04", "fit", "Full: 4.190 V"]), ("match", ["P-01 P-02", "Left out", "P-03"]),
     ("size", ["Set 3.6 A", "channel's watts", "16.80 V in all"])],
)  # fmt: skip
def test_people_get_a_table(run, command, words):
    result = run(command)
    assert result.exit_code == 0
    assert all(word in result.stdout for word in words)


def test_bad_input_ends_with_2_and_one_line_a_fault(run):
    packs = deepcopy(SESSION["packs"])
    packs[3]["cells"] = 0
    packs[0]["chemistry"] = "lead"
    result = run("check", changed(packs=packs))
    assert (result.exit_code, result.stdout) == (2, "")
    assert "session.json: packs[3].cells: must be a whole number from 1 to 14, got 0\n" in result.stderr
    assert "session.json: packs[0].chemistry: must be one of" in result.stderr


@pytest.mark.parametrize("name", ["nowhere.json", "."])
def test_a_file_that_cannot_be_read_is_bad_input(name):
    result = CliRunner().invoke(main, ["check", name])
    assert (result.exit_code, result.stdout) == (2, "")


def test_an_unsafe_wish_ends_with_3_and_says_why_only_on_standard_error(run):
    result = run("size", changed(group={"packs": ["P-01", "P-03", "P-04"], "board": "B-6", "channel": "duo-1"}))
    assert (result.exit_code, result.stdout) == (3, "")
    assert "P-01 and P-04 are 0.450 V per cell apart, allowed 0.100." in result.stderr
    assert "P-04: Full" in result.stderr


@pytest.mark.parametrize("group", [None, {"packs": ["P-01"]}])
def test_size_without_a_group_or_channel_is_bad_input(run, group):
    result = run("size", {name: part for name, part in changed(group=group).items() if part is not None})
    assert (result.exit_code, result.stdout) == (2, "")


def test_text_from_a_file_moves_no_cursor(run):
    packs = [{**SESSION["packs"][0], "note": "x", "connector": "\u202e"}, {**SESSION["packs"][1], "id": "a\u009bb"}]
    result = run("check", changed(packs=packs, group={"packs": ["P-01"]}))
    assert "\u009b" not in result.stdout


def test_the_installed_command_runs_as_its_own_process(tmp_path):
    path = tmp_path / "s.json"
    path.write_text(json.dumps(SESSION))
    words = [sys.executable, "-c", "from iterum.cli import main; main()", "size", str(path)]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert "Set 3.6 A" in done.stdout


def test_equalise_says_what_each_pack_sees_and_for_how_long(run):
    group = {"packs": ["P-01", "P-02"], "plugged_last": "P-02"}
    result = json.loads(run("equalise", changed(group=group), "--json").stdout)
    first, second = result["packs"]
    assert first["peak_current_a"] > 0 > second["peak_current_a"]
    assert first["peak_rate_c"] == pytest.approx(abs(first["peak_current_a"]) / 1.8)
    assert first["rests_on"] == "default"
    series = result["series"]
    assert series["t_s"][0] == 0
    assert series["current_a"]["P-01"][0] == pytest.approx(first["peak_current_a"])
    assert {len(series["t_s"])} == {len(series["node_v"]), *(len(amps) for amps in series["current_a"].values())}
    assert 0 < result["settled_s"] < 1800
    assert (result["verdict"], bool(result["reasons"])) == ("fit", True)


def test_equalise_reports_a_verdict_on_what_may_be_joined_at_all(run):
    result = run("equalise", changed(group={"packs": ["P-01", "P-03"]}), "--json")
    assert result.exit_code == 0
    assert json.loads(result.stdout)["verdict"] == "stop"


def test_charge_says_minutes_energy_and_shares(run):
    result = json.loads(run("charge", SESSION, "--json").stdout)
    assert {"minutes", "balance_min", "cc_minutes", "charge_mah", "energy_out_wh", "energy_in_wh", "peak_out_w",
            "peak_input_w", "packs", "series"} <= result.keys()  # fmt: skip
    assert 38 < result["minutes"] < 50
    assert result["energy_in_wh"] == pytest.approx(result["energy_out_wh"] / 0.85, rel=1e-5)
    assert sum(pack["charge_mah"] for pack in result["packs"]) == pytest.approx(result["charge_mah"])
    assert all(0.97 < pack["end_soc"] <= 1.001 for pack in result["packs"])
    faster = json.loads(run("charge", changed(group={**SESSION["group"], "current_a": 7.2}), "--json").stdout)
    assert faster["minutes"] < result["minutes"]


@pytest.mark.parametrize("command", ["equalise", "charge"])
def test_what_may_never_be_joined_is_refused(run, command):
    packs = [SESSION["packs"][0], {**SESSION["packs"][1], "cells": 3, "cell_volts": [3.7] * 3}]
    result = run(command, changed(packs=packs), "--json")
    assert (result.exit_code, result.stdout) == (3, "")
    assert "never share a board" in result.stderr


@pytest.mark.parametrize(
    ("command", "words"),
    [("equalise", ["verdict: fit", "Charging may start at once"]), ("charge", ["expected about", "verdict: look"])],
)
def test_people_get_a_table_of_what_flows(run, command, words):
    result = run(command)
    assert result.exit_code == 0
    assert all(word in result.stdout for word in words)


def test_plan_says_what_goes_where_and_when(run):
    result = json.loads(run("plan", SESSION, "--json", "--seconds", "0.5").stdout)
    assert {"batches", "left_out", "wanted", "makespan_min", "bound_min", "visits", "sources"} <= result.keys()
    assert {"packs", "class", "board", "channel", "current_a", "rate_c", "start_min", "end_min"} <= result["batches"][
        0
    ].keys()
    assert sorted(tag for batch in result["batches"] for tag in batch["packs"]) == ["P-01", "P-02", "P-03"]
    assert [(left["id"], left["code"]) for left in result["left_out"]] == [("P-04", "full")]
    assert result["bound_min"] is None or result["bound_min"] <= result["makespan_min"]
    assert result["makespan_min"] == max(batch["end_min"] for batch in result["batches"])


@pytest.mark.parametrize("prefer", ["soonest", "gentlest", "fewest-visits", "steadiest"])
def test_a_plan_for_people_meets_its_wish_by_any_preference(run, prefer):
    wanted = [{"count": 2, "class": "lipo-4S", "at_min": 90}]
    result = run("plan", changed(wanted=wanted), "--prefer", prefer, "--seconds", "0.3")
    assert result.exit_code == 0
    assert "2 4S LiPo by minute 90: met" in result.stdout
    assert "Starts at once." in result.stdout


def test_a_plan_goes_round_with_heats_and_keeps_quiet_hours(run):
    document = deepcopy(WHOLE) | {
        "starts_at": "2026-06-13T11:30:00+01:00",
        "wanted": [
            {"count": 3, "class": "lipo-4S", "at_min": at, "fly_min": 10, "name": f"Heat {at}"} for at in (200, 340)
        ],
    }
    document["sources"][0] |= {"quiet_hours": [["11:30", "13:00"]]}
    result = json.loads(run("plan", document, "--json", "--seconds", "0.5").stdout)
    assert all(batch["start_min"] >= 90 for batch in result["batches"])
    assert [wish["met"] for wish in result["wanted"]] == [True, True]
    assert [number for batch in result["batches"] for number in batch["rounds"] if number > 1]
    assert [len(wish["packs"]) for wish in result["wanted"]] == [3, 3]


def test_without_a_start_the_quiet_hours_are_those_of_now(run):
    document = deepcopy(WHOLE) | {"wanted": []}
    document["sources"][0] |= {"quiet_hours": [["00:00", "23:59"], ["12:00", "11:59"]]}
    result = json.loads(run("plan", document, "--json", "--seconds", "0.3").stdout)
    assert all(batch["start_min"] > 24 * 60 for batch in result["batches"])


@pytest.mark.parametrize("changes", [
    {"rules": {"rate_c": 1.0, "max_packs": 1}},
    {"chargers": [{**WHOLE["chargers"][0], "power_by_input_v": [[12, 0], [24, 0]]}]},
    {"chargers": [{**WHOLE["chargers"][0], "power_by_input_v": [[12, 0], [24, 400]]}],
     "supplies": [{**WHOLE["supplies"][0], "output_v": 12}]},
    {"boards": [], "chargers": []},
    {"packs": []},
    {"running": [{"packs": ["P-01"], "channel": "duo-1", "current_a": 1.0, "minutes_left": 0}]},
])  # fmt: skip
def test_a_plan_never_ends_in_a_trace_and_names_every_pack(run, changes):
    document = deepcopy(WHOLE) | {"wanted": [], **deepcopy(changes)}
    del document["group"]
    result = json.loads(run("plan", document, "--json", "--seconds", "0.2").stdout)
    named = {tag for batch in result["batches"] for tag in batch["packs"]} | {left["id"] for left in result["left_out"]}
    assert named == {pack["id"] for pack in document["packs"]}


odd = st.sampled_from(
    [0, 1, 1e-9, 0.01, 0.5, 2.5, 5, 14, 39.99, 100, 1e5, -1, None, "", "x", [], [0.0], [4.2] * 4, [2.0] * 4, {}]
)


def number_places(value, path=()):
    if isinstance(value, dict):
        for key, item in value.items():
            yield from number_places(item, (*path, key))
    elif isinstance(value, list):
        for index, item in enumerate(value):
            yield from number_places(item, (*path, index))
    yield path


@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(st.sampled_from([path for path in number_places(WHOLE) if path]), odd), min_size=1, max_size=3),
       st.sampled_from(["check", "match", "size", "equalise", "charge", "plan"]))  # fmt: skip
def test_whatever_a_file_holds_a_command_answers_or_says_why_not(run, changes, command):
    document = deepcopy(WHOLE)
    for path, value in changes:
        target = document
        try:
            for step in path[:-1]:
                target = target[step]
            target[path[-1]] = value
        except (TypeError, KeyError, IndexError):
            continue
    result = run(command, document, *(["--seconds", "0"] if command == "plan" else []))
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    assert result.exit_code in (0, 2, 3)
    assert (result.exit_code == 0) == bool(result.stdout)
    assert result.exit_code == 0 or result.stderr.strip()


@pytest.mark.parametrize(("words", "without"), [
    (["--version"], {"numpy", "pydantic", "ortools", "sqlalchemy", "flask", "pandas"}),
    (["--help"], {"numpy", "pydantic", "ortools", "sqlalchemy", "flask", "pandas"}),
    (["size", "FILE"], {"ortools", "sqlalchemy", "flask", "pandas"}),
    (["plan", "--seconds", "0", "FILE"], {"sqlalchemy", "flask"}),
])  # fmt: skip
def test_a_command_loads_what_it_needs_and_no_more(words, without):
    file = str(Path(__file__).parent / "exchange/before/small.json")
    script = (
        "import sys\nfrom iterum.cli import main\n"
        f"try: main({[file if word == 'FILE' else word for word in words]!r})\n"
        "except SystemExit as end: assert not end.code, end.code\n"
        "print('LOADED', *sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", script], check=True, capture_output=True, text=True)
    loaded = set(done.stdout.partition("LOADED")[2].split())
    assert loaded & without == set()


def test_five_commands_print_the_same_plugs_the_same_waits_and_their_sum(tmp_path):
    volts = (3.70, 3.79, 3.75)
    packs = tuple(even(f"p{n}", cell_v, mah=1500, max_charge_c=2, discharge_c=95) for n, cell_v in enumerate(volts))
    kit = Kit((Board("B", 6),), (Charger("C", (Channel("C-1", 20, 500),)),))
    session = Session(packs, kit, HouseRules(rate_c=2.0), group=Choice(("p0", "p1", "p2"), "B", "C-1"))
    file = tmp_path / "three.json"
    file.write_text(dumps(session))

    def printed(command, *options):
        return CliRunner().invoke(main, [command, str(file), *options]).stdout

    told = {name: json.loads(printed(name, "--json", *(("--seconds", "0") if name == "plan" else ())))
            for name in ("match", "size", "charge", "equalise", "plan")}  # fmt: skip
    (batch,) = told["plan"]["batches"]
    assert 0 <= told["plan"]["seconds"] < 60
    joinings = [told["match"]["groups"][0]["joining"], batch["joining"]]
    joinings += [told[name]["joining"] for name in ("size", "charge", "equalise")]
    steps = [[(step["plug"], step["wait_min"]) for step in item["timetable"]] for item in joinings]
    assert steps == [steps[0]] * 5
    waits = {item["wait_min"] for item in joinings}
    assert waits == {sum(wait_min for _, wait_min in steps[0])}
    assert 0 < waits.pop() == batch["lead_min"] - batch["start_min"] - session.rules.setup_min
    for name in ("size", "charge", "equalise"):
        lines = printed(name).split("plug in", 1)[1].splitlines()[1:4]
        assert [line.split()[0] for line in lines] == [tag for tag, _ in steps[0]]


@pytest.mark.parametrize("command", ["match", "size", "charge", "equalise", "plan", "permit"])
def test_a_lead_without_resistance_is_a_fault_of_the_file_and_no_crash(command, tmp_path):
    document = deepcopy(SESSION)
    document["boards"][0]["lead_mohm"] = 0
    file = tmp_path / "zero.json"
    file.write_text(json.dumps(document))
    result = CliRunner().invoke(main, [command, str(file)])
    assert result.exit_code == 2
    assert "boards[0].lead_mohm: must be a number above 0" in result.stderr
