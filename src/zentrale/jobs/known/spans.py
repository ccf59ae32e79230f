"""Spans of time, oldest first and apart from each other: joined, cut, and counted. In seconds since 1970, UTC."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from zentrale.site.model import RecordingPlan

Span = tuple[float, float]
_DAY_MIN = 24 * 60


def joined(spans: Iterable[Span], apart_s: float = 0.0) -> list[Span]:
    """Those that overlap, or follow within so many seconds, as one."""
    found: list[Span] = []
    for start, end in sorted(s for s in spans if s[1] > s[0]):
        if found and start - found[-1][1] <= apart_s:
            found[-1] = found[-1][0], max(end, found[-1][1])
        else:
            found.append((start, end))
    return found


def within(spans: Sequence[Span], start: float, end: float) -> list[Span]:
    return [(max(a, start), min(b, end)) for a, b in spans if b > start and a < end]


def common(some: Sequence[Span], others: Sequence[Span]) -> list[Span]:
    found: list[Span] = []
    at = 0
    for start, end in some:
        while at < len(others) and others[at][1] <= start:
            at += 1
        number = at
        while number < len(others) and others[number][0] < end:
            found.append((max(start, others[number][0]), min(end, others[number][1])))
            number += 1
    return found


def without(some: Sequence[Span], others: Sequence[Span]) -> list[Span]:
    """What of `some` none of the others covers."""
    found: list[Span] = []
    at = 0
    for start, end in some:
        while at < len(others) and others[at][1] <= start:
            at += 1
        number, here = at, start
        while number < len(others) and others[number][0] < end:
            if others[number][0] > here:
                found.append((here, others[number][0]))
            here = max(here, others[number][1])
            number += 1
        if here < end:
            found.append((here, end))
    return found


def total(spans: Iterable[Span]) -> float:
    return sum(end - start for start, end in spans)


def wanted(rules: RecordingPlan, zone: ZoneInfo, start: float, end: float) -> list[Span] | None:
    """When something is to be recorded between two moments; None where that depends on what happens."""
    if rules.mode == "motion":
        return None
    if rules.mode == "continuous":
        return [(start, end)] if end > start else []
    return within(joined(_hours(rules.minutes, zone, start, end)), start, end)


def _hours(minutes: frozenset[int], zone: ZoneInfo, start: float, end: float) -> Iterator[Span]:
    """By the clock on the wall: a day in which it is set forward or back has fewer or more of them."""
    day = datetime.fromtimestamp(start, zone).date() - timedelta(days=1)
    last = datetime.fromtimestamp(end, zone).date()
    runs = {weekday: list(_runs(minutes, weekday)) for weekday in range(7)}
    while day <= last:
        for first, after in runs[day.weekday()]:
            yield _at(day, first, zone), _at(day, after, zone)
        day += timedelta(days=1)


def _runs(minutes: frozenset[int], weekday: int) -> Iterator[tuple[int, int]]:
    own = sorted(m - weekday * _DAY_MIN for m in minutes if m // _DAY_MIN == weekday)
    for number, minute in enumerate(own):
        if number == 0 or own[number - 1] != minute - 1:
            begin = minute
        if number == len(own) - 1 or own[number + 1] != minute + 1:
            yield begin, minute + 1


def _at(day: date, minute: int, zone: ZoneInfo) -> float:
    moment = datetime(day.year, day.month, day.day) + timedelta(minutes=minute)
    return moment.replace(tzinfo=zone).timestamp()
