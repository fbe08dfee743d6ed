"""The pages of the run, the log and what follows, without a browser, against the simulated bench."""

import io
import re
from dataclasses import replace
from datetime import timedelta
from itertools import product

import pytest

from iterum.core.permit.permit import permits
from iterum.core.season.as_it_went import begun_and_waiting
from iterum.core.season.outlook import Observation
from iterum.core.season.run import Act, State
from iterum.core.things.packs import Condition
from iterum.services.logbook import Query
from iterum.services.watching import TYPED
from iterum.web.pictures.labels import SHEETS, address_of, draw
from tests.conftest import NOON
from tests.web.conftest import PACKS, UNEVEN, Visitor, planned


class TestRun:
    def test_inspection_is_of_every_pack_and_a_skip_needs_its_reason(self, bench):
        key = bench.begin()
        page = bench.act(key, "inspect", looked=["P-08"])
        assert "Look at every pack and tick it" in page
        assert 'value="P-08" checked' in page
        assert "Say why it is skipped." in bench.act(key, "inspect", skip="yes")
        assert bench.state(key) is State.PLANNED
        bench.act(key, "inspect", looked=list(PACKS))
        assert "Main lead of P-08" in bench.visitor.get(f"/run/{key}").text

    def test_waiting_is_asked_for_and_what_is_typed_is_compared(self, bench):
        key = bench.begin_uneven()
        bench.act(key, "inspect", looked=list(UNEVEN))
        page = bench.act(key, "plug in")
        assert "Until they have equalised" in page
        bench.clock.seconds += 3600
        assert "They have equalised" in bench.visitor.get(f"/run/{key}").text
        bench.act(key, "even out")
        page = bench.visitor.post(
            f"/run/{key}/read-back", expected="evened out", cells="3", pack_v="15.48", current_a="54", end_v="4.35"
        ).text
        for text in ("It shows 3 cells, the card says 4", "Too much: set it again", "Wrong chemistry", 'value="54"'):
            assert text in page
        assert bench.state(key) is State.EVENED_OUT
        page = bench.visitor.post(f"/run/{key}/read-back", expected="evened out", cells="many", pack_v="-3").text
        assert "&#39;many&#39; is no number" in page
        assert "must be 0 to 65, got -3" in page

    def test_a_charge_is_shown_checked_paused_and_stopped(self, bench):
        key = bench.charging()
        bench.pass_time(6)
        live = bench.visitor.get(f"/run/{key}/live").text
        assert "Charge card: minute 6" in live
        assert "read just now" in live
        bench.visitor.post(
            f"/run/{key}/check",
            expected="charging",
            temperature_c="24",
            **{"v-P-08": "15.72", "v-P-11": "392 393 392 393"},
        )
        seen = bench.runs.look(key, bench.clock()).seen
        assert [item.seen.pack_id for item in seen if item.seen.by_hand] == [None, "P-08", "P-11"]
        answer = bench.visitor.post(f"/run/{key}/check", expected="charging", temperature_c="hot", **{"v-P-08": "99"})
        assert answer.status_code == 422
        assert 'value="hot"' in answer.text
        assert "is no total of 4 cells" in answer.text
        bench.act(key, "pause")
        assert bench.server.bench.channels["Twin-1"].current_a == 0
        bench.act(key, "resume")
        assert "stopped" in bench.act(key, "stop")

    def test_what_is_wrong_shows_on_every_page_until_it_is_over(self, bench):
        key = bench.charging()
        bench.pass_time(12)
        sign = bench.visitor.get("/run/alarms").text
        assert "Twin-1, P-08, P-11, P-06: Check now: last check" in sign
        assert 'data-unseen="1"' in sign
        assert 'hx-get="/run/alarms"' in bench.visitor.get("/kit").text
        bench.visitor.post(f"/run/{key}/check", expected="charging")
        bench.pass_time(0.5)
        assert 'data-worst=""' in bench.visitor.get("/run/alarms").text

    def test_checked_after_it_is_in_the_log_and_the_packs_are_measured(self, bench):
        key = bench.charging()
        bench.pass_time(40)
        assert bench.state(key) is State.DONE
        page = bench.visitor.post(f"/run/{key}/after", expected="done", **{"v-P-08": "4.19 4.2"}).text
        assert "one value for each of 4 cells, got 2" in page
        assert "Read every pack" in bench.visitor.post(f"/run/{key}/after", expected="done").text
        volts = {f"v-{tag}": "419 419 420 419" for tag in PACKS}
        page = bench.visitor.post(
            f"/run/{key}/after", expected="done", note="all well", **volts, **{"r-P-08": "6 6 6.1 6"}
        ).text
        assert "Logged. The packs are free again." in page
        page = bench.visitor.get(f"/log?run={key}").text
        assert page.count("all well") == 3
        after = {pack.id: pack for pack in bench.desk.session().packs}
        assert after["P-08"].reading.cell_v == (4.19, 4.19, 4.20, 4.19)
        assert after["P-08"].resistance_mohm == (6, 6, 6.1, 6)
        assert "full since" in bench.visitor.get("/put-away").text
        assert "by the log" not in bench.visitor.get("/packs/health?id=P-08").text
        assert "4.19 4.19 4.20 4.19" in bench.visitor.get("/packs/health?id=P-08").text

    def test_a_pack_that_was_hurt_is_not_free_again(self, bench):
        key = bench.charging()
        bench.pass_time(5)
        bench.visitor.post("/wrong", see="swelling", packs=["P-08"], runs=[str(key)])
        said = bench.visitor.post(f"/run/{key}/after", expected="stopped", skip="yes").seen.said
        assert "Quarantined, outside, and not charged again: P-08. Free again: P-11, P-06." in said.replace(
            "P-06, P-11", "P-11, P-06"
        )

    def test_who_checks_after_second_loses_no_reading(self, bench):
        key = bench.charging()
        bench.pass_time(40)
        bench.visitor.post(f"/run/{key}/after", expected="done", skip="yes")
        page = bench.visitor.post(
            f"/run/{key}/after", expected="done", **{f"v-{tag}": "418 418 419 418" for tag in PACKS}
        ).text
        assert "Meanwhile the batch is checked after" in page
        assert all(
            pack.reading.cell_v == (4.18, 4.18, 4.19, 4.18) for pack in bench.desk.session().packs if pack.id in PACKS
        )

    def test_what_is_in_hand_and_what_cannot_be_is_said_on_the_bench(self, bench):
        bench.begin()
        page = bench.visitor.post("/run", packs=["P-08"], channel="Twin-2", board="").text
        assert "P-08 is in another batch that is not over." in page
        assert bench.visitor.get("/bench").seen.link("^Inspect$") == "/bench?open=1"
        assert bench.visitor.get("/run/999").status_code == 404

    def test_a_lost_charger_is_said_and_nothing_is_pretended(self, bench):
        key = bench.begin()
        bench.act(key, "inspect", looked=list(PACKS))
        with bench.server.lock:
            bench.server.bench.fault("link", "", "9999")
        page = bench.act(key, "plug in")
        assert bench.state(key) is State.INSPECTED
        assert "does not answer" in page


class TestSomethingWrong:
    def test_it_stops_keeps_apart_writes_down_and_plans_again(self, bench):
        planned(bench.visitor)
        key = bench.charging()
        bench.pass_time(2)
        boxes = bench.visitor.get("/wrong?see=swelling").seen.page("input", attrs={"name": "runs"})
        assert [box["value"] for box in boxes if box.has_attr("checked")] == [str(key)]
        page = bench.visitor.post("/wrong", see="swelling", runs=str(key), packs="P-11", note="soft").text
        assert "Stopped: Twin-1." in page
        assert bench.state(key) is State.STOPPED
        assert next(p.condition for p in bench.desk.session().packs if p.id == "P-11") is Condition.DAMAGED
        bench.parts["plan_desk"].take_best()
        document = bench.desk.latest_plan().plan
        assert "P-11" not in {tag for batch in document.batches for tag in batch.packs}
        assert "soft" in bench.visitor.get("/log?kind=incidents").text
        assert bench.visitor.post("/wrong", see="flood").status_code == 404

    def test_the_acts_are_in_every_page_for_when_the_server_is_gone(self, bench):
        for path in ("/kit", "/nowhere"):
            assert "Get everyone back, upwind." in bench.visitor.get(path).text


class TestMeasureBesideTheRun:
    def test_what_charges_is_not_asked_for_until_it_is_off(self, bench):
        def asked():
            return bench.visitor.get("/measure?class=lipo-4S").seen.page.find("input", attrs={"name": "pack"})["value"]

        key = bench.charging()
        assert asked() == "P-13"  # the only one that was never read
        bench.pass_time(1)
        bench.act(key, "stop")
        assert asked() == "P-06"


class TestReplanFromTheRun:
    def test_what_runs_stays_what_was_not_begun_is_still_to_come(self, bench):
        planned(bench.visitor)
        first = bench.desk.latest_plan().plan.batches[0]
        assert 'value="yes" checked' not in bench.visitor.get("/plan").text
        bench.charging(packs=list(first.packs), board=first.board or "", channel=first.channel)
        assert 'value="yes" checked' in bench.visitor.get("/plan").text  # it is followed, so it is kept to
        bench.pass_time(20)
        planned(bench.visitor, follow="yes")
        batches = bench.desk.latest_plan().plan.batches
        running = [batch for batch in batches if batch.start_min < 0]
        assert [set(batch.packs) for batch in running] == [set(first.packs)]
        assert all(batch.start_min >= 0 for batch in batches if batch not in running)

    @pytest.mark.parametrize("balancing_min", [0, 6, 20])
    def test_what_the_plan_takes_off_before_it_is_balanced_keeps_its_channel_no_longer(self, bench, balancing_min):
        planned(bench.visitor)
        kept = bench.desk.latest_plan()
        first, *others = kept.plan.batches
        first = replace(
            first, end_min=first.full_min + balancing_min
        )  # as where a heat, or another batch, waits for it
        kept = replace(kept, plan=replace(kept.plan, batches=(first, *others)))
        key = bench.charging(packs=list(first.packs), board=first.board or "", channel=first.channel)
        assert bench.runs.look(key, bench.clock()).run.expected.balance_min == 20
        session = bench.desk.session_at(kept.made_at, bench.clock())
        begun, _ = begun_and_waiting(kept, bench.runs.since(kept.made_at, bench.clock()), session, bench.clock())
        assert begun[0].packs == first.packs
        assert begun[0].end_min - begun[0].full_min == pytest.approx(balancing_min)

    def test_what_runs_outside_the_plan_keeps_its_channel_until_it_is_balanced(self, bench):
        planned(bench.visitor)
        kept = bench.desk.latest_plan()
        bench.charging()
        session = bench.desk.session_at(kept.made_at, bench.clock())
        (mine,), _ = begun_and_waiting(kept, bench.runs.since(kept.made_at, bench.clock()), session, bench.clock())
        assert mine.end_min - mine.full_min == pytest.approx(20)

    def test_only_a_free_row_offers_what_goes_on_next(self, bench):
        planned(bench.visitor)
        kept = bench.desk.latest_plan()
        first = kept.plan.batches[0]
        bench.begin(first.packs, first.board, first.channel)
        rows = bench.visitor.get("/bench").seen.page.select(".bench-row[id^=row-]:not(.row-foot)")
        offered = {row.find("b").text: bool(row.select("a[href^='/charge?']")) for row in rows}
        assert offered.pop(first.channel) is False
        assert any(offered.values())

    @pytest.mark.parametrize("follow", ["yes", "no"])
    def test_what_hangs_on_a_board_while_its_pilot_flies_stays_there(self, bench, follow):
        planned(bench.visitor)
        first = bench.desk.latest_plan().plan.batches[0]
        heat = min(item.wish.at_min for item in bench.desk.latest_plan().plan.wanted)
        bench.clock.seconds += (heat - 1) * 60
        key = bench.begin(first.packs, first.board, first.channel)
        bench.act(key, "inspect", looked=list(first.packs))
        bench.act(key, "plug in")
        bench.clock.seconds += 4 * 60  # the heat is being flown
        planned(bench.visitor, follow=follow)
        kept = bench.desk.latest_plan()
        (mine,) = (
            batch for batch in kept.plan.batches if set(batch.packs) == set(first.packs) and set(batch.rounds) == {1}
        )
        assert (mine.channel, mine.board) == (first.channel, first.board)
        assert mine.start_min >= kept.minute(bench.clock()) + 8 - 0.1  # back after 12 min
        others = [batch for batch in kept.plan.batches if batch is not mine and first.channel == batch.channel]
        assert all(
            batch.start_min >= mine.end_min - 0.1 for batch in others if batch.end_min > kept.minute(bench.clock())
        )

    @pytest.mark.parametrize("follow", ["yes", "no"])
    def test_after_a_stopped_batch_every_pack_is_planned_or_named(self, bench, follow):
        planned(bench.visitor)
        first, second = bench.desk.latest_plan().plan.batches[:2]
        key = bench.charging(packs=list(first.packs), board=first.board or "", channel=first.channel)
        bench.pass_time(10)
        bench.act(key, "stop")
        assert 'value="yes" checked' not in bench.visitor.get("/plan").text  # a stop is no part of a plan
        bench.visitor.post("/run", packs=list(second.packs), board=second.board or "", channel=second.channel)
        planned(bench.visitor, follow=follow)
        document = bench.desk.latest_plan().plan
        named = {tag for batch in document.batches for tag in batch.packs}
        named |= {left.tag for left in document.left_out}
        assert named >= {pack.id for pack in bench.desk.session().packs}

    def test_a_day_goes_on_from_plan_to_plan_and_nobody_flies_twice_on_one_charge(self, bench):
        planned(bench.visitor)
        told = {heat.wish.name: set(heat.packs) for heat in bench.desk.latest_plan().plan.wanted}
        used_wh = []
        for minutes in (100, 40):  # after the first heat, and after the second too
            bench.clock.seconds += minutes * 60
            planned(bench.visitor, follow="yes")
            document = bench.desk.latest_plan().plan
            for heat in document.wanted:
                assert set(heat.packs) == told[heat.wish.name]
                assert heat.met
            used_wh.append({use.id: use.used_wh for use in document.sources})
        assert [heat.heat.name for heat in document.past.flown] == ["Pylon heat 1", "Tow 1"]
        assert used_wh[0] == pytest.approx(used_wh[1])  # what was drawn before both is not forgotten

    def test_a_batch_of_a_later_round_is_moved_by_hand_on_the_way(self, bench):
        planned(bench.visitor)
        bench.clock.seconds += 80 * 60
        planned(bench.visitor, follow="yes")
        batches = bench.desk.latest_plan().plan.batches
        told = []
        later = [at for at, batch in enumerate(batches) if 2 in batch.rounds]
        places = ("", "Twin-2", "Small-1", "Pocket-1")
        # Hands are elsewhere at times, channels taken.
        for number, by_min, channel in product(later, (1, 2, 4, 8, 16, 32, 64), places):
            moved = {"batch": str(number), "by_min": str(by_min)} | ({"channel": channel} if channel else {})
            text = bench.visitor.post("/plan/batch", **moved).text
            if "It is kept there." in text:
                break
            told += re.findall("Not moved[^<]*", text)
        assert "It is kept there." in text, told
        (moved,) = (batch for batch in bench.desk.latest_plan().plan.batches if batch.locked)
        assert moved.packs == batches[number].packs
        assert all(heat.packs for heat in bench.desk.latest_plan().plan.wanted)

    def test_a_plan_from_now_leaves_what_is_in_hand_alone(self, bench):
        bench.charging()
        bench.pass_time(3)
        planned(bench.visitor)
        batches = bench.desk.latest_plan().plan.batches
        mine = [batch for batch in batches if set(batch.packs) & set(PACKS) and batch.rounds[0] == 1]
        assert [(set(batch.packs), batch.channel) for batch in mine] == [(set(PACKS), "Twin-1")]
        others = [batch for batch in batches if batch.channel == "Twin-1" and batch not in mine]
        assert all(batch.start_min >= mine[0].end_min - 1e-6 for batch in others)


class TestLog:
    def test_it_is_filtered_exported_and_told_as_a_report(self, bench):
        key = bench.charging(bench.begin_uneven())  # evening out is skipped
        bench.pass_time(80)
        bench.visitor.post(f"/run/{key}/after", expected="done", skip="yes", note="in the rain")
        assert "in the rain" in bench.visitor.get("/log?pack=P-04").text
        assert "in the rain" not in bench.visitor.get("/log?pack=P-01").text
        day = NOON.date().isoformat()
        assert "in the rain" in bench.visitor.get(f"/log?since={day}&until={day}").text
        later = (NOON + timedelta(days=1)).date().isoformat()
        assert "Nothing here yet" in bench.visitor.get(f"/log?since={later}").text
        acts = bench.visitor.get("/log?kind=acts&skipped=yes").seen.page.find("table").get_text()
        assert "they were level" in acts
        assert "inspect" not in acts
        csv = bench.visitor.get("/log/log.csv?kind=readings").data.decode()
        assert csv.splitlines()[0].startswith("at,run,at_min")
        assert len(csv.splitlines()) > 80
        report = bench.visitor.get("/log/report").text
        assert report.count("Charge card: minute") == 1
        assert "in the rain" in report

    def test_a_log_of_another_program_is_taken_in_and_its_columns_are_remembered(self, bench):
        text = "Akku,Zeit,mAh\nP-01,2026-05-01 10:00,900\nP-02,2026-05-01 10:00,950\n"
        page = bench.visitor.post("/log/import/columns", what="charges", text=text).text
        assert "Meaning of Akku" in page
        chosen = {"m-0": "pack", "m-1": "at", "m-2": "charge_mah"}
        asked = bench.visitor.post("/log/import", what="charges", text=text, **{"m-1": "at"}).seen.said
        assert "Akku is not known; say what this column means, or choose to leave it out" in asked
        left_out = {"m-0": "out", "m-1": "at", "m-2": "charge_mah"}
        asked = bench.visitor.post("/log/import", what="charges", text=text, **left_out).seen.said
        assert "say which column is the pack tag" in asked
        page = bench.visitor.post("/log/import", what="charges", text=text, **chosen).text
        assert "Charges saved: 2; filled with what they lacked: 0; already here: 0." in page
        again = bench.visitor.post(
            "/log/import/columns", what="charges", file=(io.BytesIO(text.encode()), "log.csv")
        ).text
        assert again.count("selected") >= 3
        assert (
            "Charges saved: 0; filled with what they lacked: 0; already here: 2."
            in bench.visitor.post("/log/import", what="charges", text=text, **chosen).text
        )

    def test_a_second_file_fills_what_the_first_left_out_and_bad_rows_are_left_out_by_choice(self, bench):
        first = "pack,date,mAh in\nP-01,2026-05-01 10:00,900\n"
        second = "pack,date,min,mAh in\nP-01,2026-05-01 10:00,55,1\nP-01,2026-05-02 10:00,50,800\nP-01,never,50,800\n"

        def taken(text, **more):
            page = bench.visitor.post("/log/import/columns", what="charges", text=text).seen
            chosen = {field["name"]: field.find("option", selected=True)["value"] for field in page.page("select")}
            return bench.visitor.post("/log/import", what="charges", text=text, **chosen, **more).seen

        assert "Charges saved: 1;" in taken(first).said
        refused = taken(second)
        assert "line 4, date" in refused.said
        assert bench.desk.acts()[0].what == "A log brought in"
        assert refused.page.find("button", string=re.compile("Take the other 2 rows"))
        done = taken(second, rest="yes").said
        assert (
            "Charges saved: 1; filled with what they lacked: 1; already here: 0. One row is not taken."
            in done
        )
        (row,) = [row for row in bench.parts["log"].entries(Query(pack_id="P-01")) if row["at"].day == 1]
        assert (row["charge_mah"], row["minutes"]) == (900, 55)  # what was known stays

    def test_readings_of_a_file_are_kept_with_their_run_and_watched(self, bench):
        key = bench.charging()
        text = "t,v,a\n1,15.6,5.4\n2,15.6,5.4\n"
        page = bench.visitor.post(
            "/log/import", what=str(key), text=text, **{"m-0": "at_min", "m-1": "pack_v", "m-2": "current_a"}
        ).text
        assert "2 readings are saved with that charge." in page
        assert [item.origin for item in bench.runs.look(key, bench.clock()).seen] == ["file", "file"]


class TestPacksAndKit:
    def test_labels_have_a_code_that_leads_to_the_pack(self, bench):
        page = bench.visitor.get("/packs/labels?id=P-08").seen.page
        assert len(page(class_="label-sheet")) == 1
        assert bench.visitor.client.get("/packs/tag?id=P-08").location.endswith("/packs/health?id=P-08")
        assert address_of("P 08/ä") == "https://iterum.local:8766/p/P%2008%2F%C3%A4"
        for tag in ("P-08", "p-08"):
            assert bench.visitor.client.get(f"/p/{tag}").location.endswith("/measure?pack=P-08")
        key = bench.begin()
        assert bench.visitor.client.get("/p/P-08").location.endswith(f"/run/{key}")  # it is in hand
        assert bench.visitor.client.get("/p/NOBODY").status_code == 404

    @pytest.mark.parametrize("size", SHEETS)
    def test_labels_of_common_sizes_lie_on_their_page_and_never_on_each_other(self, size, bench):
        packs = bench.desk.session().packs
        sheet = SHEETS[size]
        pages = draw(packs, sheet, skip=5)
        assert sum(map(len, pages)) == len(packs)
        for page in pages:
            for label in page:
                assert 0 <= label.x <= sheet.page_width_mm - label.width + 0.5
                assert 0 <= label.y <= sheet.page_height_mm - label.height + 0.5
                assert label.side + label.text_x < label.width + label.side
                assert label.tag_y < label.lines[0][0] < label.lines[1][0] < label.boxes_y < label.height
            places = {(label.x, label.y) for label in page}
            assert len(places) == len(page)

    def test_a_sheet_that_does_not_fit_its_page_is_told(self, bench):
        assert "reach to" in bench.visitor.get("/packs/labels?columns=9").seen.said
        assert "columns must be 1 to 12" in bench.visitor.get("/packs/labels?columns=many").seen.said
        own = "/packs/labels?columns=2&rows=3&width_mm=80&height_mm=60&across_mm=90&down_mm=70&left_mm=10&top_mm=10"
        assert len(bench.visitor.get(own).seen.page(class_="label-sheet")) == 6  # 32 packs, six a page

    def test_a_worn_pack_is_told_from_its_log(self, bench):
        pack = next(pack for pack in bench.desk.session().packs if pack.id == "P-08")
        table = pack.chemistry.table
        moved = table.soc(4.19) - table.soc(3.75)
        rows = "".join(
            f"P-08,2026-06-0{n} 10:00,{0.7 * 1800 * moved:.0f},3.75 3.75 3.75 3.75,4.19 4.19 4.19 4.19\n"
            for n in (3, 4, 5)
        )
        names = {f"m-{n}": name for n, name in enumerate(("pack", "at", "charge_mah", "before_v", "after_v"))}
        bench.visitor.post("/log/import", what="charges", text="a,b,c,d,e\n" + rows, **names)
        page = bench.visitor.get("/packs/health?id=P-08").text
        assert "It holds 70 % of its label; the limit is 80 %." in page
        assert "No salt water" in page
        assert "Retire" in bench.visitor.get("/packs").text

    def test_chargers_are_looked_for_met_and_left(self, bench):
        seen = bench.visitor.get("/kit").seen
        assert "simulated bench" in seen.said
        address, values = seen.form("Remove")
        bench.visitor.post(address, **values)
        assert bench.links.place("Twin-1") is None
        page = bench.visitor.post("/kit/device", kind="charger", address=f"127.0.0.1:{bench.server.port}")
        assert "Say which channel is which" in page.text
        assert bench.links.place("Twin-1") is None  # nobody has confirmed it
        address, values = page.seen.form("Confirm channels")
        chosen = {f"is-{place}": name for place, name in enumerate(bench.server.bench.channels)}
        assert "Twin-1 is Twin-1" in bench.visitor.post(address, **values, **chosen).text
        assert bench.links.place("Twin-1") is not None
        for address in ("127.0.0.1:1", "a b:80", "127.0.0.1:70000", "log:/dev/none", "log:/dev/none?channel=Twin-1"):
            assert "Not added:" in bench.visitor.post("/kit/device", kind="charger", address=address).text

    def test_the_checker_fills_the_cells_and_they_are_looked_at_like_typed_ones(self, bench):
        page = bench.visitor.post("/measure/checker", pack="P-08").text
        volts = bench.server.bench.check("P-08")
        assert all(f'value="{value:.2f}"' in page for value in volts)


class TestUse:
    def test_minutes_timer_and_the_weakest_part(self, bench):
        page = bench.visitor.get("/use?pack=P-08&average_a=14&peak_a=60&esc_a=50").text
        assert "6:10" in page
        assert "60.0 A are more than 50.0 A, which is what speed controller stands." in page
        assert bench.visitor.get("/use?pack=P-08&average_a=fast").status_code == 422

    def test_a_timer_is_kept_and_shortened_by_what_went_back_in(self, bench):
        bench.visitor.post("/use/timer", pack="P-08", timer_s="360")
        key = bench.charging()
        bench.watcher.observe(key, TYPED, Observation(0, by_hand=True), bench.clock())
        bench.runs.act(key, Act.FINISH, State.CHARGING, bench.clock())
        page = bench.visitor.post(f"/run/{key}/after", expected="done", skip="yes", charge_mah="4900").text
        assert "More than 80 % went back into" in page
        assert re.search(r"set 5:\d\d", bench.visitor.get("/use?pack=P-08").seen.said)


class TestNickel:
    def charge(self, visitor, parts, warm, charge_mah):
        """From the card to the log, by hand; the page after."""
        card = visitor.get("/charge?packs=N").text
        assert "a drop of" in card
        for absent in ("Full at", "Discharge, storage", "balance lead, then", "Balance leads"):
            assert absent not in card
        visitor.post("/run", packs="N", channel="C-1")
        run = parts["runs"].open()[-1]
        key, pages = run.key, []
        for act, more in (("inspect", {"looked": "N"}), ("plug in", {})):
            pages.append(
                visitor.post(f"/run/{key}/act", act=act, expected=parts["runs"].look(key, NOON).run.state, **more).text
            )
        assert "equalise" not in re.sub(r"<(nav|details).*?</(nav|details)>", "", pages[-1], flags=re.S).lower()
        visitor.post(f"/run/{key}/read-back", expected="plugged in", cells="8", pack_v=run.card.pack_v, current_a="1.2")
        for act, state in (("start", "set and read back"), ("finish", "charging")):
            visitor.post(f"/run/{key}/act", act=act, expected=state)
        unsaid = visitor.post(f"/run/{key}/after", expected="done", charge_mah=charge_mah, **{"v-N": "11.6"})
        assert (unsaid.status_code, "Say whether it was warm" in unsaid.text) == (422, True)
        return visitor.post(
            f"/run/{key}/after", expected="done", charge_mah=charge_mah, warm=warm, **{"v-N": "11.6"}
        ).text

    def test_it_is_measured_in_all_ends_by_a_drop_and_is_full_when_it_was_warm(self, empty_app):
        parts, visitor = empty_app.extensions["iterum"], Visitor(empty_app)
        visitor.post("/kit/charger", id="C", channels="1", **{"channel0-id": "C-1", "channel0-max_current_a": "5",
                     "channel0-max_power_w": "80", "channel0-max_cells": "14"})  # fmt: skip
        visitor.post("/packs/edit", id="N", chemistry="nimh", cells="8", capacity_mah="2400")
        assert "Whole pack, volts" in visitor.get("/measure?pack=N").text
        visitor.post("/measure", pack="N", total="yes", cell1="9.80")
        assert "1 of at most 8 times" in self.charge(visitor, parts, "no", "2300")  # not warm
        assert "2 of at most 8 times" in self.charge(visitor, parts, "yes", "700")  # warm after far too few mAh
        for _ in range(5):
            self.charge(visitor, parts, "no", "2300")
        assert "takes no charge any more" in self.charge(visitor, parts, "no", "2300")
        assert "is not full" not in self.charge(visitor, parts, "yes", "2300")
        verdict = permits(parts["desk"].bench(NOON))["N"]
        assert (verdict.full, "full_by_charge" in {item.code for item in verdict.reasons}) == (True, True)


class TestStopped:
    def test_what_stopped_a_batch_stands_on_every_page_with_what_to_do_now(self, bench):
        key = bench.charging()
        bench.server.bench.fault("hot", "Twin-1")
        bench.pass_time(14)
        assert bench.state(key) is State.STOPPED
        said = bench.visitor.get("/run/alarms").seen.said
        assert said.startswith("Stopped Twin-1")
        assert "It is stopped." in said
        assert "Stop this channel" not in said
        assert "every 10 is due" not in said
        bench.act(key, "check after", skip="yes")
        assert "Stopped" not in bench.visitor.get("/run/alarms").seen.said

    def test_one_that_its_charger_stopped_says_so(self, bench):
        bench.charging()
        bench.server.bench.stop("Twin-1", "a fuse")
        bench.pass_time(0.5)
        assert "by the charger: a fuse." in bench.visitor.get("/run/alarms").seen.said

    def test_warm_or_hot_to_the_hand_is_judged_at_once(self, bench):
        key = bench.charging()
        bench.visitor.post(f"/run/{key}/check", expected="charging", **{"touch-P-08": "warm"})
        assert "Half the amps" in bench.visitor.get(f"/run/{key}").seen.said
        bench.visitor.post(f"/run/{key}/check", expected="charging", **{"touch-P-08": "hot"})
        assert bench.state(key) is State.STOPPED

    def test_a_charger_that_does_not_answer_leaves_a_way_to_say_it_is_off(self, bench):
        key = bench.charging()
        bench.server.bench.fault("link", "", "600")
        answer = bench.visitor.post(f"/run/{key}/act", act="stop", expected="charging")
        assert "Pull its plug" in answer.seen.said
        address, values = answer.seen.form("I have done it")
        bench.visitor.post(address, **values)
        assert bench.state(key) is State.STOPPED
