"""Names that the operating systems of switches take: interfaces have 15 characters at most (Linux, IFNAMSIZ)."""

from __future__ import annotations

import hashlib

_LONGEST = 15
INTERNAL_PORT = 40_000  # OpenFlow port of a VLAN's own interface: this and its VLAN
PAGE, PAGE_PORT = "mgmt", 39_999  # the interface at which a switch's own page answers, and its OpenFlow port


def short(name: str) -> str:
    """The name itself where it fits, else its beginning and a digest of the whole."""
    if len(name) <= _LONGEST:
        return name
    return f"{name[:10]}-{hashlib.sha256(name.encode()).hexdigest()[:4]}"


def port(number: int) -> str:
    return f"p{number}"


def vlan(number: int) -> str:
    return f"vlan{number}"


def leg(index: int) -> str:
    """A device's network connection, counted from 0."""
    return f"eth{index}"


def far_end(interface: str) -> str:
    """The switch's end of a cable whose other end is this interface."""
    return f"{interface}-s"
