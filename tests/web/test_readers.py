"""Two readers at one bench, each in a language of their own."""

from tests.web.conftest import planned, spoken

GROUP = "packs=P-08&packs=P-11&packs=P-06"
PAGES = ("/match?class=lipo-4S", f"/match/join?{GROUP}", f"/charge?{GROUP}", "/plan", "/put-away", "/rules/effects",
         "/measure?pack=P-08", "/packs/health?id=P-08", "/table/effects", "/what-if", "/kit/parts")  # fmt: skip
ENGLISH = {"the", "and", "not", "with", "of", "is", "are", "what"}
"""Words that are none in German."""


def test_what_is_kept_for_one_reader_is_not_told_to_another(bench):
    planned(bench.visitor)
    german, english = ({"Accept-Language": code} for code in ("de", "en"))
    for page in PAGES:
        first = bench.visitor.get(page, headers=german).seen
        between = bench.visitor.get(page, headers=english).seen
        assert bench.visitor.get(page, headers=german).seen.said == first.said, page
        assert ENGLISH & set(between.said.split()), page
        labels = " ".join(item["aria-label"] for item in first.page(attrs={"aria-label": True}))
        assert not ENGLISH & set(f"{first.said} {labels}".split()), page


def test_what_hangs_there_is_removed_in_the_words_of_the_reader(bench):
    bench.act(bench.charging(), "stop")
    page = bench.visitor.get("/bench", headers={"Accept-Language": "de"}).seen.page
    assert "sofort Von Twin-1 abnehmen 3 × P jede Zelle messen" in spoken(page.find(class_="next-card")).replace("\u00a0", " ")
