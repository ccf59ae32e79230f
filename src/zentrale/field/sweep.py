"""Trying every address of a range for open RTSP and ONVIF ports: finds what does not answer probes; and asking whether
what is open speaks RTSP.
"""

from __future__ import annotations

import asyncio
import errno
import ipaddress
import itertools
import logging
import re
import selectors
import socket
import time
from collections import deque
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from zentrale.errors import RemoteProtocolError
from zentrale.field.limits import open_files
from zentrale.protocols.addresses import bracketed
from zentrale.protocols.rtsp import Headers, Reader, Request, Response

log = logging.getLogger(__name__)
GREETING_TIMEOUT_S = 12.0  # a busy camera may take 6 s for an answer

CONNECT_TIMEOUT_S = 0.7  # a device on the same network answers within milliseconds; a busy one within this
AGAIN_TIMEOUT_S = 3.3  # for a host that is there: the system repeats a lost SYN after 1 s and 3 s (RFC 6298 clause 2)
AT_ONCE = 1024
_KEPT_FILES = 200  # descriptors that the rest of the program may want
MAX_HOSTS = 4096
_SPAN = re.compile(r"(\d+\.\d+\.\d+\.)(\d+)\s*-\s*(?:(\d+\.\d+\.\d+\.\d+)|(\d+))")


def networks_of(text: str) -> list[ipaddress.IPv4Network]:
    """A range as people write it: 10.40.0.0/22, 10.40.0.7, 10.40.0.20-90, 10.40.0.20-10.40.1.90. Raises ValueError."""
    span = _SPAN.fullmatch(text.strip())
    if span is None:
        return [ipaddress.IPv4Network(text.strip(), strict=False)]
    first = ipaddress.IPv4Address(span[1] + span[2])
    last = ipaddress.IPv4Address(span[3] or span[1] + span[4])
    if last < first:
        raise ValueError(f"{text}: ends before it begins")
    return list(ipaddress.summarize_address_range(first, last))


def hosts(networks: Iterable[ipaddress.IPv4Network]) -> list[str]:
    """All host addresses, each once, at most MAX_HOSTS. Raises ValueError for more."""
    found: dict[str, None] = {}
    for network in networks:
        if network.num_addresses - 2 > MAX_HOSTS:
            raise ValueError(f"{network} has {network.num_addresses:,} addresses; a sweep takes at most {MAX_HOSTS:,}")
        # A small one is a part of a range as people write it: its ends are hosts too.
        found |= dict.fromkeys(map(str, network.hosts() if network.prefixlen <= 24 else network))
    if len(found) > MAX_HOSTS:
        raise ValueError(f"{len(found):,} addresses; a sweep takes at most {MAX_HOSTS:,}")
    return list(found)


@dataclass
class Swept:
    """`open` ports of each host that has any; `refused` are hosts that said no at a port: they are there."""

    open: dict[str, list[int]] = field(default_factory=dict)
    refused: set[str] = field(default_factory=set)


async def sweep(
    addresses: Sequence[str],
    ports: Sequence[int],
    source: Callable[[str], str | None],
    progress: Callable[[int], None] = lambda done: None,
    alive: Collection[str] = (),
) -> Swept:
    """Which TCP ports are open. `source` says from which address to connect to a host; `alive` hosts are known to be there.

    Runs in a thread, so that whatever listens meanwhile is not kept from it. Hosts that are there are given more time.
    """
    swept = Swept()
    pairs = [(address, port) for address in addresses for port in ports]
    late = await asyncio.to_thread(_try_all, pairs, source, CONNECT_TIMEOUT_S, swept, progress)
    there = {*alive, *swept.open, *swept.refused}
    again = [pair for pair in late if pair[0] in there]
    await asyncio.to_thread(_try_all, again, source, AGAIN_TIMEOUT_S, swept, lambda done: None)
    for found in swept.open.values():
        found.sort(key=list(ports).index)
    return swept


def _try_all(
    pairs: Iterable[tuple[str, int]],
    source: Callable[[str], str | None],
    timeout_s: float,
    swept: Swept,
    progress: Callable[[int], None],
) -> list[tuple[str, int]]:
    """Try all, so many at once; returns those that did not answer in time."""
    waiting: Iterator[tuple[str, int]] = iter(pairs)
    under_way: deque[tuple[float, socket.socket, tuple[str, int]]] = deque()  # by the time at which each is given up
    pending: dict[socket.socket, tuple[str, int]] = {}
    late: list[tuple[str, int]] = []
    most, done = max(16, open_files(AT_ONCE + _KEPT_FILES) - _KEPT_FILES), 0
    with selectors.DefaultSelector() as selector:
        try:
            while True:
                for pair in itertools.islice(waiting, most - len(pending)):
                    sock = _begin(pair, source, swept)
                    if sock is not None:
                        pending[sock] = pair
                        under_way.append((time.monotonic() + timeout_s, sock, pair))
                        selector.register(sock, selectors.EVENT_WRITE)
                    done += 1
                if not pending:
                    return late
                progress(done)
                for key, _ in selector.select(max(0.0, min(under_way[0][0] - time.monotonic(), 0.1))):
                    assert isinstance(key.fileobj, socket.socket)
                    _end(key.fileobj, pending.pop(key.fileobj), swept, selector)
                now = time.monotonic()
                while under_way and (under_way[0][1] not in pending or under_way[0][0] <= now):
                    _, sock, pair = under_way.popleft()
                    if pending.pop(sock, None) is None:
                        continue
                    # By the system's word, since this program may itself come late to hear of it.
                    if not _end(sock, pair, swept, selector):
                        late.append(pair)
        finally:
            for sock in pending:
                sock.close()


def _begin(pair: tuple[str, int], source: Callable[[str], str | None], swept: Swept) -> socket.socket | None:
    """A connection under way; None where it was decided at once."""
    sock = socket.socket(socket.AF_INET6 if ":" in pair[0] else socket.AF_INET, socket.SOCK_STREAM)
    sock.setblocking(False)
    try:
        own = source(pair[0])
        if own:
            sock.bind((own, 0))
        told = sock.connect_ex(pair)
    except OSError as error:
        told = error.errno or errno.EINVAL
    if told in (errno.EINPROGRESS, errno.EWOULDBLOCK, errno.EALREADY):
        return sock
    sock.close()
    _note(pair, told, swept)
    return None


def _end(sock: socket.socket, pair: tuple[str, int], swept: Swept, selector: selectors.BaseSelector) -> bool:
    """Take the outcome and close. False where there is none yet."""
    told = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
    if told == 0:
        try:
            sock.getpeername()
        except OSError:
            told = errno.EINPROGRESS
    selector.unregister(sock)
    sock.close()
    _note(pair, told, swept)
    return told != errno.EINPROGRESS


def _note(pair: tuple[str, int], told: int, swept: Swept) -> None:
    host, port = pair
    if told == 0:
        swept.open.setdefault(host, []).append(port)
    elif told == errno.ECONNREFUSED:
        swept.refused.add(host)


async def speaks_rtsp(host: str, port: int) -> bool:
    """Whether something at this port answers OPTIONS as RTSP does."""
    try:
        async with asyncio.timeout(GREETING_TIMEOUT_S):
            reader, writer = await asyncio.open_connection(host, port)
            try:
                options = Request("OPTIONS", f"rtsp://{bracketed(host)}:{port}/", Headers([("CSeq", "1")]))
                writer.write(options.serialize())
                messages = Reader()
                while data := await reader.read(65536):
                    if any(isinstance(event, Response) for event in messages.receive(data)):
                        return True
            finally:
                writer.close()
    except (OSError, TimeoutError, RemoteProtocolError) as error:
        log.debug("%s:%d: no RTSP: %s", host, port, error)
    return False
