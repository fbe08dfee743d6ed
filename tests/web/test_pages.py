"""The pages without a browser: what they say, what they refuse, what they keep."""

import io
import json
import re
import time
from dataclasses import replace
from datetime import timedelta
from itertools import product

import pytest

from iterum.core.electrical.joining import joining
from iterum.core.sizing.arrange import answer
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.exchange.session import dumps, parse
from iterum.web.app import MAX_REQUEST_BYTES
from iterum.web.match.join import join_steps
from iterum.web.plan.views import timer_min
from iterum.wording import minutes
from tests.conftest import NOON, even
from tests.web.conftest import Seen, Visitor, planned, searched, spoken

PAGES = ("/measure", "/match", "/plan", "/heats", "/put-away", "/packs", "/packs/edit", "/kit", "/kit/board", "/kit/charger",
         "/kit/supply", "/kit/source", "/rules", "/files", "/what-if", "/wrong", "/wrong?see=smoke", "/wrong/keys")  # fmt: skip
OF_PACKS = ("/charge?packs=P-08&packs=P-11", "/charge/other?packs=P-04", "/packs/health?id=P-01", "/measure?pack=P-10")


def desk(app):
    return app.extensions["iterum"]["desk"]


def test_every_page_answers_with_data_and_without(demo_app, empty_app):
    for app, path in [*product((demo_app, empty_app), PAGES), *product((demo_app,), OF_PACKS)]:
        answer = app.test_client().get(path)
        assert answer.status_code == 200
        assert "Something’s wrong" in answer.text
        assert not re.search(r"<script(?![^>]*src=)|\son\w+=|\sstyle=|<style", answer.text)  # nothing inline
        assert not re.search(r"(src|href|action)=\"(https?:)?//", answer.text)  # nothing from elsewhere
        assert not re.search(r"[\[(]&#39;|\bnan\b", answer.text), path  # nothing as only a program reads it


@pytest.mark.parametrize("path", ["/measure", "/match", "/plan", "/put-away", "/packs"])
def test_without_data_a_page_says_what_to_do_first_and_has_the_button(path, newcomer):
    assert newcomer.get(path).seen.link(r"Add|Measure|Start").startswith(("/packs/edit", "/measure"))


class TestSafeByDefault:
    def test_an_unknown_host_name_is_refused(self, visitor):
        for host in ("evil.example", "127.0.0.1.evil.example", "192.168.0.7", "localhost.evil"):
            assert visitor.get("/packs", headers={"Host": host}).status_code == 400
        for host in ("localhost:8765", "127.0.0.1"):
            assert visitor.get("/packs", headers={"Host": host}).status_code == 200

    def test_no_change_without_a_token(self, demo_app):
        before = desk(demo_app).session()
        client = demo_app.test_client()
        rules = [rule for rule in demo_app.url_map.iter_rules() if "POST" in rule.methods]
        assert len(rules) > 8
        for rule in rules:
            path = rule.rule.replace("<part>", "board").replace("<int:key>", "1")
            assert client.post(path, data={"pack": "P-01", "id": "P-01"}).status_code == 400, path
        assert desk(demo_app).session() == before

    def test_the_policy_lets_nothing_inline_and_nothing_from_elsewhere_in(self, visitor):
        policy = visitor.get("/match").headers["Content-Security-Policy"]
        assert "default-src 'none'" in policy
        assert "script-src 'self'" in policy
        assert "unsafe" not in policy

    def test_what_is_too_large_is_refused(self, visitor):
        answer = visitor.post("/files/preview", text="x" * (MAX_REQUEST_BYTES + 1))
        assert answer.status_code == 413
        assert "5 MB" in answer.text

    def test_text_is_never_markup(self, visitor):
        visitor.post("/packs/edit", id="<i>X", chemistry="lipo", cells="4", capacity_mah="1000",
                     name="<script>alert(1)</script>", note='"><img src=x>')  # fmt: skip
        for path in ("/packs", "/measure?pack=<i>X", "/packs/edit?id=<i>X"):
            page = visitor.get(path).text
            assert "<script>alert" not in page
            assert "<img src=x>" not in page
            assert "&lt;i&gt;X" in page

    def test_going_back_leads_nowhere_else(self, visitor):
        for back in ("https://evil.example/", "//evil.example", "/\\evil.example"):
            data = {"csrf_token": visitor.token, "theme": "night", "back": back}
            assert visitor.client.post("/look", data=data).headers["Location"] == "/"

    def test_csv_is_defused(self, visitor):
        visitor.post("/packs/edit", id="=SUM", chemistry="lipo", cells="4", capacity_mah="1000")
        assert "'=SUM" in visitor.get("/packs/packs.csv").text


class TestMeasure:
    def typed(self, visitor, pack_id, *cells, **more):
        return visitor.post("/measure", pack=pack_id, **{f"cell{n}": text for n, text in enumerate(cells, 1)}, **more)

    def test_good_volts_are_written_down_and_the_next_pack_comes(self, visitor, demo_app):
        self.typed(visitor, "P-13", "384", "3.85", "3,84", "384")
        assert desk(demo_app).readings("P-13")[0].reading.cell_v == (3.84, 3.85, 3.84, 3.84)

    @pytest.mark.parametrize(
        ("cells", "words"),
        [(("384", "348", "384", "384"), "Did you mean 3.84?"), (("384", "384", "384", "000"), "Is this a 3S?"),
         (("384", "120", "384", "384"), "A dead cell"), (("384", "384", "", "384"), "Empty: type three digits"),
         (("384", "384", "abc", "384"), "is no voltage"), (("485", "384", "384", "384"), "is over 4.50")],
    )  # fmt: skip
    def test_odd_volts_are_questioned_and_kept_as_typed(self, visitor, demo_app, cells, words):
        page = self.typed(visitor, "P-13", *cells).text
        assert words in page
        assert desk(demo_app).readings("P-13") == ()
        assert all(f'value="{text}"' in page for text in cells)

    def test_a_question_answered_with_yes_takes_the_volts_as_they_are(self, visitor, demo_app):
        cells = ("384", "120", "384", "384")
        self.typed(visitor, "P-13", *cells, confirmed=",".join(cells))
        assert desk(demo_app).readings("P-13")[0].reading.cell_v[1] == 1.20

    def test_volts_that_no_cell_has_are_not_taken_however_often(self, visitor, demo_app):
        cells = ("485", "384", "384", "384")
        self.typed(visitor, "P-13", *cells, confirmed=",".join(cells))
        assert desk(demo_app).readings("P-13") == ()

    def test_a_correction_is_kept_as_one(self, visitor, demo_app):
        self.typed(visitor, "P-01", "383", "383", "383", "383", correct="yes")
        newest, oldest = desk(demo_app).readings("P-01")
        assert newest.corrects == oldest.key
        assert "corrected later, kept as it was" in visitor.get("/packs/history?id=P-01").text

    def test_a_hot_pack_is_not_charged_until_it_has_rested(self, visitor):
        assert "too" not in self.typed(visitor, "P-13", "384", "384", "384", "384", temperature="warm").request.path
        self.typed(visitor, "P-13", "384", "384", "384", "384", temperature="51")
        assert "The pack is at 51 °C; the limit is 45 °C." in visitor.get("/packs").text

    def test_looks_wrong_keeps_a_pack_apart_and_can_be_taken_back(self, visitor, demo_app):
        visitor.post("/measure/wrong", pack="P-01", condition="damaged")
        assert "P-01" in {left.pack.id for left in desk(demo_app).matching(NOON)[0].left_out}
        visitor.post("/measure/wrong", pack="P-01", condition="ok")
        assert "P-01" not in {left.pack.id for left in desk(demo_app).matching(NOON)[0].left_out}


class TestMatchAndDial:
    def group(self, app, family="lipo-4S"):
        return next(group for group in desk(app).matching(NOON)[0].groups if group.family == family)

    def test_a_pack_moved_outside_the_rules_is_refused_a_current_and_goes_back(self, visitor, demo_app):
        before = desk(demo_app).matching(NOON)[0]
        anchor = self.group(demo_app).packs[0].id
        page = visitor.post("/match/move", pack="P-12", to=f"with:{anchor}", **{"class": "lipo-4S"}).text
        assert "P-12 is moved, but this group may not be charged" in page
        assert "too wide" in page
        visitor.post("/match/move", pack="P-12", to="back")
        assert desk(demo_app).matching(NOON)[0] == before

    def test_a_damaged_pack_is_moved_nowhere(self, visitor, demo_app):
        anchor = self.group(demo_app, "lipo-6S").packs[0].id
        assert "Not moved" in visitor.post("/match/move", pack="T-03", to=f"with:{anchor}").text

    def test_board_channel_rate_and_feed_are_followed_at_once(self, visitor, demo_app):
        ids = [pack.id for pack in self.group(demo_app, "lipo-2S").packs]
        path = "/charge?" + "&".join(f"packs={tag}" for tag in ids)

        def amps(**query):
            page = visitor.get(path + "".join(f"&{name}={value}" for name, value in query.items())).seen.page
            return float(re.match(r"([\d.]+) A", spoken(page.find(attrs={"aria-label": "Amps to set"})))[1])

        assert amps(rate_c=2) == pytest.approx(2 * amps(rate_c=1))
        assert amps(rate_c=3, channel="Small-1") == 5.0  # six packs of 450 mAh at their label's 2C would take 5.4
        assert amps(current_a="1.3") == 1.3
        assert "cannot be set" in visitor.get(path + "&current_a=much").text
        assert "needs 11.0 V" not in visitor.get(path + "&channel=Small-1&fed_by=mains").text

    def test_what_must_not_be_charged_is_refused_with_every_reason(self, visitor):
        page = visitor.get("/charge?packs=P-01&packs=T-01&packs=T-03").text
        assert "Not charged like this" in page
        assert "never share a board" in page
        assert "Marked as damaged" in page

    def test_the_kept_choice_goes_into_the_file(self, visitor):
        visitor.post("/charge/keep", packs="P-01", rate_c="1")
        group = json.loads(visitor.get("/files/session.json").text)["group"]
        assert (group["packs"], group["current_a"]) == (["P-01"], 1.8)


class TestWhatFlows:
    def test_a_group_shows_both_verdicts_its_picture_and_steps_in_order(self, visitor, demo_app):
        group = TestMatchAndDial().group(demo_app)
        seen = visitor.get("/match/join?" + "&".join(f"packs={pack.id}" for pack in group.packs)).seen
        steps = re.findall(r"Main lead of ([\w-]+)", seen.said)
        assert tuple(steps) == group.plug_in_order
        assert "By volts" in seen.said
        assert "By what flows" in seen.said
        assert any("Currents after joining" in item["aria-label"] for item in seen.page("svg", role="img"))
        assert set(steps) <= set(seen.heads())

    def test_inside_the_volts_but_too_much_current_shows_ways_out(self, visitor, demo_app):
        session = desk(demo_app).session()
        strict = replace(session.rules, match_limit=0.1, join_peak_c=1.0)
        desk(demo_app).write(replace(session, rules=strict), NOON)
        page = visitor.get("/match/join?packs=P-04&packs=P-02&packs=P-01&packs=P-05").text
        assert "0.090 V apart, allowed 0.100." in page
        assert "Ways to join them after all" in page

    def test_what_may_never_be_joined_is_refused(self, visitor):
        assert "never share a board" in visitor.get("/match/join?packs=P-01&packs=T-01").text

    def test_the_dial_card_says_when_watts_slow_it(self, visitor):
        page = visitor.get("/charge?packs=T-01&packs=T-02&channel=Small-1").seen.said
        assert re.search(r"Watts hold the amps down .*: \d+ min longer than the packs would need", page)
        assert re.search(r"Started now, full about \d\d:\d\d", page)
        assert "longer than amps alone" not in page  # sized at full volts, the watts hold to the end
        visitor.post("/rules", rule="size_at", school="nominal")
        assert "longer than amps alone" in visitor.get("/charge?packs=T-01&packs=T-02&channel=Small-1").text

    def test_one_question_without_any_stored_pack(self, newcomer):
        page = newcomer.get("/what-if?a_count=1&a_label_c=75&b_count=1&b_v=3.88&b_label_c=75").seen.said
        assert "When B is plugged in, A takes 5.1C; the limit is 5.0C" in page
        assert "expected about" in page

    def test_every_page_of_a_group_tells_the_same_waits_and_the_same_sum(self, visitor, demo_app):
        visitor.post("/rules", rule="joining", school="join-2")
        tags = ("P-04", "P-02", "P-01", "P-05")
        address = "&".join(f"packs={tag}" for tag in tags)
        joined, dialled = visitor.get(f"/match/join?{address}").seen.said, visitor.get(f"/charge?{address}").seen.said
        packs = desk(demo_app).bench(NOON).members(tags)
        told = joining(packs, desk(demo_app).session().rules)
        assert told.wait_min
        for step in join_steps(told, HouseRules()):
            assert step.then in joined
        for number, step in enumerate(told.timetable, 1):
            assert f"{number}. {step.plug} {minutes(step.wait_min) if step.wait_min else 'no wait'}" in dialled
        assert f"{minutes(told.wait_min)} until charging may start" in joined
        assert f"after {minutes(told.wait_min)} of equalising" in dialled

    def test_together_stands_beside_one_after_another_and_a_source_is_counted(self, newcomer):
        page = newcomer.get("/what-if?a_count=4&b_count=0&amps=10&watts=300&bank_wh=400").seen
        rows = {row.th.get_text(strip=True): [cell.get_text(strip=True) for cell in row("td")]
                for row in page.page.find("section", attrs={"aria-label": "Together or one after another"})("tr")[1:]}  # fmt: skip
        assert rows["Together"][1:3] == ["once", "1C"]
        assert rows["One after another"][1] == "4 times"
        assert re.search(r"fills all of them \d+ times", str(page.page))

    @pytest.mark.parametrize("count", [1, 10, 40])
    def test_pictures_are_drawn_for_one_ten_and_forty_packs(self, newcomer, count):
        seen = newcomer.get(f"/what-if?a_count={count}&b_count=0&amps=40&watts=900").seen
        assert len([head for head in seen.heads() if head.startswith("A")]) >= count
        tags = {text.get_text().strip() for picture in seen.page("svg", role="img") for text in picture("text")}
        assert len({tag for tag in tags if re.fullmatch(r"A\d*", tag)}) == (0 if count == 1 else 2)

    def test_a_question_that_makes_no_sense_is_told_field_by_field(self, newcomer):
        answer = newcomer.get("/what-if?cells=0&a_v=many&b_count=41")
        assert answer.status_code == 422
        assert answer.seen.refused().keys() == {"cells", "a_v", "b_count"}
        assert 'value="many"' in answer.text


class TestPlan:
    planned = staticmethod(planned)

    def test_a_plan_shows_its_strip_its_visits_and_its_reasons(self, visitor):
        page = Seen(self.planned(visitor))
        assert any("Day strip: " in item["aria-label"] for item in page.page("svg", attrs={"aria-label": True}))
        assert "Starts at once." in page.said
        assert "Pylon heat 1" in page.said
        assert re.search(r"On Twin-\d with", page.said)

    def test_a_plan_is_kept_over_a_restart_and_says_when_it_is_stale(self, visitor, demo_app):
        self.planned(visitor)
        demo_app.extensions["iterum"]["plan_desk"].job = None
        page = visitor.get("/plan").text
        assert "all full" in page
        assert "Something changed since" not in page
        visitor.post("/packs/retire", id="P-02")
        assert "Something changed since this plan was made" in visitor.get("/plan").text

    def test_a_long_search_can_be_stopped_and_its_best_taken(self, visitor):
        visitor.post("/plan", prefer="soonest", seconds="60")
        assert "Searching" in visitor.get("/plan").text
        page = visitor.post("/plan/stop").text
        assert "Searching" not in page
        assert "At the bench" in page

    def test_plans_are_compared_by_the_same_figures_and_one_is_taken(self, visitor, demo_app):
        page = self.planned(visitor, prefer="compare", seconds="1.5")
        assert "The plans by the same figures" in page
        assert desk(demo_app).latest_plan().prefer == "soonest"
        visitor.post("/plan/take", prefer="gentlest")
        plans = desk(demo_app).latest_plans()
        assert plans[0].prefer == "gentlest"
        assert {plan.prefer for plan in plans} == {"soonest", "gentlest", "fewest-visits", "steadiest"}

    def test_planning_again_leaves_what_runs_and_says_what_changed(self, demo_app, visitor):
        self.planned(visitor)
        first = desk(demo_app).latest_plan().plan.batches[0]
        demo_app.extensions["iterum"]["clock"] = lambda: NOON + timedelta(minutes=15)
        page = self.planned(visitor, follow="yes")
        assert "What changed" in page
        assert "Runs, or is about to: left alone" in page
        again = desk(demo_app).latest_plan().plan.batches[0]
        assert (again.packs, again.channel) == (first.packs, first.channel)
        assert again.start_min == pytest.approx(first.start_min - 15)

    def moved(self, visitor, demo_app):
        """Move the last batch to the first later time that every rule allows; the page, and by how much."""
        last = len(desk(demo_app).latest_plan().plan.batches) - 1
        for by_min in (1, 5, 12, 20, 33, 45, 60, 90):
            page = visitor.post("/plan/batch", batch=str(last), by_min=str(by_min)).text
            if "It is kept there" in page:
                return page, by_min
        raise AssertionError("no later time was allowed")

    def test_a_batch_is_moved_kept_and_refused_with_reasons(self, visitor, demo_app):
        self.planned(visitor)
        batches = desk(demo_app).latest_plan().plan.batches
        last = len(batches) - 1
        _, by_min = self.moved(visitor, demo_app)
        moved = next(item for item in desk(demo_app).latest_plan().plan.batches if item.packs == batches[last].packs)
        assert moved.start_min == pytest.approx(batches[last].start_min + by_min)
        assert moved.locked
        before = desk(demo_app).latest_plan().plan
        page = visitor.post("/plan/batch", batch="1", by_min="-500").text
        assert "Not moved: That time is past." in page
        page = visitor.post("/plan/batch", batch=str(last), by_min="0", channel=batches[0].channel, start_min="1").text
        assert re.search(r"Not moved: .* is taken then; free for it from \d\d:\d\d", page)
        assert desk(demo_app).latest_plan().plan == before
        visitor.post("/plan/batch", batch=str(last), keep="no")
        assert not desk(demo_app).latest_plan().plan.batches[last].locked

    def test_a_kept_batch_stays_when_planned_anew(self, visitor, demo_app):
        self.planned(visitor)
        batches = desk(demo_app).latest_plan().plan.batches
        self.moved(visitor, demo_app)
        page = self.planned(visitor, follow="yes")
        assert "Kept where you put it." in page
        last = desk(demo_app).latest_plan().plan.batches
        assert any(item.packs == batches[-1].packs and item.locked for item in last)

    def test_the_chosen_batch_shows_its_pinch(self, visitor):
        self.planned(visitor)
        page = visitor.get("/plan?batch=0").text
        assert "Limits from source to packs; bottleneck:" in page
        assert "Keep it there" in page


class TestHeats:
    def test_heats_are_written_down_changed_and_taken_away_with_faults_told(self, visitor, demo_app):
        before = len(desk(demo_app).heats())
        visitor.post(
            "/heats", time="15:30", packs="2", name="Glider round", away="10", worth="1", **{"class": "lipo-2S"}
        )
        heat = next(heat for heat in desk(demo_app).heats() if heat.wish.name == "Glider round")
        assert (heat.wish.count, heat.wish.fly_min, f"{heat.at.astimezone():%H:%M}") == (2, 10.0, "15:30")
        number = desk(demo_app).heats().index(heat)
        visitor.post(
            "/heats",
            key=heat.key,
            time="15:40",
            packs="3",
            name="Glider round",
            away="",
            worth="2",
            **{"class": "lipo-2S"},
        )
        changed = desk(demo_app).heats()[number].wish
        assert (changed.count, changed.fly_min, changed.value) == (3, None, 2.0)
        assert visitor.post("/heats/gone", key=heat.key).status_code == 404  # it was changed meanwhile: nothing is hit
        assert visitor.post("/heats/move", key=heat.key, by_min="5").status_code == 404
        visitor.post("/heats/gone", key=desk(demo_app).heats()[number].key)
        assert len(desk(demo_app).heats()) == before
        answer = visitor.post("/heats", time="teatime", packs="many", name="kept", away="-1", **{"class": "lipo-2S"})
        assert answer.status_code == 422
        for text in ('value="teatime"', 'value="many"', 'value="kept"', "must be a time like 14:05"):
            assert text in answer.text
        assert len(desk(demo_app).heats()) == before

    def test_a_heat_slips_and_takes_those_after_it_along(self, visitor, demo_app):
        heats = desk(demo_app).heats()
        before = [heat.at for heat in heats]
        visitor.post("/heats/move", key=heats[1].key, by_min="15", rest="yes")
        after = [heat.at for heat in desk(demo_app).heats()]
        assert [(new - old) / timedelta(minutes=1) for old, new in zip(before, after, strict=True)] == [
            0,
            15,
            15,
            15,
            15,
        ]
        visitor.post("/heats/move", key=heats[0].key, by_min="-5")
        assert desk(demo_app).heats()[0].at == before[0] - timedelta(minutes=5)

    def test_the_plan_in_force_follows_a_heat_that_moves_and_one_that_is_taken_away(self, visitor, demo_app):
        planned(visitor, prefer="steadiest")
        one, two = desk(demo_app).heats()[:2]
        moved = visitor.post("/heats/move", key=one.key, by_min="10", follow_redirects=True)
        assert "The plan is being made again." in moved.text
        searched(demo_app.extensions["iterum"])
        visitor.post("/heats/gone", key=two.key)
        searched(demo_app.extensions["iterum"])
        kept = desk(demo_app).latest_plan()
        told = {item.wish.name: kept.moment(item.wish.at_min) for item in kept.plan.wanted}
        assert told[one.wish.name] == one.at + timedelta(minutes=10)
        assert two.wish.name not in told
        assert "Something changed since this plan" not in visitor.get("/plan").text

    def test_a_table_and_a_calendar_come_in_whole_or_not_at_all(self, visitor, demo_app):
        before = desk(demo_app).heats()
        answer = visitor.post("/heats/paste", table="16:00\tA\t2S LiPo\t2\t8\nxx\tB\t2S LiPo\t2")
        assert answer.status_code == 422
        assert "line 2, time" in answer.text
        assert desk(demo_app).heats() == before
        calendar = visitor.get("/heats/heats.ics").data
        assert calendar.startswith(b"BEGIN:VCALENDAR")
        visitor.post("/heats/paste", table="16:00\tA\t2S LiPo\t2\t8")
        assert len(desk(demo_app).heats()) == len(before) + 1
        visitor.post("/heats/calendar", file=(io.BytesIO(calendar), "day.ics"))
        assert len(desk(demo_app).heats()) == len(before) + 1  # the same heats are not written down twice
        assert visitor.post("/heats/calendar", file=(io.BytesIO(b"nothing"), "day.ics")).status_code == 422

    def test_the_strip_counts_down_to_the_next_heat(self, visitor, demo_app):
        assert "75 min to Pylon heat 1" in visitor.get("/kit").seen.said
        demo_app.extensions["iterum"]["clock"] = lambda: NOON + timedelta(minutes=80)
        assert "30 min to Tow 1" in visitor.get("/kit").seen.said


class TestRunSheet:
    planned = staticmethod(planned)

    def test_the_run_sheet_has_all_that_is_needed_without_a_screen(self, visitor, demo_app):
        self.planned(visitor)
        page = visitor.get("/plan/sheet").text
        for batch in desk(demo_app).latest_plan().plan.batches:
            assert all(tag in page for tag in batch.packs)
            assert f"{batch.current_a:.1f} A" in page
        assert "16.8 V" in page

    def test_the_timer_of_the_run_sheet_is_the_one_of_the_dial_card(self, visitor, demo_app):
        self.planned(visitor)
        session, compared = desk(demo_app).session(), 0
        for batch in desk(demo_app).latest_plan().plan.batches:
            if set(batch.rounds) == {1} and batch.lead_min > 0:
                compared += 1
                _, sizing, _ = answer(session.bench, batch.choice)
                assert timer_min(batch, session) == sizing.dial.timer_min, batch.packs
        assert compared >= 3


class TestForms:
    def test_each_fault_stands_at_its_field_and_nothing_typed_is_lost(self, visitor, demo_app):
        before = desk(demo_app).session()
        typed = {
            "id": "",
            "chemistry": "lipo",
            "cells": "99",
            "capacity_mah": "many",
            "max_charge_c": "-1",
            "note": "keep me",
        }
        answer = visitor.post("/packs/edit", **typed)
        assert answer.status_code == 422
        assert answer.seen.refused().keys() == {"id", "cells", "capacity_mah", "max_charge_c"}
        assert "must be a whole number from 1 to 14, got 99" in answer.text.lower()
        assert 'value="many"' in answer.text
        assert "keep me" in answer.text
        assert desk(demo_app).session() == before

    def test_a_tag_used_already_is_told_at_the_tag(self, visitor):
        answer = visitor.post("/packs/edit", id="P-01", chemistry="lipo", cells="4", capacity_mah="1000")
        assert "P-01 is used already" in answer.text

    def test_a_charger_with_two_channels_is_added_and_changed(self, visitor, demo_app):
        channels = {"channels": "2", "channel0-id": "N-1", "channel0-max_current_a": "10", "channel0-max_power_w": "100",
                    "channel1-id": "N-2", "channel1-max_current_a": "x", "channel1-max_power_w": "100"}  # fmt: skip
        answer = visitor.post("/kit/charger", id="New", power_by_input_v="12:100, 24:200", **channels)
        assert answer.seen.refused().keys() == {"channel1-max_current_a"}
        visitor.post(
            "/kit/charger", id="New", power_by_input_v="12:100, 24:200", **(channels | {"channel1-max_current_a": "5"})
        )
        charger = next(item for item in desk(demo_app).session().kit.chargers if item.id == "New")
        assert charger.power_by_input_v == ((12, 100), (24, 200))
        assert [channel.max_current_a for channel in charger.channels] == [10, 5]

    def test_what_feeds_others_is_not_retired_and_what_is_retired_comes_back(self, visitor, demo_app):
        before = desk(demo_app).session()
        assert "Feed it from elsewhere first" in visitor.post("/kit/source/retire", id="bank").text
        visitor.post("/kit/charger/retire", id="small")
        visitor.post("/packs/retire", id="P-01")
        assert "Bring small back" in visitor.get("/kit").text
        visitor.post("/kit/charger/retire", id="small", back="yes")
        visitor.post("/packs/retire", id="P-01", back="yes")
        assert desk(demo_app).session() == before


class TestRules:
    def test_every_school_can_be_chosen_and_the_last_change_undone(self, visitor, demo_app):
        page = visitor.get("/rules").seen.page
        rule, chosen = "", 0
        for item in page(attrs={"name": re.compile("^(rule|school)$")}):
            rule = item["value"] if item["name"] == "rule" else rule
            if item["name"] == "school":
                school = item["value"]
                answer = visitor.post("/rules", rule=rule, school=school)
                assert answer.status_code == 200
                pressed = answer.seen.page("button", attrs={"aria-pressed": "true"})
                assert school in {button["value"] for button in pressed}
                chosen += 1
        assert chosen > 20
        before = desk(demo_app).session().rules
        visitor.post("/rules", rule="match", school="percent-5")
        visitor.post("/rules", act="back")
        assert desk(demo_app).session().rules == before

    def test_the_joining_rule_says_how_many_groups_it_would_stop(self, visitor):
        assert "groups would need" not in visitor.get("/rules").text  # the page stands before it is worked out
        assert 'id="effect-1-2" hx-swap-oob="true"' in visitor.get("/rules/effects").text
        page = visitor.get("/rules").text
        rule = page[page.index('id="rule-joining"') :]
        assert re.search(r"\d of 5 groups would need another way in|All 5 groups may be plugged in", rule)

    def test_switching_a_school_changes_groups_and_amps_at_once(self, visitor, demo_app):
        groups = [group.plug_in_order for group in desk(demo_app).matching(NOON)[0].groups]
        visitor.post("/rules", rule="match", school="cell-0.05")
        assert [group.plug_in_order for group in desk(demo_app).matching(NOON)[0].groups] != groups
        amps = [item.sizing.current_a for item in desk(demo_app).placed(NOON) if item.sizing]
        visitor.post("/rules", rule="rate", school="half")
        assert [item.sizing.current_a for item in desk(demo_app).placed(NOON) if item.sizing] != amps


class TestWhatSourcesHold:
    def test_a_label_in_words_gives_watt_hours(self, newcomer):
        shown = newcomer.post("/kit/source", id="b", label="3S 5200", max_current_a="25").seen
        assert "11.1 V" in shown.said
        assert newcomer.get("/kit").seen.said.count("of 58") == 0  # shown first
        fields = {item["name"]: item.get("value", "") for item in shown.page("input", attrs={"name": True})}
        newcomer.post("/kit/source", **{name: value for name, value in fields.items() if name != "csrf_token"})
        assert "46 left of 46, 12 in reserve" in newcomer.get("/kit").seen.said
        answer = newcomer.post("/kit/source", id="c", label="a big one")
        assert (answer.status_code, "a big one" in answer.text) == (422, True)

    def test_it_is_filled_told_and_empty(self, visitor, demo_app):
        def usable_wh():
            return desk(demo_app).session().kit.sources[0].usable_wh

        whole_wh = usable_wh()
        visitor.post("/kit/source/ledger", id="bank", act="told", left_wh="300")
        assert usable_wh() == pytest.approx(300)
        assert (
            "holds what you said" not in visitor.post("/kit/source/ledger", id="bank", act="told", left_wh="1e9").text
        )
        visitor.post("/kit/source/ledger", id="bank", act="empty")
        assert usable_wh() == 0
        card = visitor.get("/charge?packs=P-01").text
        assert "bank has 0 Wh left" in card or "Fed by" in card
        visitor.post("/kit/source/ledger", id="bank", act="filled")
        assert usable_wh() == pytest.approx(whole_wh)
        assert visitor.post("/kit/source/ledger", id="bank", act="charge").status_code == 404


class TestPutAway:
    def test_a_line_that_goes_up_is_begun_as_it_stands(self, visitor, demo_app):
        address, fields = visitor.get("/put-away").seen.form(r"^Begin ")
        visitor.post(address, **fields)
        run = demo_app.extensions["iterum"]["runs"].open()[-1]
        assert list(run.packs) == sorted(fields["packs"], key=list(run.packs).index)
        assert (run.current_a, run.card.end_v) == (float(fields["current_a"][0]), float(fields["end_v"][0]))
        after = visitor.get("/put-away").text
        assert f"Begin {fields['packs'][0]}" not in after  # what is in hand is not offered again
        assert f"In a batch now, planned when they are done: {', '.join(sorted(run.packs))}." in after


class TestFiles:
    def file(self, app, **changes):
        return (
            dumps(desk(app).session())
            if not changes
            else json.dumps({**json.loads(dumps(desk(app).session())), **changes})
        )

    def test_exported_and_imported_again_changes_nothing(self, visitor, demo_app):
        text = visitor.get("/files/session.json").text
        page = visitor.client.post(
            "/files/preview", data={"csrf_token": visitor.token, "file": (io.BytesIO(text.encode()), "s.json")}
        ).text
        assert "Nothing: all" in page
        before = desk(demo_app).session()
        visitor.post("/files/import", text=text, revision=str(desk(demo_app).revision()))
        assert desk(demo_app).session() == before

    def test_an_import_shows_what_it_changes_before_it_changes_it(self, visitor, demo_app):
        packs = [{"id": "P-01", "chemistry": "lipo", "cells": 4, "capacity_mah": 2000},
                 {"id": "New", "chemistry": "life", "cells": 3, "capacity_mah": 1100}]  # fmt: skip
        text = self.file(demo_app, packs=packs)
        before = desk(demo_app).session()
        seen = visitor.post("/files/preview", text=text).seen
        assert "capacity mah: 1800 2000" in seen.said
        assert "pack New" in seen.said
        assert desk(demo_app).session() == before
        address, values = seen.form("Import")
        visitor.post(address, **values | {"text": text})
        after = {pack.id: pack for pack in desk(demo_app).session().packs}
        assert (after["P-01"].capacity_mah, len(after)) == (2000, 33)
        assert after["P-01"].reading is not None  # a file without volts takes none away

    def test_a_file_with_faults_is_told_all_of_them_and_stays_in_the_field(self, visitor, demo_app):
        text = self.file(demo_app, packs=[{"id": "Q"}, {"id": "Q"}])
        answer = visitor.post("/files/preview", text=text)
        assert answer.status_code == 422
        assert answer.text.count("is missing") == 6
        assert "is used already at packs[0]" in answer.text
        assert "&#34;id&#34;: &#34;Q&#34;" in answer.text

    def test_an_import_is_looked_at_again_when_something_changed_meanwhile(self, visitor, demo_app):
        text = self.file(demo_app, packs=[{"id": "N", "chemistry": "lipo", "cells": 1, "capacity_mah": 100}])
        stale = str(desk(demo_app).revision())
        desk(demo_app).save_pack(even("M", 3.8), None, NOON)
        assert "Something was changed meanwhile" in visitor.post("/files/import", text=text, revision=stale).text
        assert "N" not in {pack.id for pack in desk(demo_app).session().packs}

    def test_the_schema_can_be_had(self, visitor):
        assert visitor.get("/files/session.schema.json").json["$id"] == "urn:iterum:session:1"
        assert parse(visitor.get("/files/session.json").text)


def test_an_address_without_a_page_and_a_retired_pack_are_pages_too(visitor):
    for path in ("/nowhere", "/measure?pack=gone", "/kit/anvil", "/charge?packs=gone"):
        answer = visitor.get(path)
        assert answer.status_code == 404
        assert "Something’s wrong" in answer.text


class TestDays:
    def test_what_days_are_like_is_said_kept_and_taken_back(self, visitor, demo_app):
        _, fields = visitor.get("/rules").seen.form("Keep these")
        assert fields["slips"] == ["0.15"]
        answer = visitor.post("/rules/days", **fields | {"slips": "often", "hands": "0.1"})
        assert answer.seen.refused().keys() == {"slips"}
        assert 'value="often"' in answer.text
        visitor.post("/rules/days", **fields | {"slips": "0.5"})
        assert desk(demo_app).session().rules.days.slips == 0.5
        assert json.loads(visitor.get("/files/session.json").text)["rules"]["days"]["slips"] == 0.5
        visitor.post("/rules/days", **fields | {"act": "default"})
        assert desk(demo_app).session().rules.days.slips == 0.15


def test_measure_says_what_a_pack_waits_for(demo_app, visitor):
    planned(visitor)
    kept = desk(demo_app).latest_plan()
    batch = min((item for item in kept.plan.batches if item.lead_min > 0), key=lambda item: item.lead_min)
    said = visitor.get(f"/measure?pack={batch.packs[0]}").seen.said
    assert f"waits for {kept.moment(batch.start_min).astimezone():%H:%M} , {batch.channel}".replace(
        " ,", ","
    ) in said.replace(" ,", ",")


CHARGER_TYPED = {"id": "Q", "known_as": "one", "channels": "1", "channel0-id": "one-1", "channel0-max_current_a": "10",
        "channel0-max_power_w": "200", "channel0-max_cells": "6", "efficiency": "0.85"}  # fmt: skip


class TestWhatAChangeWouldGive:
    @pytest.fixture
    def bench(self, empty_app):
        kit = Kit((Board("Six", 6),), (Charger("one", (Channel("one-1", 2.0, 200, max_cells=6),)),))
        desk(empty_app).write(Session(tuple(even(f"P{n}", 3.7) for n in range(3)), kit, HouseRules(rate_c=1.0)), NOON)
        return Visitor(empty_app), empty_app

    def test_it_is_told_in_the_panel_as_one_types_and_nothing_is_saved(self, bench):
        visitor, app = bench
        page = visitor.get("/kit?part=charger&id=one").text
        assert 'hx-post="/kit/charger/would"' in page
        assert 'name="known_as"' in page
        told = re.sub(r"<[^>]+>|\s+", " ", visitor.post("/kit/charger/would", **CHARGER_TYPED).text)
        assert re.search(r"2\.0 A → +5\.4 A", told)
        assert desk(app).session().kit.chargers[0].channels[0].max_current_a == 2.0
        same = {**CHARGER_TYPED, "channel0-max_current_a": "2"}
        assert "Nothing of today’s groups would change" in visitor.post("/kit/charger/would", **same).text
        assert (
            "when every field makes sense"
            in visitor.post("/kit/charger/would", **{**CHARGER_TYPED, "channel0-max_power_w": "many"}).text
        )

    def test_another_tag_of_a_part_changes_nothing_that_flows(self, bench):
        visitor, app = bench
        bank = Source("bank", 12.8, None, 60.0, 500.0, 0.8)
        session = desk(app).session()
        fed = replace(session.kit.chargers[0], fed_by="bank")
        desk(app).write(replace(session, kit=replace(session.kit, chargers=(fed,), sources=(bank,))), NOON)
        typed = {
            "id": "other",
            "known_as": "bank",
            "voltage_v": "12.8",
            "max_power_w": "60",
            "energy_wh": "500",
            "usable_fraction": "0.8",
        }
        assert "Nothing of today’s groups would change" in visitor.post("/kit/source/would", **typed).text

    def test_one_part_more_is_worked_out_over_busy_days_or_said_that_none_tells(self, bench):
        visitor, app = bench
        assert "Planning those days again" in visitor.get("/kit/parts").text
        for _ in range(100):  # it is worked out beside the pages, in a process of its own
            told = visitor.get("/kit/parts/found").text
            if "Planning those days" not in told:
                break
            time.sleep(0.1)
        assert "No day of the log tells" in told
        assert "No day of the log tells" in visitor.get("/kit/parts").text
        app.extensions["iterum"]["work"].close()
