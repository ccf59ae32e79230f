"""What a video stream delivers, measured from its RTP packets: the numbers an acceptance test needs.

Each packet leaves a record (`packet_log`), from which the figures follow (`figures`); here is what needs payload, or an
answer at once: the first key picture, and the receiver reports.
"""

from __future__ import annotations

import math
import struct
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from itertools import pairwise

import numpy as np

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.figures import Digest, Figures
from zentrale.protocols.streams.formats import FormatWatch
from zentrale.protocols.streams.key_pictures import KeyFinder, KeyPicture, Shot
from zentrale.protocols.streams.loss_places import LossPlaces, LossWatch
from zentrale.protocols.streams.packet_log import OTHER, RAW, Records, first_that_begins, records_of
from zentrale.protocols.streams.packet_runs import steps
from zentrale.protocols.streams.quiet import STILL_AFTER_S, QuietWatch

_SILENT_S = 0.2  # a source that says nothing for so long may have a successor
_RATE_TOLERANCE = 0.2
_SHOTS = (0.0, 0.35, 0.65)  # when key pictures are kept, as shares of the time measured: the next one must still come
_MAX_SHOTS = 5
CLOCK_TOLERANCE = 0.1  # crystals are right to 0.01 %; what is beyond is a wrong clock rate or a wrong time stamp
_LEAST_TYPE = 16  # packets of one other payload type, before it is measured in place of the one described


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
    changes:         what became otherwise while it played: after how many seconds [s], and what, in words
    sizes:           of its pictures, width and height [px], in the order in which they came
    shots:           key pictures spread over the measurement, the first one first
    began_s:         when its first packet came, on the monotonic clock of this machine
    stopped_at:      when the last packet came, as the time of day; None where packets came up to the end
    sender_clock_ratio: media time for each second by the source's own reports; None without two of them
    named_bases:     host and port that the server named in its base address and are not those that were reached
    receive_window_bytes, segments_out_of_order: of the TCP connection at the end, where the system tells
    losses:          where packets are missing, where that was asked for
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
    changes: tuple[tuple[float, str], ...] = ()
    sizes: tuple[tuple[int, int], ...] = ()
    shots: tuple[Shot, ...] = field(default=(), repr=False)
    began_s: float = 0.0
    stopped_at: datetime | None = None
    sender_clock_ratio: float | None = None
    named_bases: tuple[str, ...] = ()
    receive_window_bytes: int | None = None
    segments_out_of_order: int | None = None
    no_parameter_sets: bool = False
    size_not_told: bool = False
    losses: LossPlaces | None = None

    def without_pictures(self) -> StreamMeasurement:
        """The same without the bytes of its pictures: they are large."""
        bare = replace(self.key_picture, data=b"") if self.key_picture else None
        shots = tuple(replace(shot, picture=replace(shot.picture, data=b"")) for shot in self.shots)
        return replace(self, key_picture=bare, shots=shots)


class StreamMeter:
    """Feed packets as they arrive; ask for the result at the end.

    started_s:   when connecting began, on the clock of the arrival times
    with_jitter: packets arrive each by itself, not as a socket is read
    duration_s:  how long it is measured; 0: its first key picture is all that is wanted of pictures
    losses:      where it is wanted which packets are missing
    """

    def __init__(
        self,
        media: Media,
        started_s: float,
        *,
        with_jitter: bool = True,
        duration_s: float = 0.0,
        losses: LossWatch | None = None,
    ) -> None:
        self.media = media
        self.started_s = started_s
        self.malformed = 0
        self.ended_early = False
        self.other_types: Counter[int] = Counter()
        self.described_type = media.payload_type
        self._digest = Digest(media.clock_hz, with_jitter=with_jitter)
        self._ssrc: int | None = None
        self._base = self._highest = self._received = 0  # of the source: numbers without their wrap, for the reports
        self._reported = (0, 0)
        self._first_arrival_s: float | None = None
        self._last_arrival_s = 0.0
        self._formats = FormatWatch(media)
        self._sender = rtcp.SenderClock(media.clock_hz)
        self._first = KeyFinder(media)
        self._finders = [self._first]
        self._due_s = [share * duration_s for share in _SHOTS[1:]] if duration_s else []
        self._quiet = QuietWatch(media.codec)
        self._losses = losses

    @property
    def began_s(self) -> float:
        """When the first packet came, on the clock of the arrival times."""
        return self._first_arrival_s or 0.0

    @property
    def wants_packets(self) -> bool:
        """Whether whole packets are of use: until each key picture that is to be kept is there."""
        return self._finders[-1].wanted

    @property
    def seems_still(self) -> bool:
        """Whether pictures come in which nothing changes, or it is not known yet."""
        return self._quiet.since_s is not None or not self._quiet.known

    def due_in(self, now_s: float) -> float:
        """How long until `tick` has something to do, by what is known now [s]."""
        if self._first_arrival_s is None or not self._due_s or self.wants_packets or len(self._finders) >= _MAX_SHOTS:
            return math.inf
        return max(0.01, self._first_arrival_s + self._due_s[0] - now_s)

    def tick(self, now_s: float) -> None:
        """Called now and then: another key picture is wanted when its time has come, and where nothing seems to change."""
        if self._first_arrival_s is None or self.wants_packets or len(self._finders) >= _MAX_SHOTS:
            return
        after_s = now_s - self._first_arrival_s
        due = bool(self._due_s) and after_s >= self._due_s[0]
        while self._due_s and after_s >= self._due_s[0]:
            self._due_s.pop(0)
        since_s = self._quiet.since_s
        if since_s is not None and now_s - self._finders[-1].arrival_s >= STILL_AFTER_S:
            # Two key pictures within the quiet time tell: one of them may be there.
            due |= sum(finder.arrival_s >= since_s - STILL_AFTER_S for finder in self._finders) < 2
        if due and self._first.key is not None:
            finder = KeyFinder(self.media)
            finder.ssrc = self._ssrc
            self._finders.append(finder)

    def take(
        self,
        raw: bytes | bytearray,
        arrivals_s: Sequence[float],
        odd: Sequence[tuple[int, bytes]] = (),
        *,
        last: bool = False,
    ) -> None:
        """What came since the last time: raw records (`packet_log`), the arrival of each [s], and by their row those that must
        be looked at whole. `last`: nothing comes after them.
        """
        if not len(arrivals_s):
            return
        self._first.sample(raw)
        if self._losses is not None:
            self._losses.take(raw)
        rows = records_of(raw, arrivals_s, odd, self.media.codec, self.media.payload_type)
        self.other_types.update(rows.others)
        if self._ssrc is None and len(rows.records) and (rows.records["flags"] & OTHER).all() and self._adopt():
            rows = records_of(raw, arrivals_s, odd, self.media.codec, self.media.payload_type)
        self.malformed += rows.malformed
        records = rows.records
        if rows.others:
            # Of another source they are another stream; of ours, their numbers came.
            own = (records["flags"] & OTHER) == 0
            ours = self._ssrc if self._ssrc is not None or not own.any() else records["ssrc"][own.argmax()]
            records = records[own | (records["ssrc"] == ours)]
        whole = len(rows.records) == len(arrivals_s)
        self._formats.take(raw, rows.records["flags"] if whole else None, float(arrivals_s[0]))
        for arrival_s, packet in rows.headers:
            if self._ssrc in (None, packet.ssrc):
                self._formats.header(arrival_s, packet)
        if len(records):
            if self._first_arrival_s is None:
                self._first_arrival_s = float(records["arrival_s"][0])
            self._digest.add(records, last=last)
            self._follow(records)
            self._quiet.take(records)

    def _adopt(self) -> bool:
        """Nothing comes of the payload type that is described: whether another one can be measured in its place."""
        kind, count = self.other_types.most_common(1)[0]
        if count < _LEAST_TYPE:
            return False
        self.media = replace(self.media, payload_type=kind)
        self._first.media = self._formats.media = self.media
        del self.other_types[kind]
        return True

    def add_rtp(self, data: bytes, arrival_s: float) -> None:
        """One packet. Raises RemoteProtocolError on what is no RTP packet."""
        RtpPacket.parse(data)
        raw = (struct.pack("!BBH", 0x24, 0, len(data)) + data)[: RAW.itemsize].ljust(RAW.itemsize, b"\0")
        self.take(raw, [arrival_s], [(0, data)])
        self.look([(data, arrival_s)])

    def _follow(self, records: Records) -> None:
        """Which source is measured now, and how far its numbers have come: for the reports."""
        if self._ssrc is None:
            self._begin(int(records["ssrc"][0]), int(records["sequence"][0]))
        own = records["ssrc"] == self._ssrc
        if not own.any():
            if records["arrival_s"][0] - self._last_arrival_s <= _SILENT_S:
                return
            self._begin(int(records["ssrc"][0]), int(records["sequence"][0]))
            own = records["ssrc"] == self._ssrc
        mine = records if own.all() else records[own]
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

    def begins(self, raw: bytes | bytearray) -> int:
        """From which of these records on packets are wanted whole; -1 is from none."""
        return first_that_begins(self.media.codec, raw)

    def look(self, packets: Iterable[tuple[bytes, float]]) -> None:
        """Look for a key picture in whole packets, in the order in which they came; with the arrival of each [s]."""
        for data, arrival_s in packets:
            finder = self._finders[-1]
            if not finder.wanted:
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

    def add_rtcp(self, data: bytes, after: int = 0) -> None:
        """Sender reports tell how the source's clock goes; a source that says it ends has ended. `after`: how many packets came
        before it. Raises RemoteProtocolError.
        """
        for report in rtcp.parse(data):
            if not isinstance(report, rtcp.SenderReport):
                continue
            if self._losses is not None:
                self._losses.report(report, after)
            if report.ssrc == self._ssrc:
                self._sender.add(report)
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
        finder = self._first
        seen = [figures for _, figures in self._formats.formats]
        picture = seen[0] if seen else finder.format or (finder.described_format() if finder.key else None)
        jumped = self._digest.has_jumped
        ratio = None if jumped else self._sender.ratio
        figures = self._digest.figures(until_s, clock_is_right=ratio is not None and abs(ratio - 1) <= CLOCK_TOLERANCE)
        if transport == "tcp":
            # Over TCP packets arrive as the socket is read: how evenly says nothing of the network (RFC 3550 clause 6.4.1).
            figures = replace(figures, jitter_ms=None, jitter_worst_ms=None)
        sizes = [(f.width_px, f.height_px) for f in seen] or (
            [(picture.width_px, picture.height_px)] if picture else []
        )
        return StreamMeasurement(
            **vars(figures),
            transport=transport,
            codec=self.media.codec,
            profile=picture.profile if picture else "",
            width_px=picture.width_px if picture else None,
            height_px=picture.height_px if picture else None,
            packets_malformed=self.malformed + finder.malformed,
            first_picture_s=finder.arrival_s - self.started_s if finder.key else None,
            ended_early=self.ended_early,
            key_picture=finder.key,
            shots=tuple(self._shots()),
            sizes=tuple(dict.fromkeys(sizes)),
            changes=tuple(self._changes(figures)),
            named_hosts=named_hosts,
            sender_clock_ratio=ratio,
            no_parameter_sets=not self._formats.has_sets,
            size_not_told=self._formats.size_missing and not seen,
            contradictions=tuple(self._contradictions(figures)),
            losses=self._losses.result(self._ssrc) if self._losses is not None else None,
        )

    def _shots(self) -> Iterator[Shot]:
        before_s = None
        for finder in self._finders:
            if finder.key is not None:
                quiet = before_s is not None and self._quiet.lasted(before_s, finder.arrival_s)
                yield Shot(finder.key, finder.arrival_s - (self._first_arrival_s or 0.0), quiet)
                before_s = finder.arrival_s

    def _changes(self, figures: Figures) -> Iterator[tuple[float, str]]:
        """What became otherwise while it played, in the order of time."""
        began_s = self._first_arrival_s or 0.0
        found: list[tuple[float, str]] = []
        for (_, one), (at_s, other) in pairwise(self._formats.formats):
            if (one.width_px, one.height_px) != (other.width_px, other.height_px):
                what = f"{one.width_px}x{one.height_px} became {other.width_px}x{other.height_px}"
            else:
                what = f"profile {one.profile or 'not told'} became {other.profile or 'not told'}"
            found.append((at_s - began_s, what))
        for at_s, codec in self._formats.codecs if self._first.key is not None else ():
            found.append((at_s - began_s, f"{self.media.codec} became {codec}"))
        if figures.rate_step is not None:
            step = figures.rate_step
            found.append((step.after_s, f"{step.before:.1f} frames/s became {step.after:.1f} frames/s"))
        if figures.stamp_jumps:
            jump, more = figures.stamp_jumps[0], len(figures.stamp_jumps) - 1
            before, after = (f"{fps:.1f} frames/s" if fps else "not known" for fps in jump.fps)
            text = f"its time stamps jump {'ahead' if jump.by_s > 0 else 'back'} by {abs(jump.by_s):.1f} s ({before} before, "
            found.append((jump.after_s, text + f"{after} after{f'; {more} more such jumps' if more else ''})"))
        yield from sorted(found)

    def _contradictions(self, figures: Figures) -> Iterator[str]:
        """What the description says and the stream does not do."""
        other = self._first.other_codec()
        if other is not None:
            yield f"described as {self.media.codec}, the packets look like {other}"
        if self.media.payload_type != self.described_type:
            yield (
                f"described as payload type {self.described_type}, {figures.packets_received} packets came as payload type "
                f"{self.media.payload_type}, which is measured"
            )
        elif self.other_types:
            kinds = ", ".join(f"{count} of payload type {kind}" for kind, count in self.other_types.most_common(3))
            yield f"described as payload type {self.described_type}; beside it came packets: {kinds}"
        if not self._formats.has_sets and figures.packets_received:
            yield f"{self.media.codec} without parameter sets, neither described nor in the stream: no decoder can begin"
        if self._formats.size_missing and not self._formats.formats:
            yield "JPEG pictures of width and height 0: wider or higher than 2040 pixels, and their size is not told beside it"
        if figures.same_stamp:
            yield f"{figures.same_stamp} pictures under the time stamp of the picture before"
        described, sent = self._first.described_format(), self._first.format
        if described and sent and (described.width_px, described.height_px) != (sent.width_px, sent.height_px):
            yield (
                f"described as {described.width_px}x{described.height_px}, "
                f"the pictures are {sent.width_px}x{sent.height_px}"
            )
        rate = self.media.framerate_fps
        steady = not figures.rate_varies and figures.rate_step is None and figures.packets_lost == 0
        if rate and figures.fps and steady and abs(figures.fps - rate) > max(1, _RATE_TOLERANCE * rate):
            yield f"described as {rate:g} frames/s, {figures.fps:.1f} frames/s come"
