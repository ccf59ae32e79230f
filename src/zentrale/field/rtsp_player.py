"""Playing a stream address over real sockets for some seconds and measuring what arrives."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import secrets
import ssl
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime
from enum import Enum

from zentrale.errors import (
    DeviceError,
    LateError,
    LockedError,
    NotAskedError,
    RefusedError,
    RemoteProtocolError,
    UnreachableError,
)
from zentrale.field.http import device_ssl_context
from zentrale.field.lateness import Lateness
from zentrale.field.rules import Rules, Try
from zentrale.field.udp import UdpPair
from zentrale.protocols import rtcp
from zentrale.protocols.doors import Door, Outcome, Purpose, Target, tells_of_a_lock, wait_told
from zentrale.protocols.http_auth import Answering, Credentials
from zentrale.protocols.rtsp_client import (
    Challenged,
    Described,
    MediaPacket,
    PlayerSession,
    Playing,
    Redirected,
    Refused,
    StreamAddress,
    Transport,
)
from zentrale.protocols.stream_meter import StreamMeasurement, StreamMeter
from zentrale.words import clean

log = logging.getLogger(__name__)
CONNECT_TIMEOUT_S = 5.0
ANSWER_TIMEOUT_S = 12.0  # a busy camera may take 6 s
FIRST_PACKET_TIMEOUT_S = 6.0
TEARDOWN_TIMEOUT_S = 1.0
REPORT_INTERVAL_S = 5.0  # RFC 3550 clause 6.2
MAX_REDIRECTS = 3
REPEATS = 3  # where the server fails by its own account (5xx)
PAUSE_S = 1.0
# More than any camera sends: four times a fast-Ethernet port. Beyond it one device takes the time of the others.
MAX_BYTES_PER_S, MAX_PACKETS_PER_S = 50_000_000, 40_000
_READ_BYTES = 256 * 1024
_UNSUPPORTED_TRANSPORT = 461


class Access(Enum):
    """What a stranger gets."""

    REFUSED = "refused"
    PLAYS = "plays"
    UNCLEAR = "unclear"
    NOT_ASKED = "not asked"


@dataclass(frozen=True)
class AccessResult:
    """`again` is when a door that was not asked can be."""

    access: Access
    detail: str
    again: datetime | None = None


@dataclass(frozen=True)
class Visit:
    """How a stream is asked for: with whose credentials, under which rules, and how long one that is gone is waited for."""

    credentials: Credentials | None = None
    rules: Rules = field(default_factory=Rules)
    endpoint: str = ""
    purpose: Purpose = Purpose.ENTER
    transport: Transport | None = None
    patience_s: float = 0.0


async def measure(address: StreamAddress, visit: Visit, duration_s: float) -> StreamMeasurement:
    """Play `address` and measure it for `duration_s` from its first packet on.

    A transport of None tries TCP, then UDP where the server does not do TCP. Raises UnreachableError, RefusedError,
    RemoteProtocolError or another DeviceError where it does not play at all; one that stops early is measured as far as
    it went.
    """
    transport = visit.transport or Transport.TCP
    end = time.monotonic() + visit.patience_s
    redirects = failures = 0
    while True:
        try:
            return await _Player(address, visit, transport).run(duration_s)
        except _UnsupportedTransportError:
            if visit.transport is not None or transport is Transport.UDP:
                raise
            transport = Transport.UDP
        except _RedirectedError as error:
            redirects += 1
            if redirects > MAX_REDIRECTS:
                raise RemoteProtocolError(f"{address.host}: it sends us round and round") from None
            address = StreamAddress.told(error.location, address.host)
        except _ServerTroubleError:
            failures += 1
            if failures >= REPEATS:
                raise
            await asyncio.sleep(PAUSE_S)
        except GoneError:
            if time.monotonic() + PAUSE_S > end:
                raise
            await asyncio.sleep(PAUSE_S)


async def try_access(address: StreamAddress, visit: Visit) -> AccessResult:
    """Whether `address` plays for such a visit."""
    try:
        result = await measure(address, visit, 0.0)
    except NotAskedError as error:
        return AccessResult(Access.NOT_ASKED, str(error), error.until)
    except LockedError as error:
        return AccessResult(Access.NOT_ASKED, str(error), error.until)
    except RefusedError as error:
        return AccessResult(Access.REFUSED, str(error))
    except DeviceError as error:
        return AccessResult(Access.UNCLEAR, str(error))
    return AccessResult(Access.PLAYS, f"{result.codec or 'media'} packets arrived")


class GoneError(UnreachableError):
    """No connection came about: it restarts, perhaps, and is back soon."""


class _ServerTroubleError(RemoteProtocolError):
    pass


class _RedirectedError(RemoteProtocolError):
    def __init__(self, location: str) -> None:
        super().__init__("it says that the stream is elsewhere")
        self.location = location


class _UnsupportedTransportError(RemoteProtocolError):
    pass


class _Player:
    def __init__(self, address: StreamAddress, visit: Visit, transport: Transport) -> None:
        self.address = address
        self.visit = visit
        self.transport = transport
        self.meter: StreamMeter | None = None
        self.measured_until_s: float | None = None
        self.lateness = Lateness()
        self.session: PlayerSession | None = None
        self.writer: asyncio.StreamWriter | None = None
        self.udp: UdpPair | None = None
        self.refused: Refused | None = None
        self.challenged: Challenged | None = None
        self.attempt: Try | None = None
        self.server_ports: tuple[int, int] | None = None
        self.ssrc = secrets.randbits(32)
        self.first_packet = asyncio.Event()
        self.started_s = 0.0
        self.received_bytes = self.received_packets = 0
        self.excess = False
        self.measured_for_s = 0.0

    async def run(self, duration_s: float) -> StreamMeasurement:
        self.started_s = time.monotonic()
        self.measured_for_s = duration_s + FIRST_PACKET_TIMEOUT_S
        reader: asyncio.StreamReader | None = None
        try:
            reader = await self._connect()
            if self.transport is Transport.UDP:
                assert self.writer is not None
                self.udp = UdpPair(self.writer.get_extra_info("sockname")[0], self._on_udp)
            self.session = PlayerSession(self.address, self.udp.ports if self.udp else None)
            self.session.start()
            async with Lateness() as self.lateness:
                await self._play(reader, duration_s)
        except OSError as error:
            raise UnreachableError(f"{self._where}: connection lost: {_reason(error)}") from None
        finally:
            if self.attempt is not None:
                self.attempt.settle(Outcome.UNCLEAR)
            await self._close(reader)
        assert self.meter is not None
        # A server that ended the stream is told of as that; else silence up to the end counts as a gap.
        until_s = None if self.meter.ended_early else self.measured_until_s
        result = self.meter.result(self.transport.value, self._named_hosts(), until_s=until_s)
        return replace(result, own_lateness_s=self.lateness.worst_s)

    def _named_hosts(self) -> tuple[str, ...]:
        named = set(self.session.named_hosts) if self.session else set()
        return tuple(sorted(named | ({self.address.named} if self.address.named else set())))

    async def _connect(self) -> asyncio.StreamReader:
        host, port = self.address.host, self.address.port
        context = device_ssl_context() if self.address.secure else None
        try:
            async with asyncio.timeout(CONNECT_TIMEOUT_S):
                reader, self.writer = await asyncio.open_connection(host, port, ssl=context, limit=_READ_BYTES)
        except TimeoutError:
            raise GoneError(f"{self._where}: no answer within {CONNECT_TIMEOUT_S:g} s") from None
        except ssl.SSLError as error:
            raise RemoteProtocolError(f"{self._where}: no TLS: {clean(str(error.reason), 80)}") from None
        except OSError as error:
            raise GoneError(f"{self._where}: {_reason(error)}") from None
        if self.address.secure:
            certificate = self.writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
            self.visit.rules.check_certificate(host, port, certificate or b"")
        return reader

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
        while (now := self._now()) < end:
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

    def _now(self) -> float:
        self.measured_until_s = time.monotonic()
        return self.measured_until_s

    async def _until(self, reader: asyncio.StreamReader, reached: Callable[[], bool], timeout_s: float) -> None:
        """Work until `reached`. Raises where the other side refuses, closes or stays silent."""
        deadline = time.monotonic() + timeout_s
        while not reached():
            left = deadline - time.monotonic()
            if left <= 0:
                waiting = "its first packet" if self.session and self.session.playing else "an answer"
                raise LateError(f"{self._where}: {waiting} did not come within {timeout_s:g} s")
            if await self._step(reader, left) and not reached():
                raise RemoteProtocolError(f"{self._where}: the server closed the connection")
            if self.challenged is not None:
                await self._authenticate(self.challenged)
                deadline = time.monotonic() + timeout_s
            if self.refused is not None:
                self._raise_refused(self.refused)
            if self.attempt is not None and self.meter is not None:
                self.attempt.settle(Outcome.ACCEPTED)

    async def _authenticate(self, challenged: Challenged) -> None:
        """The server asks for credentials: send them, where there are any and nothing speaks against it."""
        self.challenged = None
        visit, session = self.visit, self.session
        assert session is not None
        if visit.credentials is None:
            self._raise_refused(challenged.refused)
            raise AssertionError("a refusal is raised")
        challenge = visit.rules.choose(challenged.offers, secure=self.address.secure)
        if challenge is None:
            raise RemoteProtocolError(f"{self._where}: it asks for credentials and does not say how")
        target = Target(self.address.host, self.address.port, visit.endpoint)
        self.attempt = await Try.begin(
            visit.rules, target, Door.RTSP, challenge.scheme, visit.credentials, visit.purpose
        )
        session.authenticate(Answering(visit.credentials, secrets.token_hex(8)), challenge)

    def _raise_refused(self, refused: Refused) -> None:
        text = f"{refused.method} answered {refused.status} {refused.reason}".strip()
        if refused.status in (401, 403, 423, 429) or (self.attempt and tells_of_a_lock(refused.reason)):
            told = f"{refused.reason} http {refused.status}"
            if tells_of_a_lock(told):
                target = Target(self.address.host, self.address.port, self.visit.endpoint)
                if self.attempt is not None:
                    self.attempt.locked(wait_told(refused.reason))
                self.visit.rules.ledger.lock(target, wait_told(refused.reason))
            if self.attempt is not None:
                self.attempt.settle(Outcome.REFUSED)
            raise RefusedError(f"{self._where}: {text}")
        if self.attempt is not None:
            self.attempt.settle(Outcome.VOID)  # 404 and the like say nothing of the credentials
        if refused.status == _UNSUPPORTED_TRANSPORT:
            raise _UnsupportedTransportError(f"{self._where}: {text} ({self.transport.value})")
        kind = _ServerTroubleError if refused.status in (500, 503) else RemoteProtocolError
        raise kind(f"{self._where}: {text}")

    async def _step(self, reader: asyncio.StreamReader, timeout_s: float) -> bool:
        """Send what waits, take in what comes. Returns true where the other side closed."""
        assert self.session is not None and self.writer is not None
        if self.excess:
            raise RemoteProtocolError(f"{self._where}: it sends more than any camera does")
        if out := self.session.data_to_send():
            self.writer.write(out)
        try:
            async with asyncio.timeout(timeout_s if not self.udp else min(timeout_s, 0.2)):
                data = await reader.read(_READ_BYTES)
        except TimeoutError:
            return False
        if not data:
            return True
        self._count(len(data), 0)
        arrival_s = time.monotonic()
        for event in self.session.receive(data):
            if isinstance(event, MediaPacket):
                self._on_packet(event.data, event.is_rtcp, arrival_s)
            elif isinstance(event, Described):
                self.meter = StreamMeter(event.media, self.started_s)
            elif isinstance(event, Refused):
                self.refused = event
            elif isinstance(event, Challenged):
                self.challenged = event
            elif isinstance(event, Redirected):
                raise _RedirectedError(event.location)
            elif isinstance(event, Playing):
                self.server_ports = event.server_ports
        if out := self.session.data_to_send():
            self.writer.write(out)
        return False

    def _on_udp(self, data: bytes, is_rtcp: bool) -> None:
        if not self.excess:
            self._on_packet(data, is_rtcp, time.monotonic())

    def _on_packet(self, data: bytes, is_rtcp: bool, arrival_s: float) -> None:
        if self.meter is None:
            return
        self._count(len(data) if self.udp else 0, 1)
        try:
            if is_rtcp:
                self.meter.add_rtcp(data)
            else:
                self.meter.add_rtp(data, arrival_s)
                self.first_packet.set()
        except RemoteProtocolError as error:
            self.meter.malformed += 1
            log.debug("%s: %s", self.address.url, error)

    def _count(self, size_bytes: int, packets: int) -> None:
        self.received_bytes += size_bytes
        self.received_packets += packets
        seconds = self.measured_for_s
        if self.received_bytes > seconds * MAX_BYTES_PER_S or self.received_packets > seconds * MAX_PACKETS_PER_S:
            self.excess = True

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
