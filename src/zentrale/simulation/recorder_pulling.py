"""How a stand-in recorder takes a stream in: over RTSP, interleaved, into the ring of its track."""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import secrets
import time
from collections.abc import Callable

from zentrale.errors import DeviceError, RemoteProtocolError
from zentrale.protocols import h264
from zentrale.protocols.http_auth import Answering, Credentials
from zentrale.protocols.rtsp_client import Challenged, Described, PlayerSession, Refused
from zentrale.protocols.sdp import Media
from zentrale.protocols.stream_address import StreamAddress
from zentrale.simulation.recorder_ring import Ring

KEEP_ALIVE_S = 20.0
_MARK, _HEAD = 0x24, 4  # "$", channel and length before each packet (RFC 2326 clause 10.12)
_CHANNEL = 0  # of the pictures; what comes on others is not kept
_LENGTH = re.compile(rb"\r\nContent-Length: *(\d+)", re.IGNORECASE)
_SPS = 7  # H.264 table 7-1


async def pull(address: StreamAddress, ring: Ring, keeps: Callable[[], bool]) -> None:
    """Until it ends. `keeps`: whether what comes now is to be stored. Raises OSError or DeviceError."""
    credentials = Credentials(address.user, address.password) if address.user else None
    session = PlayerSession(address)
    async with asyncio.timeout(10):
        reader, writer = await asyncio.open_connection(address.host, address.port)
    next_keep_alive = time.monotonic() + KEEP_ALIVE_S
    come = bytearray()
    try:
        session.start()
        while True:
            if out := session.data_to_send():
                writer.write(out)
            async with asyncio.timeout(10):
                data = await reader.read(262144)
            if not data:
                raise ConnectionError("the camera closed the connection")
            come += data
            messages, packets = _taken(come)
            if packets:
                ring.heard_s = time.time()
                if keeps():
                    ring.add(packets, ring.heard_s)
            for event in session.receive(messages) if messages else ():
                if isinstance(event, Challenged):
                    if credentials is None or not event.offers.challenges:
                        raise DeviceError(f"{event.refused.method} was refused: 401 {event.refused.reason}")
                    session.authenticate(Answering(credentials, secrets.token_hex(8)), event.offers.challenges[0])
                if isinstance(event, Refused):
                    raise DeviceError(f"{event.method} was refused: {event.status} {event.reason}")
                if isinstance(event, Described):
                    ring.resolution, ring.parameter_sets = _resolution(event.media), event.media.parameter_sets()
                    ring.error = "" if event.media.codec else "the description names no codec"
            if session.playing and time.monotonic() > next_keep_alive:
                session.keep_alive()
                next_keep_alive = time.monotonic() + KEEP_ALIVE_S
    finally:
        session.teardown()
        with contextlib.suppress(OSError):
            writer.write(session.data_to_send())
        writer.close()


def _taken(come: bytearray) -> tuple[bytes, list[bytes]]:
    """The whole messages and the whole packets that `come` begins with; they are taken off it. Thousands of packets come each
    second: nothing more is made of one than its bytes.
    """
    at, end, messages, packets = 0, len(come), b"", []
    while at + _HEAD <= end:
        if come[at] == _MARK:
            after = at + _HEAD + (come[at + 2] << 8 | come[at + 3])
            if after > end:
                break
            if come[at + 1] == _CHANNEL:
                packets.append(bytes(come[at + _HEAD : after]))
        else:
            after = come.find(b"\r\n\r\n", at) + 4
            if after < 4:
                break
            length = _LENGTH.search(bytes(come[at:after]))
            after += int(length[1]) if length else 0
            if after > end:
                break
            messages += come[at:after]
        at = after
    del come[:at]
    return messages, packets


def _resolution(media: Media) -> tuple[int, int]:
    for unit in media.parameter_sets() if media.codec == "H264" else ():
        if unit and unit[0] & 31 == _SPS:
            with contextlib.suppress(RemoteProtocolError):
                found = h264.parse_sps(unit)
                return found.width_px, found.height_px
    return 0, 0


def why(error: Exception) -> str:
    """As a recorder says it."""
    return os.strerror(error.errno).lower() if isinstance(error, OSError) and error.errno else str(error) or "no answer"
