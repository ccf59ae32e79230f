"""Playing what is stored (ONVIF Replay Control and Streaming specifications): where it is, from when on, and the absolute time
that each packet tells in its header extension.
"""

from __future__ import annotations

import re
import struct
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from zentrale.protocols import xml
from zentrale.protocols.rtcp import NTP_EPOCH_OFFSET_S
from zentrale.protocols.soap import NS, TRP, TT
from zentrale.protocols.xml import Element

REQUIRE = "onvif-replay"
DEFINED = 0xABAC  # of the extension, by profile (Streaming specification, RTP header extension)
_EXTENSION = struct.Struct("!IIBBH")
_CLEAN, _ENDS, _APART, _LAST = 0x80, 0x40, 0x20, 0x10
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_CLOCK = re.compile(r"(\d{8})T(\d{6})(?:\.(\d{1,9}))?Z", re.ASCII)


class Stamp(NamedTuple):
    """What a packet's extension tells. at_s: when its picture was recorded, by the recorder's clock [s since 1970, UTC]; key: a
    picture begins here that needs no other (C); ends: the last of a contiguous part (E); apart: not contiguous with the packet
    before (D); last: nothing comes after it (T)
    """

    at_s: float
    key: bool = False
    ends: bool = False
    apart: bool = False
    last: bool = False
    cseq: int = 0

    @property
    def at(self) -> datetime:
        return _EPOCH + timedelta(seconds=self.at_s)


def parse_stamp(extension: tuple[int, bytes] | None) -> Stamp | None:
    """Of a packet; None where it has no such extension."""
    if extension is None or extension[0] != DEFINED or len(extension[1]) < _EXTENSION.size:
        return None
    seconds, fraction, flags, cseq, _ = _EXTENSION.unpack_from(extension[1])
    at_s = seconds - NTP_EPOCH_OFFSET_S + fraction / 2**32
    key, ends, apart, last = (bool(flags & flag) for flag in (_CLEAN, _ENDS, _APART, _LAST))
    return Stamp(at_s, key, ends, apart, last, cseq)


def serialize_stamp(stamp: Stamp) -> tuple[int, bytes]:
    ntp = stamp.at_s + NTP_EPOCH_OFFSET_S
    flags = _CLEAN * stamp.key | _ENDS * stamp.ends | _APART * stamp.apart | _LAST * stamp.last
    fraction = min(int((ntp - int(ntp)) * 2**32), 2**32 - 1)
    return DEFINED, _EXTENSION.pack(int(ntp) & 0xFFFFFFFF, fraction, flags, stamp.cseq & 0xFF, 0)


def clock(at: datetime) -> str:
    """A moment as Range has it (RFC 2326 clause 3.7: clock=, UTC)."""
    moment = at.astimezone(UTC)
    return f"{moment:%Y%m%dT%H%M%S}.{moment.microsecond // 1000:03d}Z"


def parse_clock(text: str) -> datetime | None:
    found = _CLOCK.fullmatch(text.strip())
    if found is None:
        return None
    try:
        whole = datetime.strptime(found[1] + found[2], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None
    return whole + timedelta(seconds=float(f"0.{found[3] or 0}"))


class Replay(NamedTuple):
    """What is to be played: from when, until when (None: without an end), and key pictures alone; as fast as it comes."""

    start: datetime
    end: datetime | None = None
    key_pictures: bool = False

    def fields(self) -> tuple[tuple[str, str], ...]:
        """Of PLAY."""
        span = f"clock={clock(self.start)}-{clock(self.end) if self.end else ''}"
        frames = (("Frames", "intra"),) if self.key_pictures else ()
        return ("Range", span), ("Rate-Control", "no"), ("Immediate", "yes"), *frames


def parse_range(text: str) -> tuple[datetime | None, datetime | None]:
    """Both ends of `Range: clock=..`; None for an end that is not told."""
    kind, _, span = text.partition("=")
    if kind.strip().lower() != "clock":
        return None, None
    start, _, end = span.partition(";")[0].partition("-")
    return parse_clock(start), parse_clock(end)


def get_replay_uri(recording_token: str) -> Element:
    setup = TRP.StreamSetup(TT.Stream("RTP-Unicast"), TT.Transport(TT.Protocol("RTSP")))
    return TRP.GetReplayUri(setup, TRP.RecordingToken(recording_token))


def replay_token_of(request: Element) -> str:
    return xml.text(request, "trp:RecordingToken", NS)


def replay_uri_response(uri: str) -> Element:
    return TRP.GetReplayUriResponse(TRP.Uri(uri))


def parse_replay_uri(response: Element) -> str:
    return xml.text(response, "trp:Uri", NS)
