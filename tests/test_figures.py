"""Figures of streams whose truth is known: packets written down, and what follows from them worked out by hand."""

from __future__ import annotations

import asyncio
import random
import socket
import struct
import time
from collections.abc import Callable
from functools import partial

import pytest

from reference_meter import ReferenceMeter, recorded
from test_video import encode
from zentrale.field.intake import Connection
from zentrale.field.pace import Reading
from zentrale.protocols import h264, rtcp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams import folding as sums
from zentrale.protocols.streams.figures import Digest, Figures, figures
from zentrale.protocols.streams.meter import StreamMeter
from zentrale.protocols.streams.packet_log import KEY, PICTURE, REFRESH, START, may_begin
from zentrale.protocols.streams.packet_order import PacketOrder
from zentrale.protocols.video import split_annex_b

Packets = list[tuple[float, RtpPacket]]
# Ten seconds at 25 pictures/s, a key picture each 50, of 12 packets; 3 packets in each other. Payload: 2 + 1000 bytes.
FPS, GROUP, KEY_PACKETS, OTHER_PACKETS, PAYLOAD = 25, 50, 12, 3, 1002
IN_A_GROUP = KEY_PACKETS + (GROUP - 1) * OTHER_PACKETS  # 159 packets in 2 s
BITRATE = 8 * PAYLOAD * IN_A_GROUP / 2


def stream(pictures: int = 250, *, first: int = 65_000, marker: bool = True, rate: float = 1.0) -> Packets:
    """FU-A fragments of IDR and other slices (RFC 6184 clause 5.8), the sequence wrapping on the way."""
    packets, number = [], first
    for index in range(pictures):
        key = index % GROUP == 0
        count = KEY_PACKETS if key else OTHER_PACKETS
        for part in range(count):
            header = (5 if key else 1) | (0x80 if part == 0 else 0) | (0x40 if part == count - 1 else 0)
            stamp = int(index * 90_000 / FPS * rate) & 0xFFFFFFFF
            last = marker and part == count - 1
            packet = RtpPacket(96, number & 0xFFFF, stamp, 7, bytes([0x7C, header]) + bytes(1000), last)
            packets.append((index / FPS, packet))
            number += 1
    return packets


def measured(packets: Packets, until_s: float | None = None, codec: str = "H264") -> Figures:
    records = recorded(((100 + at, packet) for at, packet in packets), codec)
    return figures(records, 90_000, None if until_s is None else 100 + until_s)


def swapped(packets: Packets) -> Packets:
    """One pair in fifty packets the other way round; the times of arrival stay."""
    order = [p for _, p in packets]
    for i in range(10, len(order) - 1, 50):
        order[i], order[i + 1] = order[i + 1], order[i]
    return [(at, p) for (at, _), p in zip(packets, order, strict=True)]


def some(packets: Packets, share: float) -> Packets:
    chance = random.Random(4)
    return [p for p in packets if chance.random() > share]


def twice(packets: Packets) -> Packets:
    return [p for i, p in enumerate(packets) for _ in range(1 + (i % 40 == 7))]


def renumbered(packets: Packets, ssrc: int, by: int) -> Packets:
    """From packet 400 on, which is within a picture, as a server sends that began anew."""
    return [
        (at, p if i < 400 else p._replace(ssrc=ssrc, sequence=(p.sequence + by) & 0xFFFF))
        for i, (at, p) in enumerate(packets)
    ]


def check(found: Figures, **wanted: object) -> None:
    assert {name: getattr(found, name) for name in wanted} == wanted


def test_the_plain_case_is_exact() -> None:
    found = measured(stream())
    check(found, packets_received=5 * IN_A_GROUP, packets_lost=0, frames=250, frames_damaged=0, packets_reordered=0)
    assert (found.fps, found.keyframe_interval_s, found.bitrate_bps) == (25.0, 2.0, BITRATE)
    assert found.longest_gap_s == pytest.approx(0.04) and found.clock_ratio == pytest.approx(1)
    low, high = min(found.bitrate_by_second), max(found.bitrate_by_second)
    assert low <= BITRATE <= high and sum(found.bitrate_by_second) == 8 * PAYLOAD * 5 * IN_A_GROUP


@pytest.mark.parametrize("marker", [True, False])
def test_reordering_and_doubles_change_no_other_figure(marker: bool) -> None:
    plain = measured(stream(marker=marker))
    for change, told in (
        (swapped, {"packets_reordered": 16, "reorder_depth": 1}),
        (twice, {"packets_doubled": 20, "packets_reordered": 0}),
    ):
        found = measured(change(stream(marker=marker)))
        check(found, packets_lost=0, frames=plain.frames, frames_damaged=0, packets_late=0, **told)
        assert (found.fps, found.keyframe_interval_s, found.bitrate_bps) == (25.0, 2.0, BITRATE)


@pytest.mark.parametrize("share", [0.01, 0.05])
def test_loss_bends_neither_frame_rate_nor_key_frame_interval(share: float) -> None:
    whole, left = stream(), some(stream(), share)
    found = measured(left)
    check(found, packets_received=len(left), packets_lost=len(whole) - len(left))
    assert found.fps == pytest.approx(25, rel=0.002) and found.keyframe_interval_s == 2.0
    assert found.bitrate_bps == pytest.approx(BITRATE * (1 - share), rel=0.02)
    kept = {p.sequence for _, p in left}
    broken = {p.timestamp for _, p in whole if p.sequence not in kept}
    entire = {t for t in broken if not any(p.timestamp == t for _, p in left)}
    assert len(broken - entire) <= found.frames_damaged <= len(broken) + 1


@pytest.mark.parametrize(
    "change",
    [list, swapped, partial(some, share=0.02), twice, partial(renumbered, ssrc=9, by=777),
     partial(renumbered, ssrc=7, by=20_000), partial(renumbered, ssrc=7, by=-20_000)],
)  # fmt: skip
def test_hours_are_folded_as_they_come_and_the_figures_stay_those_of_the_whole(
    change: Callable[[Packets], Packets],
) -> None:
    whole = change(stream(3000))
    digest, records = Digest(90_000), recorded((100 + at, packet) for at, packet in whole)
    for begin in range(0, len(records), 700):
        digest.add(records[begin : begin + 700])
    folded, at_once = digest.figures(230.0), figures(records, 90_000, 230.0)
    for name, value in vars(at_once).items():
        alike = isinstance(value, float) or name == "fps_by_second"
        assert getattr(folded, name) == (pytest.approx(value, nan_ok=True) if alike else value), name
    assert digest.waiting < 6000, "what was folded is not kept"


def test_what_is_kept_of_hours_is_little_and_right(monkeypatch: pytest.MonkeyPatch) -> None:
    """20,000 pictures of a packet each, after one key picture: 25 a second, the last half minute of them second by second."""
    monkeypatch.setattr(sums, "_SECONDS", 30)
    packets = [
        (n / 25, RtpPacket(96, n & 0xFFFF, n * 3600, 7, bytes([0x65 if not n else 0x41]) + bytes(n % 100), True))
        for n in range(20_000)
    ]
    digest = Digest(90_000)
    for begin in range(0, len(packets), 1000):
        digest.add(recorded(packets[begin : begin + 1000]))
    found = digest.figures()
    check(found, frames=20_000, packets_lost=0, packets_doubled=0)
    assert found.fps == pytest.approx(25, rel=1e-6) and found.bitrate_bps == pytest.approx(8 * 50.5 * 25, rel=0.002)
    second = [8 * sum(range(first, first + 25)) for first in (1, 26, 51, 76)]
    assert found.bitrate_by_second == tuple(second[number % 4] for number in range(770, 800))


def test_a_new_source_or_a_jump_is_measured_on_and_told() -> None:
    found = measured(renumbered(stream(), 9, 777))
    check(found, source_changes=1, sequence_jumps=0, packets_lost=0, packets_foreign=0)
    assert found.fps == pytest.approx(25, rel=0.002) and found.keyframe_interval_s == 2.0
    found = measured(renumbered(stream(), 7, 20_000))
    check(found, source_changes=0, sequence_jumps=1, packets_lost=0)
    beside = [(at, p._replace(ssrc=9)) for at, p in stream()[1::3]]
    found = measured(sorted(stream() + beside, key=lambda item: item[0]))
    check(found, packets_foreign=len(beside), source_changes=0, packets_received=5 * IN_A_GROUP)


def test_a_source_that_sends_a_moment_longer_has_a_successor_all_the_same() -> None:
    """The new one begins while the last packets of the old one are on their way; one single packet of a third is nobody's."""
    old = stream(100)
    new = [(at, p._replace(ssrc=9)) for at, p in stream(200)[len(old) :]]
    late = [(new[3][0] + 1e-6, old.pop()[1]), (new[9][0] + 1e-6, old.pop()[1])]
    alone = [(9.0, old[0][1]._replace(ssrc=11))]
    found = measured(sorted(old + late + new + alone, key=lambda item: item[0]))
    check(found, source_changes=1, packets_foreign=1, packets_lost=0, packets_received=len(old) + len(late) + len(new))


def test_a_picture_that_lost_its_end_is_told_also_where_the_next_one_is_whole() -> None:
    whole = stream(100)
    at = next(i for i, (_, p) in enumerate(whole) if p.marker and i > 200)
    for gone, damaged in (([at], 1), ([at - 2], 1), ([at - 1], 1), ([at - 2, at - 1, at], 0)):
        found = measured([p for i, p in enumerate(whole) if i not in gone])
        check(found, packets_lost=len(gone), frames_damaged=damaged)
        assert found.fps == pytest.approx(25, rel=0.002)


def test_a_stream_that_stops_is_seen_to() -> None:
    paused = [(at + (3 if at > 5 else 0), p) for at, p in stream()]
    assert measured(paused).longest_gap_s == pytest.approx(3.04)
    assert measured(stream(100), until_s=7).longest_gap_s == pytest.approx(7 - 99 / 25), "silence up to the end counts"
    meter = StreamMeter(Media("video", payload_type=96, codec="H264"), 0.0)
    for at, packet in stream(10):
        meter.add_rtp(packet.serialize(), at)
    bye = struct.pack("!BBHI", 0x80, rtcp.RECEIVER_REPORT, 1, 5) + struct.pack("!BBHI", 0x81, rtcp.BYE, 1, 7)
    meter.add_rtcp(bye.replace(struct.pack("!I", 7), struct.pack("!I", 8)))
    assert not meter.result("tcp").ended_early, "somebody else went"
    meter.add_rtcp(bye)
    assert meter.result("tcp").ended_early


@pytest.mark.parametrize(("rate", "fps"), [(1.2, 25 / 1.2), (0.9, 25 / 0.9), (3.0, 25.0)])
def test_a_wrong_media_clock_is_told_and_beyond_belief_not_used(rate: float, fps: float) -> None:
    found = measured(stream(rate=rate))
    assert found.clock_ratio == pytest.approx(rate, rel=0.01) and found.fps == pytest.approx(fps, rel=0.01)


def test_pictures_that_are_not_sent_as_they_are_shown_have_one_rate() -> None:
    """I P B B P B B: the B pictures are shown before the P picture they follow (25/s, a group of 48)."""
    packets, number = [], 0
    for group in range(5):
        shown = [0, *(n for p in range(3, 48, 3) for n in (p, p - 2, p - 1)), 46, 47]
        for index, place in enumerate(shown):
            kind = 5 if index == 0 else 1
            stamp = 3600 * (48 * group + place)
            packets.append(
                ((48 * group + index) / 25, RtpPacket(96, number, stamp, 7, bytes([kind]) + bytes(99), True))
            )
            number += 1
    found = measured(packets)
    assert found.fps == pytest.approx(25, rel=0.002) and found.keyframe_interval_s == pytest.approx(48 / 25)


@pytest.mark.parametrize(
    ("codec", "payload", "flags"),
    [
        ("H264", b"\x65\x88", KEY | START), ("H264", b"\x41\x9a", START), ("H264", b"\x06\x06\x01\x80", KEY | START),
        ("H264", b"\x06\x05\x01\x77\x06\x01\x15", KEY | START | REFRESH), ("H265", b"\x4e\x01\x06\x01\x80", KEY | START),
        ("H264", b"\x06\x05\x01", START), ("H264", b"\x7c\x85", KEY | START), ("H264", b"\x7c\x05", KEY),
        ("H264", b"\x7c\x41", 0), ("H264", b"\x78\x00\x02\x67\x42\x00\x02\x65\x88", KEY | START), ("H264", b"", 0),
        ("H265", b"\x26\x01\xaf", KEY | START), ("H265", b"\x02\x01\xd0", START), ("H265", b"\x2a\x01\xaf", KEY | START),
        ("H265", b"\x62\x01\x93", KEY | START), ("H265", b"\x62\x01\x13", KEY), ("H265", b"\x62\x01\x01", 0),
        ("H264", b"\x7c\x80\x00", START), ("H265", b"\x2e\x01\xaf", KEY | START), ("H265", b"\x30\x01\xaf", START),
        ("H265", b"\x60\x01\x01\x02\x02\x01" + b"\x26" * 256 + b"\x00\x02\x02\x01", START),
        ("H265", b"\x60\x01\x00\x02\x40\x01\x00\x02\x26\x01", KEY | START),
        ("JPEG", b"\x00\x00\x00\x00\x01", KEY | START), ("JPEG", b"\x00\x00\x05\x00\x01", KEY), ("VP8", b"x", START),
    ],
)  # fmt: skip
def test_what_a_payload_begins_is_told_by_its_first_bytes(codec: str, payload: bytes, flags: int) -> None:
    """ITU-T H.264 table 7-1 and clause D.1, RFC 6184; ITU-T H.265 table 7-1, RFC 7798; RFC 2435."""
    for content in (payload, payload + bytes(9) if payload else payload):  # also where its first 16 bytes are enough
        assert int(recorded([(0.0, RtpPacket(96, 1, 0, 7, content))], codec)["flags"][0]) & ~PICTURE == flags


@pytest.mark.parametrize(
    ("codec", "begin", "other"),
    [
        ("H264", ["65b8", "6742", "68ce", "7c85", "7800", "060601"], ["41e0", "7c05", "7c81", "060501", "09f0", "5c81"]),
        ("H265", ["2601", "4001", "4201", "4401", "4e01", "6001", "620193"], ["0201", "620113", "620181", "3001"]),
        ("JPEG", ["0000"], []),
    ],
)  # fmt: skip
def test_where_a_key_picture_may_begin(codec: str, begin: list[str], other: list[str]) -> None:
    """Key pictures, the parameter sets before them, recovery points, and packets that may hold any of these."""
    assert [may_begin(codec, bytes.fromhex(h) + bytes(4)) for h in begin] == [True] * len(begin)
    assert [h for h in other if may_begin(codec, bytes.fromhex(h) + bytes(4))] == [] and not may_begin(codec, b"")


def test_packets_are_put_into_order_for_as_long_as_a_player_waits() -> None:
    def ordered(*numbers: int, spacing_s: float = 0.001) -> list[int]:
        order = PacketOrder()
        return [
            out.sequence
            for index, number in enumerate(numbers)
            for out in order.push(RtpPacket(96, number & 0xFFFF, 0, 7, b"x"), index * spacing_s)
        ]

    assert ordered(65_534, 0, 65_535, 1, 1, 3, 2) == [65_534, 65_535, 0, 1, 2, 3]
    assert ordered(0, *range(2, 70)) == [0, *range(2, 70)], "after 64 packets the missing one is given up"
    assert ordered(0, *range(2, 60)) == [0] and ordered(0, 2, 3, 4, spacing_s=0.15) == [0, 2, 3, 4]
    assert ordered(0, *range(2, 70), 1) == [0, *range(2, 70)], "and comes too late"


def test_where_nothing_is_amiss_it_agrees_with_counting_packet_by_packet() -> None:
    media = Media("video", payload_type=96, codec="H264")
    meters = (StreamMeter(media, 99.0), ReferenceMeter(media, 99.0))
    number = 0
    for index, picture in enumerate(encode("libx264", 320, 192, 51, 10)):
        for payload, marker in h264.packetize(split_annex_b(picture), 100):
            for meter in meters:
                meter.add_rtp(RtpPacket(96, number, 3600 * index, 7, payload, marker).serialize(), 100 + index / 25)
            number += 1
    ours, theirs = (meter.result("tcp") for meter in meters)
    for name in ("fps", "bitrate_bps", "keyframe_interval_s", "bitrate_by_second", "frames", "packets_received", "measured_s",
                 "width_px", "first_picture_s"):  # fmt: skip
        assert getattr(ours, name) == pytest.approx(getattr(theirs, name)), name
    assert ours.key_picture == theirs.key_picture and ours.jitter_ms is None


def test_it_is_known_how_late_this_machine_came() -> None:
    async def busy() -> tuple[float, float]:
        ours, theirs = socket.socketpair()
        with ours, theirs:
            theirs.setblocking(False)
            async with Reading(Connection(theirs), lambda: None, lambda *_: None) as outer:
                async with Reading(Connection(theirs), lambda: None, lambda *_: None) as inner:
                    await asyncio.sleep(0.12)
                time.sleep(0.4)  # noqa: ASYNC251 - what is noticed
                await asyncio.sleep(0.12)
        return inner.worst_late_s, outer.worst_late_s

    calm, late = asyncio.run(busy())
    assert calm < 0.3 <= late
