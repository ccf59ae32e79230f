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
