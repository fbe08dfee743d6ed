"""Whatever is asked: an answer in words, never a defect, a trace or a hang, and no nonsense in what is kept."""

import math
import os
import random
from dataclasses import fields, is_dataclass
from datetime import datetime

import pytest

from iterum.exchange.session import dumps, parse
from tests.conftest import NOON, SOAK
from tests.web.conftest import Visitor

ODD = ("", " ", "²", "١٢", "nan", "inf", "-inf", "1e400", "-1", "0", "1e-320", str(2**63), str(-(2**64)), "9" * 400, "true", "null",
       "\ud800", "\x00", "💥", "<b>", "'; drop table packs;--", "../../etc/passwd", "P-01", "T-03", "Twin-1", "Six", "bank",
       "0001-01-01", "9999-12-31T23:59", "2026-02-30", "23:61", "12:00", "4S", "lipo", "lipo-4S", "charging", "stop", "1", "2",
       "3.8 3.8 3.8 3.8", "3,80", "1,5", "yes", "a" * 9000, "[]", "{}", '{"format": "iterum-session", "version": 1}', "nobody")  # fmt: skip
NAMES = ("id", "pack", "packs", "batch", "act", "expected", "note", "key", "cells", "pack_v", "current_a", "charge_mah", "temperature_c",
         "at", "time", "name", "class", "count", "worth", "uses", "needs", "away", "change", "gone", "slip", "by_min", "start_min",
         "channel", "board", "rate_c", "end_v", "fed_by", "until_v", "rule", "school", "text", "what", "see", "runs", "kind", "since",
         "until", "page", "timer_s", "average_a", "peak_a", "esc_a", "wh", "label", "address", "revision", "looked", "prefer", "seconds",
         "chemistry", "capacity_mah", "max_charge_c", "max_current_a", "energy_wh", "voltage_v", "channels", "channel0-id",
         "channel0-max_current_a", "quiet_hours", "power_by_input_v", "v-P-08", "cell", "v1", "v2", "total", "air", "warmth", "back", "theme",
         "a_count", "b_v", "amps", "watts", "hands", "slips", "to", "part", "unable", "touch-P-08", "corrects", "confirm")  # fmt: skip


REQUESTS = int(os.environ.get("ITERUM_REQUESTS", 80 * SOAK))


def address(rng, rule):
    made = rule.rule
    for argument in rule.arguments:
        text = rng.choice(
            ("1", "0", "7", str(2**70), "board", "charger", "source", "x", "%F0", "..", "static")
        ).replace("/", "")
        for converter in ("int:", "path:", ""):
            made = made.replace(f"<{converter}{argument}>", text)
    return made


PAGES = ("/measure?pack=P-08", "/match", "/charge?packs=P-08&packs=P-11", "/plan", "/heats", "/packs/edit", "/packs/edit?id=P-01",
         "/kit", "/kit/charger", "/kit/board", "/kit/supply", "/kit/source", "/kit/source?id=bank", "/rules", "/files", "/wrong?see=smoke",
         "/log/import", "/use?pack=P-01", "/what-if", "/put-away", "/run/1", "/packs/health?id=L-02")  # fmt: skip


def forms(visitor):
    """What every form of the pages sends: method, address, values by name."""
    sent = []
    for path in PAGES:
        for form in visitor.get(path).seen.page("form", method=("get", "post", None)):
            values = {}
            for field in form(("input", "select", "textarea", "button"), attrs={"name": True}):
                chosen = field.find("option", selected=True) or field.find("option")
                told = chosen.get("value", "") if chosen else field.get("value", field.get_text())
                values.setdefault(field["name"], []).append(told)
            values.pop("csrf_token", None)
            sent.append((form.get("method", "get").upper(), form.get("action") or path, values))
    return sent


def request_of(rng, rules, known):
    """A form with a few of its fields otherwise, or any address with anything."""
    if rng.random() < 0.6:
        method, to, values = rng.choice(known)
        sent = {name: list(texts) for name, texts in values.items() if rng.random() < 0.95}
        for name in rng.sample(sorted(sent), min(len(sent), rng.choice((1, 1, 2, 4)))):
            sent[name] = [rng.choice(ODD) for _ in sent[name]]
        if "address" in sent:
            sent["address"] = [text.replace(":", "") for text in sent["address"]]  # no other machine is to be reached
        return method, to.split("?")[0] if method == "GET" else to, sent
    rule = rng.choice(rules)
    method = rng.choice([name for name in rule.methods if name in ("GET", "POST")])
    sent = {rng.choice(NAMES): [rng.choice(ODD) for _ in range(rng.choice((1, 1, 2)))] for _ in range(rng.randrange(7))}
    return method, address(rng, rule), sent


def sensible(value):
    """Nothing in it is without an end, or no number."""
    if isinstance(value, float):
        return math.isfinite(value)
    if isinstance(value, datetime):
        return 2000 <= value.year < 2200
    if isinstance(value, (tuple, list)):
        return all(map(sensible, value))
    if is_dataclass(value):
        return all(sensible(getattr(value, field.name)) for field in fields(value))
    return True


@pytest.mark.parametrize("block", range(4))
def test_nothing_that_is_sent_is_a_defect_or_leaves_nonsense(demo_app, block):
    rng, visitor = random.Random(block), Visitor(demo_app)
    rules = [
        rule for rule in demo_app.url_map.iter_rules() if rule.endpoint not in ("static", "share.open_door")
    ]  # a test opens no door to the network
    desk = demo_app.extensions["iterum"]["desk"]
    known = forms(visitor)
    for number in range(REQUESTS // 4):
        method, to, sent = request_of(rng, rules, known)
        told = {name: [text.encode("utf-8", "surrogatepass") for text in values] for name, values in sent.items()}
        if method == "POST":
            answer = visitor.client.post(to, data={"csrf_token": visitor.token, **told})
        else:
            answer = visitor.client.get(to, query_string=told)
        assert answer.status_code < 500, (number, method, to, sent)
        assert b"Traceback" not in answer.data
    job = demo_app.extensions["iterum"]["plan_desk"].job
    if job is not None:
        job.stop()
    session = desk.session(NOON)
    assert sensible((session.packs, session.kit, session.rules, session.wanted, session.starts_at))
    text = dumps(desk.session())
    assert parse(text.encode()).packs  # what is kept can be written and read
    for path in ("/measure", "/match", "/plan", "/bench", "/heats", "/packs", "/kit", "/log", "/put-away", "/rules"):
        assert visitor.get(path).status_code == 200, path
