"""A day begun 80 minutes late: what can fly flies, what cannot says why, and an offer is taken by one key."""

import re
import shutil
from datetime import timedelta

import pytest
from playwright.sync_api import expect

from tests.browser.bench import running
from tests.conftest import NOON


@pytest.fixture
def late_address(tmp_path, demo_file):
    shutil.copy(demo_file, tmp_path / "demo.sqlite3")
    with running(tmp_path / "demo.sqlite3", lambda: NOON + timedelta(minutes=80)) as served_at:
        yield served_at


def test_the_first_plan_is_there_unasked_and_an_offer_wins_a_heat_back(open_page, late_address):
    page = open_page()
    page.goto(f"{late_address}/plan")
    page.get_by_role("heading", name="At the bench").wait_for(timeout=20_000)
    expect(page.get_by_role("region", name="Who flies")).to_contain_text("% likely")
    lost = page.get_by_role("region", name="Given up")
    expect(lost).to_contain_text("Tow 1")
    expect(lost).to_contain_text("can be full before it")
    page.get_by_label("Try for").select_option("20.0")
    page.get_by_role("button", name=re.compile("^Plan (it|from now)")).click()
    page.get_by_role("button", name="Take it").first.wait_for(timeout=60_000)
    page.keyboard.press("1")
    expect(page.get_by_text("Taken.")).to_be_visible()
    expect(page.get_by_role("region", name="Given up")).to_have_count(0)
    page.goto(f"{late_address}/plan/sheet")
    expect(page.get_by_text("Tow 1").first).to_be_visible()
