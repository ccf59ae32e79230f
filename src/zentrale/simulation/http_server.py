"""A small HTTP/1.1 server for stand-in devices, on h11. One handler answers all requests of a device."""

from __future__ import annotations

import asyncio
import logging
import ssl
import tempfile
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import h11
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from zentrale.protocols.http_auth import wire_bytes
from zentrale.simulation.tap import Tap

log = logging.getLogger(__name__)
MAX_BODY_BYTES = 64 * 1024 * 1024  # a firmware file
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


async def serve(
    handler: Handler,
    address: str,
    port: int,
    *,
    chunked: bool = False,
    tls: ssl.SSLContext | None = None,
    tap: Tap | None = None,
) -> asyncio.Server:
    """Start serving; the caller closes the server."""

    async def connected(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if tap is not None and tls is None:
            reader, writer = tap.beside(reader, writer)
        try:
            await _converse(handler, reader, writer, chunked=chunked)
        except (ConnectionError, TimeoutError, h11.RemoteProtocolError, ssl.SSLError) as error:
            log.debug("%s:%s: connection ended: %s", address, port, error)
        finally:
            writer.close()

    return await asyncio.start_server(connected, address, port, ssl=tls)


def certificate_for(address: str) -> ssl.SSLContext:
    """A server's context with a certificate that it signed itself, as devices come with."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, address)])
    start = datetime(2000, 1, 1, tzinfo=UTC)
    made = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(start).not_valid_after(start + timedelta(days=36500))
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory() as folder:  # the standard library loads a key from a file only
        file = Path(folder) / "device.pem"
        pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        file.write_bytes(made.public_bytes(Encoding.PEM) + pem)
        context.load_cert_chain(file)
    return context


async def _converse(
    handler: Handler, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, *, chunked: bool
) -> None:
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
        length = ("Transfer-Encoding", "chunked") if chunked else ("Content-Length", str(len(response.body)))
        named = [("Content-Type", response.content_type), length, *response.headers]
        fields = [(name.encode(), wire_bytes(value)) for name, value in named]
        head = h11.Response(status_code=response.status, headers=fields)
        half = len(response.body) // 2 if chunked else len(response.body)
        parts = [h11.Data(data=part) for part in (response.body[:half], response.body[half:]) if part]
        for event_out in (head, *parts, h11.EndOfMessage()):
            writer.write(connection.send(event_out) or b"")
        await writer.drain()
        if connection.our_state is h11.MUST_CLOSE:
            return
        connection.start_next_cycle()
