"""Every page on a phone: nothing that acts is cut off, covered, or too small for a thumb, and axe-core finds nothing."""

import pytest

from tests.browser.bench import PHONE
from tests.browser.test_access import ONE_OF_A_KIND, PAGES, PRINTED, violations
from tests.conftest import SOAK

SIZES = ((390, 844), (360, 740), (320, 640))
EACH = tuple(path for path in (PAGES if SOAK > 1 else ONE_OF_A_KIND) if not path.startswith(PRINTED))
LOOK = """() => {
  const wrong = [];
  const acts = 'a[href], button, input:not([type=hidden]), select, textarea, summary';
  const name = (item) => (item.getAttribute('aria-label') || item.innerText || item.name || item.id || '').trim().slice(0, 40);
  const inText = (item) => {
    if (item.tagName !== 'A') return false;
    const box = item.closest('p, li, td, dd, th, figcaption, small, h1, h2, h3, span, div');
    return box && box.innerText.trim().length > item.innerText.trim().length + 1 && getComputedStyle(item).display === 'inline';
  };
  const scrolls = (item) => {
    for (let box = item.parentElement; box && box !== document.body; box = box.parentElement) {
      if (['auto', 'scroll'].includes(getComputedStyle(box).overflowX) && box.scrollWidth > box.clientWidth) return true;
    }
    return false;
  };
  for (const item of document.querySelectorAll(acts)) {
    if (!item.checkVisibility({checkOpacity: true, checkVisibilityCSS: true}) || item.matches('.skip, [data-digits], [tabindex="-1"]')) continue;
    if (item.closest('dialog:not([open])')) continue;
    if (item.closest('svg')) continue;  // a picture of what the list below it does too
    let target = item;
    if (item.matches('[type=checkbox], [type=radio]') && item.labels.length) target = item.labels[0];
    target.scrollIntoView({block: 'center', inline: 'nearest', behavior: 'instant'});
    const box = target.getBoundingClientRect();
    if (box.width < 2 || box.height < 2) continue;
    const told = (what) => wrong.push(`${what}: ${item.tagName.toLowerCase()} "${name(item)}" ${Math.round(box.width)}x${Math.round(box.height)}`);
    if ((box.left < -1 || box.right > innerWidth + 1) && !scrolls(target)) told('cut off');
    else {
      const lines = target.getClientRects();
      const at = lines[0];
      const top = document.elementFromPoint(Math.min(Math.max(at.left + at.width / 2, 1), innerWidth - 2), at.top + at.height / 2);
      if (!scrolls(target) && (!top || !(target.contains(top) || top.contains(target) || (item.labels && [...item.labels].some((l) => l.contains(top)))))) told('covered by ' + (top ? top.className : 'nothing'));
    }
    if (getComputedStyle(item).display.includes('flex') && item.querySelector(':scope > .nobr')) told('a sentence in pieces, its spaces lost');
    if (!inText(item) && (box.height < 43.5 || box.width < 43.5)) told('small');
  }
  if (document.documentElement.scrollWidth > innerWidth + 1) wrong.push(`wider than the window: ${document.documentElement.scrollWidth}`);
  return wrong;
}"""


@pytest.mark.parametrize("part", range(3))
def test_whatever_acts_is_whole_uncovered_and_large_enough(part, open_page, planned_address_with_runs):
    page = open_page(PHONE, touch=True)
    wrong = []
    for number, path in enumerate(EACH[part::3]):
        page.goto(planned_address_with_runs + path)
        page.evaluate("document.querySelectorAll('.folded').forEach((sheet) => sheet.classList.remove('folded'))")
        for width, height in SIZES:
            page.set_viewport_size({"width": width, "height": height})
            wrong += [f"{width} {path} {told}" for told in page.evaluate(LOOK)]
        page.set_viewport_size(
            {"width": SIZES[0][0], "height": 3000}
        )  # nothing under the bottom bar that could be scrolled away
        if SOAK > 1 or number % 3 == 0:  # the same templates as at a desk, where each is asked everything
            wrong += violations(page, path)
    assert "\n".join(map(str, wrong)) == ""
