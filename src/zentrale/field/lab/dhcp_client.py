"""Asking for an address as a device does that has none, from any leg and with any MAC address."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zentrale.field.lab.probing import Wire
from zentrale.field.lab.stations import Leg
from zentrale.protocols import dhcp, frames
from zentrale.protocols.dhcp import Message

_WAIT_S = 0.6
_TRIES = 3


@dataclass(frozen=True)
class Offer:
    """`from_mac` is the server's, on the wire."""

    message: Message
    from_mac: str


@dataclass(frozen=True)
class Client:
    """Who asks, by which leg; `wanted` is the address that it would like to have (RFC 2132 section 9.1), empty for any."""

    leg: Leg
    mac: str
    wanted: str = ""


@dataclass
class Asked:
    """One client: what it was offered by whom, and whether the first offer was acknowledged."""

    leg: Leg
    mac: str
    offers: list[Offer]
    given: str = ""


def ask_all(wire: Wire, clients: Sequence[Client]) -> list[Asked]:
    """All at once. Silent ones ask again, since a server answers one after the other."""
    asked = [Asked(client.leg, client.mac, []) for client in clients]
    wire.forget()
    for _ in range(_TRIES):
        left = [(number, a) for number, a in enumerate(asked) if not a.offers]
        if not left:
            break
        _exchange(wire, asked, [(a, dhcp.ask(dhcp.DISCOVER, a.mac, n + 1, clients[n].wanted)) for n, a in left])
    for _ in range(_TRIES):
        left = [(number, a) for number, a in enumerate(asked) if a.offers and not a.given]
        if not left:
            break
        requests = []
        for number, a in left:
            offer = a.offers[0].message
            requests.append((a, dhcp.ask(dhcp.REQUEST, a.mac, number + 1, offer.address, offer.server)))
        _exchange(wire, asked, requests)
    return asked


def _exchange(wire: Wire, asked: Sequence[Asked], messages: Sequence[tuple[Asked, bytes]]) -> None:
    for at in range(0, len(messages), 16):
        for a, content in messages[at : at + 16]:
            source, target = ("0.0.0.0", dhcp.CLIENT_PORT), ("255.255.255.255", dhcp.SERVER_PORT)
            wire.send(a.leg, frames.udp(frames.BROADCAST, a.mac, source, target, content))
        for leg, frame in wire.seen(_WAIT_S if at + 16 >= len(messages) else 0.1):
            packet = frames.udp_of(frame)
            message = dhcp.parse(packet[2]) if packet and packet[1][1] == dhcp.CLIENT_PORT else None
            if message is None or not 1 <= message.number <= len(asked):
                continue
            a = asked[message.number - 1]
            if leg != a.leg or message.mac != a.mac:
                continue
            if message.kind == dhcp.OFFER and all(o.message.server != message.server for o in a.offers):
                a.offers.append(Offer(message, frame.sender))
            elif message.kind == dhcp.ACK:
                a.given = message.address
