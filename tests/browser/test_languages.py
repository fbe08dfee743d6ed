"""Every view in a language that nobody speaks, longer than English by 40 %: nothing is cut, and no word was left out."""

import re

import pytest

from iterum.demo import demo_session
from iterum.exchange.session import to_document
from iterum.web import languages
from tests.browser.bench import PHONE, WIDE
from tests.browser.test_access import ONE_OF_A_KIND
from tests.messages import key_of, messages
from tests.pseudo import pseudo

SEEN = """() => {
  const shown = (one) => one.checkVisibility({visibilityProperty: true}) && !one.closest('.visually-hidden, [lang]:not(html)');
  const said = [], cut = [];
  const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (texts.nextNode()) {
    const node = texts.currentNode, box = node.parentElement;
    if (!node.data.trim() || box.closest('script, style, code, noscript, [lang]:not(html)')) continue;
    said.push(node.data);
    if (!shown(box)) continue;
    const range = document.createRange();
    range.selectNodeContents(node);
    const {left, right, width} = (box.closest('svg') ? box : range).getBoundingClientRect();  // a squeezed one's range is not
    if (!width) continue;
    for (let round = box; round && round !== document.body; round = round.parentElement) {
      const style = getComputedStyle(round), edge = round.getBoundingClientRect();
      if (edge.width < 2) break;  // said, not shown
      if (style.position === 'fixed') break;
      if (['auto', 'scroll'].includes(style.overflowX)) break;
      const hides = round.tagName === 'svg' || ['hidden', 'clip'].includes(style.overflowX);
      if (hides && (right > edge.right + 1 || left < edge.left - 1)) cut.push(`${round.tagName}.${round.getAttribute('class')}: ${node.data.trim()}`);
    }
  }
  for (const one of document.querySelectorAll('[aria-label], [title], [placeholder], [alt]'))
    if (!one.closest('[lang]:not(html)'))
      for (const name of ['aria-label', 'title', 'placeholder', 'alt']) if (one.hasAttribute(name)) said.push(one.getAttribute(name));
  return {said, cut, wide: document.documentElement.scrollWidth - innerWidth};
}"""
"""Every text of a page, those that are cut, and how far the page is wider than the window, px."""
WORD = re.compile(r"[^\W\d_]{3,}")
PLAIN = re.compile(r"[a-zA-Z]*[aeiouAEIOU][a-zA-Z]*")
AS_THEY_ARE = {*["Enter", "Space", "Backspace", "Shift", "Iterum", "Deutsch", "English", "LiPo", "LiHV", "LiFe", "LiFePO", "NiMH", "NiCd", "min", "mAh", "iterum", "Saturday", "May", "June"]}
"""Keys, units, chemistries and names, alike in every language."""


def plain_words(text):
    """Words without an accent: those that nobody has looked up."""
    return {word for word in WORD.findall(text) if PLAIN.fullmatch(word)}


def words_of(document):
    """Those that a pilot has typed: names, notes, pilots."""
    if isinstance(document, dict):
        document = list(document.values())
    if isinstance(document, list):
        return set().union(*map(words_of, document))
    return plain_words(document) if isinstance(document, str) else set()


OURS = set().union(*(plain_words(key_of(text)) for text in messages())) - words_of(to_document(demo_session())) - AS_THEY_ARE
"""Words of our sentences that are not names of the demo as well."""


@pytest.fixture
def speaking_pseudo(monkeypatch):
    """Every page in it, whatever is asked for."""
    made = pseudo()
    monkeypatch.setattr(languages, "language", lambda _code: made)


@pytest.mark.parametrize("size", [WIDE, PHONE], ids=["wide", "phone"])
def test_nothing_is_cut_or_left_in_english(speaking_pseudo, open_page, planned_address_with_runs, size):
    opened, found = open_page(size), []
    for path in ONE_OF_A_KIND:
        opened.goto(planned_address_with_runs + path)
        seen = opened.evaluate(SEEN)
        found += [(path, text) for text in seen["cut"]] + ([(path, seen["wide"])] if seen["wide"] > 0 else [])
        found += [(path, "not looked up", text.strip()) for text in seen["said"] if plain_words(text) & OURS]
    assert "\n".join(map(str, found)) == ""
