"""DHCP messages (RFC 2131, options RFC 2132), as a client sends them and reads the answers."""

from __future__ import annotations

import ipaddress
import struct
from dataclasses import dataclass

CLIENT_PORT, SERVER_PORT = 68, 67
DISCOVER, OFFER, REQUEST, ACK, NAK = 1, 2, 3, 5, 6
_HEADER = struct.Struct("!BBBBIHH4s4s4s4s16s64s128s")
_COOKIE = bytes((99, 130, 83, 99))
_BROADCAST = 0x8000
_MASK, _ROUTER, _NAMES, _TIME, _WANTED, _KIND, _SERVER, _ASK = 1, 3, 6, 42, 50, 53, 54, 55


@dataclass(frozen=True)
class Message:
    """An answer of a server: `kind` offer, acknowledgement or refusal; `address` is what it gives."""

    kind: int
    mac: str
    number: int
    address: str
    server: str
    router: str = ""
    time_server: str = ""
    mask: str = ""
    name_server: str = ""


def ask(kind: int, mac: str, number: int, wanted: str = "", server: str = "") -> bytes:
    """A DISCOVER, or the REQUEST for what `server` has offered. The answer is to come by broadcast."""
    hardware = bytes.fromhex(mac.replace(":", "")).ljust(16, b"\0")
    none = b"\0" * 4
    head = _HEADER.pack(1, 1, 6, 0, number, 0, _BROADCAST, none, none, none, none, hardware, b"", b"")
    options = bytes((_KIND, 1, kind))
    for code, address in ((_WANTED, wanted), (_SERVER, server)):
        if address:
            options += bytes((code, 4)) + ipaddress.IPv4Address(address).packed
    options += bytes((_ASK, 4, _MASK, _ROUTER, _NAMES, _TIME, 255))
    return head + _COOKIE + options


def parse(data: bytes) -> Message | None:
    """None for what is no whole answer of a server."""
    if len(data) < _HEADER.size + 4 or data[0] != 2 or data[_HEADER.size : _HEADER.size + 4] != _COOKIE:
        return None
    fields = _HEADER.unpack_from(data)
    options = _options(data[_HEADER.size + 4 :])
    if len(options.get(_KIND, b"")) != 1:
        return None
    first = {code: str(ipaddress.IPv4Address(v[:4])) if len(v) >= 4 else "" for code, v in options.items()}
    return Message(
        options[_KIND][0], fields[11][:6].hex(":"), fields[4], str(ipaddress.IPv4Address(fields[8])), first.get(_SERVER, ""),
        first.get(_ROUTER, ""), first.get(_TIME, ""), first.get(_MASK, ""), first.get(_NAMES, ""),
    )  # fmt: skip


def _options(data: bytes) -> dict[int, bytes]:
    found: dict[int, bytes] = {}
    at = 0
    while at < len(data) and data[at] != 255:
        if data[at] == 0:
            at += 1
            continue
        if at + 2 > len(data):
            break
        length = data[at + 1]
        found.setdefault(data[at], data[at + 2 : at + 2 + length])
        at += 2 + length
    return found
