"""In the browser: what is offered can be begun, beside what runs, within what the source holds, for every kind of pack."""

import re
from contextlib import contextmanager

import pytest
from playwright.sync_api import expect

from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.services.desk import Desk
from iterum.services.running import RunDesk
from iterum.store.database import Store
from tests.browser.bench import PHONE, WIDE, amps, running, state_of
from tests.conftest import NOON, even, pack
from tests.devices.bench import links_of

DUO = Charger("duo", (Channel("duo-1", 20, 252, max_cells=8), Channel("duo-2", 20, 252, max_cells=8)), "bank", 0.9,
              total_power_w=400)  # fmt: skip
KIT = Kit((Board("Six", 6, max_current_a=40),), (DUO,), (), (Source("bank", 12.8, None, 900, 600, 0.8),))


@contextmanager
def bench(tmp_path, packs, kit=KIT):
    """A server for these packs, and what is in hand there."""
    path = tmp_path / "bench.sqlite3"
    store = Store(path)
    desk = Desk(store)
    desk.write(Session(packs, kit, HouseRules(rate_c=1.0)), NOON)
    with running(path, lambda: NOON) as address:
        yield address, RunDesk(store, desk, links_of(store))
    store.close()


def begun(page, runs):
    """Press the one button of the card; the run that it makes, with the amps that stood on the button."""
    button = page.get_by_role("button", name=re.compile("Start this batch at"))
    told_a = float(re.search(r"at ([\d.]+) A", button.inner_text())[1])
    button.click()
    page.wait_for_url("**/bench?open=*")
    run = runs.open()[-1]
    assert run.current_a == told_a
    return run


def test_two_batches_on_one_charger_share_its_watts(open_page, tmp_path):
    packs = (even("Big", 3.75, mah=15000), *(even(f"P{n}", 3.75, mah=1800, max_charge_c=5) for n in range(1, 5)))
    with bench(tmp_path, packs) as (address, runs):
        page = open_page()
        page.goto(f"{address}/charge?packs=Big&channel=duo-1")
        assert begun(page, runs).current_a * 16.8 == pytest.approx(252, abs=2)
        page.goto(f"{address}/match?class=lipo-4S")
        page.get_by_role("link", name="Group A").first.click()
        expect(page.get_by_text("less 252 W in use").first).to_be_attached()
        page.get_by_label("Rate, C").fill("5")
        page.get_by_label("Rate, C").press("Tab")
        expect(amps(page)).to_have_text(re.compile(r"8\.8"))  # 148 W at 16.8 V
        second = begun(page, runs)
        assert (second.channel, second.current_a) == ("duo-2", 8.8)


def test_a_group_too_big_for_the_bank_goes_part_of_the_way(open_page, tmp_path):
    kit = Kit(KIT.boards, KIT.chargers, (), (Source("bank", 12.8, None, 900, 72.5, 0.8),))
    with bench(tmp_path, tuple(even(f"P{n}", 3.6, mah=1500) for n in range(1, 7)), kit) as (address, runs):
        page = open_page()
        page.goto(f"{address}/charge?" + "&".join(f"packs=P{n}" for n in range(1, 7)))
        expect(page.get_by_role("status").filter(has_text="Not charged like this")).to_contain_text(
            re.compile(r"58(\.0)? Wh")
        )
        page.get_by_role("link", name="Charge only up to").click()
        expect(page.get_by_text("Stop after")).to_be_attached()
        run = begun(page, runs)
        assert run.card.end_v < 4.0
        assert run.card.stop_mah > 0


def test_a_weak_pack_is_charged_alone_and_gently(open_page, tmp_path):
    with bench(tmp_path, (pack("W", 3.70, 3.82, 3.82, 3.82, max_charge_c=3), even("P", 3.8))) as (address, runs):
        page = open_page()
        page.goto(f"{address}/match?class=lipo-4S")
        page.get_by_role("link", name=re.compile("Charge W alone")).first.click()
        assert (begun(page, runs).current_a, runs.open()[-1].board) == (0.9, None)


def test_a_nickel_pack_has_one_figure_and_a_card_of_its_own(open_page, tmp_path):
    nickel = pack("N", chemistry="nimh", cells=8, mah=2400)
    with bench(tmp_path, (nickel,)) as (address, runs):
        page = open_page()
        page.goto(f"{address}/measure?pack=N")
        page.get_by_label("Whole pack, volts").fill("980")
        page.keyboard.press("Enter")
        page.locator("#primary").click()
        card = page.get_by_role("region", name="Dial card")
        expect(card).to_contain_text("a drop of")
        expect(card).not_to_contain_text("Full at")
        begun(page, runs)
        expect(page.get_by_role("main")).not_to_contain_text("Equalise")


def test_one_pack_on_one_charger_is_four_acts_from_measured_to_charging(open_page, tmp_path):
    kit = Kit((), (Charger("one", (Channel("one-1", 10, 200, max_cells=6),)),))
    with bench(tmp_path, (even("P", 3.7),), kit) as (address, runs):
        page = open_page(PHONE, touch=True)
        page.goto(f"{address}/measure?pack=P&done=yes")
        page.locator("#primary").click()
        page.get_by_role("button", name=re.compile("Start this batch")).click()
        page.get_by_role("checkbox", name="all five, yes").check()
        page.get_by_role("button", name="OK, and plugged in").click()
        for label, text in (("Cells", "4"), ("Pack volts", "14.80"), ("Current set", "1.8")):
            page.get_by_label(label).fill(text)
        page.get_by_role("button", name="Compare and start").click()
        expect(state_of(page)).to_have_text("charging")
        assert [event.act for event in runs.look(1, NOON).events] == ["inspect", "plug in", "read back", "start"]


def test_own_amps_and_a_rate_chosen_on_the_card_are_what_is_begun(open_page, tmp_path):
    with bench(tmp_path, tuple(even(f"P{n}", 3.75, max_charge_c=3) for n in range(1, 5))) as (address, runs):
        page = open_page(WIDE)
        page.goto(f"{address}/charge?packs=P1&packs=P2")
        page.get_by_label("Rate, C").fill("1,5")
        page.get_by_label("Rate, C").press("Tab")
        expect(amps(page)).to_have_text(re.compile(r"5\.4"))
        assert begun(page, runs).current_a == 5.4
        page.goto(f"{address}/charge?packs=P3&packs=P4&board=Six&channel=duo-2")
        expect(page.get_by_role("status").filter(has_text="Not charged like this")).to_contain_text(
            "Six"
        )  # its board is taken
        page.goto(f"{address}/charge?packs=P4&current_a=50")
        expect(page.get_by_role("status").filter(has_text="Not charged like this")).to_contain_text(
            "50.0 A is more than the"
        )
        page.goto(f"{address}/charge?packs=P3")
        page.get_by_label("Or own amps").fill("2.5")
        page.get_by_label("Or own amps").press("Tab")
        expect(amps(page)).to_have_text(re.compile(r"2\.5"))
        assert begun(page, runs).current_a == 2.5
