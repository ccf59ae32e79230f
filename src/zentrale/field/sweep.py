"""Trying every address of a range for open RTSP and ONVIF ports: finds what does not answer probes."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import Callable, Iterable, Sequence

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
            try:
                async with asyncio.timeout(CONNECT_TIMEOUT_S):
                    local = (source, 0) if source else None
                    _, writer = await asyncio.open_connection(address, port, local_addr=local)
            except (OSError, TimeoutError):
                return False
            finally:
                done += 1
                if done % 50 == 0:
                    progress(done)
            writer.close()
            return True

    pairs = [(address, port) for address in addresses for port in ports]
    answers = await asyncio.gather(*(try_port(*pair) for pair in pairs))
    found: dict[str, list[int]] = {}
    for (address, port), is_open in zip(pairs, answers, strict=True):
        if is_open:
            found.setdefault(address, []).append(port)
    return found
