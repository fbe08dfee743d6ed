"""The six places of the application, and the pages in each."""

from dataclasses import dataclass


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
    Place("Bench", "measure", (
        Page("bench.page", "Bench", ("run", "charge", "begin")),
        Page("plan.page", "Plan"),
        Page("heats.page", "Heats"),
        Page("put_away.page", "Put away"),
        Page("table.page", "Table"),
    )),
    Place("Packs", "packs", (
        Page("packs.page", "Packs"),
        Page("measure.page", "Measure"),
        Page("match.page", "Match"),
        Page("use.page", "Flight timer"),
    )),
    Place("Kit", "kit", (Page("kit.page", "Kit"),)),
    Place("Log", "log", (Page("log.page", "Log"),)),
    Place("Practice", "rehearse", (
        Page("rehearse.page", "Lessons and rehearsal"),
        Page("what_if.page", "What if"),
    )),
    Place("Settings", "rules", (
        Page("rules.page", "House rules"),
        Page("files.page", "Files"),
        Page("share.page", "On my phone"),
        Page("wrong.keys", "Keys"),
    )),
)  # fmt: skip
WORK = ("measure.page", "match.page", "plan.page", "bench.page", "put_away.page")
"""The order of work."""
WRONG = Page("wrong.page", "Something’s wrong")
EVERY_PAGE = (*(page for place in PLACES for page in place.pages), WRONG)
