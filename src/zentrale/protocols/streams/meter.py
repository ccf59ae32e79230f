"""What a video stream delivers, measured from its RTP packets: the numbers an acceptance test needs.

Each packet leaves a record (`packet_log`), from which the figures follow (`figures`); here is what needs payload, or an
answer at once: the first key picture, and the receiver reports.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.figures import Digest, Figures
from zentrale.protocols.streams.key_pictures import KeyFinder, KeyPicture
from zentrale.protocols.streams.packet_log import KEY, MARKER, RAW, Records, first_that_begins, records_of
from zentrale.protocols.streams.packet_runs import steps

_SILENT_S = 0.2  # a source that says nothing for so long may have a successor
_STILL_AFTER_S, _STILL_PICTURES = 1.0, 10  # when, and over how many pictures, it is asked whether anything changes
_STILL_BYTES = 400  # a picture that repeats the one before needs no more, whatever its size
_RATE_TOLERANCE = 0.2


@dataclass(frozen=True, kw_only=True)
class StreamMeasurement(Figures):
    """The figures, and what is known beside them; times are in the unit of their name.

    first_picture_s: from connecting to the last packet of the first whole key frame
    jitter_ms:       as in the figures; over UDP only
    named_hosts:     other hosts that the server named in its addresses; none was asked
    own_lateness_s:  how much later than due this machine came to read, at worst
    reading_pace_s:  times of arrival are right to this; 0 where the kernel told them
    packets_dropped_here: datagrams that this machine had no room for
    strangers:       other addresses and ports that sent to the stream's port (packets_strange datagrams); none was counted
    group:           multicast group and port, where it was played from one; multicast_failed: why not, where it should have been
    contradictions:  between the description and the stream, in words
    still:           its pictures are so small that nothing changes; None where few came
    later_picture:   a key picture some time after the first, where it may be that nothing changes
    sessions_at_most: so many streams at once does the device serve; None where it refused none
    """

    transport: str
    codec: str
    profile: str = ""
    width_px: int | None = None
    height_px: int | None = None
    packets_malformed: int = 0
    first_picture_s: float | None = None
    ended_early: bool = False
    key_picture: KeyPicture | None = field(default=None, repr=False)
    named_hosts: tuple[str, ...] = ()
    own_lateness_s: float = 0.0
    reading_pace_s: float = 0.0
    packets_dropped_here: int = 0
    strangers: tuple[str, ...] = ()
    packets_strange: int = 0
    group: str = ""
    multicast_failed: str = ""
    sessions_at_most: int | None = None
    contradictions: tuple[str, ...] = ()
    still: bool | None = None
    later_picture: KeyPicture | None = field(default=None, repr=False)

    def without_pictures(self) -> StreamMeasurement:
        """The same without the bytes of its pictures: they are large."""
        bare = [replace(p, data=b"") if p else None for p in (self.key_picture, self.later_picture)]
        return replace(self, key_picture=bare[0], later_picture=bare[1])


class StreamMeter:
    """Feed packets as they arrive; ask for the result at the end.

    started_s:   when connecting began, on the clock of the arrival times
    with_jitter: packets arrive each by itself, not as a socket is read
    """

    def __init__(self, media: Media, started_s: float, *, with_jitter: bool = True) -> None:
        self.media = media
        self.started_s = started_s
        self.malformed = 0
        self.ended_early = False
        self._digest = Digest(media.clock_hz, with_jitter=with_jitter)
        self._ssrc: int | None = None
        self._base = self._highest = self._received = 0  # of the source: numbers without their wrap, for the reports
        self._reported = (0, 0)
        self._last_arrival_s = 0.0
        self._first = KeyFinder(media)
        self._later: KeyFinder | None = None
        self._moves = False
        self._still = [0, 0]  # bytes and pictures after the first key picture

    @property
    def wants_packets(self) -> bool:
        """Whether whole packets are of use: until the first key picture is there, and another where nothing changes."""
        return self._first.wanted or (self._later is not None and self._later.wanted)

    @property
    def unsure_of_stillness(self) -> bool:
        """Whether it is not known yet that something changes in the pictures."""
        return self._first.key is not None and self._later is None and not self._moves and self.media.codec != "JPEG"

    def take(
        self,
        raw: bytes | bytearray,
        arrivals_s: Sequence[float],
        odd: Sequence[tuple[int, bytes]] = (),
    ) -> None:
        """What came since the last time: raw records (`packet_log`), the arrival of each [s], and by their row those that must
        be looked at whole.
        """
        self._first.sample(raw)
        records, malformed = records_of(raw, arrivals_s, odd, self.media.codec, self.media.payload_type)
        self.malformed += malformed
        self._digest.add(records)
        if len(records):
            self._follow(records)
            self._watch_for_stillness(records)

    def add_rtp(self, data: bytes, arrival_s: float) -> None:
        """One packet. Raises RemoteProtocolError on what is no RTP packet."""
        RtpPacket.parse(data)
        raw = (struct.pack("!BBH", 0x24, 0, len(data)) + data)[: RAW.itemsize].ljust(RAW.itemsize, b"\0")
        self.take(raw, [arrival_s], [(0, data)])
        self.look([(data, arrival_s)])

    def _follow(self, records: Records) -> None:
        """Which source is measured now, and how far its numbers have come: for the reports."""
        own = records["ssrc"] == self._ssrc
        mine = records if own.all() else records[own]
        if not len(mine):
            if self._ssrc is not None and records["arrival_s"][0] - self._last_arrival_s <= _SILENT_S:
                return
            self._begin(int(records["ssrc"][0]), int(records["sequence"][0]))
            mine = records[records["ssrc"] == self._ssrc]
        self._last_arrival_s = float(mine["arrival_s"][-1])
        numbers = np.concatenate([[self._highest & 0xFFFF], mine["sequence"].astype(np.int64)])
        self._highest += max(0, int(np.cumsum(steps(numbers, 1 << 16)).max()))
        self._received += len(mine)

    def _begin(self, ssrc: int, sequence: int) -> None:
        """The first source; or the one that goes on where the one before fell silent."""
        self._ssrc = ssrc
        self._first.restart(ssrc)
        self._base = self._highest = sequence
        self._received, self._reported = 0, (0, 0)

    def _watch_for_stillness(self, records: Records) -> None:
        """Where pictures are so small that nothing changes, a later key picture is kept, to compare with the first."""
        if not self.unsure_of_stillness:
            return
        other = records[(records["flags"] & KEY) == 0]
        self._still[0] += int(other["size_bytes"].sum())
        self._still[1] += int(((other["flags"] & MARKER) != 0).sum())
        size, pictures = self._still
        waited_s = float(records["arrival_s"][-1]) - self._first.arrival_s
        if pictures < _STILL_PICTURES:
            return
        if size >= _STILL_BYTES * pictures:
            self._moves = True
        elif waited_s >= _STILL_AFTER_S:
            self._later = KeyFinder(self.media)

    def begins(self, raw: bytes | bytearray) -> int:
        """From which of these records on packets are wanted whole; -1 is from none."""
        return first_that_begins(self.media.codec, raw)

    def look(self, packets: Iterable[tuple[bytes, float]]) -> None:
        """Look for a key picture in whole packets, in the order in which they came; with the arrival of each [s]."""
        for data, arrival_s in packets:
            finder = self._first if self._first.wanted else self._later
            if finder is None or not finder.wanted:
                return
            try:
                packet = RtpPacket.parse(data)
            except RemoteProtocolError:
                continue  # counted where the records are made
            if packet.payload_type == self.media.payload_type and packet.ssrc in (
                self._ssrc,
                finder.ssrc or packet.ssrc,
            ):
                finder.push(packet, arrival_s)

    def add_rtcp(self, data: bytes) -> None:
        """Sender reports are checked for form only; a source that says it ends has ended. Raises RemoteProtocolError."""
        if self._ssrc in rtcp.goodbyes(data):
            self.ended_early = True

    def receiver_report(self, own_ssrc: int) -> rtcp.ReceiverReport | None:
        """A report on what was received since the last one (RFC 3550 appendix A.3)."""
        if self._ssrc is None:
            return None
        expected = self._highest - self._base + 1
        lost = max(0, expected - self._received)
        since = expected - self._reported[0], self._received - self._reported[1]
        self._reported = expected, self._received
        fraction = min(255, 256 * (since[0] - since[1]) // since[0]) if since[0] > max(0, since[1]) else 0
        return rtcp.ReceiverReport(own_ssrc, self._ssrc, fraction, lost, self._highest, self._digest.jitter)

    def result(
        self, transport: str, named_hosts: tuple[str, ...] = (), *, until_s: float | None = None
    ) -> StreamMeasurement:
        """`until_s`: when the measurement ended, on the clock of the arrival times; silence up to then counts."""
        picture = self._first.format or (self._first.described_format() if self._first.key else None)
        told = self._digest.figures(until_s)
        if transport == "tcp":
            # Over TCP packets arrive as the socket is read: how evenly says nothing of the network (RFC 3550 clause 6.4.1).
            told = replace(told, jitter_ms=None, jitter_worst_ms=None)
        return StreamMeasurement(
            **vars(told),
            transport=transport,
            codec=self.media.codec,
            profile=picture.profile if picture else "",
            width_px=picture.width_px if picture else None,
            height_px=picture.height_px if picture else None,
            packets_malformed=self.malformed + self._first.malformed,
            first_picture_s=self._first.arrival_s - self.started_s if self._first.key else None,
            ended_early=self.ended_early,
            key_picture=self._first.key,
            still=self._later is not None if self._later or self._moves else None,
            later_picture=self._later.key if self._later else None,
            named_hosts=named_hosts,
            contradictions=tuple(self._contradictions(told)),
        )

    def _contradictions(self, told: Figures) -> Iterator[str]:
        """What the description says and the stream does not do."""
        other = self._first.other_codec()
        if other is not None:
            yield f"described as {self.media.codec}, the packets look like {other}"
        described, sent = self._first.described_format(), self._first.format
        if described and sent and (described.width_px, described.height_px) != (sent.width_px, sent.height_px):
            yield (
                f"described as {described.width_px}x{described.height_px}, "
                f"the pictures are {sent.width_px}x{sent.height_px}"
            )
        rate = self.media.framerate_fps
        if rate and told.fps and told.packets_lost == 0 and abs(told.fps - rate) > max(1, _RATE_TOLERANCE * rate):
            yield f"described as {rate:g} frames/s, {told.fps:.1f} frames/s come"
