"""LLDP frames (IEEE 802.1AB-2016 clause 8): who is at the other end of this cable, as it says itself."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.errors import RemoteProtocolError

ETHERTYPE = 0x88CC
GROUPS = ("01:80:c2:00:00:0e", "01:80:c2:00:00:03", "01:80:c2:00:00:00")  # clause 7.1, table 7-1
_END, _CHASSIS, _PORT, _TTL, _PORT_TEXT, _NAME, _SYSTEM, _ADDRESS, _ORGANISATION = 0, 1, 2, 3, 4, 5, 6, 8, 127
_802_1 = b"\x00\x80\xc2"  # annex D; subtype 1 is the port's VLAN id
_MOST = 255


@dataclass(frozen=True)
class Heard:
    """What a neighbour says: chassis and port as text, its name, what it calls the port. `vlan`: untagged frames' VLAN at its
    port, 0: not told.
    """

    chassis: str
    port: str
    name: str = ""
    port_text: str = ""
    vlan: int = 0
    address: str = ""


def parse(content: bytes) -> Heard:
    """What follows the ethertype. Raises RemoteProtocolError for what is no LLDP data unit."""
    found: dict[int, bytes] = {}
    vlan = 0
    order = []
    for kind, value in _units(content):
        order.append(kind)
        if kind == _ORGANISATION:
            if value[:4] == _802_1 + b"\x01" and len(value) == 6:
                vlan = int.from_bytes(value[4:], "big")
        else:
            found.setdefault(kind, value)
    if order[:3] != [_CHASSIS, _PORT, _TTL] or len(found[_CHASSIS]) < 2 or len(found[_PORT]) < 2:
        raise RemoteProtocolError("an LLDP frame without chassis, port and time to live in this order")
    return Heard(
        shown_id(found[_CHASSIS][0], found[_CHASSIS][1:], mac=4), shown_id(found[_PORT][0], found[_PORT][1:], mac=3),
        _text(found.get(_NAME, b"")), _text(found.get(_PORT_TEXT, b"")), vlan if vlan < 4095 else 0,
        _address(found.get(_ADDRESS, b"")),
    )  # fmt: skip


def leaves(content: bytes) -> bool:
    """Whether the neighbour says with it that it goes: a time to live of 0."""
    return any(kind == _TTL and value[:2] == b"\0\0" for kind, value in _units(content))


def serialize(heard: Heard, ttl_s: int = 120) -> bytes:
    """As a device sends it: chassis and port as MAC address or as its own words."""
    units = [(_CHASSIS, _id(heard.chassis, mac=4)), (_PORT, _id(heard.port, mac=3)), (_TTL, ttl_s.to_bytes(2, "big"))]
    units += [(kind, text.encode()) for kind, text in ((_PORT_TEXT, heard.port_text), (_NAME, heard.name)) if text]
    if heard.vlan:
        units.append((_ORGANISATION, _802_1 + b"\x01" + heard.vlan.to_bytes(2, "big")))
    return b"".join((kind << 9 | len(v)).to_bytes(2, "big") + v for kind, v in (*units, (_END, b"")))


def _id(text: str, *, mac: int) -> bytes:
    parts = text.split(":")
    if len(parts) == 6 and all(len(p) == 2 for p in parts):
        return bytes((mac, *(int(p, 16) for p in parts)))
    return bytes((7,)) + text.encode()  # locally assigned, for both


def _units(content: bytes) -> Iterator[tuple[int, bytes]]:
    at = 0
    while at + 2 <= len(content):
        head = int.from_bytes(content[at : at + 2], "big")
        kind, size = head >> 9, head & 0x1FF
        if kind == _END:
            return
        value = content[at + 2 : at + 2 + size]
        if len(value) < size:
            raise RemoteProtocolError("an LLDP frame that ends within a value")
        yield kind, value
        at += 2 + size
    if at < len(content):
        raise RemoteProtocolError("an LLDP frame that ends within a value")


def shown_id(subtype: int, value: bytes, *, mac: int) -> str:
    """An id as text: a MAC address, a network address (subtype one above), or words (clauses 8.5.2 and 8.5.3)."""
    if subtype == mac and len(value) == 6:
        return value.hex(":")
    if subtype == mac + 1 and len(value) == 5 and value[0] == 1:
        return str(ipaddress.IPv4Address(value[1:]))
    return _text(value)


def _address(value: bytes) -> str:
    """The management address, where it is IPv4 (clause 8.5.9: length, subtype, address)."""
    return str(ipaddress.IPv4Address(value[2:6])) if len(value) >= 6 and value[:2] == b"\x05\x01" else ""


def _text(value: bytes) -> str:
    return "".join(
        c if c.isprintable() else "\N{REPLACEMENT CHARACTER}"
        for c in value[:_MOST].decode("utf-8", "replace").strip("\0 \r\n")
    )
