"""WS-Discovery on the wire: asking by multicast and directly who is there, and hearing who comes and goes."""

from __future__ import annotations

import asyncio
import logging
import random
import socket
import uuid
from collections import Counter
from collections.abc import AsyncIterator, Collection, Iterable, Sequence
from dataclasses import dataclass

from zentrale.errors import RemoteProtocolError, UnreachableError
from zentrale.field.adapters import Adapter
from zentrale.field.ear import Ear, Heard, group_member, multicast_sender, multicast_sender_v6
from zentrale.protocols import ws_discovery
from zentrale.protocols.ws_discovery import Kind, Match, Probe, Version

log = logging.getLogger(__name__)
DEFAULT_WAIT_S = 2.0  # after the last repetition; devices answer within APP_MAX_DELAY (0.5 s) of a probe
MAX_MATCHES = 5000
MAX_MATCHES_OF_ONE = 64  # an encoder of 16 channels answers for each; more from one host is nonsense
_ROUNDS = 3  # asked again where this machine dropped answers
_DIRECTED_WAIT_S = 1.0
_RESOLVE_WAIT_S = 0.8
_VIDEO = ("NetworkVideoTransmitter",)  # ONVIF Core clause 7.3.2.1: the type that a video device has

Answer = tuple[Match, str]  # and the host it came from


@dataclass(frozen=True)
class Probed:
    """What was heard: answers; devices that said Hello meanwhile; and how many answers this machine dropped at last."""

    answers: tuple[Answer, ...]
    hellos: tuple[Answer, ...] = ()
    dropped: int = 0


class Collector:
    """Each endpoint once for each host, out of what answers one of our questions."""

    def __init__(self, message_ids: Collection[str]) -> None:
        self.message_ids = message_ids
        # A cloned endpoint at another host is another device; the same one again is a repetition.
        self.matches: dict[tuple[str, str], Match] = {}
        self.hellos: dict[tuple[str, str], Match] = {}
        self.gone: set[tuple[str, str]] = set()
        self.by_host: Counter[str] = Counter()
        self.foreign = 0
        self.dropped: Counter[str] = Counter()

    def hear(self, heard: Iterable[Heard]) -> None:
        for item in heard:
            self.take(item.data, item.host)

    def take(self, data: bytes, host: str) -> None:
        if self.by_host[host] >= MAX_MATCHES_OF_ONE or len(self.matches) + len(self.hellos) >= MAX_MATCHES:
            self.dropped[host] += 1  # not even parsed: that would cost our time
            return
        try:
            message = ws_discovery.parse_message(data)
        except RemoteProtocolError as error:
            self.by_host[host] += 1
            log.warning("answer to the probe from %s: %s", host, error)
            return
        if message is None:
            return
        for match in message.matches:
            self._one(message.kind, match, host)

    def _one(self, kind: Kind, match: Match, host: str) -> None:
        place = (match.endpoint, host)
        if kind is Kind.MATCHES and match.relates_to not in self.message_ids:
            self.foreign += 1
            self.by_host[host] += 1
        elif not match.endpoint:
            return
        elif kind is Kind.BYE:
            self.by_host[host] += 1
            self.gone.add(place)
        else:
            self.gone.discard(place)
            into = self.hellos if kind is Kind.HELLO else self.matches
            if place not in into or (match.xaddrs and not into[place].xaddrs):
                self.by_host[host] += 1
                into[place] = match

    def tell(self) -> None:
        if self.foreign:
            log.info("%d answers belonged to another probe and were left out", self.foreign)
        for host, number in self.dropped.items():
            log.warning("%s answered the probe too often: %d answers were left out", host, number)


def _questions() -> list[Probe]:
    """Typed as ONVIF asks for; untyped, since some devices answer only that; and in the newer version."""
    kinds: list[tuple[tuple[str, ...], Version]] = [(_VIDEO, Version.V2005), ((), Version.V2005), ((), Version.V1_1)]
    return [Probe(f"urn:uuid:{uuid.uuid4()}", types, version) for types, version in kinds]


async def probe(adapters: Sequence[Adapter], wait_s: float = DEFAULT_WAIT_S) -> Probed:
    """Ask by multicast on all adapters who is there, IPv4 and IPv6 link-local, and hear who comes and goes meanwhile.

    Each message is repeated after 50 to 250 ms, doubled up to 500 ms, as SOAP-over-UDP 1.1 asks for. A device that does not
    tell its address is asked for it (Resolve). Where this machine dropped answers, all are asked again.
    Raises UnreachableError where no adapter can send multicast.
    """
    senders, to = _senders(adapters)
    with Ear([*senders, *_members(adapters)]) as ear:
        questions = _questions()
        collector = Collector({q.message_id for q in questions})
        dropped = 0
        for _ in range(_ROUNDS):
            before = ear.dropped()
            await _ask(questions, to)
            await asyncio.sleep(wait_s)
            collector.hear(ear.take())
            dropped = ear.dropped() - before
            if not dropped:
                break
            log.warning("this machine dropped %d answers to the probe: asking again", dropped)
        await _resolve(collector, ear, to)
    collector.tell()
    for host, number in ear.left_out.items():
        log.warning("%s sent too much: %d datagrams were left out", host, number)
    # Who said Bye and did not come back is not there, whatever it answered before.
    here = [
        {p: m for p, m in kind.items() if p not in collector.gone} for kind in (collector.matches, collector.hellos)
    ]
    answers, hellos = (tuple((match, host) for (_, host), match in kind.items()) for kind in here)
    return Probed(answers, hellos, dropped)


def _senders(adapters: Sequence[Adapter]) -> tuple[list[socket.socket], list[tuple[socket.socket, tuple[str, int]]]]:
    """A socket for each adapter and protocol, and where each sends to."""
    to: list[tuple[socket.socket, tuple[str, int]]] = []
    errors = []
    for adapter in adapters:
        try:
            to.append((multicast_sender(adapter.address), (ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT)))
        except OSError as error:
            errors.append(f"{adapter.address}: cannot send multicast: {error.strerror}")
    for name in dict.fromkeys(a.name for a in adapters if a.link_local):
        try:
            group = f"{ws_discovery.MULTICAST_ADDRESS_V6}%{name}"
            to.append((multicast_sender_v6(name), (group, ws_discovery.PORT)))
        except OSError as error:
            log.info("%s: no IPv6 multicast: %s", name, error)
    if errors and not to:
        raise UnreachableError(errors[0])
    for text in errors:
        log.warning("%s", text)
    return [sock for sock, _ in to], to


def _members(adapters: Sequence[Adapter]) -> list[socket.socket]:
    """Sockets that hear Hello and Bye; none where another program holds the port for itself."""
    socks = []
    for adapter in adapters:
        try:
            socks.append(group_member(ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT, adapter.address))
        except OSError as error:
            log.info("%s: cannot hear Hello and Bye: %s", adapter, error)
    return socks


async def _ask(questions: Sequence[Probe], to: Sequence[tuple[socket.socket, tuple[str, int]]]) -> None:
    delay_s = random.uniform(ws_discovery.UDP_MIN_DELAY_S, ws_discovery.UDP_MAX_DELAY_S)
    for repetition in range(1 + ws_discovery.MULTICAST_REPEAT):
        for question in questions:
            for sock, group in to:
                _send(sock, ws_discovery.serialize_probe(question), group)
        if repetition < ws_discovery.MULTICAST_REPEAT:
            await asyncio.sleep(delay_s)
            delay_s = min(2 * delay_s, ws_discovery.UDP_UPPER_DELAY_S)


def _send(sock: socket.socket, data: bytes, to: tuple[str, int]) -> None:
    try:
        sock.sendto(data, to)
    except OSError as error:
        log.warning("cannot send to %s: %s", to[0], error.strerror)


async def _resolve(collector: Collector, ear: Ear, to: Sequence[tuple[socket.socket, tuple[str, int]]]) -> None:
    """Ask those that told no address where they are: by multicast, as WS-Discovery 2005/04 clause 6 has it, and directly."""
    silent = [(endpoint, host) for (endpoint, host), match in collector.matches.items() if not match.xaddrs]
    if not silent:
        return
    # In both versions, since nothing tells which of them it understands.
    questions = [
        (Probe(f"urn:uuid:{uuid.uuid4()}", (), version, endpoint), host)
        for endpoint, host in silent
        for version in Version
    ]
    collector.message_ids = {question.message_id for question, _ in questions}
    for question, host in questions:
        for sock, (group, port) in to:
            for target in (group, host) if (":" in group) == (":" in host) else (group,):
                _send(sock, ws_discovery.serialize_probe(question), (target, port))
    await asyncio.sleep(_RESOLVE_WAIT_S)
    collector.hear(ear.take())


async def probe_directly(hosts: Sequence[str], wait_s: float = _DIRECTED_WAIT_S) -> list[Answer]:
    """Ask these hosts who they are (WS-Discovery 2005/04 clause 5.2.2), without credentials. Nothing of those that are silent."""
    families = {socket.AF_INET6 if ":" in host else socket.AF_INET for host in hosts}
    socks = {family: socket.socket(family, socket.SOCK_DGRAM) for family in families}
    with Ear(list(socks.values())) as ear:
        questions = _questions()
        collector = Collector({q.message_id for q in questions})
        for number, host in enumerate(hosts):
            sock = socks[socket.AF_INET6 if ":" in host else socket.AF_INET]
            for question in questions:
                try:
                    sock.sendto(ws_discovery.serialize_probe(question), (host, ws_discovery.PORT))
                except OSError as error:
                    log.debug("probe of %s: %s", host, error)
            if number % 32 == 31:
                await asyncio.sleep(0.01)
        end = asyncio.get_running_loop().time() + wait_s
        while len(collector.matches) < len(hosts) and asyncio.get_running_loop().time() < end:
            await asyncio.sleep(0.02)
            collector.hear(ear.take())
    asked = set(hosts)
    return [(match, host) for (_, host), match in collector.matches.items() if host in asked]


@dataclass(frozen=True)
class News:
    """What a watch heard since it was last asked: new answers and Hellos, and who said Bye."""

    came: tuple[Answer, ...]
    left: frozenset[tuple[str, str]]


class Watch:
    """Asking again and again, and hearing Hello and Bye all the time. An async generator of what is new.

    every_s: between two probes; a device that misses two of them is gone
    """

    MISSES = 2

    def __init__(self, adapters: Sequence[Adapter], every_s: float) -> None:
        self.adapters = adapters
        self.every_s = every_s
        self._missed: dict[tuple[str, str], int] = {}

    async def news(self) -> AsyncIterator[News]:
        senders, to = _senders(self.adapters)
        with Ear([*senders, *_members(self.adapters)]) as ear:
            while True:
                questions = _questions()
                collector = Collector({q.message_id for q in questions})
                asking = asyncio.create_task(_ask(questions, to))
                end = asyncio.get_running_loop().time() + self.every_s
                while asyncio.get_running_loop().time() < end:
                    await asyncio.sleep(0.2)
                    collector.hear(ear.take())
                    fresh = self._fresh(collector)
                    if fresh.came or fresh.left:
                        yield fresh
                await asking
                silent = self._silent(collector)
                if silent:
                    yield News((), silent)
                ear.forget()

    def _fresh(self, collector: Collector) -> News:
        here = {**collector.matches, **collector.hellos}
        left = frozenset(place for place in collector.gone if self._missed.pop(place, None) is not None)
        came = [
            (match, place[1])
            for place, match in here.items()
            if place not in self._missed and place not in collector.gone
        ]
        self._missed |= {(match.endpoint, host): 0 for match, host in came}
        return News(tuple(came), left)

    def _silent(self, collector: Collector) -> frozenset[tuple[str, str]]:
        """Those that missed too many probes."""
        for place in self._missed:
            answered = place in collector.matches or place in collector.hellos
            self._missed[place] = 0 if answered else self._missed[place] + 1
        silent = frozenset(place for place, missed in self._missed.items() if missed >= self.MISSES)
        for place in silent:
            del self._missed[place]
        return silent
