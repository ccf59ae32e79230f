"""Streams that change while they play, whose truth is written down: packets by hand, in time of arrival and time stamp."""

from __future__ import annotations

import random
import struct
from collections.abc import Iterable, Iterator

import pytest

from test_figures import Packets, stream
from test_video import encode
from zentrale.protocols import h264, rtcp
from zentrale.protocols.jpeg import picture_size
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.formats import MAX_FORMATS, FormatWatch
from zentrale.protocols.streams.meter import StreamMeasurement, StreamMeter
from zentrale.protocols.streams.packet_log import OTHER, records_of
from zentrale.protocols.video import split_annex_b

H264 = Media("video", payload_type=96, codec="H264")
SLICE = b"\x41\x9a" + bytes(98)


def at_intervals(*intervals_s: float, key_each: int = 10_000) -> Packets:
    """One packet a picture, that far apart, as it comes and by its time stamp alike."""
    packets, at_s = [], 0.0
    for number, interval_s in enumerate((0.0, *intervals_s)):
        at_s += interval_s
        payload = b"\x65\x88" + bytes(98) if number % key_each == 0 else SLICE
        packets.append((at_s, RtpPacket(96, number, round(at_s * 90_000), 7, payload, marker=True)))
    return packets


def measured(
    packets: Iterable[tuple[float, RtpPacket]],
    until_s: float,
    media: Media = H264,
    reports: Iterable[rtcp.SenderReport] = (),
    transport: str = "tcp",
) -> StreamMeasurement:
    meter = StreamMeter(media, 0.0)
    for at_s, packet in packets:
        meter.add_rtp(packet.serialize(), 1000 + at_s)
    for report in reports:
        meter.add_rtcp(rtcp.serialize_sender_report(report, "camera"))
    return meter.result(transport, until_s=1000 + until_s)


def test_a_steady_rate_is_the_same_in_each_second_and_a_step_of_it_is_told_once() -> None:
    even = measured(at_intervals(*[0.08] * 100), 8.0)  # 12.5 frames/s
    assert even.fps == pytest.approx(12.5) and even.fps_by_second == pytest.approx([12.5] * 8)
    assert even.rate_varies is False and even.rate_step is None and even.changes == ()
    step = measured(at_intervals(*[0.04] * 75, *[0.1] * 30), 6.0)  # three seconds of 25, three of 10
    assert step.rate_step is not None and step.rate_varies is False
    assert (step.rate_step.after_s, step.rate_step.before, step.rate_step.after) == pytest.approx((3.0, 25.0, 10.0))
    assert [what for _, what in step.changes] == ["25.0 frames/s became 10.0 frames/s"]


def test_a_smart_codec_is_recognised_and_its_slow_seconds_are_no_pauses() -> None:
    """25 frames/s, then a picture in 0.75 s for six seconds, then 25 again."""
    smart = measured(at_intervals(*[0.04] * 50, *[0.75] * 8, *[0.04] * 50), 10.0)
    assert smart.rate_varies and smart.rate_step is None
    told = [rate for rate in smart.fps_by_second if rate == rate]
    assert min(told) == pytest.approx(4 / 3) and max(told) == pytest.approx(25.0)
    assert [round(p.length_s, 2) for p in smart.pauses] == [0.75] * 8
    assert all(p.interval_s == pytest.approx(0.75, abs=0.01) for p in smart.pauses)
    # The same gap in the middle of an even stream is one: pictures around it are 40 ms apart.
    pause = measured(at_intervals(*[0.04] * 50, 1.5, *[0.04] * 75), 6.5)
    assert [(round(p.after_s, 2), round(p.length_s, 2), p.ends) for p in pause.pauses] == [(2.0, 1.5, True)]
    assert pause.pauses[0].interval_s == pytest.approx(0.04) and not pause.rate_varies


def test_a_stream_that_stops_is_told_with_its_end() -> None:
    stopped = measured(at_intervals(*[0.04] * 50), 5.0)
    assert [(round(p.after_s, 2), round(p.length_s, 2), p.ends) for p in stopped.pauses] == [(2.0, 3.0, False)]


@pytest.mark.parametrize(("by_s", "told"), [(3600.0, "ahead by 3600.0 s"), (-100.0, "back by 100.0 s")])
def test_time_stamps_that_jump_are_told_once_with_the_rates_on_both_sides(by_s: float, told: str) -> None:
    packets = at_intervals(*[0.04] * 150)
    jumped = [
        (at_s, p._replace(timestamp=(p.timestamp + int(by_s * 90_000)) & 0xFFFFFFFF) if at_s > 3.01 else p)
        for at_s, p in ((at_s, p._replace(timestamp=p.timestamp + 10_000_000)) for at_s, p in packets)
    ]
    found = measured(jumped, 6.0)
    ((after_s, what),) = found.changes
    assert after_s == pytest.approx(3.04) and what.startswith(f"its time stamps jump {told}")
    assert "25.0 frames/s before, 25.0 frames/s after" in what and found.fps == pytest.approx(25.0)
    assert found.clock_ratio == pytest.approx(1.0, abs=0.02), "a jump is no wrong clock"


def test_two_pictures_under_one_time_stamp_are_two() -> None:
    packets = [(at_s, p._replace(timestamp=p.timestamp // 7200 * 7200)) for at_s, p in at_intervals(*[0.04] * 99)]
    found = measured(packets, 4.0)
    assert found.frames == 100 and found.same_stamp == 50 and found.fps == pytest.approx(25.0, abs=0.3)
    slices = [  # two slices of one picture are no two pictures: the second begins further down (first_mb_in_slice 1)
        (at_s, part)
        for at_s, p in at_intervals(*[0.04] * 20)
        for part in (
            p._replace(sequence=2 * p.sequence, marker=False),
            p._replace(sequence=2 * p.sequence + 1, payload=b"\x41\x4d" + bytes(40)),
        )
    ]
    assert measured(slices, 1.0).same_stamp == 0


def test_each_parameter_set_is_looked_at_and_one_that_is_sent_again_changes_nothing() -> None:
    def pictures() -> Iterator[bytes]:
        yield from encode("libx264", 320, 192, 20, 10)
        yield from encode("libx264", 640, 368, 20, 10)

    packets, number = [], 0
    for index, picture in enumerate(pictures()):
        for payload, marker in h264.packetize(split_annex_b(picture), 400):
            packets.append((index / 25, RtpPacket(96, number, 3600 * index, 7, payload, marker)))
            number += 1
    found = measured(packets, 1.6)
    assert found.sizes == ((320, 192), (640, 368)) and (found.width_px, found.height_px) == (320, 192)
    ((after_s, what),) = found.changes
    assert after_s == pytest.approx(0.8) and what == "320x192 became 640x368"
    sets = [p for _, p in packets if p.payload[0] & 0x1F in (7, 8)]
    without = measured([(at, p) for at, p in packets if p not in sets], 1.6)
    assert without.no_parameter_sets and any("without parameter sets" in told for told in without.contradictions)


def test_packets_of_another_payload_type_are_counted_and_lose_nobody_anything() -> None:
    whole = stream(50)
    mixed = [(at_s, p._replace(payload_type=101) if n % 20 == 5 else p) for n, (at_s, p) in enumerate(whole)]
    lost = measured(mixed, 2.0, transport="udp")
    others = len(whole[5::20])
    assert (lost.packets_received, lost.packets_lost, lost.packets_of_others) == (len(whole) - others, 0, others)
    assert [c for c in lost.contradictions if f"{others} of payload type 101" in c]
    all_other = measured([(at_s, p._replace(payload_type=97)) for at_s, p in whole], 2.0)
    assert all_other.frames > 40 and all_other.packets_lost == 0
    assert [c for c in all_other.contradictions if "described as payload type 96" in c and "payload type 97" in c]


def test_what_is_missing_at_the_end_is_open_and_what_is_missing_before_is_lost() -> None:
    whole = at_intervals(*[0.04] * 100)
    missing = [entry for number, entry in enumerate(whole) if number not in (20, 97, 98)]
    found = measured(missing, 4.05, transport="udp")
    assert (found.packets_lost, found.packets_open, found.frames_damaged) == (1, 2, 0)
    assert found.packets_expected == 101 == found.packets_received + 3
    late = measured(missing, 5.5, transport="udp")
    assert (late.packets_lost, late.packets_open) == (3, 0), "a second later nothing comes any more"


def test_a_packet_cut_to_its_first_bytes_has_the_length_that_the_socket_tells() -> None:
    """RFC 3550 clause 5.1: how much of a packet is padding stands in its last byte, which was not kept."""
    packet = struct.pack("!BBHII", 0xA0, 96, 7, 0, 9) + SLICE * 9 + bytes(19) + b"\x14"
    raw = (b"$\0" + len(packet).to_bytes(2, "big") + packet)[:20]
    cut = records_of(raw, [1.0], [(0, packet[:256])], "H264", 96)
    assert not cut.malformed and int(cut.records["size_bytes"][0]) == len(packet) - 12
    whole = records_of(raw, [1.0], [(0, packet)], "H264", 96)
    assert int(whole.records["size_bytes"][0]) == len(SLICE * 9)
    assert not int(whole.records["flags"][0]) & OTHER


@pytest.mark.parametrize(("stamps", "ratio"), [(1.0, 1.0), (0.5, 0.5)])
def test_sender_reports_tell_a_narrow_path_from_a_wrong_clock(stamps: float, ratio: float) -> None:
    """The same packets, half as fast as their time stamps say: by its reports the clock goes right, or it does not."""
    packets = [(2 * at_s, p) for at_s, p in at_intervals(*[0.04] * 100, key_each=25)]
    reports = [rtcp.SenderReport(7, 1_700_000_000 + s, int(s * 90_000 * stamps), 0, 0) for s in (0, 5)]
    found = measured(packets, 8.0, reports=reports)
    assert found.clock_ratio == pytest.approx(0.5, abs=0.02) and found.sender_clock_ratio == pytest.approx(ratio)
    assert found.behind_s == pytest.approx(3.5, abs=0.1)
    assert found.fps == pytest.approx(25.0 if stamps == 1 else 12.5)


def test_jpeg_pictures_that_are_too_wide_for_their_header_tell_their_size_beside_it() -> None:
    """RFC 2435 clause 3.1.5 ends at 2040 pixels; ONVIF puts a frame header (ISO/IEC 10918-1 table B.2) beside it."""
    begin = bytes.fromhex("00 000000 01 ff 00 00")
    sof = bytes.fromhex("ffc0 0011 08 05a0 0a00 03 012200 021101 031101")
    assert picture_size(begin, (0xFFD8, b"\xff" * 3 + sof + b"\xff")) == (2560, 1440)
    assert picture_size(begin, (0xFFD8, bytes.fromhex("ffdb0004 0000") + sof)) == (2560, 1440), "behind another segment"
    assert picture_size(begin, None) is None and picture_size(begin, (0xABAC, sof)) is None
    assert picture_size(bytes.fromhex("00 000000 01 ff 50 2d"), None) == (640, 360)
    for hostile in (b"", b"\xff", bytes.fromhex("ffc00000"), bytes.fromhex("ffc0 0011 08 0000 0000 03 0122000211")):
        assert picture_size(begin, (0xFFD8, hostile)) is None


def test_another_codec_under_the_same_payload_type_is_told() -> None:
    """From H.264 to H.265 while it plays: headers of one byte, then of two (RFC 6184 clause 1.3, RFC 7798 clause 1.1.4)."""
    packets: Packets = []
    number = 0
    for codec, pictures in (("libx264", 30), ("libx265", 60)):
        for picture in encode(codec, 320, 192, pictures, 10):
            units = split_annex_b(picture)
            for index, unit in enumerate(units):
                packet = RtpPacket(96, number, 3600 * len(packets), 7, unit[:1400], index == len(units) - 1)
                packets.append((number / 100, packet))
                number += 1
    meter = StreamMeter(H264, 0.0)
    for begin in range(0, len(packets), 64):  # as a socket is read
        part = packets[begin : begin + 64]
        heads = [b"$\0" + len(data).to_bytes(2, "big") + data for data in (p.serialize() for _, p in part)]
        odd = [(row, head[4:]) for row, head in enumerate(heads) if head[16] & 0x1F in (6, 7, 8)]
        meter.take(b"".join(head[:20].ljust(20, b"\0") for head in heads), [1000 + at for at, _ in part], odd)
        meter.look([(p.serialize(), 1000 + at) for at, p in part])
    assert [what for _, what in meter.result("tcp").changes if "H265" in what] == ["H264 became H265"]


def test_nonsense_is_measured_and_not_kept() -> None:
    """Time stamps at random, and a new parameter set in each packet: no more of either is kept than a stream can have."""
    chance = random.Random(3)
    packets = [(n / 25, RtpPacket(96, n, chance.getrandbits(32), 7, SLICE, marker=True)) for n in range(400)]
    found = measured(packets, 16.0)
    assert found.packets_received == 400 and len(found.stamp_jumps) <= 16 and len(found.changes) <= 2
    watch = FormatWatch(H264)
    for number in range(3000):
        unit = b"\x67\x42\x00\x1e" + chance.randbytes(12)
        watch.header(float(number), RtpPacket(96, number, 0, 7, unit, marker=True))
    assert len(watch.formats) <= MAX_FORMATS
