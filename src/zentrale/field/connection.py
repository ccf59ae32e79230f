"""Opening a TCP connection, and TLS over it, to a device: a plain socket that the intake reads at its pace."""

from __future__ import annotations

import asyncio
import os
import socket
import ssl

from zentrale.errors import GoneError, RemoteProtocolError
from zentrale.field.intake import Connection
from zentrale.field.limits import own_limit
from zentrale.words import clean

CONNECT_TIMEOUT_S = 5.0


class Wire:
    """An open connection. `certificate` is what a TLS server showed, in DER; empty without TLS."""

    def __init__(self, sock: socket.socket, tls: _Tls | None) -> None:
        self.sock = sock
        self.tls = tls
        self.stream = Connection(sock, tls.decode if tls else None)

    @property
    def certificate(self) -> bytes:
        return (self.tls.object.getpeercert(binary_form=True) or b"") if self.tls else b""

    @property
    def local_address(self) -> str:
        return str(self.sock.getsockname()[0])

    def send(self, data: bytes) -> None:
        self.stream.send(self.tls.encode(data) if self.tls else data)

    def close(self) -> None:
        self.sock.close()


async def connect(host: str, port: int, context: ssl.SSLContext | None) -> Wire:
    """Raises GoneError where none comes about, MachineError where that is this machine's own doing, and RemoteProtocolError
    where the server speaks no TLS.
    """
    where = f"{host}:{port}"
    try:
        async with asyncio.timeout(CONNECT_TIMEOUT_S):
            sock = await _open(host, port)
            try:
                tls = await _Tls.handshake(sock, context, host) if context else None
            except BaseException:
                sock.close()
                raise
    except TimeoutError:
        raise GoneError(f"{where}: no answer within {CONNECT_TIMEOUT_S:g} s") from None
    except ssl.SSLError as error:
        raise RemoteProtocolError(f"{where}: no TLS: {clean(str(error.reason), 80)}") from None
    except OSError as error:
        raise own_limit(where, error) or GoneError(f"{where}: {reason(error)}") from None
    return Wire(sock, tls)


async def _open(host: str, port: int) -> socket.socket:
    """The first of the host's addresses that answers. Raises OSError."""
    loop = asyncio.get_running_loop()
    failed: OSError = OSError("no address")
    for family, kind, protocol, _, address in await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM):
        sock = socket.socket(family, kind, protocol)
        try:
            sock.setblocking(False)
            await loop.sock_connect(sock, address)
        except OSError as error:
            sock.close()
            failed = error
        except BaseException:
            sock.close()
            raise
        else:
            return sock
    raise failed


class _Tls:
    """TLS without a socket: bytes in, bytes out."""

    def __init__(self, context: ssl.SSLContext, host: str) -> None:
        self._incoming, self._outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        self.object = context.wrap_bio(self._incoming, self._outgoing, server_hostname=host)

    @classmethod
    async def handshake(cls, sock: socket.socket, context: ssl.SSLContext, host: str) -> _Tls:
        loop, tls = asyncio.get_running_loop(), cls(context, host)
        while True:
            try:
                tls.object.do_handshake()
                done = True
            except ssl.SSLWantReadError:
                done = False
            if out := tls._outgoing.read():
                await loop.sock_sendall(sock, out)
            if done:
                return tls
            data = await loop.sock_recv(sock, 65536)
            if not data:
                raise ConnectionResetError("closed while TLS was begun")
            tls._incoming.write(data)

    def encode(self, data: bytes) -> bytes:
        self.object.write(data)
        return self._outgoing.read()

    def decode(self, data: bytes) -> bytes:
        """Raises OSError (ssl.SSLError) on what is no TLS."""
        self._incoming.write(data) if data else self._incoming.write_eof()
        plain = bytearray()
        while True:
            try:
                piece = self.object.read(65536)
            except (ssl.SSLWantReadError, ssl.SSLZeroReturnError, ssl.SSLEOFError):
                return bytes(plain)
            if not piece:
                return bytes(plain)
            plain += piece


def device_ssl_context() -> ssl.SSLContext:
    """For devices: certificates of their own making, and protocol versions of their year. What a certificate is worth is
    decided by its fingerprint, not by who signed it.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.set_ciphers("DEFAULT:@SECLEVEL=0")
    return context


def reason(error: OSError) -> str:
    return os.strerror(error.errno).lower() if error.errno else str(error)
