"""Which device is which: a device has identities of its own, whatever its address and its name in the plan: MAC
addresses, serial number, endpoint.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.site.values import normal_mac

# Serial numbers that makers leave in when they forget to write one.
_NO_SERIAL = re.compile(r"0*|x*|n/?a|none|null|unknown|default|(.)\1*|0?123456(7(8(90?)?)?)?", re.IGNORECASE)
_SHORTEST_SERIAL = 3


@dataclass(frozen=True)
class Identity:
    """What a device says of itself that stays with it. Each may be unknown.

    macs:     of all its interfaces, so that a recorder with two legs is one device
    serial:   maker, model and serial number together, since makers number alike
    endpoint: of WS-Discovery; some makers ship one and the same in all devices, some make a new one at each start
    """

    macs: frozenset[str] = frozenset()
    serial: str = ""
    endpoint: str = ""

    @classmethod
    def of(
        cls, macs: Iterable[str] = (), maker: str = "", model: str = "", serial: str = "", endpoint: str = ""
    ) -> Identity:
        """From what a device tells; what identifies nothing (all zeros, a group address, no number) is left out."""
        return cls(frozenset(m for m in map(_own_mac, macs) if m), _own_serial(maker, model, serial), endpoint.strip())

    def __bool__(self) -> bool:
        return bool(self.macs or self.serial or self.endpoint)

    def same_device(self, other: Identity) -> bool | None:
        """Whether both are one device; None where that cannot be told. By trust: MAC address, serial number, endpoint.

        MAC addresses and serial numbers that contradict each other are two devices: somebody cloned the address.
        """
        if self.macs and other.macs:
            cloned = bool(self.serial and other.serial and self.serial != other.serial)
            return bool(self.macs & other.macs) and not cloned
        if self.serial and other.serial:
            return self.serial == other.serial
        if self.endpoint and self.endpoint == other.endpoint:
            return True
        return None

    def joined(self, other: Identity) -> Identity:
        """What is known when both are one device."""
        return Identity(self.macs | other.macs, self.serial or other.serial, self.endpoint or other.endpoint)


def _own_mac(text: str) -> str:
    """The MAC address in its usual form; empty where it is none, or names no single device (IEEE 802 clause 8)."""
    try:
        mac = normal_mac(text)
    except ValueError:
        return ""
    first = int(mac[:2], 16)
    return "" if first & 1 or mac == "00:00:00:00:00:00" else mac


def _own_serial(maker: str, model: str, serial: str) -> str:
    serial = serial.strip()
    if len(serial) < _SHORTEST_SERIAL or _NO_SERIAL.fullmatch(serial):
        return ""
    return "/".join(part.strip().lower() for part in (maker, model, serial))
