"""Every page in either theme and at either size: no violation that axe-core finds, nothing wider than the window."""

from pathlib import Path

import pytest

from tests.browser.bench import PHONE, WIDE
from tests.conftest import SOAK

AXE = (Path(__file__).parents[1] / "vendor" / "axe.min.js").read_text("utf-8")
RULES = ["wcag2a", "wcag2aa", "wcag2aaa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
COLOURS = ["color-contrast", "color-contrast-enhanced"]
PAGES = ("/bench", "/measure?pack=P-10", "/measure?pack=P-13", "/match?class=lipo-4S&pack=P-01", "/match?class=lipo-6S",
         "/match/join?packs=P-01&packs=P-02", "/match/join?packs=P-01&packs=T-01", "/what-if?a_count=10&b_v=3.85", "/what-if?cells=0",
         "/charge?packs=T-01&packs=T-02", "/charge?packs=P-01&packs=T-03", "/charge/other?packs=P-04&packs=P-14", "/plan?batch=1", "/plan/sheet", "/heats", "/put-away", "/packs", "/packs/edit",
         "/packs/history?id=P-01", "/kit", "/kit/charger?id=twin", "/rules", "/files", "/wrong", "/wrong?see=smoke",
         "/wrong/keys", "/log", "/log?kind=acts", "/log/import", "/log/report", "/use?pack=P-01&average_a=14&peak_a=60&esc_a=50",
         "/packs/health?id=P-01", "/packs/labels", "/packs?id=P-04", "/kit?part=charger&id=twin", "/begin", "/begin/table", "/rehearse", "/rehearse/day?seed=19",
         "/rehearse/lesson/low-one-last?choose=last", "/run/1", "/run/2", "/run/3", "/nowhere")  # fmt: skip
ONE_OF_A_KIND = tuple(
    {path.split("?")[0] + ("?" if "?" in path and "run" not in path else ""): path for path in PAGES}.values()
)
"""One page of each template, with a question where it takes one."""
PRINTED = ("/plan/sheet", "/packs/labels", "/log/report")
"""What is printed is not pressed."""
EMPTY = ("/bench", "/measure", "/match", "/put-away", "/packs", "/kit")


def violations(opened, path, by_night=True):
    """What axe-core finds on this page."""
    opened.evaluate(AXE)
    broken = []
    for theme, rules in (("light", RULES), *((("dark", COLOURS),) if by_night else ())):
        opened.evaluate("theme => document.documentElement.dataset.bsTheme = theme", theme)
        result = opened.evaluate("rules => axe.run({runOnly: rules, resultTypes: ['violations']})", rules)
        broken += [(path, theme, item["id"], item["nodes"][0]["html"][:160]) for item in result["violations"]]
    return broken


def check(opened, address, paths):
    """Every rule by day, then those that hang on colours by night, which a share of the pages is enough to show."""
    broken = []
    for number, path in enumerate(paths):
        opened.goto(address + path)
        broken += violations(opened, path, SOAK > 1 or number % 3 == 0)
        broken += [(path, "has no colour of ours", what) for what in opened.evaluate(UNSTYLED)]
    assert "\n".join(map(str, broken)) == ""


UNSTYLED = """() => [...document.querySelectorAll('svg :is(rect, circle, polygon, text)')]
  .filter((one) => one.checkVisibility() && !one.closest('defs') && getComputedStyle(one).fill === 'rgb(0, 0, 0)')
  .map((one) => one.outerHTML.slice(0, 90))"""
"""Shapes that nothing paints: a browser makes them black, which is no colour of the design."""


@pytest.mark.parametrize("part", range(3))
def test_no_page_has_a_violation(open_page, planned_address_with_runs, part):
    paths = PAGES if SOAK > 1 else ONE_OF_A_KIND
    check(open_page(WIDE), planned_address_with_runs, paths[part::3])


MAIN = ("/bench", "/measure", "/match", "/charge?packs=P-08&packs=P-11", "/charge?packs=P-01&packs=P-02&packs=P-04&packs=P-07", "/charge?packs=L-02", "/plan",
        "/plan?batch=1", "/plan/sheet", "/heats", "/put-away", "/packs", "/packs?id=P-04", "/packs/health?id=P-01", "/kit", "/rules",
        "/files", "/log", "/log/report", "/use?pack=P-01&average_a=14", "/what-if", "/rehearse")  # fmt: skip


MAIN_ACT = """() => {
  const act = document.querySelector('#primary');
  return act && !act.closest('form')?.querySelector('[autofocus], [data-focus-at-desk]') ? act.getBoundingClientRect().bottom : 0;
}"""
"""Where the main act ends, px; of a form in which the cursor stands already it is Enter."""


def test_a_main_view_has_its_act_in_the_first_fold_and_no_more_than_two(open_page, planned_address):
    opened, long = open_page(WIDE), []
    for path in MAIN:
        opened.goto(planned_address + path)
        px = opened.evaluate("document.documentElement.scrollHeight")
        long += [(path, px)] if px > 2 * WIDE["height"] else []
        act_px = opened.evaluate(MAIN_ACT)
        long += [(path, "its act", act_px)] if act_px > WIDE["height"] else []
    assert long == []


def test_no_empty_page_has_one(open_page, empty_address):
    check(open_page(WIDE), empty_address, EMPTY)


def test_what_is_printed_is_no_wider_than_a_phone_either(open_page, planned_address_with_runs):
    opened = open_page(PHONE)
    wide = []
    for path in PAGES if SOAK > 1 else PRINTED:  # all others are looked at by thumb, at three widths
        opened.goto(planned_address_with_runs + path)
        for width in (390, 320):
            opened.set_viewport_size({"width": width, "height": 700})
            px = opened.evaluate("document.documentElement.scrollWidth")
            wide += [(path, width, px)] if px > width else []
    assert wide == []
