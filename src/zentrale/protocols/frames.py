"""Ethernet frames as they are put on a wire and read from it: ARP (RFC 826), IPv6 (RFC 8200), IPv4 with UDP, TCP (RFC 9293), ICMP
(RFC 792) and IGMP (RFC 2236).
"""

from __future__ import annotations

import ipaddress
import struct
from dataclasses import dataclass

ARP, IPV4, IPV6 = 0x0806, 0x0800, 0x86DD
BROADCAST = "ff:ff:ff:ff:ff:ff"
ALL_NODES_6 = "33:33:00:00:00:01"  # of ff02::1 (RFC 2464 section 7)
_ICMP, _IGMP, _TCP, _UDP, _NO_NEXT = 1, 2, 6, 17, 59
_SYN, _ECHO, _ECHO_REPLY = 0x02, 8, 0
_FROM_PORT = 40_000
_ARP = struct.Struct("!HHBBH6s4s6s4s")
_ROUTER_ALERT = bytes((0x94, 0x04, 0, 0))  # RFC 2113; IGMP messages carry it


@dataclass(frozen=True)
class Frame:
    """`content` is what follows the ethertype; a tag (IEEE 802.1Q) is taken off."""

    to: str
    sender: str
    ethertype: int
    content: bytes


def parse(data: bytes) -> Frame | None:
    """None for what is too short to be one."""
    if len(data) < 14:
        return None
    to, sender, ethertype = struct.unpack_from("!6s6sH", data)
    content = data[14:]
    if ethertype == 0x8100:
        if len(content) < 4:
            return None
        ethertype, content = struct.unpack_from("!H", content, 2)[0], content[4:]
    return Frame(to.hex(":"), sender.hex(":"), ethertype, content)


def _bytes(mac: str) -> bytes:
    return bytes.fromhex(mac.replace(":", ""))


def ethernet(to: str, sender: str, ethertype: int, content: bytes) -> bytes:
    """Padded to the 60 bytes that are the least on a wire (IEEE 802.3 clause 4.2.3.3, without the check sequence)."""
    return (_bytes(to) + _bytes(sender) + struct.pack("!H", ethertype) + content).ljust(60, b"\0")


def arp_request(sender: str, address: str, wanted: str) -> bytes:
    """Broadcast: who has `wanted`? From 0.0.0.0 it is a probe that enters nothing into others' tables (RFC 5227)."""
    content = _ARP.pack(
        1, IPV4, 6, 4, 1, _bytes(sender), ipaddress.IPv4Address(address).packed, b"\0" * 6, ipaddress.IPv4Address(wanted).packed
    )  # fmt: skip
    return ethernet(BROADCAST, sender, ARP, content)


def arp_reply(frame: Frame) -> tuple[str, str] | None:
    """IPv4 address and MAC address of who answers; None where it is none."""
    if frame.ethertype != ARP or len(frame.content) < _ARP.size:
        return None
    hardware, protocol, _, _, operation, mac, address, _, _ = _ARP.unpack_from(frame.content)
    if (hardware, protocol, operation) != (1, IPV4, 2):
        return None
    return str(ipaddress.IPv4Address(address)), mac.hex(":")


def ipv6(to: str, sender: str, note: bytes) -> bytes:
    """A packet from the sender's link-local address to all nodes, with nothing that anybody answers (no next header)."""
    mac = _bytes(sender)
    source = bytes.fromhex("fe80" + "00" * 6) + bytes((mac[0] ^ 2, *mac[1:3], 0xFF, 0xFE, *mac[3:]))
    target = ipaddress.IPv6Address("ff02::1").packed
    header = struct.pack("!IHBB", 6 << 28, len(note), _NO_NEXT, 1) + source + target
    return ethernet(to, sender, IPV6, header + note)


def checksum(data: bytes) -> int:
    """The internet checksum (RFC 1071)."""
    padded = data + b"\0" * (len(data) % 2)
    total: int = sum(struct.unpack(f"!{len(padded) // 2}H", padded))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def ipv4(
    to: str,
    sender: str,
    source: str,
    target: str,
    protocol: int,
    content: bytes,
    *,
    ttl: int = 64,
    options: bytes = b"",
) -> bytes:
    length = 20 + len(options)
    head = struct.pack(
        "!BBHHHBBH4s4s", 0x40 + length // 4, 0, length + len(content), 0, 0, ttl, protocol, 0,
        ipaddress.IPv4Address(source).packed, ipaddress.IPv4Address(target).packed,
    ) + options  # fmt: skip
    head = head[:10] + struct.pack("!H", checksum(head)) + head[12:]
    return ethernet(to, sender, IPV4, head + content)


def udp(to: str, sender: str, source: tuple[str, int], target: tuple[str, int], content: bytes) -> bytes:
    """Without a checksum, which IPv4 allows (RFC 768)."""
    header = struct.pack("!HHHH", source[1], target[1], 8 + len(content), 0)
    return ipv4(to, sender, source[0], target[0], _UDP, header + content)


def udp_of(frame: Frame) -> tuple[tuple[str, int], tuple[str, int], bytes] | None:
    """Source, target and content of a UDP datagram; None for any other frame."""
    packet = _packet(frame, _UDP)
    if packet is None or len(packet[2]) < 8:
        return None
    source, target, rest = packet
    from_port, to_port, length, _ = struct.unpack_from("!HHHH", rest)
    return (source, from_port), (target, to_port), rest[8 : max(8, length)]


def beginning(to: str, sender: str, source: str, target: tuple[str, int], protocol: str, number: int) -> bytes:
    """The first packet of a conversation: a SYN to the port, a datagram, or an echo request. It carries `number` (32 bits), by
    which it is known again where it arrives.
    """
    if protocol == "udp":
        return udp(to, sender, (source, _FROM_PORT), target, struct.pack("!I", number))
    if protocol == "icmp":
        body = struct.pack("!BBHHHI", _ECHO, 0, 0, number >> 16, number & 0xFFFF, number)
        return ipv4(to, sender, source, target[0], _ICMP, body[:2] + struct.pack("!H", checksum(body)) + body[4:])
    from_port = _FROM_PORT + number % 20_000  # a conversation of its own
    body = struct.pack("!HHIIBBHHH", from_port, target[1], number, 0, 5 << 4, _SYN, 1024, 0, 0)
    pseudo = ipaddress.IPv4Address(source).packed + ipaddress.IPv4Address(target[0]).packed
    check = checksum(pseudo + struct.pack("!HH", _TCP, len(body)) + body)
    return ipv4(to, sender, source, target[0], _TCP, body[:16] + struct.pack("!H", check) + body[18:])


def begun(frame: Frame) -> tuple[str, int] | None:
    """Target address and number of what `beginning` has made; None for any other frame, answers to it among them."""
    data = frame.content
    if frame.ethertype != IPV4 or len(data) < 28 or data[0] != 0x45:
        return None
    target = str(ipaddress.IPv4Address(data[16:20]))
    if data[9] == _TCP and len(data) >= 40 and data[33] == _SYN:
        return target, struct.unpack_from("!I", data, 24)[0]
    if data[9] == _UDP and len(data) >= 32 and data[20:22] == struct.pack("!H", _FROM_PORT):
        return target, struct.unpack_from("!I", data, 28)[0]
    if data[9] == _ICMP and len(data) >= 32 and data[20] == _ECHO:
        return target, struct.unpack_from("!I", data, 28)[0]
    return None


def echo_reply(frame: Frame) -> tuple[str, int] | None:
    """Who answers an echo request of `beginning`, and its number."""
    packet = _packet(frame, _ICMP)
    if packet is None or len(packet[2]) < 12 or packet[2][0] != _ECHO_REPLY:
        return None
    return packet[0], struct.unpack_from("!I", packet[2], 8)[0]


def igmp_query(sender: str, source: str, answer_within_s: float = 1.0) -> bytes:
    """A general query, version 2: who listens to any group?"""
    body = struct.pack("!BBH4s", 0x11, round(10 * answer_within_s), 0, b"\0" * 4)
    body = body[:2] + struct.pack("!H", checksum(body)) + body[4:]
    return ipv4("01:00:5e:00:00:01", sender, source, "224.0.0.1", _IGMP, body, ttl=1, options=_ROUTER_ALERT)


def is_igmp_query(frame: Frame) -> bool:
    packet = _packet(frame, _IGMP)
    return packet is not None and packet[2][:1] == b"\x11"


def _packet(frame: Frame, protocol: int) -> tuple[str, str, bytes] | None:
    """Source, target and content of a whole IPv4 packet of this protocol."""
    data = frame.content
    if frame.ethertype != IPV4 or len(data) < 20 or data[0] >> 4 != 4:
        return None
    length, total = (data[0] & 15) * 4, struct.unpack_from("!H", data, 2)[0]
    if data[9] != protocol or length < 20 or len(data) < length:
        return None
    return str(ipaddress.IPv4Address(data[12:16])), str(ipaddress.IPv4Address(data[16:20])), data[length:total]
