"""Who asked whom for which stream, and what was answered; ONVIF requests and their outcome; passwords that anybody could read.

What a password is never leaves this module: it is told that one was there, where, and in which packet.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from urllib.parse import urlsplit

import numpy as np

from zentrale.errors import InputError, RemoteProtocolError
from zentrale.protocols.capture.grouping import groups
from zentrale.protocols.capture.layers import TCP, Layers
from zentrale.protocols.capture.messages import Cutter, Message, Packet, kind_of
from zentrale.protocols.capture.packets import Batch
from zentrale.protocols.capture.rtp_streams import RtpStreams, Told, Way
from zentrale.protocols.capture.tcp_sides import Side
from zentrale.protocols.rtsp import number_pair, parse_transport
from zentrale.protocols.sdp import Media, SessionDescription
from zentrale.protocols.stream_address import StreamAddress
from zentrale.words import masked

MOST_CONNECTIONS = 20_000
MOST_HELD_BYTES = 32 * 1024 * 1024  # of what waits for its other half, in all connections together
MOST_ADDRESSES, MOST_NONCES, _MOST_WORDS = 4096, 4096, 64
_UNKNOWN_PIECES = 64  # of a connection that was joined in the middle, before it is of no kind that is known here
_SYN = 0x02
_MANY = 3  # connections that were given one nonce
_HTTP_BODY = re.compile(rb"<(?:[A-Za-z0-9_-]+:)?Body[^>]*>\s*<(?:[A-Za-z0-9_-]+:)?([A-Za-z0-9_]{1,80})")
_NONCE = re.compile(r'nonce="([^"]*)"', re.IGNORECASE)
_NO_USER = re.compile(r"//[^/@\s]*@")


def without_password(url: str) -> str:
    """The address as it may be shown: neither user nor password before the host, and no password within the path."""
    return masked(_NO_USER.sub("//", url))


@dataclass
class Asked:
    """A stream address that was asked for. `answer`: the status of DESCRIBE, 0 without one; `transports` that SETUP agreed on"""

    url: str
    way: Way
    number: int
    time_s: float
    answer: int = 0
    media: tuple[Media, ...] = ()
    transports: tuple[str, ...] = ()
    plays: bool = False


@dataclass(frozen=True)
class Weak:
    """What anybody on the way could read or use again: a code of the findings, between whom, and in which packet first."""

    kind: str
    way: Way
    number: int
    time_s: float


@dataclass
class Connection:
    """Both directions between two places. `asker` is the way from who asks, once it is known."""

    way: Way  # of the first packet that was seen
    kind: str = ""
    number: int = 0
    time_s: float = 0.0
    sides: list[Side] = field(default_factory=list)
    cutters: list[Cutter] = field(default_factory=lambda: [Cutter(), Cutter()])
    open_requests: list[Message] = field(default_factory=list)
    requests: Counter[str] = field(default_factory=Counter)
    outcomes: Counter[str] = field(default_factory=Counter)
    channels: dict[int, Told] = field(default_factory=dict)
    asked: dict[str, Asked] = field(default_factory=dict)
    nonces: Counter[str] = field(default_factory=Counter)
    tunnelled: bool = False
    unknown: int = 0

    @property
    def held_bytes(self) -> int:
        return sum(side.waiting_bytes for side in self.sides) + sum(cutter.held_bytes for cutter in self.cutters)

    def leave(self) -> None:
        """Nothing more of it is read."""
        self.kind = "other"
        for side in self.sides:
            side.leave()
        self.cutters = [Cutter(), Cutter()]

    def way_of(self, side: int) -> Way:
        w = self.way
        return w if side == 0 else Way(w.target, w.target_port, w.source, w.source_port)


class Conversations:
    """Feed it batches, before the datagrams of the same batch: what is said here tells what they are."""

    def __init__(self, rtp: RtpStreams) -> None:
        self.rtp = rtp
        self.connections: dict[Way, Connection] = {}
        self.weak: dict[tuple[str, int, int], Weak] = {}
        self.left_out = 0
        self._nonces: dict[tuple[int, str], set[int]] = {}
        self._held_bytes = self._asked_for = 0
        self.interleaved: Callable[[Way, Packet], None] = lambda way, packet: None  # who wants each packet besides

    def take(self, batch: Batch, layers: Layers) -> None:
        some = np.flatnonzero((layers.proto == TCP) & (layers.payload >= 0))
        if not len(some):
            return
        flags = batch.data[layers.transport[some] + 13]
        some = some[(layers.size[some] > 0) | (flags & _SYN != 0)]
        columns = [column[some] for column in (layers.source, layers.source_port, layers.target, layers.target_port)]
        pieces: list[tuple[int, Connection, int]] = []
        for group in groups(columns) if len(some) else ():
            way = Way(*(int(column[group[0]]) for column in columns))
            found = self._connection(way, batch, int(some[group[0]]))
            if found is None:
                continue
            connection, side = found
            if connection.kind == "other":
                continue
            pieces += [(int(row), connection, side) for row in some[group]]
        for row, connection, side in sorted(pieces, key=lambda piece: piece[0]):  # both directions as they came
            self._piece(connection, side, batch, layers, row)

    def _connection(self, way: Way, batch: Batch, row: int) -> tuple[Connection, int] | None:
        back = Way(way.target, way.target_port, way.source, way.source_port)
        for own, side in ((way, 0), (back, 1)):
            if own in self.connections:
                return self.connections[own], side
        if len(self.connections) >= MOST_CONNECTIONS:
            self.left_out += 1
            return None
        found = Connection(way, number=batch.number + row, time_s=float(batch.time_s[row]))
        found.sides = [Side(self._taker(found, n), self._holer(found, n)) for n in (0, 1)]
        self.connections[way] = found
        return found, 0

    def _piece(self, connection: Connection, side: int, batch: Batch, layers: Layers, row: int) -> None:
        data, start = batch.data, int(layers.transport[row])
        sequence = int.from_bytes(data[start + 4 : start + 8].tobytes(), "big")
        if data[start + 13] & _SYN:
            connection.sides[side].begin(sequence)
            return
        begin, there = int(layers.payload[row]), int(layers.there[row])
        if connection.kind == "other":
            return
        before = connection.held_bytes
        connection.sides[side].push(
            sequence, data[begin : begin + there].tobytes(), int(layers.size[row]), float(batch.time_s[row]),
            batch.number + row,
        )  # fmt: skip
        self._held_bytes += connection.held_bytes - before
        if self._held_bytes > MOST_HELD_BYTES:
            largest = max(self.connections.values(), key=lambda c: c.held_bytes)
            self._held_bytes -= largest.held_bytes
            self.left_out += 1
            largest.leave()

    def _taker(self, connection: Connection, side: int) -> Callable[[bytes, float, int], None]:
        return lambda data, time_s, number: self._said(connection, side, data, time_s, number)

    def _holer(self, connection: Connection, side: int) -> Callable[[int, int], None]:
        return lambda count, number: connection.cutters[side].hole()

    def _said(self, connection: Connection, side: int, data: bytes, time_s: float, number: int) -> None:
        if not connection.kind:
            self._recognise(connection, data)
        if connection.kind in ("tls", "other"):
            return
        for item in connection.cutters[side].push(data, time_s, number):
            kind = connection.kind or _kind_of_item(item)
            if not kind:
                continue  # text that only looks like a message
            connection.kind = kind
            if isinstance(item, Packet):
                self._packet(connection, side, item)
            else:
                self._message(connection, side, item)

    def _recognise(self, connection: Connection, data: bytes) -> None:
        """By how it begins; where it was joined in the middle, by what is found in it."""
        connection.kind = kind_of(data)
        if connection.kind:
            return
        if not connection.unknown:
            for cutter in connection.cutters:
                cutter.hole()
        connection.unknown += 1
        if connection.unknown > _UNKNOWN_PIECES:
            connection.leave()

    def _packet(self, connection: Connection, side: int, packet: Packet) -> None:
        self.interleaved(connection.way_of(side), packet)
        self.rtp.take_interleaved(connection.way_of(side), packet, connection.channels.get(packet.channel, Told()))

    def _message(self, connection: Connection, side: int, message: Message) -> None:
        way = connection.way_of(side)
        if message.is_answer:
            self._answer(connection, side, message)
            return
        self._readable(connection, way, message)
        connection.open_requests = [*connection.open_requests[-63:], message]
        if message.is_rtsp:
            connection.kind = "rtsp"
            _count(connection.requests, message.method)
            if message.method == "DESCRIBE":
                self._ask(connection, without_password(message.target), way, message)
        else:
            connection.tunnelled |= bool(message.get("x-sessioncookie"))
            operation = _HTTP_BODY.search(message.body)
            _count(connection.requests, operation[1].decode() if operation else message.method)

    def _ask(self, connection: Connection, url: str, way: Way, message: Message) -> None:
        if url in connection.asked:
            return
        if self._asked_for >= MOST_ADDRESSES:
            self.left_out += 1
            return
        self._asked_for += 1
        connection.asked[url] = Asked(url, way, message.number, message.time_s)

    def _answer(self, connection: Connection, side: int, message: Message) -> None:
        wanted = message.get("cseq")
        request = next((r for r in connection.open_requests if not wanted or r.get("cseq") == wanted), None)
        if request is not None:
            connection.open_requests.remove(request)
        for challenge in message.all("www-authenticate"):
            self._challenge(connection, side, message, challenge)
        connection.outcomes[f"{message.status}"] += 1
        if request is None or not message.is_rtsp:
            return
        asked = self._asked(connection, request)
        if request.method == "DESCRIBE" and asked is not None:
            described = tuple(_described(message.body)) if message.status == 200 else asked.media
            connection.asked[asked.url] = replace(asked, answer=message.status, media=described)
        elif request.method == "SETUP" and message.status == 200:
            self._set_up(connection, side, request, message, asked)
        elif request.method == "PLAY" and asked is not None and message.status == 200:
            connection.asked[asked.url] = replace(asked, plays=True)

    def _asked(self, connection: Connection, request: Message) -> Asked | None:
        """Which address a request belongs to: a track's address begins as that of its stream does."""
        url = without_password(request.target)
        known = connection.asked
        return known.get(url) or next(
            (a for u, a in known.items() if url.startswith(u.rstrip("/"))), next(iter(known.values()), None)
        )

    def _set_up(
        self, connection: Connection, side: int, request: Message, answer: Message, asked: Asked | None
    ) -> None:
        """Who will send what to which port, or on which channel."""
        try:
            told = parse_transport(answer.get("transport"))
        except (RemoteProtocolError, ValueError):
            return
        media = _of_track(asked, without_password(request.target)) if asked is not None else None
        way = connection.way_of(1 - side)  # the asker's
        url = asked.url if asked is not None else without_password(request.target)
        if "TCP" in told.get("profile", ""):
            channel = number_pair(told.get("interleaved", ""))
            if channel and media is not None:
                connection.channels[channel[0]] = Told(media, url)
            transport = "TCP, interleaved"
        else:
            ports = number_pair(told.get("client_port", "")) or number_pair(told.get("port", ""))
            if ports and media is not None:
                target = _number(told.get("destination", "")) if "multicast" in answer.get("transport") else way.source
                self.rtp.told[target, ports[0]] = Told(media, url)
            transport = "multicast" if "multicast" in answer.get("transport") else "UDP"
        if asked is not None:
            transports = tuple(dict.fromkeys((*asked.transports, transport)))
            connection.asked[asked.url] = replace(connection.asked[asked.url], transports=transports)

    # What others could read

    def _note(self, kind: str, way: Way, message: Message) -> None:
        self.weak.setdefault((kind, way.source, way.target), Weak(kind, way, message.number, message.time_s))

    def _readable(self, connection: Connection, way: Way, message: Message) -> None:
        with suppress(ValueError):
            if urlsplit(message.target).password or masked(message.target) != message.target:
                self._note("address", way, message)
        authorization = message.get("authorization")
        if authorization[:6].lower() == "basic ":
            self._note("basic", way, message)
        if b"UsernameToken" in message.body and b"PasswordDigest" not in message.body and b"Password" in message.body:
            self._note("token", way, message)
        nonce = _NONCE.search(authorization)
        if nonce and authorization[:7].lower() == "digest " and "qop=" not in authorization.lower():
            self._note("no qop", way, message)

    def _challenge(self, connection: Connection, side: int, message: Message, challenge: str) -> None:
        """One nonce for everybody can be used again by everybody."""
        nonce = _NONCE.search(challenge)
        way = connection.way_of(side)
        if nonce and len(self._nonces) < MOST_NONCES:
            askers = self._nonces.setdefault((way.source, nonce[1]), set())
            askers.add(way.target_port)
            if len(askers) >= _MANY:
                self._note("one nonce", way, message)

    def finish(self) -> None:
        for connection in self.connections.values():
            for side in connection.sides:
                side.finish()


def _kind_of_item(item: Message | Packet) -> str:
    if isinstance(item, Packet) or item.is_rtsp:
        return "rtsp"
    return "http" if item.first.startswith("HTTP/1.") or item.first.rstrip().endswith(("HTTP/1.0", "HTTP/1.1")) else ""


def _count(counted: Counter[str], word: str) -> None:
    """A few words are enough; whoever makes up ever new ones is not listened to."""
    if word in counted or len(counted) < _MOST_WORDS:
        counted[word] += 1


def _described(body: bytes) -> list[Media]:
    try:
        return list(SessionDescription.parse(body).media)
    except (RemoteProtocolError, ValueError):
        return []


def _of_track(asked: Asked, url: str) -> Media | None:
    """The medium whose control address ends as this one does; the only one, where there is no other."""
    ends = [m for m in asked.media if m.control and url.endswith(m.control.rpartition("/")[2])]
    return next(iter(ends), None) or (asked.media[0] if len(asked.media) == 1 else None)


def _number(address: str) -> int:
    parts = address.split(".")
    if len(parts) != 4 or not all(p.isdigit() and int(p) < 256 for p in parts):
        return -1
    return int.from_bytes(bytes(int(p) for p in parts), "big")


def stream_address(url: str) -> StreamAddress | None:
    try:
        return StreamAddress.parse(url)
    except InputError:
        return None
