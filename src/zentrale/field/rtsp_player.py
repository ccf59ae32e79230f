"""Playing a stream address over real sockets for some seconds and measuring what arrives."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import secrets
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum

from zentrale.errors import RefusedError, RemoteProtocolError, UnreachableError
from zentrale.protocols import rtcp
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import (
    Described,
    MediaPacket,
    PlayerSession,
    Playing,
    Refused,
    StreamAddress,
    Transport,
)
from zentrale.protocols.stream_meter import StreamMeasurement, StreamMeter

log = logging.getLogger(__name__)
CONNECT_TIMEOUT_S = 5.0
ANSWER_TIMEOUT_S = 5.0
FIRST_PACKET_TIMEOUT_S = 6.0
TEARDOWN_TIMEOUT_S = 1.0
REPORT_INTERVAL_S = 5.0  # RFC 3550 clause 6.2
UDP_BUFFER_BYTES = 4 * 1024 * 1024  # a key frame of an 8 MP camera comes in one burst
_READ_BYTES = 256 * 1024
_UNSUPPORTED_TRANSPORT = 461


class Access(Enum):
    """What a stranger gets."""

    REFUSED = "refused"
    PLAYS = "plays"
    UNCLEAR = "unclear"


@dataclass(frozen=True)
class AccessResult:
    access: Access
    detail: str


async def measure(
    address: StreamAddress, credentials: Credentials | None, duration_s: float, transport: Transport | None = None
) -> StreamMeasurement:
    """Play `address` and measure it for `duration_s` from its first packet on.

    `transport` None tries TCP, then UDP where the server does not do TCP. Raises UnreachableError, RefusedError or
    RemoteProtocolError where it does not play at all; one that stops early is measured as far as it went.
    """
    first = transport or Transport.TCP
    try:
        return await _Player(address, credentials, first).run(duration_s)
    except _UnsupportedTransportError:
        if transport is not None:
            raise
        return await _Player(address, credentials, Transport.UDP).run(duration_s)


async def try_access(address: StreamAddress, credentials: Credentials | None) -> AccessResult:
    """Whether `address` plays with `credentials` (None: without any)."""
    try:
        result = await measure(address, credentials, 0.0)
    except RefusedError as error:
        return AccessResult(Access.REFUSED, str(error))
    except (UnreachableError, RemoteProtocolError) as error:
        return AccessResult(Access.UNCLEAR, str(error))
    return AccessResult(Access.PLAYS, f"{result.codec or 'media'} packets arrived")


class _UnsupportedTransportError(RemoteProtocolError):
    pass


class _Player:
    def __init__(self, address: StreamAddress, credentials: Credentials | None, transport: Transport) -> None:
        self.address = address
        self.credentials = credentials
        self.transport = transport
        self.meter: StreamMeter | None = None
        self.session: PlayerSession | None = None
        self.writer: asyncio.StreamWriter | None = None
        self.udp: _UdpPair | None = None
        self.refused: Refused | None = None
        self.server_ports: tuple[int, int] | None = None
        self.ssrc = secrets.randbits(32)
        self.first_packet = asyncio.Event()
        self.started_s = 0.0

    async def run(self, duration_s: float) -> StreamMeasurement:
        self.started_s = time.monotonic()
        reader: asyncio.StreamReader | None = None
        try:
            async with asyncio.timeout(CONNECT_TIMEOUT_S):
                reader, self.writer = await asyncio.open_connection(self.address.host, self.address.port)
        except TimeoutError:
            raise UnreachableError(f"{self._where}: no answer within {CONNECT_TIMEOUT_S:g} s") from None
        except OSError as error:
            raise UnreachableError(f"{self._where}: {_reason(error)}") from None
        try:
            if self.transport is Transport.UDP:
                self.udp = _UdpPair(self.writer.get_extra_info("sockname")[0], self._on_udp)
            ports = self.udp.ports if self.udp else None
            self.session = PlayerSession(self.address, self.credentials, secrets.token_hex(8), ports)
            self.session.start()
            await self._play(reader, duration_s)
        except OSError as error:
            raise UnreachableError(f"{self._where}: connection lost: {_reason(error)}") from None
        finally:
            await self._close(reader)
        assert self.meter is not None
        return self.meter.result(self.transport.value)

    @property
    def _where(self) -> str:
        return f"{self.address.host}:{self.address.port}"

    async def _play(self, reader: asyncio.StreamReader, duration_s: float) -> None:
        await self._until(reader, lambda: self.session is not None and self.session.playing, ANSWER_TIMEOUT_S)
        if self.udp and self.server_ports:
            self.udp.open_towards(self.address.host, self.server_ports)
        await self._until(reader, self.first_packet.is_set, FIRST_PACKET_TIMEOUT_S)
        end = time.monotonic() + duration_s
        last_report = last_keep_alive = time.monotonic()
        assert self.session is not None and self.meter is not None
        while (now := time.monotonic()) < end:
            if now - last_report >= REPORT_INTERVAL_S:
                self._send_report()
                last_report = now
            if now - last_keep_alive >= self.session.session_timeout_s / 2:
                self.session.keep_alive()
                last_keep_alive = now
            ended = await self._step(reader, min(end - now, 1.0))
            if ended:
                self.meter.ended_early = True
                return

    async def _until(self, reader: asyncio.StreamReader, reached: Callable[[], bool], timeout_s: float) -> None:
        """Work until `reached`. Raises where the other side refuses, closes or stays silent."""
        deadline = time.monotonic() + timeout_s
        while not reached():
            left = deadline - time.monotonic()
            if left <= 0:
                waiting = "its first packet" if self.session and self.session.playing else "an answer"
                raise UnreachableError(f"{self._where}: {waiting} did not come within {timeout_s:g} s")
            if await self._step(reader, left) and not reached():
                raise RemoteProtocolError(f"{self._where}: the server closed the connection")
            if self.refused is not None:
                self._raise_refused(self.refused)

    def _raise_refused(self, refused: Refused) -> None:
        text = f"{refused.method} answered {refused.status} {refused.reason}".strip()
        if refused.status in (401, 403):
            raise RefusedError(f"{self._where}: {text}")
        if refused.status == _UNSUPPORTED_TRANSPORT:
            raise _UnsupportedTransportError(f"{self._where}: {text} ({self.transport.value})")
        raise RemoteProtocolError(f"{self._where}: {text}")

    async def _step(self, reader: asyncio.StreamReader, timeout_s: float) -> bool:
        """Send what waits, take in what comes. Returns true where the other side closed."""
        assert self.session is not None and self.writer is not None
        if out := self.session.data_to_send():
            self.writer.write(out)
        try:
            async with asyncio.timeout(timeout_s if not self.udp else min(timeout_s, 0.2)):
                data = await reader.read(_READ_BYTES)
        except TimeoutError:
            return False
        if not data:
            return True
        arrival_s = time.monotonic()
        for event in self.session.receive(data):
            if isinstance(event, MediaPacket):
                self._on_packet(event.data, event.is_rtcp, arrival_s)
            elif isinstance(event, Described):
                self.meter = StreamMeter(event.media, self.started_s)
            elif isinstance(event, Refused):
                self.refused = event
            elif isinstance(event, Playing):
                self.server_ports = event.server_ports
        if out := self.session.data_to_send():
            self.writer.write(out)
        return False

    def _on_udp(self, data: bytes, is_rtcp: bool) -> None:
        self._on_packet(data, is_rtcp, time.monotonic())

    def _on_packet(self, data: bytes, is_rtcp: bool, arrival_s: float) -> None:
        if self.meter is None:
            return
        try:
            if is_rtcp:
                self.meter.add_rtcp(data)
            else:
                self.meter.add_rtp(data, arrival_s)
                self.first_packet.set()
        except RemoteProtocolError as error:
            self.meter.malformed += 1
            log.debug("%s: %s", self.address.url, error)

    def _send_report(self) -> None:
        assert self.session is not None and self.meter is not None
        report = self.meter.receiver_report(self.ssrc)
        if report is None:
            return
        data = rtcp.serialize_receiver_report(report, "zentrale")
        if self.udp is None:
            self.session.send_rtcp(data)
        elif self.server_ports:
            self.udp.send_rtcp(data, (self.address.host, self.server_ports[1]))

    async def _close(self, reader: asyncio.StreamReader | None) -> None:
        if self.udp is not None:
            self.udp.close()
        if self.writer is None:
            return
        # A farewell is polite; a server that does not hear it out is left.
        with contextlib.suppress(OSError, TimeoutError, RemoteProtocolError):
            if self.session is not None and reader is not None:
                self.session.teardown()
                self.writer.write(self.session.data_to_send())
                async with asyncio.timeout(TEARDOWN_TIMEOUT_S):
                    await self.writer.drain()
        self.writer.close()


def _reason(error: OSError) -> str:
    return os.strerror(error.errno).lower() if error.errno else str(error)


class _UdpPair:
    """An even port for RTP and the next for RTCP (RFC 3550 clause 11), on the address the connection uses."""

    def __init__(self, local_address: str, receive: Callable[[bytes, bool], None]) -> None:
        self._receive = receive
        self._sockets = _bind_pair(local_address)
        self.ports = (self._sockets[0].getsockname()[1], self._sockets[1].getsockname()[1])
        self._loop = asyncio.get_running_loop()
        for index, sock in enumerate(self._sockets):
            self._loop.add_reader(sock.fileno(), self._drain, sock, index == 1)

    def _drain(self, sock: socket.socket, is_rtcp: bool) -> None:
        for _ in range(256):  # then let the others have their turn
            try:
                data = sock.recv(65535)
            except (BlockingIOError, ConnectionRefusedError):
                return
            self._receive(data, is_rtcp)

    def open_towards(self, host: str, server_ports: tuple[int, int]) -> None:
        """Send a harmless datagram each way out, so that a firewall on the path lets the answers in."""
        for sock, port in zip(self._sockets, server_ports, strict=True):
            with contextlib.suppress(OSError):
                sock.sendto(b"\x80\xc9\x00\x01\x00\x00\x00\x00", (host, port))

    def send_rtcp(self, data: bytes, to: tuple[str, int]) -> None:
        with contextlib.suppress(OSError):
            self._sockets[1].sendto(data, to)

    def close(self) -> None:
        for sock in self._sockets:
            self._loop.remove_reader(sock.fileno())
            sock.close()


def _bind_pair(address: str) -> tuple[socket.socket, socket.socket]:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    for _ in range(50):
        first = socket.socket(family, socket.SOCK_DGRAM)
        second = socket.socket(family, socket.SOCK_DGRAM)
        try:
            first.bind((address, 0))
            port = first.getsockname()[1]
            if port % 2 == 0:
                second.bind((address, port + 1))
                for sock in (first, second):
                    sock.setblocking(False)
                first.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, UDP_BUFFER_BYTES)
                return first, second
        except OSError:
            pass
        first.close()
        second.close()
    raise UnreachableError(f"{address}: no pair of free UDP ports")
