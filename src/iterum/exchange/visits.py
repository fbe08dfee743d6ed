"""The visits of a plan and the checks of batches as a calendar with alarms (RFC 5545): any phone reminds by it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from zlib import crc32

from icalendar import Alarm, Calendar, Event

BEFORE = timedelta(minutes=2)
"""So long before each visit a phone reminds."""


@dataclass(frozen=True)
class Visit:
    """Something to do at the bench at a moment: only its time and tags, for a calendar lies about."""

    at: datetime
    what: str
    lasts_min: float = 2.0


def visits_calendar(visits: Sequence[Visit], stamp: datetime) -> bytes:
    """The visits as an iCalendar file, each with its alarm."""
    calendar = Calendar()
    calendar.add("prodid", "-//Iterum//Visits//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", "Iterum")
    calendar.add("refresh-interval", timedelta(minutes=5), parameters={"VALUE": "DURATION"})
    for visit in sorted(visits, key=lambda item: item.at):
        event, alarm = Event(), Alarm()
        event.add("uid", f"{visit.at:%Y%m%dT%H%M%S}-{crc32(visit.what.encode())}@iterum")
        event.add("dtstamp", stamp)
        event.add("dtstart", visit.at)
        event.add("dtend", visit.at + timedelta(minutes=max(visit.lasts_min, 1.0)))
        event.add("summary", visit.what)
        alarm.add("action", "DISPLAY")
        alarm.add("description", visit.what)
        alarm.add("trigger", -BEFORE)
        event.add_component(alarm)
        calendar.add_component(event)
    return bytes(calendar.to_ical())
