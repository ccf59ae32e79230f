"""Real packets between the legs of a laboratory, and which of them arrive.

Each kind says who may begin to talk to whom: TCP by a connection that comes about, UDP by a datagram that arrives, ARP, IPv6 and
multicast by frames that are seen at the other end, whoever they are for.
"""

from __future__ import annotations

import contextlib
import errno
import resource
import select
import socket
import struct
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from zentrale.field.lab.namespaces import Namespace
from zentrale.field.lab.stations import Leg
from zentrale.protocols import frames
from zentrale.protocols.frames import Frame

TRY_S = 0.8  # under the first second, after which a kernel would ask again by itself
_AT_ONCE = 1500  # sockets under way: more than that a switch in user space does not carry
_PORT = 5004  # of RTP, by custom (RFC 3551 section 8)
_GROUP = "239.255.99.99"  # of nobody (RFC 2365): whoever gets it, it was flooded
_ANY = 0x0003  # ETH_P_ALL
_BUFFER_BYTES = 8_000_000
_DEVICE = 25  # SO_BINDTODEVICE
_PACKETS_AT_ONCE = 400

Pair = tuple[Leg, Leg]


@dataclass
class Arrived:
    """What came through, by kind: tcp/PORT, udp, arp, ipv6, multicast. `tried` are the pairs that were asked of each kind."""

    pairs: dict[str, set[Pair]] = field(default_factory=dict)
    tried: dict[str, set[Pair]] = field(default_factory=dict)

    def note(self, kind: str, tried: Iterable[Pair], came: Iterable[Pair]) -> None:
        self.tried.setdefault(kind, set()).update(tried)
        self.pairs.setdefault(kind, set()).update(came)


def raise_limits() -> None:
    """As many open sockets as the system allows."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft < hard:
        resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


def _bound_to(leg: Leg, kind: int) -> socket.socket:
    sock = socket.socket(socket.AF_INET, kind)
    sock.setblocking(False)
    sock.setsockopt(socket.SOL_SOCKET, _DEVICE, leg.interface.encode() + b"\0")
    return sock


@contextlib.contextmanager
def answering(legs: Sequence[Leg], spaces: Mapping[str, Namespace], ports: Iterable[int]) -> Iterator[None]:
    """Every leg takes TCP connections at these ports meanwhile."""
    with contextlib.ExitStack() as stack:
        for leg in legs:
            with spaces[leg.station].inside():
                for port in ports:
                    sock = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_STREAM))
                    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                    sock.bind((leg.address, port))
                    sock.listen(4096)
        yield


def tcp(pairs: Sequence[Pair], spaces: Mapping[str, Namespace], port: int, tries: int = 2) -> set[Pair]:
    """The pairs whose connection came about; silent ones are asked again."""
    return {pair for pair, _ in connections([(pair, port) for pair in pairs], spaces, tries)}


Connection = tuple[Pair, int]  # from leg to leg, at this port


def connections(asked: Sequence[Connection], spaces: Mapping[str, Namespace], tries: int = 2) -> set[Connection]:
    """Those that came about; silent ones are asked again."""
    came: set[Connection] = set()
    for _ in range(tries):
        left = [item for item in asked if item not in came]
        for at in range(0, len(left), _AT_ONCE):
            came |= _connect(left[at : at + _AT_ONCE], spaces)
    return came


def _connect(asked: Sequence[Connection], spaces: Mapping[str, Namespace]) -> set[Connection]:
    came: set[Connection] = set()
    waiting: dict[int, tuple[Connection, socket.socket]] = {}
    poll = select.poll()
    by_station: dict[str, list[Connection]] = {}
    for item in asked:
        by_station.setdefault(item[0][0].station, []).append(item)
    try:
        for station, some in by_station.items():
            with spaces[station].inside():
                for item in some:
                    (origin, to), port = item
                    sock = _bound_to(origin, socket.SOCK_STREAM)
                    code = sock.connect_ex((to.address, port))
                    if code in (0, errno.EINPROGRESS):
                        waiting[sock.fileno()] = item, sock
                        poll.register(sock, select.POLLOUT)
                    else:
                        sock.close()
        end = time.monotonic() + TRY_S
        while waiting and (left := end - time.monotonic()) > 0:
            for number, _ in poll.poll(1000 * left):
                item, sock = waiting.pop(number)
                poll.unregister(number)
                if sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) in (0, errno.ECONNREFUSED):
                    came.add(item)  # a refusal came back from there too
                sock.close()
    finally:
        for _, sock in waiting.values():
            sock.close()
    return came


def udp(
    pairs: Sequence[Pair], legs: Sequence[Leg], spaces: Mapping[str, Namespace], port: int, tries: int = 2
) -> set[Pair]:
    """The pairs whose datagram arrived at the address it was sent to."""
    with contextlib.ExitStack() as stack:
        doors: dict[int, tuple[Leg, socket.socket]] = {}
        poll = select.poll()
        for leg in legs:
            with spaces[leg.station].inside():
                sock = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
                sock.setblocking(False)
                sock.bind((leg.address, port))
            doors[sock.fileno()] = leg, sock
            poll.register(sock, select.POLLIN)
        came: set[Pair] = set()
        for _ in range(tries):
            left = [pair for pair in pairs if pair not in came]
            numbered = dict(enumerate(left))
            for at in range(0, len(left), _PACKETS_AT_ONCE):
                _send_datagrams(
                    {n: numbered[n] for n in range(at, min(at + _PACKETS_AT_ONCE, len(left)))}, spaces, port
                )
                came |= _datagrams(doors, poll, numbered, 0.05)
            came |= _datagrams(doors, poll, numbered, 0.3)
        return came


def _send_datagrams(pairs: Mapping[int, Pair], spaces: Mapping[str, Namespace], port: int) -> None:
    by_leg: dict[Leg, list[tuple[int, Leg]]] = {}
    for number, (origin, to) in pairs.items():
        by_leg.setdefault(origin, []).append((number, to))
    for origin, targets in by_leg.items():
        with spaces[origin.station].inside(), _bound_to(origin, socket.SOCK_DGRAM) as sock:
            for number, to in targets:
                with contextlib.suppress(OSError):  # no way there: then nothing arrives
                    sock.sendto(struct.pack("!I", number), (to.address, port))


def _datagrams(
    doors: Mapping[int, tuple[Leg, socket.socket]], poll: select.poll, pairs: Mapping[int, Pair], wait_s: float
) -> set[Pair]:
    came: set[Pair] = set()
    end = time.monotonic() + wait_s
    while (left := end - time.monotonic()) > 0:
        for number, _ in poll.poll(1000 * left):
            leg, sock = doors[number]
            with contextlib.suppress(BlockingIOError):
                while True:
                    data = sock.recv(64)
                    pair = pairs.get(struct.unpack("!I", data)[0]) if len(data) == 4 else None
                    if pair is not None and pair[1] == leg:
                        came.add(pair)
    return came


class Wire:
    """Every leg's end of its cable: what is put onto it as it is, and what is seen there."""

    def __init__(self, legs: Sequence[Leg], spaces: Mapping[str, Namespace]) -> None:
        self.legs = list(legs)
        self._socks: dict[Leg, socket.socket] = {}
        self._poll = select.poll()
        self._by_number: dict[int, Leg] = {}
        for leg in legs:
            with spaces[leg.station].inside():
                sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ANY))
                sock.setblocking(False)
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BUFFER_BYTES)  # as much as the system gives
                sock.bind((leg.interface, _ANY))
            self._socks[leg] = sock
            self._by_number[sock.fileno()] = leg
            self._poll.register(sock, select.POLLIN)

    def __enter__(self) -> Wire:
        return self

    def __exit__(self, *_: object) -> None:
        for sock in self._socks.values():
            sock.close()

    def send(self, leg: Leg, frame: bytes) -> None:
        with contextlib.suppress(BlockingIOError):
            self._socks[leg].send(frame)

    def forget(self) -> None:
        """What was seen so far."""
        for _ in self.seen(0.0):
            pass

    def seen(self, wait_s: float) -> Iterator[tuple[Leg, Frame]]:
        """What arrives within this time, without what the leg itself has sent."""
        end = time.monotonic() + wait_s
        while True:
            ready = self._poll.poll(max(0.0, 1000 * (end - time.monotonic())))
            for number, _ in ready:
                yield from self._read(self._by_number[number])
            if not ready and time.monotonic() >= end:
                return
            if time.monotonic() >= end + wait_s + 1:  # a flood never ends by itself
                return

    def _read(self, leg: Leg) -> Iterator[tuple[Leg, Frame]]:
        for _ in range(256):
            try:
                data, about = self._socks[leg].recvfrom(2048)
            except (BlockingIOError, InterruptedError):
                return
            if about[2] == socket.PACKET_OUTGOING:
                continue
            frame = frames.parse(data)
            if frame is not None:
                yield leg, frame


_KINDS: dict[str, Callable[[Leg], bytes]] = {
    "arp": lambda leg: frames.arp_request(leg.mac, leg.address, leg.address),
    "ipv6": lambda leg: frames.ipv6(frames.ALL_NODES_6, leg.mac, b"zentrale"),
    "multicast": lambda leg: frames.udp(
        "01:00:5e:7f:63:63", leg.mac, (leg.address, _PORT), (_GROUP, _PORT), b"zentrale"
    ),
}
_TYPES = {"arp": frames.ARP, "ipv6": frames.IPV6, "multicast": frames.IPV4}
_TO = {"arp": frames.BROADCAST, "ipv6": frames.ALL_NODES_6, "multicast": "01:00:5e:7f:63:63"}


def frames_to_all(wire: Wire, kind: str, pairs: Sequence[Pair], tries: int = 2) -> set[Pair]:
    """Those of the pairs whose frame was seen at the other end: one frame of each leg, for all others at once."""
    by_mac, wanted = {leg.mac: leg for leg in wire.legs}, set(pairs)
    came: set[Pair] = set()
    for _ in range(tries):
        senders = list(dict.fromkeys(origin for origin, to in pairs if (origin, to) not in came))
        wire.forget()
        for at in range(0, len(senders), 16):
            for leg in senders[at : at + 16]:
                wire.send(leg, _KINDS[kind](leg))
            for leg, frame in wire.seen(0.1):
                origin = by_mac.get(frame.sender)
                if origin is not None and frame.ethertype == _TYPES[kind] and frame.to == _TO[kind]:
                    came.add((origin, leg))
    return came & wanted


def unicast_ipv6(wire: Wire, pairs: Sequence[Pair]) -> set[Pair]:
    """As `frames_to_all`, each frame for one other leg alone."""
    by_mac = {leg.mac: leg for leg in wire.legs}
    came: set[Pair] = set()
    wire.forget()
    for at in range(0, len(pairs), _PACKETS_AT_ONCE):
        for origin, to in pairs[at : at + _PACKETS_AT_ONCE]:
            wire.send(origin, frames.ipv6(to.mac, origin.mac, b"zentrale-one"))
        for leg, frame in wire.seen(0.08):
            origin_leg = by_mac.get(frame.sender)
            if origin_leg is not None and frame.ethertype == frames.IPV6 and frame.to == leg.mac:
                came.add((origin_leg, leg))
    return came & set(pairs)


def who_has(wire: Wire, asker: Leg, addresses: Sequence[str]) -> dict[str, set[str]]:
    """The MAC addresses that answer for each address, asked from one leg: two are two devices on one address."""
    answers: dict[str, set[str]] = {}
    for _ in range(2):
        wire.forget()
        for at in range(0, len(addresses), 64):
            for address in addresses[at : at + 64]:
                wire.send(asker, frames.arp_request(asker.mac, asker.address, address))
            for leg, frame in wire.seen(0.15):
                reply = frames.arp_reply(frame) if leg == asker else None
                if reply is not None:
                    answers.setdefault(reply[0], set()).add(reply[1])
    return answers


def hello(leg: Leg) -> bytes:
    """A frame to all that says no more than where its sender is."""
    return _KINDS["arp"](leg)


def copies_of_one(wire: Wire, leg: Leg) -> int:
    """How often one broadcast is seen by one other leg at most, within a moment."""
    wire.forget()
    wire.send(leg, _KINDS["arp"](leg))
    counts: dict[Leg, int] = {}
    for seen_by, frame in wire.seen(0.15):
        if frame.sender == leg.mac and frame.ethertype == frames.ARP:
            counts[seen_by] = counts.get(seen_by, 0) + 1
    return max(counts.values(), default=0)
