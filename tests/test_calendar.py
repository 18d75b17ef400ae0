"""Occurrences against an independent calculation, over a year with both clock changes in three zones."""

import time
from datetime import UTC, datetime, timedelta

import pytest
from dateutil import tz
from dateutil.rrule import DAILY, HOURLY, MINUTELY, rrule
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.document.calendar import rule

ZONES = ["Europe/Zurich", "America/New_York", "Australia/Lord_Howe"]  # the last one shifts by half an hour
BEGIN, END = datetime(2031, 1, 1), datetime(2032, 1, 1)


def utc(moment: datetime, zone: str) -> datetime:
    return moment.replace(tzinfo=tz.gettz(zone)).astimezone(tz.UTC)


def occurrences(zone: str, **given) -> list[datetime]:
    since, until = utc(BEGIN, zone) - timedelta(seconds=1), utc(END, zone)
    args = {"cron": None, "every": None, "recurrence": None, **given}
    found = []
    for moment in rule(zone=zone, **args).from_(since):
        if moment >= until:
            return found
        found.append(moment)
    return found


@pytest.mark.parametrize("zone", ZONES)
@pytest.mark.parametrize(("hour", "minute"), [(2, 15), (1, 45), (12, 0), (0, 0)])
def test_a_cron_time_of_day_comes_once_a_day_in_spring_and_autumn(zone, hour, minute):
    expected = []
    for wall in rrule(DAILY, dtstart=BEGIN.replace(hour=hour, minute=minute), until=END):
        if wall >= END:
            break
        moment = wall.replace(tzinfo=tz.gettz(zone))
        if not tz.datetime_exists(moment):  # skipped: it comes as soon as the clock has skipped
            moment = next(m for n in range(181) if tz.datetime_exists(m := moment + timedelta(minutes=n)))
        expected.append(tz.enfold(moment, 0).astimezone(tz.UTC))
    assert occurrences(zone, cron=f"{minute} {hour} * * *") == expected


@pytest.mark.parametrize("zone", ZONES)
def test_a_cron_with_every_hour_goes_on_through_both_changes(zone):
    real = (utc(BEGIN, zone) + timedelta(minutes=15 * n) for n in range(4 * 24 * 366))
    expected = [m for m in real if m < utc(END, zone) and m.astimezone(tz.gettz(zone)).minute % 15 == 0]
    assert occurrences(zone, cron="*/15 * * * *") == expected


@pytest.mark.parametrize("zone", ZONES)
@pytest.mark.parametrize("text", ["FREQ=DAILY;BYHOUR=2;BYMINUTE=15;BYSECOND=0", "FREQ=HOURLY;INTERVAL=5", "FREQ=MINUTELY;INTERVAL=420", "FREQ=WEEKLY;BYDAY=SU;BYHOUR=1,2,3;BYMINUTE=30;BYSECOND=0"])  # fmt: skip
def test_recurrences_equal_those_of_the_wall_clock(zone, text):
    """A wall time that does not exist is read with the offset before (RFC 5545, 3.3.5)."""
    epoch = datetime(2024, 1, 1)
    if "WEEKLY" in text:
        walls = [
            d + timedelta(hours=h, minutes=30)
            for d in rrule(DAILY, dtstart=epoch, until=END)
            if d.weekday() == 6
            for h in (1, 2, 3)
        ]
    else:
        freq, interval = {"DAILY": (DAILY, 1), "HOURLY": (HOURLY, 5), "MINUTELY": (MINUTELY, 420)}[
            text.split(";")[0][5:]
        ]
        walls = list(
            rrule(
                freq, interval=interval, dtstart=epoch.replace(hour=2, minute=15) if freq == DAILY else epoch, until=END
            )
        )
    found = set()
    for wall in walls:
        if BEGIN - timedelta(days=1) <= wall:
            moment = wall.replace(tzinfo=tz.gettz(zone))
            before = (wall - timedelta(hours=4)).replace(tzinfo=tz.gettz(zone)).utcoffset()
            found.add(
                (wall - before).replace(tzinfo=UTC)
                if not tz.datetime_exists(moment)
                else tz.enfold(moment, 0).astimezone(tz.UTC)
            )
    expected = sorted(m for m in found if utc(BEGIN, zone) <= m < utc(END, zone))
    assert occurrences(zone, recurrence=text) == expected


@given(st.sampled_from(ZONES), st.integers(1, 100_000), st.datetimes(datetime(2030, 1, 1), datetime(2033, 1, 1)))
def test_intervals_are_the_same_for_every_clock(zone, seconds, moment):
    found = rule(None, f"{seconds}s", None, zone)
    first = found.after(moment.replace(tzinfo=UTC))
    assert first is not None
    assert first > moment.replace(tzinfo=UTC)
    assert first.timestamp() % seconds == 0
    assert found.after(first) - first == timedelta(seconds=seconds)


@given(st.datetimes(datetime(2030, 1, 1), datetime(2033, 1, 1)), st.sampled_from(["*/7 * * * *", "30 2 * * *", "0 0 29 2 *", "5 4 * * 1-5"]), st.sampled_from(ZONES))  # fmt: skip
def test_the_next_one_is_always_later(moment, cron, zone):
    found = rule(cron, None, None, zone).next(moment.replace(tzinfo=UTC), 3)
    assert moment.replace(tzinfo=UTC) < found[0] < found[1] < found[2]


@pytest.mark.parametrize(("given", "said"), [(("61 * * * *", None, None), "no cron"), (("* * * *", None, None), "five fields"), ((None, "500ms", None), "once a second"),
                                             ((None, None, "FREQ=OFTEN"), "no recurrence"), ((None, None, "DTSTART:20310101T000000Z\nRRULE:FREQ=DAILY"), "without Z")])  # fmt: skip
def test_rules_that_cannot_be_read_say_why(given, said):
    with pytest.raises(ValueError, match=said):
        rule(*given, "UTC")


def test_an_end_in_utc_is_taken_by_the_zones_clock():
    found = rule(None, None, "FREQ=HOURLY;UNTIL=20310101T020000Z", "Europe/Zurich").next(
        datetime(2030, 12, 31, 23, 30, tzinfo=UTC), 9
    )
    assert [m.hour for m in found] == [0, 1, 2]


HOSTILE = [
    "FREQ=SECONDLY;COUNT=2000000000",
    "FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30",
    "FREQ=MINUTELY;BYMONTH=2;BYMONTHDAY=30",
    "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30",
    "FREQ=DAILY;INTERVAL=0",
    "FREQ=HOURLY;BYHOUR=25",
    "FREQ=SECONDLY;BYSECOND=61",
    "FREQ=DAILY;BYSETPOS=400",
    "FREQ=DAILY;UNTIL=00010101T000000Z",
    "FREQ=DAILY;" + "BYHOUR=1;" * 1000,
    "DTSTART:20310405T060000Z\nRRULE:FREQ=DAILY",
    "RRULE:FREQ=DAILY\nRRULE:FREQ=WEEKLY",
    "BYEASTER=0;FREQ=SECONDLY;COUNT=99999999999;BYHOUR=3",
    "FREQ=SECONDLY;COUNT=99999999999;BYHOUR=3;BYMINUTE=59;BYSECOND=59",
    "FREQ=MINUTELY;COUNT=99999999999;BYHOUR=3;BYMONTH=2;BYMONTHDAY=30",
    "FREQ=" + "9" * 400,
    "",
]


@pytest.mark.parametrize("text", HOSTILE)
def test_a_recurrence_that_runs_away_or_makes_no_sense_is_refused_in_little_time(text):
    began = time.thread_time()  # of a processor: what else is at work beside it does not count
    with pytest.raises(ValueError):
        rule(None, None, text, "Europe/Zurich")
    assert time.thread_time() - began < 4


def test_a_recurrence_each_second_comes_each_second():
    moment = datetime(2031, 4, 5, 6, 0, 0, tzinfo=UTC)
    assert rule(None, None, "FREQ=SECONDLY", "Europe/Zurich").next(moment, 3) == [
        moment + timedelta(seconds=n) for n in (1, 2, 3)
    ]


PART = st.sampled_from(
    ["FREQ=DAILY", "FREQ=SECONDLY", "FREQ=YEARLY", "FREQ=WEEKLY", "INTERVAL=0", "INTERVAL=3", "COUNT=5", "COUNT=0", "COUNT=99999999999",
     "BYMONTH=2", "BYMONTH=13", "BYMONTHDAY=30", "BYMONTHDAY=-31", "BYDAY=MO", "BYDAY=99MO", "BYHOUR=3", "BYSECOND=59", "BYSETPOS=-1",
     "BYWEEKNO=53", "BYYEARDAY=-366", "BYEASTER=0", "WKST=SU", "UNTIL=20310405", "UNTIL=x", "X-A=1", ""]
)  # fmt: skip


@given(st.lists(PART, max_size=6).map(";".join) | st.text(max_size=40))
@settings(max_examples=150)
def test_any_text_is_a_recurrence_or_refused(text: str):
    began = time.thread_time()
    try:
        rule(None, None, text, "Europe/Zurich").next(datetime(2031, 4, 5, tzinfo=UTC), 2)
    except ValueError as refused:
        assert str(refused)
    assert time.thread_time() - began < 6


@given(st.text(alphabet="0123456789*/,-# LWMONJA?", max_size=30) | st.text(max_size=30))
@settings(max_examples=150, deadline=1000)
def test_any_text_is_cron_or_refused(text: str):
    try:
        rule(text, None, None, "UTC").next(datetime(2031, 4, 5, tzinfo=UTC), 2)
    except ValueError as refused:
        assert str(refused)
