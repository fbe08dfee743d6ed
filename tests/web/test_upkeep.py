"""Runs that fill nothing, from the page to what is read after; and degrees as the person reads them."""

import re
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

import pytest

from iterum.core.reasons import Unsafe
from iterum.core.season.run import Act, State
from iterum.core.sizing.size import size
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.kit import Channel, Charger, Kit, Source
from iterum.core.things.packs import Reading
from iterum.core.things.rules import Balance, HouseRules
from iterum.core.things.session import Session
from iterum.exchange.session import dumps, parse
from tests.browser.bench import started
from tests.conftest import NOON, even
from tests.web.conftest import planned


def run_of(bench):
    return bench.runs.latest(1)[0]


def taken(bench, kind, *packs, **more):
    bench.visitor.post("/run", packs=list(packs), kind=kind.value, **more)
    return run_of(bench).key


def measured(bench, key, tags, cells):
    """What is read of each pack after it."""
    values = {f"v-{tag}": " ".join(["3.85"] * cells) for tag in tags}
    return bench.visitor.post(f"/run/{key}/after", expected=bench.state(key).value, **values).text


def test_a_board_evens_out_for_its_minutes_and_is_measured_again(bench):
    page = bench.visitor.get("/charge/other?packs=P-01&packs=P-02").text
    assert "Equalise without a charger" in page
    key = taken(bench, Kind.EVEN_OUT, "P-01", "P-02")
    run = run_of(bench)
    assert (run.kind, run.channel, run.board is not None, run.driven) == (Kind.EVEN_OUT, "", True, False)
    bench.act(key, "inspect", looked=["P-01", "P-02"])
    page = bench.act(key, "plug in")
    assert "25 min" in page
    assert "They have equalised" not in page
    assert "Equalising" in bench.visitor.get("/bench").text
    for path in ("/plan", "/measure", "/match", "/kit", "/packs", "/put-away", "/wrong?see=smoke", "/log", "/log/report", "/rules",
                 "/what-if", "/plan/visits.ics", "/places.json", "/files", "/files/session.json", "/files/archive.jsonl"):  # fmt: skip
        assert bench.visitor.get(path).status_code == 200, path
    bench.clock.seconds += 26 * 60
    assert "They have equalised" in bench.visitor.get(f"/run/{key}").text
    page = bench.act(key, "even out")
    assert "check each pack" in page
    measured(bench, key, ["P-01", "P-02"], 4)
    assert bench.state(key) is State.CHECKED
    packs = {pack.id: pack for pack in bench.desk.session().packs}
    assert packs["P-01"].reading.cell_v == (3.85,) * 4
    assert packs["P-01"].charged_at is None
    assert key not in {item.run_key for item in bench.parts["log"].health_of(packs["P-01"], bench.clock())[1]}


def test_a_full_pack_is_brought_down_watched_and_never_logged_as_a_charge(bench):
    full = next(pack for pack in bench.desk.session().packs if pack.id == "T-08")
    assert (full.cell_v or 0) > 4.1
    page = bench.visitor.get("/put-away").text
    assert "T-08" in page
    key = taken(bench, Kind.DOWN, "T-08")
    run = run_of(bench)
    assert run.channel
    bench.act(key, "inspect", looked=["T-08"])
    bench.act(key, "plug in")
    bench.visitor.post(f"/run/{key}/read-back", expected=bench.state(key).value, cells=str(full.cells),
                       pack_v=f"{run.card.pack_v:.2f}", current_a=f"{run.current_a}", end_v=f"{run.card.end_v}")  # fmt: skip
    page = bench.act(key, "start")
    assert "discharging" in page
    assert "full about" not in page
    in_hand = bench.desk.bench(bench.clock()).in_hand["T-08"]
    assert (in_hand.power_w, in_hand.energy_left_wh) == (0, 0)
    assert in_hand.minutes_left == pytest.approx(run.expected.minutes, abs=1)
    assert "T-08" not in bench.parts["log"].full_since()
    bench.visitor.post(f"/run/{key}/check", pack_v="18.6", **{"v-T-08": "3.90 3.90 3.90 3.90 3.90 3.10"})
    assert "under 3.20 V" in bench.visitor.get(f"/run/{key}").text
    bench.act(key, "stop")
    measured(bench, key, ["T-08"], full.cells)
    charges = bench.parts["log"].health_of(full, bench.clock())[1]
    assert not [item for item in charges if item.run_key == key]
    assert "no charge was logged" in bench.visitor.get(f"/run/{key}").text


def test_nothing_unknown_is_begun_and_what_speaks_against_it_is_told(bench):
    assert bench.visitor.post("/run", packs=["P-01"], kind="melt").status_code == 404
    answer = bench.visitor.post("/run", packs=["P-01"], kind=Kind.EVEN_OUT.value, back="/charge/other?packs=P-01")
    assert "nothing to equalise with" in answer.text
    assert bench.runs.open() == ()


def test_degrees_are_shown_and_typed_as_the_person_reads_them_and_kept_in_celsius(visitor, demo_app):
    page = visitor.get("/charge?packs=P-01&packs=P-02").text
    assert "50 °C" in page
    visitor.post("/look", degrees="F", back="/kit")
    page = visitor.get("/charge?packs=P-01&packs=P-02").text
    assert "122 °F" in page
    assert "°C" not in page
    assert "Not under 32 °F or over 113 °F." in page
    visitor.post("/measure/air", air_c="50", pack="P-01")
    assert demo_app.extensions["iterum"]["desk"].session(demo_app.extensions["iterum"]["clock"]()).air_c == 10
    page = visitor.get("/measure?pack=P-01").text
    assert 'value="50"' in page
    assert "14 °F warmer" in page
    visitor.post("/packs/edit", known_as="P-02", id="P-02", chemistry="lipo", cells="4", capacity_mah="1800", condition="ok",
                 note="keep at 15 °C, 8 °C cooler than 15 to 20 °C")  # fmt: skip
    assert (
        "keep at 15 °C, 8 °C cooler than 15 to 20 °C" in visitor.get("/packs/edit?id=P-02").text
    )  # nobody's words change
    visitor.post("/measure/air", air_c="10 °C", pack="P-01")  # a typed unit counts
    visitor.post("/look", degrees="C", back="/kit")
    assert 'value="10"' in visitor.get("/measure?pack=P-01").text


def test_the_card_has_the_chargers_memory_the_end_and_a_bank_that_drops_its_volts(newcomer, empty_app):
    """Common practice, no source: everything else first, such a bank last, then start at once."""
    bank = Source("bank", 12.8, None, 900, 600, 0.8, falls_back=True)
    kit = Kit((), (Charger("one", (Channel("one-1", 10, 200, max_cells=6),), "bank", 0.9),), (), (bank,))
    desk = empty_app.extensions["iterum"]["desk"]
    desk.write(parse(dumps(Session((even("P", 3.7, memory=3),), kit))), NOON)  # through the file as well
    page = newcomer.get("/charge?packs=P").text
    assert re.search(r"Memory</dt>\s*<dd>\s*number 3", page)
    assert "stop and sound" in page
    assert "the bank last, then start at once" in page
    key = newcomer.post("/run", packs=["P"], channel="one-1").seen.form("OK, and")[0].split("/")[2]
    newcomer.post(f"/run/{key}/act", act="inspect", expected="planned", looked="P", also="plug in")
    assert "the bank last, then start at once" in newcomer.get(f"/run/{key}").text


def test_every_fifth_charge_balances_and_the_card_counts(newcomer, empty_app):
    """Common practice, no source: every fifth or sixth."""
    parts = empty_app.extensions["iterum"]
    kit = Kit((), (Charger("one", (Channel("one-1", 10, 200, max_cells=6),)),))
    parts["desk"].write(Session((even("P", 3.7),), kit, HouseRules(balance=Balance.EVERY_FIFTH)), NOON)
    told = []
    for number in range(6):
        at = NOON + timedelta(hours=number)
        parts["desk"].record_reading("P", Reading.of_cells((3.7,) * 4, at), at)
        told.append(size(parts["desk"].bench(at), Choice(("P",), None, "one-1")).dial)
        key = parts["runs"].begin(Choice(("P",), None, "one-1"), at)
        started(parts["runs"], key, at)
        parts["runs"].act(key, Act.FINISH, State.CHARGING, at)
        parts["checks"].check_after(key, State.DONE, at, {}, 900, skipped=True)
    assert [card.balance_min > 0 for card in told] == [False] * 4 + [True, False]
    assert "number 2 since" in told[1].mode
    assert told[4].mode == "balance: the fifth charge since the last balancing"


def test_a_plan_beside_such_runs_leaves_their_packs_their_board_and_their_channel_alone(bench):
    taken(bench, Kind.EVEN_OUT, "P-01", "P-02")
    taken(bench, Kind.DOWN, "T-08")
    even, down = sorted((run.packs, run.board, run.channel) for run in bench.runs.open())
    planned(bench.visitor)
    for _ in range(2):  # planned, and planned again while it is followed
        plan = bench.desk.latest_plan().plan
        assert plan.batches
        tags = {tag for batch in plan.batches for tag in batch.packs}
        assert not tags & {*even[0], *down[0]}
        assert even[1] not in {batch.board for batch in plan.batches}
        free_at = bench.desk.bench(bench.clock()).in_hand["T-08"].minutes_left
        assert all(batch.start_min >= free_at - 1 for batch in plan.batches if batch.channel == down[2])
        left = {item.tag: item.reason.code for item in plan.left_out}
        assert {left[tag] for tag in (*even[0], *down[0])} == {"in_hand"}
        bench.clock.seconds += 60
        planned(bench.visitor, follow="yes")


def test_of_two_who_take_the_same_pack_at_once_only_the_first_has_it(bench):
    """A page looks at one moment; what was taken in hand after that look is seen before anything is written."""
    store = bench.parts["store"]
    with store.snapshot():
        assert bench.desk.bench(bench.clock()).running == ()  # looked at
        with ThreadPoolExecutor(1) as somebody:
            somebody.submit(bench.runs.begin_upkeep, Kind.DOWN, Choice(("T-08",)), bench.clock()).result()
        with pytest.raises(Unsafe) as told:
            bench.runs.begin_upkeep(Kind.DOWN, Choice(("T-08",)), bench.clock())
    assert {item.code for item in told.value.reasons} >= {"pack_busy", "channel_busy"}
    assert len(bench.runs.open()) == 1
