"""Every language says everything, with the same values, numbers and units, and nothing that nobody says any more."""

import re

import pytest
from babel.messages.pofile import read_po
from markupsafe import Markup

from iterum.core.reasons import reason
from iterum.core.say import ENGLISH, LANGUAGE, kept, one_of, retold, say, say_many, speaking
from iterum.web.languages import SCRIPT_WORDS
from iterum.web.spoken import said_html
from iterum.wording import SENTENCES, sentence
from iterum.wording.choosing import Many, texts
from iterum.wording.languages import NAMES, best_of, language
from tests.messages import LANGUAGES, ROOT, SOURCE, key_of, messages

DOCS = ROOT / "docs"
OTHERS = [code for code in NAMES if code != "en"]
VALUE = re.compile(r"\{(\w+)(?::([^{}]*))?\}")
WITH_UNIT = re.compile(r"(?<![\w.,])(\d+(?:[.,]\d+)?)\s*(V|A|W|Wh|mAh|mΩ|°C|C|min|%)(?!\w)")


def catalogue(code):
    with (LANGUAGES / f"{code}.po").open("rb") as stream:
        return {key_of(item.id): item for item in read_po(stream, locale=code) if item.id}


def forms(item):
    return (item.string,) if isinstance(item.string, str) else tuple(item.string)


@pytest.mark.parametrize("code", OTHERS)
class TestCatalogue:
    def test_says_everything_and_nothing_more(self, code):
        found = catalogue(code)
        assert found.keys() == {key_of(text) for text in messages()}
        assert [key for key, item in found.items() if not all(forms(item))] == []

    def test_names_the_same_values_and_tags_in_the_same_way(self, code):
        for key, item in catalogue(code).items():
            ways = {key} if isinstance(item.id, str) else set(item.id)
            for told in forms(item):
                assert any(set(VALUE.findall(told)) == set(VALUE.findall(way)) for way in ways), key
                assert any(
                    sorted(re.findall(r"</?\w+>", told)) == sorted(re.findall(r"</?\w+>", way)) for way in ways
                ), key

    def test_keeps_the_numbers_and_units_of_every_caution_and_verdict(self, code):
        found = catalogue(code)
        for code_of, template in SENTENCES.items():
            for text in texts(template):
                english = text.more if isinstance(text, Many) else text
                told = forms(found[text.one if isinstance(text, Many) else text])[-1]
                was, now = (
                    sorted((number.replace(",", "."), unit) for number, unit in WITH_UNIT.findall(one))
                    for one in (english, told)
                )
                assert was == now, (code_of, told)

    def test_writes_decimals_as_its_readers_do(self, code):
        with speaking(language(code)):
            assert say("{volts:.2f} V/cell", volts=3.8).startswith("3,80 V/")


class TestWords:
    def test_two_languages_at_once_do_not_mix(self):
        with speaking(language("de")):
            german = say_many("one visit", "{count} visits", 3)
            with speaking(language("fr")):
                assert say_many("one visit", "{count} visits", 3) == "3 visites"
            assert say_many("one visit", "{count} visits", 3) == german == "3 Besuche"
        assert LANGUAGE.get() is ENGLISH
        assert say_many("one visit", "{count} visits", 1) == "one visit"

    def test_a_list_is_read_aloud_in_its_language(self):
        with speaking(language("es")):
            assert one_of(["P-01", "P-02", "P-03"], "and") == "P-01, P-02 y P-03"

    def test_what_was_kept_in_english_is_told_in_any_language(self):
        with speaking(language("de")):
            text = kept("{heat} moved by {by_min:+g} min", heat="Pylon 1", by_min=5)
            assert text == "Pylon 1 moved by +5 min"
            assert retold(text) == "Pylon 1 um +5 min verschoben"
            assert retold("a note of a pilot") == "a note of a pilot"

    def test_what_the_watch_wrote_in_the_log_is_told_in_any_language(self):
        text = sentence(reason("watch_cell_lags", cell=2, id=None, spread_v=0.102, limit_v=0.1))
        assert text == "Cell 2 is 0.102 V below the others, allowed 0.100."
        with speaking(language("de")):
            assert retold(text) == "Zelle 2 liegt 0,102 V unter den anderen, erlaubt 0,100."

    def test_a_sentence_inside_one_that_was_kept_is_told_too(self):
        inner = kept("its answer belongs to another question")
        text = kept("{host}:{port} does not answer: {error}", host="hall", port=7001, error=inner)
        with speaking(language("de")):
            assert retold(text) == "hall:7001 antwortet nicht: seine Antwort gehört zu einer anderen Frage"
            assert retold(text.replace(inner, "Six")) == "hall:7001 antwortet nicht: Six"  # a name stays as it is

    def test_each_tag_inside_a_sentence_is_closed(self):
        links = [Markup('<a href="/one">'), Markup('<a href="/two">')]
        said = said_html("Or <a>the one</a>, or <a2>{name}</a2>.", {"name": "A & B"}, links)
        assert said == 'Or <a href="/one">the one</a>, or <a href="/two">A &amp; B</a>.'

    def test_the_first_language_that_is_spoken_is_taken(self):
        assert best_of(["nl", "de-AT", "fr"]) == "de"
        assert best_of(["fr_FR.UTF-8"]) == "fr"
        assert best_of(["C", "xx"]) == "en"

    def test_scripts_get_exactly_what_they_say(self):
        said = {
            text
            for path in (SOURCE / "web/static/js").glob("*.js")
            for text in re.findall(r'\bwords\(\s*"([^"]+)"', path.read_text("utf-8"))
        }
        assert said == set(SCRIPT_WORDS)


def glossary():
    """The table of terms of the docs: English, German, French, Spanish."""
    lines = (DOCS / "languages.md").read_text("utf-8").splitlines()
    return [[cell.strip() for cell in line.strip("|").split("|")] for line in lines if line.startswith("| ")][1:]


@pytest.mark.parametrize("code", OTHERS)
def test_each_term_of_the_glossary_is_said(code):
    said = " ".join(form.lower() for item in catalogue(code).values() for form in forms(item))
    column = 1 + ["de", "fr", "es"].index(code)
    assert [row[0] for row in glossary() if row[column].lower() not in said] == []


NOT_SAID = {
    r"\bluck|\breckon|\bbrim\b|\bodds\b|\banew\b": "no word of everyday English",
    r"\bV a cell\b": "V per cell, V/cell",
    r"\bkept? apart\b": "quarantined",
    r"\bin hand\b": "a batch is started",
    r"\bhand check\b|\bcheck by hand\b": "check",
    r"\bof 100 tries\b": "97 % likely",
    r"\bso many\b|\bsuch of\b": "name the noun",
    r"\bwritten down\b": "saved",
    r"\bevened? out\b": "equalise",
}
KEPT_NAMES = {"evened out", "even out", "Keep apart"}
"""Names of states in files and the database, and a mark that a row of packs has no room for more."""


def test_no_sentence_uses_a_word_that_the_table_of_terms_replaces():
    found = [
        (text, instead)
        for text in map(key_of, messages())
        for pattern, instead in NOT_SAID.items()
        if re.search(pattern, text, re.I) and text not in KEPT_NAMES
    ]
    assert found == []
