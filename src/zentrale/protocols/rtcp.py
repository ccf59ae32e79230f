"""RTCP sender and receiver reports with the CNAME they must carry (RFC 3550 clauses 6.4 and 6.5)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from zentrale.errors import RemoteProtocolError

SENDER_REPORT, RECEIVER_REPORT, SOURCE_DESCRIPTION, BYE = 200, 201, 202, 203
NTP_EPOCH_OFFSET_S = 2_208_988_800  # 1900 to 1970, RFC 5905 clause 6
_CNAME = 1
_REPORT = struct.Struct("!IIIIII")


@dataclass(frozen=True)
class SenderReport:
    """What a source says of itself: `ntp_s` is Unix time in seconds at which its clock read `rtp_timestamp`."""

    ssrc: int
    ntp_s: float
    rtp_timestamp: int
    packets: int
    octets: int


class SenderClock:
    """How a source's media clock goes by its own clock of the day: the one place where how packets travel plays no part."""

    def __init__(self, clock_hz: int) -> None:
        self.clock_hz = clock_hz
        self._first: SenderReport | None = None
        self._last: SenderReport | None = None
        self._media_s = 0.0

    def add(self, report: SenderReport) -> None:
        if self._first is None or self._last is None or report.ssrc != self._last.ssrc:
            self._first, self._media_s = report, 0.0
        else:
            step = (report.rtp_timestamp - self._last.rtp_timestamp + (1 << 31)) % (1 << 32) - (1 << 31)
            self._media_s += step / self.clock_hz
        self._last = report

    @property
    def ratio(self) -> float | None:
        """Media time for each second of the day, from its first report to its last; None below a second between them."""
        if self._first is None or self._last is None or self._last.ntp_s - self._first.ntp_s < 1:
            return None
        return self._media_s / (self._last.ntp_s - self._first.ntp_s)


@dataclass(frozen=True)
class ReceiverReport:
    """What a receiver says of a source: packets lost, highest sequence number, jitter in clock units."""

    ssrc: int
    source_ssrc: int
    fraction_lost: int
    lost: int
    extended_highest: int
    jitter: int


def parse(data: bytes) -> list[SenderReport | ReceiverReport]:
    """The reports in a compound packet; other packet types are passed over. Raises RemoteProtocolError."""
    reports: list[SenderReport | ReceiverReport] = []
    at = 0
    while at < len(data):
        if at + 8 > len(data):
            raise RemoteProtocolError("RTCP packet shorter than its header")
        first, kind, words, ssrc = struct.unpack_from("!BBHI", data, at)
        end = at + 4 * (words + 1)
        if first >> 6 != 2 or end > len(data):
            raise RemoteProtocolError("RTCP packet with a wrong version or length")
        if kind == SENDER_REPORT:
            if words < 6:
                raise RemoteProtocolError("RTCP sender report without its sender information")
            seconds, fraction, rtp, packets, octets = struct.unpack_from("!IIIII", data, at + 8)
            ntp_s = seconds - NTP_EPOCH_OFFSET_S + fraction / 2**32
            reports.append(SenderReport(ssrc, ntp_s, rtp, packets, octets))
        elif kind == RECEIVER_REPORT:
            if words < 1 + 6 * (first & 0x1F):
                raise RemoteProtocolError("RTCP receiver report shorter than its count says")
            for index in range(first & 0x1F):
                source, lost, highest, jitter, _, _ = _REPORT.unpack_from(data, at + 8 + 24 * index)
                reports.append(ReceiverReport(ssrc, source, lost >> 24, lost & 0xFFFFFF, highest, jitter))
        at = end
    return reports


def goodbyes(data: bytes) -> set[int]:
    """The sources that say in a compound packet that they end (BYE, clause 6.6). Raises RemoteProtocolError."""
    parse(data)  # checks its form
    ended: set[int] = set()
    at = 0
    while at < len(data):
        first, kind, words = struct.unpack_from("!BBH", data, at)
        if kind == BYE:
            count = min(first & 0x1F, words)
            ended |= set(struct.unpack_from(f"!{count}I", data, at + 4))
        at += 4 * (words + 1)
    return ended


def serialize_sender_report(report: SenderReport, cname: str) -> bytes:
    ntp = report.ntp_s + NTP_EPOCH_OFFSET_S
    seconds = int(ntp)
    body = struct.pack(
        "!BBHIIIIII",
        0x80,
        SENDER_REPORT,
        6,
        report.ssrc,
        seconds & 0xFFFFFFFF,
        int((ntp - seconds) * 2**32),
        report.rtp_timestamp,
        report.packets & 0xFFFFFFFF,
        report.octets & 0xFFFFFFFF,
    )
    return body + _source_description(report.ssrc, cname)


def serialize_receiver_report(report: ReceiverReport, cname: str) -> bytes:
    lost = (report.fraction_lost << 24) | min(report.lost, 0x7FFFFF)
    body = struct.pack("!BBHI", 0x81, RECEIVER_REPORT, 7, report.ssrc)
    body += _REPORT.pack(
        report.source_ssrc, lost, report.extended_highest & 0xFFFFFFFF, min(report.jitter, 0xFFFFFFFF), 0, 0
    )
    return body + _source_description(report.ssrc, cname)


def _source_description(ssrc: int, cname: str) -> bytes:
    text = cname.encode()[:255]
    chunk = struct.pack("!IBB", ssrc, _CNAME, len(text)) + text
    chunk += b"\x00" * (4 - len(chunk) % 4)  # at least one zero byte ends the list (clause 6.5)
    return struct.pack("!BBH", 0x81, SOURCE_DESCRIPTION, len(chunk) // 4) + chunk
