"""Quantities as people read them. The one place that turns numbers with units into text."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from zoneinfo import ZoneInfo


def bitrate(bitrate_bps: float) -> str:
    """Bits per second in the decimal units of the trade: 4.1 Mbit/s."""
    for limit, unit in ((1e9, "Gbit/s"), (1e6, "Mbit/s"), (1e3, "kbit/s")):
        if abs(bitrate_bps) >= 0.9995 * limit:  # from there on the smaller unit would be rounded to 1000
            value = bitrate_bps / limit
            return f"{value:.0f} {unit}" if abs(value) >= 99.95 else f"{value:.1f} {unit}"
    return f"{bitrate_bps:.0f} bit/s"


def power(power_w: float) -> str:
    return f"{power_w:.1f} W"


def resolution(width_px: int, height_px: int) -> str:
    return f"{width_px}x{height_px}"


def seconds(duration_s: float) -> str:
    """A duration as a person says it: 250 ms, 2.0 s, 3 min 20 s, 2 h 05 min, 4.0 days; negative with its sign."""
    sign, size = "-" if duration_s < 0 else "", abs(duration_s)
    if size < 0.9995:
        return f"{sign}{size * 1000:.0f} ms"
    if size < 119.95:
        return f"{sign}{size:.1f} s"
    if size < 7199.5:
        minutes, left = divmod(round(size), 60)
        return f"{sign}{minutes} min" + (f" {left:02d} s" if left else "")
    if size < 172770:
        hours, left = divmod(round(size / 60), 60)
        return f"{sign}{hours} h {left:02d} min"
    return f"{sign}{size / 86400:.1f} days"


def difference(offset_s: float) -> str:
    """How far a clock is off, in whole units, since devices tell whole seconds: 9 s ahead, 2 min 30 s behind."""
    size = round(abs(offset_s))
    days, left = divmod(size, 86400)
    text = f"{count(days, 'day')} {left // 3600} h" if days >= 2 else seconds(size) if size >= 120 else f"{size} s"
    return f"{text} {'ahead' if offset_s > 0 else 'behind'}"


def size(size_bytes: float) -> str:
    for limit, unit in ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB")):
        if abs(size_bytes) >= 0.99995 * limit:
            return f"{size_bytes / limit:.1f} {unit}"
    return f"{size_bytes:.0f} B"


def share(part: float, whole: float) -> str:
    return f"{100 * part / whole:.0f} %" if whole else "-"


def listed(names: Sequence[str], most: int = 8) -> str:
    """Names with commas; of many the first, and how many more there are."""
    more = len(names) - most
    return ", ".join(names) if more <= 0 else f"{', '.join(names[:most])} and {more} more"


def ranges(numbers: Sequence[int]) -> str:
    """Whole numbers in order, those that follow one another as first and last: 7-23, 28."""
    runs: list[list[int]] = []
    for number in numbers:
        if runs and number == runs[-1][-1] + 1:
            runs[-1][1:] = [number]
        else:
            runs.append([number])
    return ", ".join("-".join(map(str, run)) for run in runs)


def count(number: int, singular: str, plural: str = "") -> str:
    """A number with its noun: 1 camera, 8 cameras."""
    if number == 1:
        return f"{number} {singular}"
    if not plural and singular.endswith(("ch", "s", "x")):
        plural = f"{singular}es"
    elif not plural and singular.endswith("y") and singular[-2] not in "aeiou":
        plural = f"{singular[:-1]}ies"
    return f"{number} {plural or singular + 's'}"


def now() -> datetime:
    """The wall clock, always with its offset. The one place that asks for it."""
    return datetime.now(UTC)


def timestamp(moment: datetime) -> str:
    """ISO 8601 with offset, to the second."""
    return moment.astimezone().isoformat(timespec="seconds")


_ZONE: list[tzinfo] = []


def tell_times_in(zone: str) -> None:
    """From now on `moment` and `at_site` tell times in this IANA zone, the site's; before it in that of this machine."""
    _ZONE[:] = [ZoneInfo(zone)]


def at_site(moment: datetime) -> datetime:
    """The same moment by the site's clocks."""
    return moment.astimezone(_ZONE[0] if _ZONE else None)


def to_the_minute(moment: datetime) -> str:
    """By the site's clocks, with the zone's name: 2026-03-01 14:05 CET."""
    local = at_site(moment)
    return f"{local:%Y-%m-%d %H:%M} {local.tzname()}"


def moment(moment: datetime) -> str:
    """By the site's clocks, with the zone's name, as people read it: 2026-03-01 14:05:10 CET."""
    local = at_site(moment)
    return f"{local:%Y-%m-%d %H:%M:%S} {local.tzname()}"


def clock_time(moment: datetime) -> str:
    """The time of day here, up to the full minute after it; with the date where that is another day."""
    local = (moment + timedelta(seconds=59, microseconds=999_999)).astimezone()
    today = local.date() == now().astimezone().date()
    return f"{local:%H:%M}" if today else f"{local:%Y-%m-%d %H:%M}"
