"""Heats in and out: pasted tables with every fault told, and iCalendar that gives the same heats again."""

from datetime import UTC, date, datetime, timedelta, timezone

import icalendar
import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.fields import BadInput
from iterum.core.things.session import Wish
from iterum.exchange.heats import Heat, calendar_text, family_from, parse_calendar, parse_table

DAY, ZONE = date(2026, 6, 13), timezone(timedelta(hours=1))


def there(shown):
    return shown.replace(tzinfo=ZONE)


USUAL = Wish(4, "lipo-4S", 0.0)


def at(hour, minute=0):
    return datetime(2026, 6, 13, hour, minute, tzinfo=ZONE)


def test_a_table_is_read_with_tabs_semicolons_or_commas_and_with_its_own_order_of_columns():
    lines = ["09:40\tPylon 1\t4S LiPo\t6\t12\t3", "14.05\tTow\tlipo-6S\t3\t\t"]
    expected = [
        Heat(at(9, 40), Wish(6, "lipo-4S", 0.0, "Pylon 1", 12, value=3)),
        Heat(at(14, 5), Wish(3, "lipo-6S", 0.0, "Tow")),
    ]
    assert parse_table("\n".join(lines), DAY, there) == expected
    assert parse_table("\n".join(lines).replace("\t", ";"), DAY, there) == expected
    turned = "Packs,Start,Class,Heat,Away\n6,2026-06-14 09:40,LiPo 4s,Pylon 1,12\n"
    assert parse_table(turned, DAY, there) == [
        Heat(at(9, 40) + timedelta(days=1), Wish(6, "lipo-4S", 0.0, "Pylon 1", 12))
    ]


def test_every_fault_of_a_table_is_told_with_its_line_and_column():
    with pytest.raises(BadInput) as caught:
        parse_table("25:10;a;4S LiPo;6\n\n09:10;b;4X;none\n", DAY, there)
    assert [fault.place for fault in caught.value.faults] == ["line 1, time", "line 3, class", "line 3, packs"]
    with pytest.raises(BadInput, match="Paste one line a heat"):
        parse_table("  \n", DAY, there)


def test_a_class_is_understood_as_pilots_write_it():
    assert [family_from(text) for text in ("4S LiPo", "lipo 4s", "LIPO-4S", "6s lihv", "3S Li-ion", "pb")] == [
        "lipo-4S", "lipo-4S", "lipo-4S", "lihv-6S", "li-ion-3S", "pb"]  # fmt: skip


names = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), min_size=1, max_size=20)
wishes = st.builds(
    Wish, st.integers(1, 40), st.sampled_from(["lipo-4S", "li-ion-3S", "nimh-8S"]), st.just(0.0), st.none() | names,
    st.none() | st.integers(1, 120).map(float), st.just(15.0), st.just(0.8), st.sampled_from([1.0, 2.5]),
)  # fmt: skip
moments = st.datetimes(datetime(2020, 1, 1), datetime(2027, 6, 1), timezones=st.just(UTC)).map(
    lambda t: t.replace(microsecond=0)
)


@given(st.lists(st.builds(Heat, moments, wishes), min_size=1, max_size=5))
def test_a_calendar_gives_the_same_heats_again(heats):
    again = parse_calendar(calendar_text(heats, at(8)), USUAL, DAY, there)
    expected = sorted(heats, key=lambda heat: heat.at)
    for heat, back in zip(expected, again, strict=True):
        named = back.wish if heat.wish.name else Wish(**{**vars(back.wish), "name": None})
        assert (back.at, named) == (heat.at, heat.wish)


def test_a_calendar_made_elsewhere_is_read_and_its_faults_are_told():
    """A calendar built by the library alone (RFC 5545), without anything of ours."""
    calendar, event = icalendar.Calendar(), icalendar.Event()
    event.add("summary", "Open round")
    event.add("dtstart", datetime(2026, 6, 13, 9, 0))
    event.add("dtend", datetime(2026, 6, 13, 9, 20))
    calendar.add_component(event)
    assert parse_calendar(calendar.to_ical(), USUAL, DAY, there) == [
        Heat(at(9), Wish(4, "lipo-4S", 0.0, "Open round", 20.0))
    ]
    whole_day = icalendar.Event()
    whole_day.add("dtstart", DAY)
    calendar.add_component(whole_day)
    with pytest.raises(BadInput, match="event 2 dtstart: has no time of day"):
        parse_calendar(calendar.to_ical(), USUAL, DAY, there)
    for raw in (b"", b"not a calendar", b"BEGIN:VCALENDAR\nEND:VCALENDAR\n", b"BEGIN:VEVENT", b"\xff\xfe\x00"):
        with pytest.raises(BadInput):
            parse_calendar(raw, USUAL, DAY, there)


def test_what_a_flight_uses_and_needs_is_typed_in_percent_and_leaves_something_in_the_pack():
    (heat,) = parse_table("time,class,packs,away,uses,needs\n10:00,lipo-4S,4,8,40 %,70", DAY, there)
    assert (heat.wish.used_fraction, heat.wish.need_fraction) == (0.4, 0.7)
    with pytest.raises(BadInput) as refused:
        parse_table("time,class,packs,away,uses,needs\n10:00,lipo-4S,4,8,60,70", DAY, there)
    (fault,) = refused.value.faults
    assert (fault.place, "at least 0.8" in fault.mend) == ("line 2, needs", True)


@pytest.mark.parametrize(
    "start", ["", ":", ":20260230T100000Z", ":nonsense", ":99991231T235959Z", ":00010101T000000Z", ":20260613", ":20260613T250000",
              ";VALUE=PERIOD:20260613T100000Z/PT1H", ":20260613T100000Z,20260614T100000Z"]
)  # fmt: skip
def test_a_calendar_with_a_date_that_is_none_is_told_and_taken_by_nobody(start):
    text = (
        f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART{start}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
    with pytest.raises(BadInput):
        parse_calendar(text.encode(), Wish(6, "lipo-4S", 0.0), DAY, there)
