"""Hours of the week as iCalendar (RFC 5545), as the ONVIF Schedule Service has them: events of local time that come each week.

A minute is counted from Monday 00:00. An event that begins on one day and ends on another is two, since some devices take no
other. It begins on the first of its weekdays from 5 January 1970, a Monday: RFC 5545 clause 3.8.5.3 wants it to be one of them.
"""

from __future__ import annotations

from collections.abc import Set
from datetime import date, datetime, timedelta

from icalendar import Calendar, Component, Event, vRecur

from zentrale.errors import RemoteProtocolError

DAY_MIN = 24 * 60
WEEK_MIN = 7 * DAY_MIN
_DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_MONDAY = datetime(1970, 1, 5)
_MADE = datetime(1970, 1, 1)
_MOST_EVENTS = 256  # more than a week of every hour has
_PLAIN = {"FREQ", "BYDAY", "INTERVAL", "WKST"}  # parts of a rule that say "each week", or "each day"


def calendar_text(minutes: Set[int], name: str) -> str:
    """An event for each run of minutes, with the weekdays on which it is the same."""
    days: dict[tuple[int, int], list[int]] = {}
    for day in range(7):
        for start, end in _runs({m - day * DAY_MIN for m in minutes if m // DAY_MIN == day}):
            days.setdefault((start, end), []).append(day)
    calendar = Calendar()
    calendar.add("prodid", "-//Zentrale//recording hours//EN")
    calendar.add("version", "2.0")
    for (start, end), on in sorted(days.items()):
        event = Event()
        first = _MONDAY + timedelta(days=on[0])
        event.add("summary", name)
        event.add("dtstart", first + timedelta(minutes=start))
        event.add("dtend", first + timedelta(minutes=end))
        event.add("rrule", vRecur({"FREQ": "WEEKLY", "BYDAY": [_DAYS[d] for d in on]}))
        event.add("uid", f"{start:04d}-{end:04d}-{'-'.join(_DAYS[d] for d in on).lower()}@recording.zentrale")
        event["DTSTAMP"] = "19700101T000000Z"
        calendar.add_component(event)
    return str(calendar.to_ical().decode())


def _runs(minutes: Set[int]) -> list[tuple[int, int]]:
    """From the first minute to the one behind the last."""
    runs: list[tuple[int, int]] = []
    for minute in sorted(minutes):
        if runs and runs[-1][1] == minute:
            runs[-1] = (runs[-1][0], minute + 1)
        else:
            runs.append((minute, minute + 1))
    return runs


def minutes_of(text: str) -> frozenset[int]:
    """The minutes of the week that a calendar covers. Raises RemoteProtocolError where it is none, or not each week alike."""
    covered: set[int] = set()
    try:
        calendar = Calendar.from_ical(text)
        events = calendar.walk("VEVENT")
        if len(events) > _MOST_EVENTS:
            raise ValueError(f"{len(events)} events")
        for event in events:
            covered |= _of_event(event)
    except (ValueError, KeyError, TypeError, AttributeError, IndexError, OverflowError) as error:
        raise RemoteProtocolError(f"a schedule that is no weekly iCalendar ({str(error)[:60]})") from None
    return frozenset(covered)


def _of_event(event: Component) -> set[int]:
    start = event.decoded("dtstart")
    if not isinstance(start, datetime):  # a whole day
        start = datetime.combine(_a_date(start), datetime.min.time())
    length = event.decoded("dtend", None)
    if length is None:
        length = event.decoded("duration", timedelta(0))
    elif not isinstance(length, datetime):
        length = datetime.combine(_a_date(length), datetime.min.time()) - start
    else:
        length = length.replace(tzinfo=None) - start.replace(tzinfo=None)
    rule = event.get("rrule")
    if not isinstance(rule, vRecur) or set(rule) - _PLAIN or rule.get("INTERVAL", [1]) != [1]:
        raise ValueError("an event that does not come each week")
    if "exdate" in event or "rdate" in event:
        raise ValueError("an event with days of exception")
    frequency = str(rule.get("FREQ", [""])[0]).upper()
    if frequency not in ("WEEKLY", "DAILY"):
        raise ValueError(f"an event that comes {frequency.lower()}")
    named = [str(day).upper() for day in rule.get("BYDAY", [])]
    days = [_DAYS.index(day) for day in named] or (list(range(7)) if frequency == "DAILY" else [start.weekday()])
    first, count = 60 * start.hour + start.minute, min(round(length.total_seconds() / 60), WEEK_MIN)
    return {(DAY_MIN * day + first + minute) % WEEK_MIN for day in days for minute in range(count)}


def _a_date(value: object) -> date:
    if not isinstance(value, date):
        raise ValueError("an event without a day")
    return value
