"""The session file: every fault at once with place and mend, nothing breaks it, out and in again is the same."""

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from iterum.core.fields import BadInput
from iterum.core.sizing.arrange import match
from iterum.core.sizing.size import size
from iterum.core.things.rules import MatchBy
from iterum.demo import demo_session
from iterum.exchange.csv_table import csv_text
from iterum.exchange.session import dumps, from_document, parse, to_document
from iterum.exchange.shape import schema

HEAD = {"format": "iterum-session", "version": 1}
PACK = {"id": "P", "chemistry": "lipo", "cells": 2, "capacity_mah": 1000}


def faults(document):
    with pytest.raises(BadInput) as bad:
        from_document(document)
    return {fault.place: fault.mend for fault in bad.value.faults}


def test_the_schema_is_a_schema_and_the_demo_follows_it():
    Draft202012Validator.check_schema(schema())
    Draft202012Validator(schema()).validate(to_document(demo_session()))


def test_every_fault_is_told_at_once_with_place_and_mend():
    told = faults(
        {
            **HEAD,
            "packs": [
                {**PACK, "cells": 0},
                {**PACK, "id": "Q", "cell_volts": [3.8, 3.8, 3.8]},
                {**PACK, "id": "R", "capcity_mah": 5},
                {**PACK, "id": "Q", "chemistry": "lipo4"},
                {"id": "S", "chemistry": "lipo", "cells": 1},
                {**PACK, "id": "T", "capacity_now_mah": 9000, "cell_volts": [3.8, "3,8"]},
            ],
            "chargers": [{"id": "C", "fed_by": "bank", "channels": []}],
            "group": {"packs": ["nobody"]},
            "rules": {"match": {"by": "volts_per_cell", "limit": 0.5}},
        }
    )
    assert told == {
        "packs[0].cells": "must be a whole number from 1 to 14, got 0",
        "packs[1].cell_volts": "must hold one value for each of 2 cells, got 3",
        "packs[2].capcity_mah": "is no field of the session file; did you mean capacity_mah?",
        "packs[3].chemistry": 'must be one of lipo, lihv, li-ion, life, nimh, got "lipo4"',
        "packs[3].id": "'Q' is used already at packs[1]; each id once",
        "packs[4].capacity_mah": "is missing; give: Capacity on the label",
        "packs[5].cell_volts[1]": 'must be a number from 0 to 6, got "3,8"',
        "packs[5].capacity_now_mah": "is over 1.5 times the label's 1000 mAh; measure again",
        "chargers[0].channels": "must hold at least one item, got 0",
        "chargers[0].fed_by": "'bank' is no supply or source of this file (none); leave out for mains",
        "group.packs[0]": "'nobody' is no pack of this file",
        "rules.match.limit": "must be at most 0.2 for volts_per_cell, got 0.5; no school goes wider",
    }


@pytest.mark.parametrize(
    "text",
    ["", "{", "[]", "null", "1e999", '{"format": "iterum-session", "version": 1, "packs": [NaN]}', "[" * 100_000,
     '{"format": 1, "format": 2}', "\ufeff{}", '{"format": "iterum-session", "version": 2}', '"' + "9" * 5000 + '"'],
)  # fmt: skip
def test_a_broken_text_is_a_fault_and_never_a_stack_trace(text):
    with pytest.raises(BadInput):
        parse(text)
    with pytest.raises(BadInput):
        parse(text.encode("utf-16"))


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=8,
)


def paths(value, path=()):
    yield path
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        yield from paths(inner, (*path, key))


WHOLE = json.loads(dumps(demo_session())) | {"group": {"packs": ["P-01"], "board": "Six", "channel": "Twin-1"}}
WHOLE["packs"] = WHOLE["packs"][:3]
PLACES = list(paths(WHOLE))


@given(st.sampled_from(PLACES), json_values)
def test_any_value_anywhere_is_taken_or_told(path, value):
    document = json.loads(json.dumps(WHOLE))
    target = document
    for step in path[:-1]:
        target = target[step]
    if path:
        target[path[-1]] = value
    else:
        document = value
    try:
        session = from_document(document)
    except BadInput as bad:
        told = bad.faults
    else:
        assert from_document(to_document(session)) == session
        return
    assert told
    assert all(fault.mend for fault in told)


def number(low, high):
    return st.integers(round(low * 100), round(high * 100)).map(lambda hundredths: hundredths / 100)


@st.composite
def sessions(draw):
    """Session files with every kind of field in use."""
    optional = draw(st.booleans())
    packs = []
    for index in range(draw(st.integers(0, 4))):
        cells = draw(st.integers(1, 6))
        pack = {"id": f"P{index}", "chemistry": draw(st.sampled_from(["lipo", "lihv", "li-ion", "life", "nimh"])),
                "cells": cells, "capacity_mah": draw(st.integers(100, 9000))}  # fmt: skip
        if optional:
            pack |= {"max_charge_c": draw(number(0.5, 5)), "discharge_c": 30, "connector": "mid", "condition": "damaged",
                     "resistance_mohm": [5.5] * cells, "name": "<b>", "note": "=1+1", "temperature_c": 20,
                     "cell_volts": [draw(number(3, 4.2)) for _ in range(cells)],
                     "measured_at": "2026-06-13T09:00:00+00:00"}  # fmt: skip
        elif draw(st.booleans()):
            pack["pack_volts"] = draw(number(3, 25))
        packs.append(pack)
    document = {**HEAD, "name": "Meet", "packs": packs}
    if optional:
        document |= {
            "rules": {"match": {"by": draw(st.sampled_from(list(MatchBy))).value, "limit": 0.1},
                      "max_capacity_ratio": draw(st.sampled_from([None, 1.0, 2.0])), "rate_c": draw(number(0.1, 3)),
                      "size_at": "nominal", "end_v": {"li-ion": 4.1}, "setup_min": 5, "balance": "every_fifth"},
            "boards": [{"id": "B", "ports": 6, "port_fuse_a": 15.0, "note": "kept"}],
            "sources": [{"id": "mains", "max_power_w": 2000}],
            "supplies": [{"id": "S", "max_power_w": 600, "output_v": 24, "fed_by": "mains"}],
            "chargers": [{"id": "C", "fed_by": "S", "power_by_input_v": [[12, 200], [24, 400]],
                          "channels": [{"id": "C1", "max_current_a": 10, "max_power_w": 200}]}],
            "wanted": [{"count": 2, "class": "lipo-4S", "at_min": 60}],
        }  # fmt: skip
        if packs:
            document["group"] = {"packs": [packs[0]["id"]], "board": "B", "channel": "C1", "current_a": 1.0}
    return from_document(document)


@given(sessions())
def test_exported_and_imported_again_is_the_same(session):
    assert parse(dumps(session)) == session


def test_mains_is_no_limit_unless_the_file_has_a_source_of_that_name():
    charger = {"id": "C", "fed_by": "mains", "channels": [{"id": "C1", "max_current_a": 9, "max_power_w": 90}]}
    assert from_document({**HEAD, "chargers": [charger]}).kit.chargers[0].fed_by is None
    limited = from_document({**HEAD, "chargers": [charger], "sources": [{"id": "mains", "max_power_w": 9}]})
    assert limited.kit.chargers[0].fed_by == "mains"


@pytest.mark.parametrize("text", ["=1+1", "+1", "-1", "@x", "\tx", "\rx"])
def test_a_csv_cell_that_starts_a_formula_is_defused(text):
    assert f"'{text}" in csv_text([{"note": text}])
    assert "'a=1" not in csv_text([{"note": "a=1"}])


OLD = {
    "meeting": ({("P-01", "P-02", "P-03", "P-04", "P-07", "P-08"), ("P-05", "P-06", "P-11", "P-14"),
                 ("T-01", "T-02", "T-04", "T-05", "T-06", "T-07"), ("L-01", "L-02", "L-03", "L-04"),
                 ("G-01", "G-02", "G-03", "G-04", "G-05", "G-06")}, 5.2, "wanted_rate"),
    "small": ({("A", "B")}, 4.4, "pack_charge_c"),
}  # fmt: skip


@pytest.mark.parametrize("name", OLD)
def test_a_file_of_before_is_read_as_before(name):
    """Written before running batches, budgets, whole choices and volts for storage had a place in the file."""
    session = parse((Path(__file__).parent / "before" / f"{name}.json").read_bytes())
    groups, current_a, binding = OLD[name]
    assert {tuple(sorted(pack.id for pack in group.packs)) for group in match(session.bench).groups} == groups
    sizing = size(session.bench, session.group)
    assert (sizing.current_a, sizing.binding) == (current_a, binding)
    assert (session.running, {source.taken_wh for source in session.kit.sources}) == ((), {0.0})
    assert parse(dumps(session)) == session
