"""The values that plan fields hold, and how they are written: names, addresses, sizes, times of the week.

Every check says what was expected, so that the message of a wrong field needs nothing more.
"""

from __future__ import annotations

import ipaddress
import re
from typing import Annotated

from pydantic import AfterValidator, BeforeValidator, Field

_PLACE_NAME = re.compile(r"[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?")
_MAC = re.compile(r"([0-9a-f]{2}:){5}[0-9a-f]{2}")
_RESOLUTION = re.compile(r"(\d{2,5})\s*[x×]\s*(\d{2,5})")


def _place_name(value: str) -> str:
    if not _PLACE_NAME.fullmatch(value):
        raise ValueError("expected a name of small letters, digits and hyphens, at most 63, such as upper-gate-north")
    return value


def normal_mac(value: str) -> str:
    """A MAC address in the form aa:bb:cc:dd:ee:ff, from any of the usual spellings. Raises ValueError."""
    digits = re.sub(r"[^0-9a-f]", "", value.lower())
    mac = ":".join(digits[i : i + 2] for i in range(0, len(digits), 2))
    if not _MAC.fullmatch(mac) or len(re.sub(r"[0-9a-f:.\-\s]", "", value.lower())):
        raise ValueError("expected a MAC address such as 02:5a:10:00:00:11")
    return mac


def empty_is_none(value: object) -> object:
    return None if value == "" else value


def _resolution(value: object) -> object:
    if isinstance(value, str):
        match = _RESOLUTION.fullmatch(value.strip())
        if not match:
            raise ValueError("expected width x height in pixels, such as 1920x1080")
        return (int(match[1]), int(match[2]))
    return value


def _address(value: str) -> str:
    try:
        return str(ipaddress.IPv4Address(value))
    except ValueError:
        raise ValueError("expected an IPv4 address such as 10.20.0.11") from None


def address_range(value: str) -> str:
    """First and last address with a hyphen, in order. Raises ValueError."""
    first, _, last = value.replace(" ", "").partition("-")
    try:
        if ipaddress.IPv4Address(first) <= ipaddress.IPv4Address(last):
            return f"{first}-{last}"
    except ValueError:
        pass
    raise ValueError("expected first and last address, such as 10.20.20.11-10.20.20.199")


def _group_address(value: str) -> str:
    address = _address(value)
    if not ipaddress.IPv4Address(address).is_multicast:
        raise ValueError("expected a multicast group address such as 239.192.20.11")
    return address


def _group_block(value: str) -> str:
    block = _subnet(value)
    if not ipaddress.IPv4Network(block).is_multicast:
        raise ValueError("expected a block of multicast groups such as 239.192.0.0/16")
    return block


def _subnet(value: str) -> str:
    try:
        return str(ipaddress.IPv4Network(value))
    except ValueError as error:
        raise ValueError(f"expected an IPv4 subnet such as 10.20.0.0/24 ({error})") from None


def known_awg(value: int | None) -> int | None:
    if value not in (None, 22, 23, 24, 26):
        raise ValueError("expected 22, 23, 24 or 26 (American wire gauge), or nothing for the standard's worst case")
    return value


WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_TIMETABLE = re.compile(r"(\w{3})(?:-(\w{3}))? (\d\d):(\d\d)-(\d\d):(\d\d)")


def timetable_minutes(entry: str) -> set[int]:
    """The minutes of the week, from Monday 00:00, that an entry such as "Mon-Fri 07:00-19:00" covers.

    An end at or before its start lies on the next day. Raises ValueError.
    """
    match = _TIMETABLE.fullmatch(entry.strip())
    days = [d.lower() for d in (match[1], match[2] or match[1])] if match else []
    if match is None or any(d not in WEEKDAYS for d in days):
        raise ValueError('expected days and times such as "Mon-Fri 07:00-19:00" or "Sun 00:00-24:00"')
    times = [60 * int(match[h]) + int(match[h + 1]) for h in (3, 5)]
    if max(times) > 1440 or int(match[4]) > 59 or int(match[6]) > 59:
        raise ValueError("expected times from 00:00 to 24:00")
    first, last = (WEEKDAYS.index(d) for d in days)
    start, end = times[0], times[1] if times[1] > times[0] else times[1] + 1440
    covered = range(first, last + 1 if last >= first else last + 8)
    return {(1440 * day + minute) % (7 * 1440) for day in covered for minute in range(start, end)}


def timetable_entry(value: str) -> str:
    timetable_minutes(value)
    return value


PlaceName = Annotated[str, AfterValidator(_place_name)]
Mac = Annotated[str, AfterValidator(normal_mac)]
Address = Annotated[str, AfterValidator(_address)]
Subnet = Annotated[str, AfterValidator(_subnet)]
GroupBlock = Annotated[str, AfterValidator(_group_block)]
GroupAddress = Annotated[str, AfterValidator(_group_address)]
AddressRange = Annotated[str, AfterValidator(address_range)]
Resolution = Annotated[tuple[int, int], BeforeValidator(_resolution)]
Text = Annotated[str, Field(min_length=1)]
