"""Moments as people say them, by the site's clocks: with the hour that comes twice in autumn, and the one that spring skips."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from zentrale.errors import InputError, TwiceError

_LENGTH = re.compile(r"(\d+(?:\.\d+)?)\s*(s|m|min|h|d)?", re.ASCII)
_UNITS_S = {"s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0, "d": 86400.0, None: 60.0}
_CLOCK = re.compile(r"\d{2}:\d{2}(:\d{2}(\.\d+)?)?", re.ASCII)
_OFFSET = re.compile(r"(Z|[+-]\d{2}:?\d{2})$", re.ASCII)


def moment_of(text: str, zone_name: str, now: datetime, option: str = "--at") -> datetime:
    """In UTC, what is said as `2026-11-24 22:14`, `yesterday 22:14`, `22:14:30` (of today) or ISO 8601 with an offset. Raises
    InputError, and TwiceError where the site's clocks show that time twice.
    """
    zone, said = ZoneInfo(zone_name), text.strip()
    if _OFFSET.search(said):
        try:
            return datetime.fromisoformat(said.replace(" ", "T", 1).replace(" ", "")).astimezone(UTC)
        except ValueError:
            raise _not_a_time(text, option, now, zone) from None
    today = now.astimezone(zone).date()
    words = said.replace("T", " ", 1).split()
    days = {"today": today, "yesterday": today - timedelta(days=1)}
    try:
        day = today if len(words) == 1 else days.get(words[0].lower()) or date.fromisoformat(words[0])
        clock = time.fromisoformat(words[-1]) if _CLOCK.fullmatch(words[-1]) else None
    except (ValueError, IndexError):
        raise _not_a_time(text, option, now, zone) from None
    if len(words) > 2 or clock is None:
        raise _not_a_time(text, option, now, zone)
    naive = datetime.combine(day, clock)
    first, second = (naive.replace(tzinfo=zone, fold=fold) for fold in (0, 1))
    if first.utcoffset() == second.utcoffset():
        return first.astimezone(UTC)
    if first.astimezone(UTC).astimezone(zone).replace(tzinfo=None) != naive:
        after = (naive + timedelta(hours=1)).time()
        raise InputError(
            f"{option} {text}: no clock in {zone_name} shows that time, since they are set forward then",
            f"say what was meant, such as {day} {after:%H:%M}",
        )
    raise TwiceError(said, zone_name, (first, second))


def _not_a_time(text: str, option: str, now: datetime, zone: ZoneInfo) -> InputError:
    local = now.astimezone(zone)
    return InputError(
        f"{option} {text}: not a time", f"expected one such as '{local:%Y-%m-%d %H:%M}', 'yesterday 22:14' or 22:14:30"
    )


def length_s(text: str, option: str) -> float:
    """As 10m, 30s, 1h; a number alone is minutes. Raises InputError."""
    found = _LENGTH.fullmatch(text.strip().lower())
    seconds = float(found[1]) * _UNITS_S[found[2]] if found else 0.0
    if seconds <= 0:
        raise InputError(f"{option} {text}: not a length of time", "expected one such as 10m, 30s or 1h")
    return seconds
