"""HTTP requests to devices, on the connection library httpcore: bounded in time and size, never led elsewhere.

A server's certificate is looked at right after the handshake, before a byte of the request is sent.
"""

from __future__ import annotations

import asyncio
import os
import re
import ssl
from collections.abc import AsyncIterable, Iterable
from dataclasses import dataclass
from types import TracebackType
from urllib.parse import urlsplit

import httpcore

from zentrale.errors import CertificateError, LateError, LostError, RemoteProtocolError, UnreachableError
from zentrale.field.connection import device_ssl_context
from zentrale.field.limits import own_limit
from zentrale.field.rules import CheckCertificate
from zentrale.protocols.http_auth import wire_bytes
from zentrale.protocols.xml import MAX_BYTES
from zentrale.words import clean

CONNECT_TIMEOUT_S = 5.0
# A busy camera may take 6 s for an answer. This is for the whole of it, so that one that drips its headers a byte a
# second ends like one that says nothing.
ANSWER_TIMEOUT_S = 12.0
# What one device may send us over all requests of a run: a recorder's longest listing is below 0.5 MB.
MAX_DEVICE_BYTES = 48 * 1024 * 1024


_NO_TLS = frozenset({"WRONG_VERSION_NUMBER", "HTTP_REQUEST", "UNEXPECTED_EOF_WHILE_READING", "RECORD_LAYER_FAILURE"})


@dataclass(frozen=True)
class Answer:
    """Header names are in small letters."""

    status: int
    headers: tuple[tuple[str, str], ...]
    body: bytes

    def all(self, name: str) -> list[str]:
        return [value for key, value in self.headers if key == name]

    def get(self, name: str) -> str:
        return next(iter(self.all(name)), "")


class HttpClient:
    """The connections to one device. Use as an async context manager, or call `close`."""

    def __init__(
        self, check_certificate: CheckCertificate, timeout_s: float = ANSWER_TIMEOUT_S, most_bytes: int = MAX_BYTES
    ) -> None:
        """most_bytes: of one answer"""
        self.timeout_s = timeout_s
        self._most_bytes = most_bytes
        self._bytes_left = MAX_DEVICE_BYTES
        self._pool = httpcore.AsyncConnectionPool(
            ssl_context=device_ssl_context(),
            max_connections=4,
            network_backend=_CheckingBackend(check_certificate),
        )

    async def close(self) -> None:
        await self._pool.aclose()

    async def __aenter__(self) -> HttpClient:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def get(self, url: str) -> Answer:
        """Without credentials. Raises as `post` does."""
        return await self.exchange("GET", url, [], b"")

    async def post(self, url: str, headers: list[tuple[str, str]], body: bytes) -> Answer:
        """Raises UnreachableError, LateError, MachineError, CertificateError or RemoteProtocolError."""
        return await self.exchange("POST", url, headers, body)

    async def exchange(self, method: str, url: str, headers: list[tuple[str, str]], body: bytes) -> Answer:
        """One request. Raises as `post` does."""
        where = place_of(url)
        headers = headers if method == "GET" else [*headers, ("Content-Length", str(len(body)))]
        try:
            async with asyncio.timeout(self.timeout_s):
                return await self._exchange(method, url, headers, body)
        except TimeoutError:
            raise LateError(f"{where}: no whole answer within {self.timeout_s:g} s") from None
        except httpcore.ConnectTimeout:
            raise UnreachableError(f"{where}: no answer within {CONNECT_TIMEOUT_S:g} s") from None
        except (httpcore.TimeoutException, httpcore.PoolTimeout):
            raise LateError(f"{where}: no answer within {self.timeout_s:g} s") from None
        except httpcore.ConnectError as error:
            if isinstance(error.__cause__ or error.__context__, ssl.SSLError) or "SSL" in str(error):
                raise RemoteProtocolError(f"{where}: no TLS: {_reason(error)}") from None
            raise own_limit(where, error) or UnreachableError(f"{where}: {_reason(error)}") from None
        except httpcore.NetworkError as error:
            raise LostError(f"{where}: connection lost: {_reason(error)}") from None
        except httpcore.RemoteProtocolError as error:
            if "disconnected" in str(error):  # the library has no class of its own for it
                raise LostError(f"{where}: it closed the connection without an answer") from None
            raise RemoteProtocolError(f"{where}: not HTTP: {_reason(error)}") from None
        except (httpcore.ProtocolError, httpcore.UnsupportedProtocol) as error:
            raise RemoteProtocolError(f"{where}: not HTTP: {_reason(error)}") from None

    async def _exchange(self, method: str, url: str, headers: list[tuple[str, str]], body: bytes) -> Answer:
        timeout = {
            "connect": CONNECT_TIMEOUT_S,
            "read": self.timeout_s,
            "write": self.timeout_s,
            "pool": self.timeout_s,
        }
        host = re.sub(r"%[^\]]*\]", "]", urlsplit(url).netloc)  # without our adapter's name (RFC 6874 clause 3)
        fields = [(b"Host", host.encode()), *((n.encode(), wire_bytes(v)) for n, v in headers)]
        request = self._pool.stream(method, url, headers=fields, content=body, extensions={"timeout": timeout})
        async with request as response:
            received = tuple((n.decode("latin-1").lower(), v.decode("latin-1")) for n, v in response.headers)
            answer = Answer(response.status, received, b"")
            if answer.get("content-encoding") not in ("", "identity"):
                raise RemoteProtocolError("the answer is compressed, which was not asked for")
            stream = response.stream
            assert isinstance(stream, AsyncIterable)
            content = bytearray()
            async for chunk in stream:
                content += chunk
                self._bytes_left -= len(chunk)
                if len(content) > self._most_bytes:
                    raise RemoteProtocolError(f"the answer has more than {self._most_bytes // 1024 // 1024} MB")
                if self._bytes_left < 0 and self._most_bytes <= MAX_DEVICE_BYTES:
                    raise RemoteProtocolError(
                        f"it has sent more than {MAX_DEVICE_BYTES // 1024 // 1024} MB in this run"
                    )
            return Answer(response.status, received, bytes(content))


def place_of(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.hostname}:{parts.port or (443 if parts.scheme == 'https' else 80)}"


def _reason(error: BaseException) -> str:
    """What the system says, in words that neither a device nor a library chose."""
    chain: list[BaseException] = [error]
    while (inner := chain[-1].__cause__ or chain[-1].__context__) is not None and len(chain) < 10:
        chain.append(inner)
    for cause in reversed(chain):
        if isinstance(cause, ssl.SSLError) and cause.reason:
            return "it does not speak it" if cause.reason in _NO_TLS else cause.reason.replace("_", " ").lower()
        if isinstance(cause, OSError) and cause.errno:
            return os.strerror(cause.errno).lower()
    return clean(str(error), 120) or type(error).__name__


class _CheckingBackend(httpcore.AsyncNetworkBackend):
    """Opens connections, and looks at the certificate of each that is made secure."""

    def __init__(self, check: CheckCertificate) -> None:
        self._inner = httpcore.AnyIOBackend()
        self._check = check

    async def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.AsyncNetworkStream:
        stream = await self._inner.connect_tcp(host, port, timeout, local_address, socket_options)
        return _CheckedStream(stream, host, port, self._check)

    async def sleep(self, seconds: float) -> None:
        await self._inner.sleep(seconds)


class _CheckedStream(httpcore.AsyncNetworkStream):
    def __init__(self, inner: httpcore.AsyncNetworkStream, host: str, port: int, check: CheckCertificate) -> None:
        self._inner = inner
        self._host, self._port, self._check = host, port, check

    async def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return await self._inner.read(max_bytes, timeout)

    async def write(self, buffer: bytes, timeout: float | None = None) -> None:
        await self._inner.write(buffer, timeout)

    async def aclose(self) -> None:
        await self._inner.aclose()

    async def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore.AsyncNetworkStream:
        stream = await self._inner.start_tls(ssl_context, server_hostname, timeout)
        session = stream.get_extra_info("ssl_object")
        certificate = session.getpeercert(binary_form=True) if session is not None else None
        try:
            if certificate is None:
                raise CertificateError(f"{self._host}:{self._port}: it shows no certificate")
            self._check(self._host, self._port, certificate)
        except BaseException:
            await stream.aclose()
            raise
        return stream

    def get_extra_info(self, info: str) -> object:
        return self._inner.get_extra_info(info)
