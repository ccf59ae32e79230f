"""SSDP on the wire: the search, and the descriptions it leads to."""

from __future__ import annotations

import asyncio
import logging
import socket
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from zentrale.errors import RemoteProtocolError, ZentraleError
from zentrale.field.adapters import Adapter
from zentrale.field.ear import Ear, multicast_sender
from zentrale.field.http import HttpClient
from zentrale.field.rules import any_certificate
from zentrale.protocols import ssdp
from zentrale.protocols.addresses import pin
from zentrale.protocols.ssdp import Description, Told

log = logging.getLogger(__name__)
_REPEATED, _BETWEEN_S = 3, 0.2  # UPnP Device Architecture 1.1 clause 1.3.2: more than once, since UDP loses
_FETCH_TIMEOUT_S = 4.0
_MAX_DEVICES, _AT_ONCE = 1024, 32
_MAX_OF_ONE = 4  # descriptions of one host: more root devices than that have none


@dataclass(frozen=True)
class Seen:
    """One device by its answer, and by its description where that could be fetched. `port` is that of its web server."""

    host: str
    told: Told
    port: int
    description: Description | None


async def search(adapters: Sequence[Adapter], wait_s: float) -> list[Seen]:
    """Who answers a search for root devices on these adapters, each once for each host."""
    socks = []
    for adapter in adapters:
        try:
            socks.append(multicast_sender(adapter.address))
        except OSError as error:
            log.warning("%s: cannot send multicast: %s", adapter, error.strerror)
    if not socks:
        return []
    with Ear(socks) as ear:
        for _ in range(_REPEATED):
            for sock in socks:
                _send(sock)
            await asyncio.sleep(_BETWEEN_S)
        await asyncio.sleep(max(wait_s, ssdp.MAX_WAIT_S))
        answers: dict[tuple[str, str], Told] = {}
        for item in ear.take():
            told = ssdp.parse(item.data)
            if told is None or told.leaving or (item.host, told.uuid) in answers or len(answers) >= _MAX_DEVICES:
                continue
            if sum(host == item.host for host, _ in answers) < _MAX_OF_ONE:
                answers[item.host, told.uuid] = told
    gate = asyncio.Semaphore(_AT_ONCE)

    async def one(host: str, told: Told) -> Seen:
        async with gate:
            return await _described(host, told)

    return list(await asyncio.gather(*(one(host, told) for (host, _), told in answers.items())))


def _send(sock: socket.socket) -> None:
    try:
        sock.sendto(ssdp.serialize_search(), (ssdp.MULTICAST_ADDRESS, ssdp.PORT))
    except OSError as error:
        log.warning("cannot send to %s: %s", ssdp.MULTICAST_ADDRESS, error.strerror)


async def _described(host: str, told: Told) -> Seen:
    """The description is fetched from the host that answered only, without credentials, whatever host it names."""
    try:
        url = pin(told.location, host, ("http", "https")).url
    except RemoteProtocolError as error:
        log.info("%s: %s", host, error)
        return Seen(host, told, 0, None)
    parts = urlsplit(url)
    port = parts.port or (443 if parts.scheme == "https" else 80)
    try:
        async with HttpClient(any_certificate, _FETCH_TIMEOUT_S) as client:
            answer = await client.get(url)
            description = ssdp.parse_description(answer.body) if answer.status == 200 else None
    except ZentraleError as error:
        log.info("%s: description: %s", host, error.what)
        return Seen(host, told, port, None)
    return Seen(host, told, port, description)
