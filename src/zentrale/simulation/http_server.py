"""A small HTTP/1.1 server for stand-in devices, on h11. One handler answers all requests of a device."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

import h11

log = logging.getLogger(__name__)
MAX_BODY_BYTES = 1024 * 1024
IDLE_TIMEOUT_S = 30


@dataclass
class HttpRequest:
    method: str
    target: str
    headers: dict[str, str]
    body: bytes


@dataclass
class HttpResponse:
    status: int
    body: bytes = b""
    content_type: str = "application/soap+xml; charset=utf-8"
    headers: list[tuple[str, str]] = field(default_factory=list)


Handler = Callable[[HttpRequest], Awaitable[HttpResponse]]


async def serve(handler: Handler, address: str, port: int) -> asyncio.Server:
    """Start serving; the caller closes the server."""

    async def connected(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await _converse(handler, reader, writer)
        except (ConnectionError, TimeoutError, h11.RemoteProtocolError) as error:
            log.debug("%s:%s: connection ended: %s", address, port, error)
        finally:
            writer.close()

    return await asyncio.start_server(connected, address, port)


async def _converse(handler: Handler, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    connection = h11.Connection(h11.SERVER, max_incomplete_event_size=16 * 1024)
    while True:
        request, body = None, bytearray()
        while True:
            event = connection.next_event()
            if event is h11.NEED_DATA:
                async with asyncio.timeout(IDLE_TIMEOUT_S):
                    connection.receive_data(await reader.read(65536))
            elif isinstance(event, h11.Request):
                request = event
            elif isinstance(event, h11.Data):
                body += event.data
                if len(body) > MAX_BODY_BYTES:
                    return
            elif isinstance(event, h11.EndOfMessage):
                break
            else:
                return
        assert request is not None
        headers = {name.decode(): value.decode("latin-1") for name, value in request.headers}
        response = await handler(HttpRequest(request.method.decode(), request.target.decode(), headers, bytes(body)))
        fields = [
            ("Content-Type", response.content_type),
            ("Content-Length", str(len(response.body))),
            *response.headers,
        ]
        head = h11.Response(status_code=response.status, headers=fields)
        for event_out in (head, h11.Data(data=response.body), h11.EndOfMessage()):
            writer.write(connection.send(event_out) or b"")
        await writer.drain()
        if connection.our_state is h11.MUST_CLOSE:
            return
        connection.start_next_cycle()
