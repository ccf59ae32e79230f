"""MAC addresses of devices on the same link, from the system's neighbour table: known before a device lets anybody in."""

from __future__ import annotations

import logging
import re
import subprocess
import sys
from pathlib import Path

from zentrale.site.values import normal_mac

log = logging.getLogger(__name__)
_TABLE = Path("/proc/net/arp")  # Linux: IP address, type, flags, MAC address, mask, device
_COMPLETE = 0x2
_TIMEOUT_S = 5.0
# `arp -an` of macOS: "? (10.0.0.1) at 0:1c:42:0:0:18 on en0 ..."; `arp -a` of Windows: "  10.0.0.1   00-1c-42-00-00-18   dynamic"
_MACOS = re.compile(r"\((\d+\.\d+\.\d+\.\d+)\) at ([0-9a-f]{1,2}(?::[0-9a-f]{1,2}){5})\b", re.IGNORECASE)
_WINDOWS = re.compile(r"^\s+(\d+\.\d+\.\d+\.\d+)\s+([0-9a-f]{2}(?:-[0-9a-f]{2}){5})\s", re.IGNORECASE | re.MULTILINE)


def macs_by_address() -> dict[str, str]:
    """MAC address by IPv4 address, in small letters; empty where the system tells none."""
    try:
        if sys.platform == "linux":
            return parse_linux(_TABLE.read_text(encoding="ascii"))
        asked = ["arp", "-an"] if sys.platform == "darwin" else ["arp", "-a"]
        told = subprocess.run(asked, capture_output=True, timeout=_TIMEOUT_S, check=True).stdout.decode(
            "ascii", "replace"
        )
    except (OSError, subprocess.SubprocessError, UnicodeDecodeError) as error:
        log.info("no neighbour table: %s", error)
        return {}
    return parse_macos(told) if sys.platform == "darwin" else parse_windows(told)


def asked() -> tuple[dict[str, str], set[str]]:
    """As `macs_by_address`; and the addresses at which nobody answered the system (Linux alone tells those)."""
    if sys.platform != "linux":
        return macs_by_address(), set()
    try:
        text = _TABLE.read_text(encoding="ascii")
    except (OSError, UnicodeDecodeError) as error:
        log.info("no neighbour table: %s", error)
        return {}, set()
    found = parse_linux(text)
    return found, {line.split()[0] for line in text.splitlines()[1:] if line.split()} - set(found)


def parse_linux(text: str) -> dict[str, str]:
    rows = [line.split() for line in text.splitlines()[1:]]
    return {r[0]: r[3].lower() for r in rows if len(r) >= 6 and int(r[2], 16) & _COMPLETE}


def parse_macos(text: str) -> dict[str, str]:
    """Each byte may be written with one digit."""
    return {
        address: ":".join(f"{int(byte, 16):02x}" for byte in mac.split(":")) for address, mac in _MACOS.findall(text)
    }


def parse_windows(text: str) -> dict[str, str]:
    return {
        address: normal_mac(mac)
        for address, mac in _WINDOWS.findall(text)
        if not int(mac[:2], 16) & 1  # no group
    }
