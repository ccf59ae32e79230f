"""One playing of a stream address over real sockets, from connecting to the farewell."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import secrets
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import timedelta

from zentrale.errors import (
    Cause,
    MulticastOfferedError,
    PlayError,
    RemoteProtocolError,
    SilentError,
    UnreachableError,
)  # fmt: skip
from zentrale.field.connection import Wire, connect, device_ssl_context, reason
from zentrale.field.datagrams import Datagrams
from zentrale.field.intake import Connection
from zentrale.field.pace import Reading
from zentrale.field.refusals import authenticate, redirection, refusal
from zentrale.field.rules import Try
from zentrale.field.udp import UdpPair
from zentrale.field.visit import Visit
from zentrale.protocols import rtcp
from zentrale.protocols.doors import Outcome
from zentrale.protocols.rtsp_client import Challenged, Described, PlayerSession, Redirected, Refused, SetUp, Transport
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.loss_places import LossWatch
from zentrale.protocols.streams.meter import StreamMeasurement, StreamMeter
from zentrale.protocols.streams.packet_log import odd_first, odd_rows
from zentrale.quantities import now

_worker = ThreadPoolExecutor(1, "figures")
log = logging.getLogger(__name__)
FIRST_PACKET_S = 6.0
TEARDOWN_S = 1.0
PROGRESS_S = 60.0
REPORT_INTERVAL_S = 5.0  # RFC 3550 clause 6.2
_FEW_PACKETS = 128  # a second
# More than any camera sends: it has a fast-Ethernet port, rarely a faster one, and never fills it.
MAX_BYTES_PER_S, MAX_PACKETS_PER_S = 16_000_000, 40_000


class Playing:
    """`run` once. may_join: a description of a multicast group ends it by MulticastOfferedError. `progress` is called now and
    then with the measurement so far, where the measurement is long. until_picture: it ends when its key picture is there.
    """

    def __init__(
        self,
        address: StreamAddress,
        visit: Visit,
        transport: Transport,
        *,
        may_join: bool = False,
        progress: Callable[[StreamMeasurement], None] | None = None,
        until_picture: bool = False,
    ) -> None:
        self.address = address
        self.visit = visit
        self.transport = transport
        self.may_join = may_join
        self.progress = progress
        self.until_picture = until_picture
        self.meter: StreamMeter | None = None
        self.measured_until_s: float | None = None
        self.wire: Wire | None = None
        self.udp: UdpPair | None = None
        self.session: PlayerSession | None = None
        self.reading: Reading | None = None
        self.refused: Refused | None = None
        self.challenged: Challenged | None = None
        self.attempt: Try | None = None
        self.setup: SetUp | None = None
        self.ssrc = secrets.randbits(32)
        self.started_s = 0.0
        self.duration_s = self.measured_for_s = 0.0
        self.path_told: tuple[int | None, int | None] = (None, None)
        self.stopped: tuple[float, int] | None = None  # how late, and how many were dropped here, up to the end

    async def run(self, duration_s: float) -> StreamMeasurement:
        self.started_s = time.monotonic()
        self.duration_s = duration_s
        self.measured_for_s = duration_s + FIRST_PACKET_S
        try:
            await self._open()
            async with self._reading():
                await self._play(duration_s)
                self._stop()
                await self._farewell()
                # Not here, where it would keep the sockets of the others waiting.
                result = await asyncio.get_running_loop().run_in_executor(_worker, self._result)
        except OSError as error:
            raise UnreachableError(f"{self._where}: connection lost: {reason(error)}") from None
        finally:
            if self.attempt is not None:
                self.attempt.settle(Outcome.UNCLEAR)
            if self.udp is not None:
                self.udp.close()
            if self.wire is not None:
                self.wire.close()
        return result

    async def _open(self) -> None:
        host, port = self.address.host, self.address.port
        self.wire = await connect(host, port, device_ssl_context() if self.address.secure else None)
        if self.address.secure:
            self.visit.rules.check_certificate(host, port, self.wire.certificate)
        if self.transport is Transport.UDP:
            self.udp = UdpPair.bind(self.wire.local_address)
        multicast = self.transport is Transport.MULTICAST
        self.session = PlayerSession(self.address, self.udp.ports if self.udp else None, multicast=multicast)
        self.session.start()

    def _reading(self) -> Reading:
        assert self.wire is not None
        if self.udp is not None:
            self.udp.stream.source = (self.address.host, None)
            self.reading = Reading(self.udp.stream, self._digest, self._look, side=self.wire.stream)
        else:
            self.reading = Reading(self.wire.stream, self._digest, self._look)
        return self.reading

    @property
    def stream(self) -> Connection | Datagrams:
        assert self.wire is not None
        return self.udp.stream if self.udp is not None else self.wire.stream

    @property
    def _where(self) -> str:
        return f"{self.address.host}:{self.address.port}"

    async def _play(self, duration_s: float) -> None:
        assert self.session is not None and self.reading is not None
        session, visit = self.session, self.visit
        await self._until(lambda: session.playing, visit.answer_s, "an answer")
        await self._until(lambda: self.stream.packets > 0, max(FIRST_PACKET_S, visit.answer_s / 2), "its first packet")
        assert self.meter is not None
        self.reading.worst_late_s = 0.0
        self.stream.patient = not self.until_picture
        end = time.monotonic() + duration_s
        last_report = last_keep_alive = time.monotonic()
        last_told = last_report - PROGRESS_S / 2 * secrets.randbelow(100) / 100  # not all streams in one moment
        while (now := self._now()) < end:
            if now - last_report >= REPORT_INTERVAL_S:
                self._send_report()
                last_report = now
            if now - last_keep_alive >= session.session_timeout_s / 2:
                session.keep_alive()
                last_keep_alive = now
            if self.progress and now - last_told >= PROGRESS_S:
                self._digest()
                self.progress(self._result())
                last_told = now
            if self.until_picture and not self.meter.wants_packets:
                return
            await self._step(min(end - now, 1.0, self.meter.due_in(now)))
            if self.meter.seems_still or len(self.stream.taken) < _FEW_PACKETS:
                self._digest()  # at a few packets a second the next thousand are far away
            self.meter.tick(time.monotonic())
            self._want_packets()
            if self.wire is not None and self.wire.stream.closed:
                self.meter.ended_early = True
                return

    def _now(self) -> float:
        self.measured_until_s = time.monotonic()
        return self.measured_until_s

    async def _until(self, reached: Callable[[], bool], timeout_s: float, waiting_for: str) -> None:
        """Work until `reached`; each answer has its own time. Raises where the other side refuses, closes or stays silent."""
        assert self.session is not None and self.wire is not None
        answers, deadline = self.session.answers, time.monotonic() + timeout_s
        while not reached():
            left = deadline - time.monotonic()
            if left <= 0:
                raise SilentError(f"{self._where}: {waiting_for} did not come within {timeout_s:g} s{self._others()}")
            await self._step(left)
            if self.challenged is not None:
                await self._authenticate(self.challenged)
                deadline = time.monotonic() + timeout_s
            if self.refused is not None:
                self._raise_refused(self.refused)
            if self.attempt is not None and self.meter is not None:
                self.attempt.settle(Outcome.ACCEPTED)
            if self.wire.stream.closed and not reached():
                raise PlayError(f"{self._where}: the server closed the connection", Cause.CLOSED)
            if self.session.answers != answers:
                answers, deadline = self.session.answers, time.monotonic() + timeout_s

    def _others(self) -> str:
        """Who else sends to the port: a device with two addresses may answer from the other one."""
        strangers = self.udp.stream.strangers if self.udp is not None else None
        if not strangers:
            return ""
        text = ", ".join(f"{host}:{port}" for (host, port), _ in strangers.most_common(3))
        return f"; {strangers.total()} datagrams came from {text}, which was not asked and is not believed"

    async def _step(self, timeout_s: float) -> None:
        """Send what waits, and take in what comes next."""
        assert self.session is not None and self.wire is not None and self.reading is not None
        self._send()
        self.reading.event.clear()
        if not self.wire.stream.messages and not self.wire.stream.closed:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(timeout_s):
                    await self.reading.event.wait()
        if self.reading.error is not None:
            raise self.reading.error
        messages, self.wire.stream.messages = self.wire.stream.messages, []
        try:
            for message in messages:
                for event in self.session.receive(message):
                    self._on_event(event)
        except PlayError:
            raise
        except RemoteProtocolError as error:
            cause = Cause.OTHER if self.meter is not None else Cause.DESCRIPTION
            raise PlayError(f"{self._where}: {error}", cause) from None
        control, self.stream.control = self.stream.control, []
        for data, after in control:
            self._on_control(data, after)
        self._send()

    def _send(self) -> None:
        assert self.session is not None and self.wire is not None
        if out := self.session.data_to_send():
            self.wire.send(out)

    def _on_event(self, event: object) -> None:
        if isinstance(event, Described):
            if event.media.group and self.may_join:
                raise MulticastOfferedError(f"{self._where}: it is sent to {event.media.group}", Cause.TRANSPORT)
            if event.media.is_encrypted:
                what = f"its packets are encrypted ({event.media.profile}), which this program does not read"
                raise PlayError(f"{self._where}: {what}", Cause.TRANSPORT)
            datagrams = self.transport is not Transport.TCP
            duration_s = 0.0 if self.until_picture else self.duration_s
            losses = LossWatch(in_order=not datagrams) if self.visit.where_lost else None
            self.meter = StreamMeter(
                event.media, self.started_s, with_jitter=datagrams, duration_s=duration_s, losses=losses
            )
            self.stream.odd_first, self.stream.odd_rows = odd_first(event.media.codec), odd_rows(event.media.codec)
            if self.visit.heard is not None:
                self.visit.heard.begin(event.media)
            self._want_packets()
        elif isinstance(event, SetUp):
            self._on_setup(event)
        elif isinstance(event, Refused):
            self.refused = event
        elif isinstance(event, Challenged):
            self.challenged = event
        elif isinstance(event, Redirected):
            raise redirection(event, self.address)

    def _on_setup(self, event: SetUp) -> None:
        assert self.wire is not None and self.reading is not None
        self.setup = event
        if self.transport is Transport.TCP:
            self.wire.stream.channel = event.channel
        elif self.udp is not None and event.server_ports:
            self.udp.stream.source = (self.address.host, event.server_ports[0])
            self.udp.open_towards(self.address.host, event.server_ports)
        elif self.transport is Transport.MULTICAST and event.ports:
            self.udp = UdpPair.join(event.group, event.ports, self.wire.local_address)
            self.udp.stream.odd_first, self.udp.stream.begins = self.wire.stream.odd_first, self.wire.stream.begins
            self.udp.stream.odd_rows = self.wire.stream.odd_rows
            self.udp.stream.source = (self.address.host, None)
            self.reading.watch(self.udp.stream, self.wire.stream)

    def _look(self, packets: list[tuple[bytes, float]]) -> None:
        if self.meter is not None:
            if self.visit.heard is not None:
                self.visit.heard.packets(packets)
            self.meter.look(packets)
            self._want_packets()
            if self.until_picture and not self.meter.wants_packets and self.reading is not None:
                self.reading.event.set()

    def _want_packets(self) -> None:
        """Whole packets, from where a key picture may begin, until it is there."""
        assert self.meter is not None
        if self.visit.heard is not None:
            self.stream.begins, self.stream.keep = self.meter.begins, True
        elif not self.meter.wants_packets:
            self.stream.begins, self.stream.keep, self.stream.hurried = None, False, False
        elif self.stream.begins is None:
            self.stream.begins = self.meter.begins

    def _digest(self, *, last: bool = False) -> None:
        """Make figures of what came. Raises PlayError where it is more than any camera sends."""
        stream = self.stream
        taken = stream.take()
        if self.meter is None or self.stopped is not None:
            return
        self.meter.take(taken.records, taken.arrivals, taken.odd, last=last)
        self._want_packets()
        seconds = self.measured_for_s
        if stream.bytes > seconds * MAX_BYTES_PER_S or stream.packets > seconds * MAX_PACKETS_PER_S:
            raise PlayError(f"{self._where}: it sends more than any camera does", Cause.OTHER)

    def _on_control(self, data: bytes, after: int) -> None:
        if self.meter is None:
            return
        try:
            self.meter.add_rtcp(data, after)
        except RemoteProtocolError as error:
            self.meter.malformed += 1
            log.debug("%s: %s", self.address.url, error)

    def _stop(self) -> None:
        """What came up to here is measured."""
        assert self.reading is not None
        self.stream.patient = False
        self.reading.read_now()
        self._digest(last=True)
        dropped = self.udp.stream.dropped() if self.udp is not None else 0
        self.stopped = self.reading.worst_late_s, dropped
        if self.udp is None and self.wire is not None:
            self.path_told = self.wire.stream.path_told()
        self.stream.begins, self.stream.keep = None, False

    def _result(self) -> StreamMeasurement:
        assert self.meter is not None and self.session is not None and self.reading is not None
        late_s, dropped = self.stopped or (self.reading.worst_late_s, 0)
        named = {*self.session.named_hosts, self.address.named, self.setup.source if self.setup else ""} - {""}
        # A server that ended the stream is told of as that; else silence up to the end counts as a gap.
        until_s = None if self.meter.ended_early else self.measured_until_s
        result = self.meter.result(self.transport.value, tuple(sorted(named)), until_s=until_s)
        silent_s = result.pauses[-1].length_s if result.pauses and not result.pauses[-1].ends else None
        result = replace(
            result, own_lateness_s=late_s, reading_pace_s=self.reading.slow_s,
            named_bases=tuple(sorted(self.session.named_bases)),
            stopped_at=None if silent_s is None else now() - timedelta(seconds=silent_s), began_s=self.meter.began_s,
        )  # fmt: skip
        if self.udp is None:
            window, disordered = self.path_told
            return replace(result, receive_window_bytes=window, segments_out_of_order=disordered)
        return replace(
            result,
            reading_pace_s=0.0 if self.udp.stream.stamped else self.reading.slow_s,
            packets_dropped_here=dropped,
            strangers=tuple(f"{host}:{port}" for (host, port), _ in self.udp.stream.strangers.most_common()),
            packets_strange=self.udp.stream.strangers.total(),
            group=f"{self.setup.group}:{self.setup.ports[0]}" if self.setup and self.setup.ports else "",
        )

    async def _authenticate(self, challenged: Challenged) -> None:
        """The server asks for credentials: send them, where there are any and nothing speaks against it."""
        self.challenged = None
        assert self.session is not None
        self.attempt = await authenticate(self.session, challenged, self.address, self.visit)

    def _raise_refused(self, refused: Refused) -> None:
        raise refusal(refused, self.address, self.visit, self.attempt, self.transport)

    def _send_report(self) -> None:
        assert self.session is not None and self.meter is not None
        self._digest()
        report = self.meter.receiver_report(self.ssrc)
        if report is None:
            return
        data = rtcp.serialize_receiver_report(report, "zentrale")
        if self.udp is None:
            self.session.send_rtcp(data)
        elif self.setup and self.setup.server_ports:
            self.udp.send_rtcp(data, (self.address.host, self.setup.server_ports[1]))

    async def _farewell(self) -> None:
        """Say that the session ends and hear that out, since a device that serves few sessions would refuse the next one."""
        assert self.session is not None and self.wire is not None
        self.session.teardown()
        end = time.monotonic() + TEARDOWN_S
        with contextlib.suppress(RemoteProtocolError):
            while not self.session.ended and not self.wire.stream.closed and (left := end - time.monotonic()) > 0:
                await self._step(left)
