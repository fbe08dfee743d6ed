"""Logs of other programs: any separator, columns as the pilot says, every fault with its line, nothing half taken."""

import time
from datetime import UTC, date, datetime, timedelta, timezone

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.fields import BadInput
from iterum.core.planning.resources import _minute_of
from iterum.core.season.columns import READING_MEANINGS, guessed
from iterum.core.season.health import ChargeRecord
from iterum.core.season.moments import begin_of, local
from iterum.core.season.outlook import Observation
from iterum.core.things.session import Wish
from iterum.exchange.csv_table import csv_text
from iterum.exchange.heats import parse_calendar, parse_table
from iterum.exchange.log_csv import CHARGE_MEANINGS, charges_from, observations_from, read_table

ZONE = timezone(timedelta(hours=1))


def there(shown):
    return shown.replace(tzinfo=ZONE)


MEANING = {"Akku": "pack", "Zeit": "at", "mAh": "charge_mah", "U": "after_v"}
TEXT = "Akku;Zeit;mAh;U;Rest\nP-01;13.06.2026 09:40;812,5;4.19 4.20 4.19 4.19;x\nP-02;2026-06-13 10:05;;;\n"


def test_a_table_is_taken_with_the_columns_the_pilot_names():
    headings, rows = read_table(TEXT.encode("utf-8-sig"))
    taken = charges_from(headings, rows, MEANING, there, {"P-01", "P-02"})
    at = datetime(2026, 6, 13, 9, 40, tzinfo=ZONE)
    assert taken[0] == ("P-01", ChargeRecord(at, 812.5, after_v=(4.19, 4.20, 4.19, 4.19)))
    assert taken[1] == ("P-02", ChargeRecord(at + timedelta(minutes=25)))


@pytest.mark.parametrize(("text", "mah"), [
    ("1.650", 1650), ("1,650", 1650), ("1650 mAh", 1650), ("1.65 Ah", 1650), ("812,5", 812.5), ("15.000 mAh", 15000),
])  # fmt: skip
def test_thousands_and_units_of_a_log_are_read_as_they_are_meant(text, mah):
    table = f"pack;at;mAh\nP-01;2026-06-13 10:00;{text}\n".encode()
    headings, rows = read_table(table)
    meaning = {"pack": "pack", "at": "at", "mAh": "charge_mah"}
    ((_, record),) = charges_from(headings, rows, meaning, there, {"P-01"})
    assert record.charge_mah == mah


def test_every_fault_is_told_with_its_line_and_nothing_is_taken():
    headings, rows = read_table(b"Akku,Zeit,mAh\nP-01,teatime,many\nX-9,2026-06-13 10:00,5\nP-01,,1\n")
    with pytest.raises(BadInput) as caught:
        charges_from(headings, rows, MEANING, there, {"P-01"})
    assert [fault.place for fault in caught.value.faults] == ["line 2, Zeit", "line 2, mAh", "line 3", "line 4"]
    with pytest.raises(BadInput, match="which column is the pack tag"):
        charges_from(headings, rows, {"Zeit": "at"}, there, {"P-01"})


@pytest.mark.parametrize("raw", [b"", b"one,line", b"a,a\n1,2", b"\xff\xfe", b"x" * 4_000_001])
def test_what_is_no_table_is_refused(raw):
    with pytest.raises(BadInput):
        read_table(raw)


def test_readings_come_with_minutes_or_seconds_in_the_order_of_time():
    headings, rows = read_table(b"t,v,a\n120,15.2,5.4\n60,15.1,5.4\n")
    taken = observations_from(headings, rows, {"t": "at_s", "v": "pack_v", "a": "current_a"}, there)
    assert taken == [Observation(1.0, pack_v=15.1, current_a=5.4), Observation(2.0, pack_v=15.2, current_a=5.4)]
    with pytest.raises(BadInput, match="time since the start"):
        observations_from(headings, rows, {"v": "pack_v"}, there)


records = st.builds(
    ChargeRecord, st.datetimes(datetime(2020, 1, 1), datetime(2040, 1, 1), timezones=st.just(UTC)).map(lambda t: t.replace(microsecond=0)),
    *[st.none() | st.floats(0, 9999).map(lambda v: round(v, 2))] * 3, *[st.lists(st.floats(0.5, 4.6).map(lambda v: round(v, 2)), max_size=6).map(tuple)] * 3,
    st.none() | st.text(st.characters(codec="ascii", exclude_categories=["C"]), min_size=1, max_size=20).map(str.strip).filter(lambda t: t and not t.startswith("'")),
)  # fmt: skip


@given(st.lists(st.tuples(st.sampled_from(["P-01", "=danger"]), records), min_size=1, max_size=4))
def test_our_own_export_is_read_again_without_a_loss(charges):
    rows = [{"pack": tag, **{name: list(v) if isinstance(v, tuple) else v.isoformat() if name == "at" else v for name, v in vars(record).items()}}
            for tag, record in charges]  # fmt: skip
    headings, cells = read_table(csv_text(rows).encode())
    again = charges_from(headings, cells, guessed(headings, CHARGE_MEANINGS), there, {"P-01", "=danger"})
    assert again == charges


def test_millivolts_are_recognised_and_asked_about_and_what_cannot_be_is_told():
    headings, rows = read_table(b"at,pack,mah,before\n2026-06-01 10:00,P-01,500,3810 3800 3810 3810\n")
    meaning = {"at": "at", "pack": "pack", "mah": "charge_mah", "before": "before_v"}
    with pytest.raises(BadInput, match="3810 looks like millivolts"):
        charges_from(headings, rows, meaning, there, {"P-01"})
    ((_, charge),) = charges_from(headings, rows, meaning, there, {"P-01"}, millivolts=True)
    assert charge.before_v == (3.81, 3.8, 3.81, 3.81)
    for bad in ("9999-01-01,P-01,5,3.8", "2026-01-01,P-01,-5,3.8", "2026-01-01,P-01,5,48", "2026-01-01,P-01,1e9,3.8"):
        headings, rows = read_table(f"at,pack,mah,before\n{bad}\n".encode())
        with pytest.raises(BadInput):
            charges_from(headings, rows, meaning, there, {"P-01"})


@pytest.mark.parametrize(("headings", "meanings", "expected"), [
    ("date,pack,mAh in,min,C", CHARGE_MEANINGS, "at pack charge_mah minutes rate_c"),
    ("Date,Time,Battery,Charged (mAh),Duration [min],IR,Remarks", CHARGE_MEANINGS,
     "at clock pack charge_mah minutes resistance_mohm note"),
    ("Time,Tag,mAh,wind", CHARGE_MEANINGS, "at pack charge_mah "),
    ("date and time,pack tag,cells before,cells after", CHARGE_MEANINGS, "at pack before_v after_v"),
    ("Time (s),Voltage (V),Current (A),Temp (°C),Cells", READING_MEANINGS, "at_s pack_v current_a temperature_c cell_v"),
    ("min,amps,volts,vin,foo", READING_MEANINGS, "at_min current_a pack_v input_v "),
])  # fmt: skip
def test_known_headings_are_recognised_and_others_left_to_the_pilot(headings, meanings, expected):
    assert list(guessed(headings.split(","), meanings).values()) == expected.split(" ")


def test_a_date_and_its_time_of_day_may_stand_in_two_columns():
    headings, rows = read_table(b"Time,Pack,Date\n09:40,P-01,13.06.2026\n,P-01,14.06.2026\n")
    taken = charges_from(headings, rows, guessed(headings, CHARGE_MEANINGS), there, {"P-01"})
    assert [record.at for _, record in taken] == [there(datetime(2026, 6, 13, 9, 40)), there(datetime(2026, 6, 14))]


def test_rows_with_faults_are_left_out_only_by_choice_and_never_all():
    headings, rows = read_table(b"at,pack,mah\n2026-06-01,P-01,5\nteatime,P-01,5\n2026-06-02,P-01,-5\n2026-06-03,X,5\n")
    meaning = guessed(headings, CHARGE_MEANINGS)
    with pytest.raises(BadInput) as caught:
        charges_from(headings, rows, meaning, there, {"P-01"})
    assert {fault.place.partition(",")[0] for fault in caught.value.faults} == {"line 3", "line 4", "line 5"}
    assert len(charges_from(headings, rows, meaning, there, {"P-01"}, the_rest=True)) == 1
    with pytest.raises(BadInput):
        charges_from(headings, rows[1:], meaning, there, {"P-01"}, the_rest=True)


@pytest.fixture
def london(monkeypatch):
    """This machine, as if its clocks were set as in London, whose summer time ended on 25 October 2026 at 1:00 UTC."""
    monkeypatch.setenv("TZ", "Europe/London")
    time.tzset()
    yield
    monkeypatch.undo()
    time.tzset()


def test_times_of_a_log_have_the_offset_of_their_own_date(london):
    text = b"at,pack\n2026-10-24 12:00,P\n2026-10-25 12:00,P\n2026-03-29 01:30,P\n2026-10-25 01:30,P\n"
    headings, rows = read_table(text)
    taken = charges_from(headings, rows, {"at": "at", "pack": "pack"}, local, {"P"})
    shown = [record.at.astimezone(UTC).strftime("%d %H:%M") for _, record in taken]
    assert (*shown[:2], shown[3]) == ("24 11:00", "25 12:00", "25 00:30")  # of an hour that comes twice the first
    assert shown[2] in ("29 00:30", "29 01:30")  # of an hour that is skipped one beside it


def test_heats_and_days_across_a_change_of_the_clocks(london):
    before, after = parse_table("2026-10-24 10:00;A;4S LiPo;1\n2026-10-25 10:00;B;4S LiPo;1", date(2026, 10, 24), local)
    assert after.at - before.at == timedelta(hours=25)
    text = b"BEGIN:VCALENDAR\nBEGIN:VEVENT\nDTSTART:20261025T100000\nSUMMARY:B\nEND:VEVENT\nEND:VCALENDAR\n"
    (heat,) = parse_calendar(text, Wish(1, "lipo-4S", 0.0), date(2026, 10, 24), local)
    assert heat.at == after.at
    assert begin_of(date(2026, 10, 26)) - begin_of(date(2026, 10, 25)) == timedelta(hours=25)
    assert begin_of(date(2026, 3, 30)) - begin_of(date(2026, 3, 29)) == timedelta(hours=23)


def test_quiet_hours_end_by_the_clock_on_the_wall_in_the_night_when_clocks_change(london):
    begins = datetime(2026, 10, 24, 21, 0, tzinfo=timezone(timedelta(hours=1)))
    assert _minute_of("07:00", begins, 1) == 11 * 60  # that night has an hour more
    there_too = begins.astimezone(timezone(timedelta(hours=5)))
    assert _minute_of("07:00", there_too, 0) == 6 * 60  # of another place, whose rules are not known here
