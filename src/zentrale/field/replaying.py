"""Playing what a recorder has stored: packet by packet, with the absolute time of each, over one connection.

What comes is read as fast as whoever asked takes it: TCP keeps the recorder back meanwhile.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import NamedTuple

from zentrale.errors import Cause, DeviceError, GoneError, PlayError, RemoteProtocolError, SilentError
from zentrale.field.connection import CONNECT_TIMEOUT_S, device_ssl_context, reason
from zentrale.field.limits import own_limit
from zentrale.field.refusals import authenticate, redirection, refusal
from zentrale.field.rules import Try
from zentrale.field.visit import Visit
from zentrale.protocols.doors import Outcome
from zentrale.protocols.onvif.replay import Replay, Stamp, parse_stamp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.rtsp_client import (
    Challenged,
    Described,
    MediaPacket,
    PlayerSession,
    Playing,
    Redirected,
    Refused,
    Transport,
)
from zentrale.protocols.stream_address import StreamAddress

log = logging.getLogger(__name__)
_READ_BYTES = 256 * 1024
_TEARDOWN_S = 0.5
SILENT_S = 6.0  # a recorder that winds to a place takes its time, and says nothing where it has nothing


class Replayed(NamedTuple):
    """A packet; `stamp` None where it tells no absolute time of its own; `sound`: not of the picture."""

    packet: RtpPacket
    stamp: Stamp | None
    sound: bool = False


class Player:
    """One replay that has begun: what was described, and the packets."""

    def __init__(
        self, address: StreamAddress, visit: Visit, replay: Replay, *, sound: bool, most_bps: float | None = None
    ) -> None:
        """most_bps: read no faster than that [bit/s]"""
        self.address = address
        self.described: Described | None = None
        self.malformed = 0
        self.ended_by = ""  # why nothing more came: the recorder said so, closed, or fell silent
        self._visit = visit
        self._session = PlayerSession(address, play=replay.fields(), sound=sound)
        self._reader: asyncio.StreamReader | None = None
        self._writer: asyncio.StreamWriter | None = None
        self._attempt: Try | None = None
        self._waiting: list[Replayed] = []
        self._seconds_a_byte = 8 / most_bps if most_bps else 0.0

    @property
    def _where(self) -> str:
        return f"{self.address.host}:{self.address.port}"

    async def open(self) -> None:
        """Up to the answer to PLAY. Raises DeviceError."""
        host, port = self.address.host, self.address.port
        context = device_ssl_context() if self.address.secure else None
        try:
            async with asyncio.timeout(CONNECT_TIMEOUT_S):
                self._reader, self._writer = await asyncio.open_connection(host, port, ssl=context)
        except TimeoutError:
            raise GoneError(f"{self._where}: no answer within {CONNECT_TIMEOUT_S:g} s") from None
        except OSError as error:
            raise own_limit(self._where, error) or GoneError(f"{self._where}: {reason(error)}") from None
        if context is not None:
            tls = self._writer.get_extra_info("ssl_object")
            self._visit.rules.check_certificate(host, port, tls.getpeercert(binary_form=True) or b"")
        self._session.start()
        while not self._session.playing:
            if not await self._step(self._visit.answer_s):
                raise SilentError(f"{self._where}: an answer did not come within {self._visit.answer_s:g} s")
            if self.ended_by:
                raise PlayError(f"{self._where}: the server closed the connection", Cause.CLOSED)

    async def packets(self, silent_s: float = SILENT_S) -> AsyncIterator[Replayed]:
        """Until the recorder says that it is the last, closes, or sends nothing for so long; `ended_by` says which."""
        kept_alive = time.monotonic()
        while True:
            waiting, self._waiting = self._waiting, []
            for each in waiting:
                yield each
                if each.stamp is not None and each.stamp.last and not each.sound:
                    self.ended_by = "it says that nothing comes after it"
                    return
            if self.ended_by:
                return
            if time.monotonic() - kept_alive > self._session.session_timeout_s / 2:
                self._session.keep_alive()
                kept_alive = time.monotonic()
            if not self._waiting and not await self._step(silent_s):
                self.ended_by = f"nothing came for {silent_s:g} s"
                return

    async def _step(self, timeout_s: float) -> bool:
        """Send what waits, take in what comes; False where nothing came in time."""
        assert self._reader is not None and self._writer is not None
        try:
            if out := self._session.data_to_send():
                self._writer.write(out)
            async with asyncio.timeout(timeout_s):
                data = await self._reader.read(_READ_BYTES)
        except TimeoutError:
            return False
        except OSError as error:
            self.ended_by = f"connection lost: {reason(error)}"
            return True
        if not data:
            self.ended_by = "it closed the connection"
            return True
        if self._seconds_a_byte:
            await asyncio.sleep(len(data) * self._seconds_a_byte)
        try:
            events = self._session.receive(data)
        except RemoteProtocolError as error:
            raise PlayError(f"{self._where}: {error}", Cause.OTHER) from None
        for event in events:
            await self._on_event(event)
        return True

    async def _on_event(self, event: object) -> None:
        if isinstance(event, MediaPacket):
            if not event.is_rtcp:
                self._on_packet(event)
        elif isinstance(event, Described):
            self.described = event
        elif isinstance(event, Playing):
            if self._attempt is not None:
                self._attempt.settle(Outcome.ACCEPTED)
        elif isinstance(event, Challenged):
            self._attempt = await authenticate(self._session, event, self.address, self._visit)
        elif isinstance(event, Refused):
            raise refusal(event, self.address, self._visit, self._attempt, Transport.TCP)
        elif isinstance(event, Redirected):
            raise redirection(event, self.address)

    def _on_packet(self, event: MediaPacket) -> None:
        try:
            packet = RtpPacket.parse(event.data)
        except RemoteProtocolError:
            self.malformed += 1
            return
        self._waiting.append(Replayed(packet, parse_stamp(packet.extension), event.sound))

    async def close(self) -> None:
        """With a farewell, since a recorder that plays few at once would refuse the next."""
        if self._attempt is not None:
            self._attempt.settle(Outcome.UNCLEAR)
        if self._writer is None:
            return
        self._session.teardown()
        with contextlib.suppress(OSError, DeviceError, TimeoutError):
            if not self.ended_by.startswith("connection lost"):
                self._writer.write(self._session.data_to_send())
                async with asyncio.timeout(_TEARDOWN_S):
                    await self._writer.drain()
        self._writer.close()


@asynccontextmanager
async def replaying(
    address: StreamAddress, visit: Visit, replay: Replay, *, sound: bool = False, most_bps: float | None = None
) -> AsyncIterator[Player]:
    """A replay within the sessions that the recorder bears: where it refuses one more, this one waits. Raises DeviceError."""
    sessions = visit.rules.sessions.of(address.host)
    while True:
        async with sessions.one():
            player = Player(address, visit, replay, sound=sound, most_bps=most_bps)
            try:
                try:
                    await player.open()
                except PlayError as error:
                    if error.cause is Cause.BUSY and sessions.refused_one_more():
                        continue
                    raise
                yield player
                return
            finally:
                await player.close()
