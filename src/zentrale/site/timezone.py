"""Time-zone names as people write them, and as devices want them.

ONVIF devices take a POSIX TZ string (IEEE Std 1003.1 section 8.3; ONVIF Core, SetSystemDateAndTime). The string
stands in the footer of every version-2 TZif file (RFC 8536 section 3.3), so no table of our own is needed.
"""

from __future__ import annotations

import re
from importlib import resources

_IANA_NAME = re.compile(r"[A-Za-z0-9_+\-]+(/[A-Za-z0-9_+\-]+)*")


def posix_timezone(name: str) -> str:
    """The POSIX TZ string of an IANA zone: Europe/London gives GMT0BST,M3.5.0/1,M10.5.0.

    Raises ValueError for a name that is not in the database.
    """
    unknown = ValueError(f"found {name!r}; expected an IANA time zone such as Europe/London")
    if not _IANA_NAME.fullmatch(name):
        raise unknown
    file = resources.files("tzdata") / "zoneinfo"
    for part in name.split("/"):
        file = file / part
    try:
        content = file.read_bytes()
    except (FileNotFoundError, IsADirectoryError, NotADirectoryError, KeyError):
        raise unknown from None
    footer = content.rstrip(b"\n").rpartition(b"\n")[2]
    if not content.startswith(b"TZif") or not footer:
        raise unknown
    return footer.decode("ascii")


_NAME = r"(?:[A-Za-z]{3,}|<[A-Za-z0-9+\-]+>)"
_OFFSET = r"[+\-]?\d{1,3}(?::\d{1,2}(?::\d{1,2})?)?"
_POSIX = re.compile(
    rf"(?P<std>{_NAME})(?P<offset>{_OFFSET})(?:(?P<dst>{_NAME})(?P<dst_offset>{_OFFSET})?"
    rf"(?:,(?P<start>[JM]?[\d.]+)(?:/(?P<start_at>{_OFFSET}))?,(?P<end>[JM]?[\d.]+)(?:/(?P<end_at>{_OFFSET}))?)?)?"
)


def same_timezone(a: str, b: str) -> bool:
    """Whether two POSIX TZ strings mean the same time all year. Devices write GMT0BST,M3.5.0/1,M10.5.0 as
    GMT+0BST-1,M3.5.0/01:00:00,M10.5.0/02:00:00, and change the names of zones, which nothing depends on.
    """
    return a == b or (_rules(a) is not None and _rules(a) == _rules(b))


def _rules(text: str) -> tuple[object, ...] | None:
    """Offsets and changes in seconds with the defaults of IEEE Std 1003.1 section 8.3 filled in; None: no TZ string."""
    found = _POSIX.fullmatch(text.strip())
    if found is None:
        return None
    offset = _seconds(found["offset"])
    if not found["dst"]:
        return (offset,)
    summer = _seconds(found["dst_offset"]) if found["dst_offset"] else offset - 3600
    changes = [(found[day], _seconds(found[at] or "2")) for day, at in (("start", "start_at"), ("end", "end_at"))]
    return (offset, summer, *changes)


def _seconds(text: str) -> int:
    hours, minutes, seconds = (int(part) for part in [*text.lstrip("+-").split(":"), "0", "0"][:3])
    size = 3600 * hours + 60 * minutes + seconds
    return -size if text.startswith("-") else size
