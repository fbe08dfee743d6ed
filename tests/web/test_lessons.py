"""Lessons: their numbers are the model's, whether only said or done with hands on the bench of the lesson."""

import json
import re
from datetime import timedelta

import pytest

from iterum.core.electrical.joining import even_out
from iterum.core.fields import BadInput
from iterum.core.season.lesson import Until, outcome
from iterum.core.season.run import LIVE
from iterum.devices.sim_server import SimServer
from iterum.exchange.lessons import lesson_schema, lessons, read_lesson
from iterum.services.links import CHARGER
from iterum.services.rehearsing import Rehearsal, RehearsalClock, laid_out
from iterum.web import create_app
from iterum.web.serve import meet
from tests.conftest import NOON
from tests.web.conftest import Visitor

COURSE = lessons()


@pytest.mark.parametrize("lesson", COURSE, ids=lambda lesson: lesson.id)
def test_the_slip_is_refused_and_the_good_way_goes(lesson):
    told = {option.good: outcome(lesson, option) for option in lesson.options}
    slip, good = told[False], told[True]
    assert not slip.fits
    assert slip.refusals
    assert good.fits
    if good.sizing is not None:
        assert good.sizing.joining.passes
        assert all(rate <= pack.charge_c + 1e-9 for pack in good.packs for rate in [good.rates_c[pack.id]])
    elif good.evening is not None:
        assert good.evening.joining.passes


@pytest.mark.parametrize("lesson", COURSE, ids=lambda lesson: lesson.id)
def test_each_is_played_twice_and_its_page_shows_the_numbers_of_the_model(lesson, visitor):
    page = visitor.get(f"/rehearse/lesson/{lesson.id}").seen
    assert lesson.question in page.said
    for option in lesson.options:
        said = visitor.get(page.link(re.escape(option.words))).seen.said
        told = outcome(lesson, option)
        assert option.then in said
        assert ("What would have flowed" in said) is not option.good
        if told.worst:
            tags = next(item for item in lesson.options if item == option).does
            again = even_out(
                lesson.session.bench.members(tags.join), lesson.session.rules, None, tags.last, tags.rate_c
            )
            worst = max(again.packs, key=lambda item: item.peak_rate_c)
            assert f"{abs(worst.peak_current_a):.1f} A" in said
        if told.sizing:
            assert f"{told.sizing.current_a:.1f} A to set" in said
    listed = visitor.get("/rehearse").seen.said
    assert lesson.options[-1].words in listed  # what was done is kept


def test_a_club_adds_a_lesson_of_its_own(demo_app, visitor, tmp_path):
    folder = tmp_path / "lessons"
    folder.mkdir()
    own = {
        "format": "iterum-lesson", "version": 1, "id": "ours", "title": "Our own", "situation": "Two packs.", "question": "Which?",
        "session": {"format": "iterum-session", "version": 1,
                    "packs": [{"id": "A", "chemistry": "lipo", "cells": 3, "capacity_mah": 1000, "cell_volts": [3.8, 3.8, 3.8]}]},
        "choices": [{"id": "one", "words": "This one", "good": True, "then": "So."}, {"id": "two", "words": "That", "good": False, "then": "No."}],
        "instead": "Look first.",
    }  # fmt: skip
    (folder / "ours.json").write_text(json.dumps(own))
    assert "Our own" in visitor.get("/rehearse").seen.said
    assert set(own) | {"unread", "checker", "truly", "until", "begins"} == set(lesson_schema()["properties"])
    own["choices"][0]["does"] = {"join": ["A", "Z"]}
    with pytest.raises(BadInput, match="names Z"):
        read_lesson(json.dumps(own).encode())
    del own["question"]
    with pytest.raises(BadInput, match="question"):
        read_lesson(json.dumps(own).encode())
    own |= {"question": "Which?", "truly": {"A": {"cells": 99}}, "unread": ["A"]}
    del own["choices"][0]["does"]
    with pytest.raises(BadInput, match=r"truly .*cells"):
        read_lesson(json.dumps(own).encode())


# ------------------------------------------------------------------------------------------------ with hands


class Hands:
    """A learner at the bench of a lesson, on the pages of every day."""

    def __init__(self, lesson, folder):
        self.lesson, database = lesson, folder / "iterum.sqlite3"
        self.clock = RehearsalClock(NOON, 1, lambda: 0.0)
        laid_out(lesson, database, NOON)
        self.server = SimServer(lesson.truth, "127.0.0.1", 0, 1.0, self.clock.monotonic)
        self.server.start()
        self.mine = Rehearsal("http://127.0.0.1:9", self.clock, self.server, lesson, COURSE)
        app = create_app(database, self.clock, rehearsal=self.mine)
        self.parts = app.extensions["iterum"]
        self.runs, self.desk = self.parts["runs"], self.parts["desk"]
        self.parts["links"].guard.wait_s = 10
        meet(app, ((CHARGER, f"127.0.0.1:{self.server.port}"),), confirmed=True)
        self.visitor = Visitor(app)

    def read(self, tag, *texts, total=False, warm=""):
        cells = {f"cell{number}": text for number, text in enumerate(texts, 1)}
        more = {"total": "yes"} if total else {}
        self.visitor.post("/measure", pack=tag, temperature=warm, confirmed=",".join(texts), **cells, **more)

    def read_as_shown(self):
        """Type exactly what the checker, and a thermometer, show."""
        for tag in self.lesson.unread:
            shown, stands = self.mine.checker(tag), self.server.bench.packs[tag]
            warm = f"{stands.temperature_c:.0f}" if stands.pack.temperature_c is not None else ""
            if self.lesson.by_total:
                self.read(tag, f"{sum(shown):.2f}", total=True, warm=warm)
            else:
                self.read(tag, *(f"{volts:.2f}" for volts in shown), warm=warm)

    def charge(self, *packs, **more):
        """Start this batch and start it, as the pages ask; what they refuse is left."""
        if more:
            self.visitor.post("/run", packs=list(packs), **more)
        else:
            card = self.visitor.get("/charge?" + "&".join(f"packs={tag}" for tag in packs)).seen
            if "Start this batch" not in card.said:
                return
            address, values = card.form("Start this batch")
            self.visitor.post(address, **{**values, "csrf_token": self.visitor.token})
        for key in [run.key for run in self.runs.open()]:
            run, before = self.runs.look(key, self.clock()).run, None
            while run.state not in (before, *LIVE):
                act, before = run.next_act, run.state
                more = {"skip": "yes", "note": "it was set"} if act == "read back" else {}
                looked = list(run.packs) if act == "inspect" else []
                self.visitor.post(f"/run/{key}/act", act=act.value, expected=before.value, looked=looked, **more)
                run = self.runs.look(key, self.clock()).run

    def wait(self, minutes):
        self.mine.step(self.clock() + timedelta(minutes=minutes), self.parts["watcher"])

    def stop(self):
        (run,) = self.runs.open()
        self.visitor.post(f"/run/{run.key}/act", act="stop", expected=run.state.value)

    def close(self):
        self.server.close()
        self.parts["links"].close()
        self.parts["store"].close()


@pytest.fixture
def at_bench(tmp_path):
    hands = []

    def at(name):
        hands.append(Hands(next(item for item in COURSE if item.id == name), tmp_path))
        return hands[-1]

    yield at
    for item in hands:
        item.close()


def dropped_digit(hands):
    hands.read("A-1", *["3.70"] * 4)
    hands.read("A-2", *["3.70"] * 4)
    hands.charge("A-1", "A-2")


def four_cells(hands):
    hands.read("B-1", *["3.10"] * 4)
    hands.charge("B-1")


def not_looked_at_the_low_one(hands):
    hands.read("G-6", *["3.84"] * 4)
    hands.charge(*(f"G-{number}" for number in range(1, 7)))


def no_hand_on_the_pack(hands):
    for tag in ("L-1", "L-2"):
        hands.read(tag, *["3.74"] * 4)
    hands.charge("L-1", "L-2")


def one_number_for_all_cells(hands):
    hands.read("K-1", *["3.80"] * 4)
    hands.charge("K-1", "K-2", "K-3")


def by_the_clock(hands):
    hands.charge("M-1", "M-2", "M-3")
    hands.wait(50)
    hands.stop()


def the_soft_one_too(hands):
    hands.charge("J-1", "J-2")


SLIPS = {"dropped-digit": dropped_digit, "which-count": four_cells, "low-one-last": not_looked_at_the_low_one,
         "hot-pack": no_hand_on_the_pack, "weak-cell": one_number_for_all_cells, "by-the-clock": by_the_clock,
         "swollen": the_soft_one_too}  # fmt: skip
"""Slips that every screen lets pass, because it believes what hands tell it."""


@pytest.mark.parametrize("name", SLIPS)
def test_a_slip_of_the_hands_is_told_by_how_the_packs_truly_stand(name, at_bench):
    hands = at_bench(name)
    assert hands.mine.judged(hands.runs, hands.desk) is None
    SLIPS[name](hands)
    judged = hands.mine.judged(hands.runs, hands.desk)
    assert not judged.good
    assert not judged.option.good
    assert "That is the slip" in hands.visitor.get("/packs").seen.said
    said = hands.visitor.get(f"/rehearse/lesson/{name}").seen.said
    assert "What would have flowed" in said
    model = outcome(hands.lesson, next(item for item in hands.lesson.options if not item.good))
    if model.worst:
        assert f"{abs(model.worst.peak_current_a):.1f} A" in said
    elif name == "by-the-clock":
        assert "After 50 min" in said
    if name in ("dropped-digit", "low-one-last", "weak-cell"):  # what was typed stands beside what it was then
        assert re.search(r"(1\d\.|3\.)\d\d V typed, the checker showed", said)
        assert {
            "dropped-digit": "showed 3.79 3.79 3.79 3.79",
            "low-one-last": "showed 3.65 3.65 3.65 3.65",
            "weak-cell": "showed 3.80 3.80 3.66 3.81",
        }[name] in said
    kept = hands.visitor.client.get_cookie("iterum_lessons").value
    assert kept == f"{name}:{judged.option.id}"


@pytest.mark.parametrize("lesson", COURSE, ids=lambda lesson: lesson.id)
def test_done_as_it_should_be_it_is_done_and_what_flows_is_the_models(lesson, at_bench):
    hands = at_bench(lesson.id)
    if lesson.id == "which-count":  # the wires were counted: three cells
        hands.visitor.post(
            "/packs/edit",
            known_as="B-1",
            id="B-1",
            chemistry="lipo",
            cells="3",
            capacity_mah="1800",
            max_charge_c="2",
            condition="ok",
        )
    hands.read_as_shown()
    good = next(item for item in lesson.options if item.good)
    charge = good.does.charge
    packs = charge.packs if charge else good.does.join or ("B-1",)
    more = {"kind": good.does.kind.value, "channel": charge.channel} if good.does.kind.value != "charge" else {}
    hands.charge(*packs, **more)
    if lesson.until is Until.FULL:
        assert hands.mine.judged(hands.runs, hands.desk) is None
        hands.wait(120)
    judged = hands.mine.judged(hands.runs, hands.desk)
    assert judged is not None
    assert judged.good, judged.outcome.refusals
    said = hands.visitor.get(f"/rehearse/lesson/{lesson.id}").seen.said
    assert "What flows" in said
    model = outcome(lesson, good)
    if model.sizing and lesson.id != "weak-cell":
        assert f"{model.sizing.current_a:.1f} A to set" in said


def test_what_a_screen_refuses_is_refused_on_the_bench_of_a_lesson_too(at_bench):
    hands = at_bench("full-among-empty")
    hands.charge(*(f"C-{number}" for number in range(1, 7)))
    assert hands.runs.latest() == ()
    assert hands.mine.judged(hands.runs, hands.desk) is None
