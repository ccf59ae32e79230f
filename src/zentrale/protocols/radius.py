"""RADIUS as a switch asks it at a port (RFC 2865), with the tunnel attributes that say which VLAN (RFC 2868, RFC 3580 clause
3.31).
"""

from __future__ import annotations

import hashlib
import hmac
import struct
from dataclasses import dataclass

PORT = 1812
REQUEST, ACCEPT, REJECT = 1, 2, 3
_USER, _PASSWORD, _CALLING, _PORT_TYPE, _TUNNEL_TYPE, _MEDIUM, _AUTHENTICATOR, _GROUP = 1, 2, 31, 61, 64, 65, 80, 81
_ETHERNET = struct.pack("!I", 15)  # RFC 2865 section 5.41
_VLAN, _IEEE_802 = 13, 6


@dataclass(frozen=True)
class Answer:
    """`vlan` as the server names it; empty where it assigns none."""

    kind: int
    number: int
    vlan: str = ""


def request(number: int, authenticator: bytes, secret: bytes, user: str, password: str, station: str) -> bytes:
    """An Access-Request by PAP. `authenticator`: 16 random bytes; `station` the MAC address that asks, as 00-11-22-33-44-55."""
    attributes = _attribute(_USER, user.encode()) + _attribute(
        _PASSWORD, hidden(password.encode(), authenticator, secret)
    )
    attributes += _attribute(_CALLING, station.encode()) + _attribute(_PORT_TYPE, _ETHERNET)
    length = 20 + len(attributes) + 18
    head = struct.pack("!BBH", REQUEST, number, length) + authenticator
    signed = head + attributes + _attribute(_AUTHENTICATOR, b"\0" * 16)  # RFC 3579 section 3.2
    return head + attributes + _attribute(_AUTHENTICATOR, hmac.digest(secret, signed, "md5"))


def hidden(password: bytes, authenticator: bytes, secret: bytes) -> bytes:
    """RFC 2865 section 5.2: blocks of 16 bytes, each hidden by the one before."""
    padded = password.ljust(max(16, -(-len(password) // 16) * 16), b"\0")
    found, last = b"", authenticator
    for at in range(0, len(padded), 16):
        key = hashlib.md5(secret + last, usedforsecurity=False).digest()
        last = bytes(a ^ b for a, b in zip(padded[at : at + 16], key, strict=True))
        found += last
    return found


def answer(data: bytes, authenticator: bytes, secret: bytes) -> Answer | None:
    """None for what is no answer to this request, or not of who has the secret (RFC 2865 section 3)."""
    if len(data) < 20 or struct.unpack_from("!H", data, 2)[0] != len(data):
        return None
    right = hashlib.md5(data[:4] + authenticator + data[20:] + secret, usedforsecurity=False).digest()
    if not hmac.compare_digest(right, data[4:20]):
        return None
    told = dict(_attributes(data[20:]))
    vlan = (
        _group(told.get(_GROUP, b""))
        if _number(told, _TUNNEL_TYPE) == _VLAN and _number(told, _MEDIUM) == _IEEE_802
        else ""
    )
    return Answer(data[0], data[1], vlan)


def _attribute(kind: int, value: bytes) -> bytes:
    return bytes((kind, 2 + len(value))) + value


def _attributes(data: bytes) -> list[tuple[int, bytes]]:
    found, at = [], 0
    while at + 2 <= len(data) and data[at + 1] >= 2:
        found.append((data[at], data[at + 2 : at + data[at + 1]]))
        at += data[at + 1]
    return found


def _number(told: dict[int, bytes], kind: int) -> int:
    """After the tag (RFC 2868 section 3.1)."""
    return int.from_bytes(told.get(kind, b"")[1:4], "big")


def _group(value: bytes) -> str:
    """Its tag is optional: a first byte of more than 0x1F is a character (RFC 2868 section 3.6)."""
    return value.lstrip(bytes(range(0x20)))[:32].decode("ascii", "replace")
