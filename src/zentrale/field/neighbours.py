"""MAC addresses of devices on the same link, from the system's neighbour table: known before a device lets anybody in."""

from __future__ import annotations

from pathlib import Path

_TABLE = Path("/proc/net/arp")  # Linux: IP address, type, flags, MAC address, mask, device
_COMPLETE = 0x2


def macs_by_address() -> dict[str, str]:
    """MAC address by IPv4 address, in small letters; empty where the system has no such table."""
    try:
        lines = _TABLE.read_text(encoding="ascii").splitlines()[1:]
    except OSError:
        return {}
    rows = [line.split() for line in lines]
    return {r[0]: r[3].lower() for r in rows if len(r) >= 6 and int(r[2], 16) & _COMPLETE}
