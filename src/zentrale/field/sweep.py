"""Trying every address of a range for open RTSP and ONVIF ports: finds what does not answer probes; and asking whether
what is open speaks RTSP.
"""

from __future__ import annotations

import asyncio
import ipaddress
import logging
import socket
from collections.abc import Callable, Iterable, Sequence

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.addresses import bracketed
from zentrale.protocols.rtsp import Headers, Reader, Request, Response

log = logging.getLogger(__name__)
GREETING_TIMEOUT_S = 12.0  # a busy camera may take 6 s for an answer

CONNECT_TIMEOUT_S = 0.7  # a device on the same network answers within milliseconds; a busy one within this
AT_ONCE = 200
MAX_HOSTS = 4096


def hosts(networks: Iterable[ipaddress.IPv4Network]) -> list[str]:
    """All host addresses, each once, at most MAX_HOSTS. Raises ValueError for more."""
    found: dict[str, None] = {}
    for network in networks:
        if network.num_addresses - 2 > MAX_HOSTS:
            raise ValueError(f"{network} has {network.num_addresses:,} addresses; a sweep takes at most {MAX_HOSTS:,}")
        found |= dict.fromkeys(str(host) for host in network.hosts())
    if len(found) > MAX_HOSTS:
        raise ValueError(f"{len(found):,} addresses; a sweep takes at most {MAX_HOSTS:,}")
    return list(found)


async def sweep(
    addresses: Sequence[str], ports: Sequence[int], source: str | None, progress: Callable[[int], None]
) -> dict[str, list[int]]:
    """The open TCP ports of every address that has any. `source` is the adapter's address to connect from."""
    gate = asyncio.Semaphore(AT_ONCE)
    done = 0

    async def try_port(address: str, port: int) -> bool:
        nonlocal done
        async with gate:
            is_open = await _is_open(address, port, source)
        done += 1
        if done % 50 == 0:
            progress(done)
        return is_open

    pairs = [(address, port) for address in addresses for port in ports]
    answers = await asyncio.gather(*(try_port(*pair) for pair in pairs))
    found: dict[str, list[int]] = {}
    for (address, port), is_open in zip(pairs, answers, strict=True):
        if is_open:
            found.setdefault(address, []).append(port)
    return found


async def _is_open(address: str, port: int, source: str | None) -> bool:
    """Whether a connection comes about in time: by the kernel's word, since this program may itself come late to hear of it."""
    with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM) as sock:
        sock.setblocking(False)
        try:
            if source:
                sock.bind((source, 0))
            async with asyncio.timeout(CONNECT_TIMEOUT_S):
                await asyncio.get_running_loop().sock_connect(sock, (address, port))
        except TimeoutError:
            try:
                sock.getpeername()
            except OSError:
                return False
        except OSError:
            return False
        return True


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
