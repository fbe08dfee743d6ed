"""The six places of the application, and the pages in each."""

from dataclasses import dataclass

from iterum.core.say import Words


@dataclass(frozen=True)
class Page:
    """One page. endpoint : its address by name. rooms : blueprints whose pages belong to it beside its own."""

    endpoint: str
    name: str
    rooms: tuple[str, ...] = ()

    @property
    def room(self) -> str:
        """Its own blueprint."""
        return self.endpoint.partition(".")[0]


@dataclass(frozen=True)
class Place:
    """One place with its pages; the first is what it opens. symbol : of its sign."""

    name: str
    symbol: str
    pages: tuple[Page, ...]

    def page_of(self, room: str, endpoint: str) -> Page | None:
        """The page of this place that shows an address; None where it is in another place."""
        same = next((page for page in self.pages if page.endpoint == endpoint), None)
        return same or next((page for page in self.pages if room == page.room or room in page.rooms), None)


PLACES = (
    Place(Words("Bench"), "measure", (
        Page("bench.page", Words("Bench"), ("run", "charge", "begin")),
        Page("plan.page", Words("Plan")),
        Page("heats.page", Words("Heats")),
        Page("put_away.page", Words("Put away")),
        Page("table.page", Words("Table")),
    )),
    Place(Words("Packs"), "packs", (
        Page("packs.page", Words("Packs")),
        Page("measure.page", Words("Measure")),
        Page("match.page", Words("Match")),
        Page("use.page", Words("Flight timer")),
    )),
    Place(Words("Kit"), "kit", (Page("kit.page", Words("Kit")),)),
    Place(Words("Log"), "log", (Page("log.page", Words("Log")),)),
    Place(Words("Practice"), "rehearse", (
        Page("rehearse.page", Words("Lessons and rehearsal")),
        Page("what_if.page", Words("What if")),
    )),
    Place(Words("Settings"), "rules", (
        Page("rules.page", Words("House rules")),
        Page("files.page", Words("Files")),
        Page("share.page", Words("On my phone")),
        Page("wrong.keys", Words("Keys")),
    )),
)  # fmt: skip
WORK = ("measure.page", "match.page", "plan.page", "bench.page", "put_away.page")
"""The order of work."""
WRONG = Page("wrong.page", Words("Something’s wrong"))
EVERY_PAGE = (*(page for place in PLACES for page in place.pages), WRONG)
