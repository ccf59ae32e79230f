"""Quantities as people read them. The one place that turns numbers with units into text."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta


def bitrate(bitrate_bps: float) -> str:
    """Bits per second in the decimal units of the trade: 4.1 Mbit/s."""
    for limit, divisor, unit in ((1e9, 1e9, "Gbit/s"), (1e6, 1e6, "Mbit/s"), (1e3, 1e3, "kbit/s")):
        if abs(bitrate_bps) >= limit:
            value = bitrate_bps / divisor
            return f"{value:.0f} {unit}" if value >= 100 else f"{value:.1f} {unit}"
    return f"{bitrate_bps:.0f} bit/s"


def power(power_w: float) -> str:
    return f"{power_w:.1f} W"


def resolution(width_px: int, height_px: int) -> str:
    return f"{width_px}x{height_px}"


def seconds(duration_s: float) -> str:
    """A duration as a person says it: 250 ms, 2.0 s, 3 min 20 s, 2 h 05 min, 4 days."""
    size = abs(duration_s)
    if size < 1:
        return f"{duration_s * 1000:.0f} ms"
    if size < 120:
        return f"{duration_s:.1f} s"
    if size < 7200:
        seconds_left = int(size % 60)
        return f"{int(duration_s // 60)} min" + (f" {seconds_left:02d} s" if seconds_left else "")
    if size < 172800:
        return f"{int(duration_s // 3600)} h {int(size % 3600 // 60):02d} min"
    return f"{duration_s / 86400:.1f} days"


def size(size_bytes: float) -> str:
    for limit, unit in ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB")):
        if abs(size_bytes) >= limit:
            return f"{size_bytes / limit:.1f} {unit}"
    return f"{size_bytes:.0f} B"


def share(part: float, whole: float) -> str:
    return f"{100 * part / whole:.0f} %" if whole else "-"


def count(number: int, singular: str, plural: str = "") -> str:
    """A number with its noun: 1 camera, 8 cameras."""
    return f"{number} {singular if number == 1 else plural or singular + 's'}"


def now() -> datetime:
    """The wall clock, always with its offset. The one place that asks for it."""
    return datetime.now(UTC)


def timestamp(moment: datetime) -> str:
    """ISO 8601 with offset, to the second."""
    return moment.astimezone().isoformat(timespec="seconds")


def clock_time(moment: datetime) -> str:
    """The time of day here, up to the full minute after it; with the date where that is another day."""
    local = (moment + timedelta(seconds=59, microseconds=999_999)).astimezone()
    today = local.date() == now().astimezone().date()
    return f"{local:%H:%M}" if today else f"{local:%Y-%m-%d %H:%M}"
