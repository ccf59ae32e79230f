"""The values that plan fields hold, and how they are written: names, addresses, sizes, times of the week.

Every check says what was expected, so that the message of a wrong field needs nothing more.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Set
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field

# Cable by ISO/IEC 11801-1 and TIA-568; empty: unknown.
Category = Literal["", "3", "5", "5e", "6", "6a", "7", "7a", "8"]
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


def host_or_dhcp(value: str) -> str:
    """An IP address, a host name (RFC 1123 clause 2.1), "dhcp", or nothing. Raises ValueError."""
    text = value.strip().lower()
    if text and not re.fullmatch(r"[0-9a-f:]*:[0-9a-f:.]*|(?!-)[a-z0-9-]{1,63}(\.(?!-)[a-z0-9-]{1,63})*", text):
        raise ValueError('expected an address, a host name or "dhcp"')
    return text


def mac_end(value: str) -> str:
    """The last digits of a MAC address, as labels have them: 4 to 10 of them, without signs. Raises ValueError."""
    digits = re.sub(r"[.:\-\s]", "", value.lower())
    if not re.fullmatch(r"[0-9a-f]{4,10}", digits):
        raise ValueError("expected the last 4 to 10 digits of a MAC address, such as 00:12:ab")
    return digits


def empty_is_none(value: object) -> object:
    return None if value == "" else value


def _resolution(value: object) -> object:
    if isinstance(value, str):
        match = _RESOLUTION.fullmatch(value.strip())
        if not match:
            raise ValueError("expected width x height in pixels, such as 1920x1080")
        return (int(match[1]), int(match[2]))
    return value


def _address(value: object) -> ipaddress.IPv4Address:
    if isinstance(value, ipaddress.IPv4Address):
        return value
    try:
        address = ipaddress.ip_address(str(value))
    except ValueError:
        raise ValueError("expected an IPv4 address such as 10.20.0.11") from None
    if isinstance(address, ipaddress.IPv6Address):
        raise ValueError("expected an IPv4 address such as 10.20.0.11; IPv6 addresses cannot be planned yet")
    return address


@dataclass(frozen=True)
class Block:
    """Addresses from `first` to `last`, both included."""

    first: ipaddress.IPv4Address
    last: ipaddress.IPv4Address

    def __contains__(self, address: ipaddress.IPv4Address) -> bool:
        return self.first <= address <= self.last

    def __len__(self) -> int:
        return int(self.last) - int(self.first) + 1

    def __str__(self) -> str:
        return f"{self.first}-{self.last}"


def _block(value: object) -> Block:
    """First and last address with a hyphen, in order. Raises ValueError."""
    if isinstance(value, Block):
        return value
    first, _, last = str(value).replace(" ", "").partition("-")
    for end in (first, last):
        _no_ipv6(end, "IPv4 addresses such as 10.20.20.11-10.20.20.199")
    try:
        block = Block(ipaddress.IPv4Address(first), ipaddress.IPv4Address(last))
        if len(block) > 0:
            return block
    except ValueError:
        pass
    raise ValueError("expected first and last address, such as 10.20.20.11-10.20.20.199")


def _no_ipv6(text: str, expected: str) -> None:
    try:
        ipaddress.IPv6Address(text)
    except ValueError:
        return
    raise ValueError(f"expected {expected}; IPv6 addresses cannot be planned yet")


def _group_address(value: object) -> ipaddress.IPv4Address:
    address = _address(value)
    if not address.is_multicast:
        raise ValueError("expected a multicast group address such as 239.192.20.11")
    return address


def _group_block(value: object) -> ipaddress.IPv4Network:
    block = _subnet(value)
    if not block.is_multicast:
        raise ValueError("expected a block of multicast groups such as 239.192.0.0/16")
    return block


def _subnet(value: object) -> ipaddress.IPv4Network:
    if isinstance(value, ipaddress.IPv4Network):
        return value
    _no_ipv6(str(value).partition("/")[0], "an IPv4 subnet such as 10.20.0.0/24")
    try:
        return ipaddress.IPv4Network(str(value))
    except ValueError as error:
        raise ValueError(f"expected an IPv4 subnet such as 10.20.0.0/24 ({error})") from None


def known_awg(value: int | None) -> int | None:
    if value not in (None, 22, 23, 24, 26):
        raise ValueError("expected 22, 23, 24 or 26 (American wire gauge), or nothing for the standard's worst case")
    return value


def quarter_turn(value: int | None) -> int | None:
    if value not in (None, 0, 90, 180, 270):
        raise ValueError("expected 0, 90, 180 or 270 (degrees clockwise), or nothing to leave it as it is")
    return value


_DAY_MIN = 1440
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


def timetable_entries(minutes: Set[int]) -> tuple[str, ...]:
    """The same minutes as entries of one day each, days in a row that are alike together."""
    days: dict[tuple[int, int], list[int]] = {}
    for start in sorted(m for m in minutes if m % _DAY_MIN == 0 or m - 1 not in minutes):
        day, end = start // _DAY_MIN, start + 1
        while end in minutes and end % _DAY_MIN:
            end += 1
        days.setdefault((start - day * _DAY_MIN, end - day * _DAY_MIN), []).append(day)
    entries = []
    for (start, end), on in sorted(days.items()):
        for first in (d for d in on if d - 1 not in on):
            last = next(d for d in range(first, 8) if d + 1 not in on)
            named = "-".join(WEEKDAYS[d].capitalize() for d in dict.fromkeys((first, last)))
            entries.append(f"{named} {start // 60:02d}:{start % 60:02d}-{end // 60:02d}:{end % 60:02d}")
    return tuple(entries)


def timetable_entry(value: str) -> str:
    timetable_minutes(value)
    return value


PlaceName = Annotated[str, AfterValidator(_place_name)]
Mac = Annotated[str, AfterValidator(normal_mac)]
MacEnd = Annotated[str, AfterValidator(mac_end)]
Address = Annotated[ipaddress.IPv4Address, BeforeValidator(_address)]
AddressText = Annotated[str, AfterValidator(lambda value: str(_address(value)))]  # of a stand-in, for sockets
Subnet = Annotated[ipaddress.IPv4Network, BeforeValidator(_subnet)]
GroupBlock = Annotated[ipaddress.IPv4Network, BeforeValidator(_group_block)]
GroupAddress = Annotated[ipaddress.IPv4Address, BeforeValidator(_group_address)]
AddressRange = Annotated[Block, BeforeValidator(_block)]
Resolution = Annotated[tuple[int, int], BeforeValidator(_resolution)]
Text = Annotated[str, Field(min_length=1)]
