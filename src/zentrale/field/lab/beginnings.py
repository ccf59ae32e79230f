"""First packets of conversations, made by hand and seen at the other end: many pairs at once, with no socket for any of them."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zentrale.field.lab.probing import Wire
from zentrale.field.lab.stations import Leg
from zentrale.protocols import frames

_BURST, _PER_S = 40, 6000  # what switches in user space carry with time to spare
_LAST_WAIT_S, _LAST_ROUNDS = 0.25, 20
_ASKED = 8  # times, those that have not answered yet


@dataclass(frozen=True)
class Beginning:
    """From one leg to another: protocol, port (0 for icmp) and the MAC address that it is handed to (the next hop's)."""

    origin: Leg
    to: Leg
    protocol: str
    port: int
    hop: str


def arrived(wire: Wire, asked: Sequence[Beginning]) -> set[Beginning]:
    """Those that were seen at the leg they were for. `wire` has all their legs."""
    base = time.monotonic_ns() >> 12 & 0x3FFF_FFFF  # what comes late from an earlier round is none of these
    came: set[int] = set()
    wire.forget()
    begun = time.monotonic()
    for at in range(0, len(asked), _BURST):
        for number in range(at, min(at + _BURST, len(asked))):
            b = asked[number]
            target = (b.to.address, b.port)
            wire.send(
                b.origin, frames.beginning(b.hop, b.origin.mac, b.origin.address, target, b.protocol, base + number)
            )
        ahead = (at + _BURST) / _PER_S - (time.monotonic() - begun)
        came |= _seen(wire, asked, base, max(0.0, ahead))
    for _ in range(_LAST_ROUNDS):  # until nothing comes any more: a loaded machine takes its time
        late = _seen(wire, asked, base, _LAST_WAIT_S)
        came |= late
        if not late:
            break
    return {asked[number] for number in came}


def _seen(wire: Wire, asked: Sequence[Beginning], base: int, wait_s: float) -> set[int]:
    found = set()
    for leg, frame in wire.seen(wait_s):
        begun = frames.begun(frame)
        number = begun[1] - base if begun is not None else -1
        if begun is None or not 0 <= number < len(asked) or frame.to != leg.mac:
            continue
        if asked[number].to == leg and begun[0] == leg.address:
            found.add(number)
    return found


def answered(wire: Wire, asked: Mapping[tuple[Leg, Leg], str]) -> set[tuple[Leg, Leg]]:
    """The first leg of each pair looks for the address of the second by ARP, and pings it at the MAC address given: the pairs
    that had an answer to either.
    """
    found: set[tuple[Leg, Leg]] = set()
    wire.forget()
    for number, ((leg, other), mac) in enumerate(asked.items()):
        wire.send(leg, frames.arp_request(leg.mac, leg.address, other.address))
        wire.send(leg, frames.beginning(mac, leg.mac, leg.address, (other.address, 0), "icmp", number))
    pairs = {(leg, other.address): (leg, other) for leg, other in asked}
    for leg, frame in wire.seen(_LAST_WAIT_S):
        reply = frames.arp_reply(frame) or frames.echo_reply(frame)
        if reply is not None and (leg, reply[0]) in pairs:
            found.add(pairs[leg, reply[0]])
    return found


def gateways(wire: Wire, asked: Mapping[Leg, str]) -> tuple[dict[Leg, set[str]], set[Leg]]:
    """Each leg asks for its gateway by ARP (RFC 826) and pings it (RFC 792): the MAC addresses that answer, and the legs whose
    ping came back.
    """
    answers: dict[Leg, set[str]] = {}
    for _ in range(_ASKED):
        left = [leg for leg in asked if leg not in answers]
        wire.forget()
        for leg in left:
            wire.send(leg, frames.arp_request(leg.mac, leg.address, asked[leg]))
        for leg, frame in wire.seen(_LAST_WAIT_S if left else 0.0):
            reply = frames.arp_reply(frame)
            if reply is not None and reply[0] == asked.get(leg):
                answers.setdefault(leg, set()).add(reply[1])
    pinged: set[Leg] = set()
    for _ in range(_ASKED):
        left = [leg for leg in answers if leg not in pinged]
        wire.forget()
        for number, leg in enumerate(left):
            mac, target = min(answers[leg]), (asked[leg], 0)
            wire.send(leg, frames.beginning(mac, leg.mac, leg.address, target, "icmp", number))
        for leg, frame in wire.seen(_LAST_WAIT_S if left else 0.0):
            echo = frames.echo_reply(frame)
            if echo is not None and echo[0] == asked.get(leg):
                pinged.add(leg)
    return answers, pinged
