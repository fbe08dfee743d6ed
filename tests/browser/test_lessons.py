"""Every lesson played twice in a browser: falling for the slip, and avoiding it; what is shown is what the model says."""

import re

from playwright.sync_api import expect

from iterum.core.season.lesson import outcome
from iterum.exchange.lessons import lessons
from iterum.wording import about
from tests.browser.bench import compared_and_started, plugged_in, turning


def shown(page, option, told):
    """The figures of the model stand on the page."""
    panel = page.locator(".lesson-told")
    expect(panel.get_by_role("heading").first).to_have_text(
        re.compile("What flows" if option.good else "What would have flowed")
    )
    if told.worst:
        expect(panel).to_contain_text(f"{abs(told.worst.peak_current_a):.1f} A")
        expect(panel).to_contain_text(f"{told.worst.peak_rate_c:.1f}C")
    if told.sizing:
        expect(panel).to_contain_text(
            f"{told.sizing.rate_c:g}C, full in about" if told.sizing.rate_c in (1, 2) else "full in about"
        )
    for reason in told.refusals:
        expect(panel).to_contain_text(about(reason))


def test_each_is_played_twice_from_the_first_page_in_two_acts(page, address):
    page.goto(f"{address}/kit")
    page.get_by_role("link", name="Practice").first.click()
    page.get_by_role("link", name=lessons()[0].title).click()  # two acts from anywhere
    for number, lesson in enumerate(lessons(), 1):
        expect(page.get_by_role("heading", level=1)).to_have_text(lesson.title)
        slip, good = (next(item for item in lesson.options if item.good is right) for right in (False, True))
        for option in (slip, good):
            with turning(page):
                page.get_by_role("link", name=option.words, exact=True).click()
            shown(page, option, outcome(lesson, option))
            expect(page.locator(".lesson-told")).to_contain_text(lesson.instead[:60])
        if number < len(lessons()):
            with turning(page):
                page.keyboard.press("Enter")  # the good way leads on
    page.goto(f"{address}/rehearse")
    for lesson in lessons():  # what was done is kept: the last of it
        expect(page.locator(".lessons")).to_contain_text(next(item for item in lesson.options if item.good).words)


def cells(page, *digits):
    """Type the same volts for every cell of the packs, one pack after another."""
    for text in digits:
        page.keyboard.type(4 * text)
        with turning(page):
            page.keyboard.press("Enter")


def test_one_is_done_with_hands_on_its_own_bench_the_wrong_way_and_the_right_one(page, address):
    lesson = lessons()[0]
    slip, good = (next(item for item in lesson.options if item.good is right) for right in (False, True))
    page.goto(f"{address}/rehearse/lesson/{lesson.id}")
    with turning(page):
        page.keyboard.press("Enter")  # on its own bench: another process, another database
    assert not page.url.startswith(address)
    expect(page.get_by_label("Rehearsal")).to_contain_text("Nothing is real, nothing is logged")
    expect(page.get_by_label("The lesson")).to_contain_text("A-1 3.79 3.79 3.79 3.79 V")
    cells(page, "370", "370")
    plugged_in(page, "A-1", "A-2")
    with turning(page):
        page.get_by_role("link", name="What would have flowed").click()
    shown(page, slip, outcome(lesson, slip))
    expect(page.get_by_role("main")).to_contain_text("3.70 V typed, the checker showed 3.79")
    with turning(page):
        page.keyboard.press("Enter")  # try again: back to the real bench
    assert page.url == f"{address}/rehearse/lesson/{lesson.id}"
    with turning(page):
        page.keyboard.press("Enter")
    cells(page, "379", "370")
    plugged_in(page, "A-2")
    compared_and_started(page)
    with turning(page):
        page.get_by_role("link", name="What flows").click()
    shown(page, good, outcome(lesson, good))
    with turning(page):
        page.keyboard.press("Enter")
    assert page.url == f"{address}/rehearse/lesson/{lessons()[1].id}"
    page.goto(f"{address}/rehearse")
    expect(page.locator(".lessons")).to_contain_text(good.words)  # what was done is kept on the real bench
    page.goto(f"{address}/log")
    assert "A-2" not in page.get_by_role("main").inner_text()
