"""RTP and RTCP against RFC 3550."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from reference_meter import recorded
from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.figures import Figures, figures
from zentrale.protocols.streams.meter import StreamMeter

u16, u32 = st.integers(0, 0xFFFF), st.integers(0, 0xFFFFFFFF)


@given(st.integers(0, 127), u16, u32, u32, st.binary(max_size=1500), st.booleans())
def test_a_packet_survives_the_wire(kind: int, seq: int, ts: int, ssrc: int, payload: bytes, marker: bool) -> None:
    packet = RtpPacket(kind, seq, ts, ssrc, payload, marker)
    assert RtpPacket.parse(packet.serialize()) == packet


def test_contributors_extension_and_padding_are_not_payload() -> None:
    head = bytes([0x80 | 0x20 | 0x10 | 1, 96, 0, 7]) + b"\0\0\0\1" + b"\0\0\0\2"
    data = head + b"CSRC" + b"\xbe\xde\x00\x01EXTN" + b"payload" + b"\0\0\3"
    assert RtpPacket.parse(data).payload == b"payload"
    for cut in range(12, len(head) + 12):
        with pytest.raises(RemoteProtocolError):
            RtpPacket.parse(data[:cut])


def count(*sequence: int, spacing_s: float = 0.001) -> Figures:
    """The figures of packets with these numbers, in this order."""
    packets = ((i * spacing_s, RtpPacket(96, n & 0xFFFF, 0, 7, b"\x41x")) for i, n in enumerate(sequence))
    return figures(recorded(packets), 90_000)


@given(
    start=u16, total=st.integers(2, 400), lost=st.sets(st.integers(1, 398)),
    doubled=st.sets(st.integers(0, 399)), swapped=st.sets(st.integers(1, 397)),
)  # fmt: skip
def test_loss_is_counted_whatever_the_order_and_the_doubles(
    start: int, total: int, lost: set[int], doubled: set[int], swapped: set[int]
) -> None:
    order = list(range(total))
    for i in sorted(swapped):
        if 0 < i < total - 1:
            order[i], order[i + 1] = order[i + 1], order[i]
    # The first and last in order must arrive: what lies outside them nobody can know of.
    gone = {i for i in lost if i < total - 1}
    packets = [i for i in order if i not in gone for _ in range(2 if i in doubled else 1)]
    told = count(*(start + i for i in packets))
    present = [i for i in range(total) if i not in gone]
    assert told.packets_received == len(present)
    assert told.packets_expected == present[-1] - present[0] + 1
    assert told.packets_lost == told.packets_expected - len(present)
    assert told.packets_doubled == len(doubled & set(present))


def test_what_was_expected_adds_up_over_a_jump_of_the_sequence() -> None:
    """100 numbers of which 3 are lost, then 100 others of which 2 are."""
    lost = (10, 11, 50, 40_020, 40_030)
    told = count(*(n for n in [*range(100), *range(40_000, 40_100)] if n not in lost))
    assert (told.packets_expected, told.packets_lost, told.sequence_jumps) == (200, 5, 1)


def test_packets_from_before_the_first_are_expected_too() -> None:
    """The first to arrive was the fourth sent: what comes late after it begins the count."""
    told = count(4, 1, 2, 5, 2)
    assert (told.packets_expected, told.packets_lost) == (5, 1)
    assert (told.packets_reordered, told.reorder_depth, told.packets_doubled) == (2, 3, 1)
    wrapped = count(0xFFFE, 0xFFFF, 0, 1)
    assert (wrapped.packets_expected, wrapped.packets_lost, wrapped.sequence_jumps) == (4, 0, 0)


@pytest.mark.parametrize(
    ("second", "expected", "jumps"),
    [(2999, 3000, 0), (3000, 2, 1), (-99, 100, 0), (-100, 2, 1)],  # MAX_DROPOUT and MAX_MISORDER of appendix A.1
)
def test_a_gap_is_a_loss_or_lateness_up_to_a_limit_and_a_jump_beyond_it(second: int, expected: int, jumps: int) -> None:
    told = count(500, 500 + second)
    assert (told.packets_expected, told.sequence_jumps) == (expected, jumps)


def test_one_packet_from_elsewhere_belongs_to_nothing() -> None:
    told = count(1, 2, 40_000, 3, 4)
    assert (told.packets_received, told.packets_lost, told.sequence_jumps) == (4, 0, 0)


def test_what_comes_too_late_for_a_player_is_told_and_not_lost() -> None:
    """Number 5 comes 70 numbers and 0.7 s after its place; number 80 a place late."""
    order = [*range(5), *range(6, 76), 5, *range(76, 80), 81, 80, 82]
    told = count(*order, spacing_s=0.01)
    assert (told.packets_lost, told.packets_reordered, told.packets_late, told.reorder_depth) == (0, 2, 1, 70)
    assert count(*order, spacing_s=0.001).packets_late == 0, "70 places within 70 ms are in time"


def test_a_header_extension_may_be_all_there_is() -> None:
    packet = bytes([0x90, 96, 0, 7]) + bytes(8) + b"\xbe\xde\x00\x00"
    assert RtpPacket.parse(packet) == RtpPacket(96, 7, 0, 0, b"", extension=(0xBEDE, b""))
    with pytest.raises(RemoteProtocolError):
        RtpPacket.parse(packet[:-1])


def test_jitter_is_that_of_appendix_a8() -> None:
    packets, by_hand, worst, previous = [], 0.0, 0.0, None
    for i, arrival in enumerate([0.0, 0.041, 0.079, 0.125, 0.158, 0.2, 0.24]):
        packets.append((arrival, RtpPacket(96, i, 3600 * i, 7, b"\x41")))
        transit = arrival * 90_000 - 3600 * i
        if previous is not None:
            by_hand += (abs(transit - previous) - by_hand) / 16
            worst = max(worst, by_hand)
        previous = transit
    told = figures(recorded(packets), 90_000)
    assert [told.jitter_ms, told.jitter_worst_ms] == pytest.approx([by_hand / 90, worst / 90])


def test_a_time_stamp_that_wraps_is_no_jitter() -> None:
    """25 pictures a second to the microsecond, while the 32-bit stamp goes through 0 (RFC 3550 clause 5.1)."""
    packets = [
        (i / 25, RtpPacket(96, i, (0xFFFFFFFF - 5 * 3600 + 3600 * i) % (1 << 32), 7, b"\x41")) for i in range(20)
    ]
    told = figures(recorded(packets), 90_000)
    assert [told.jitter_ms, told.jitter_worst_ms] == pytest.approx([0, 0], abs=1e-3)


@given(u32, st.floats(1e9, 2e9), u32, u32, u32)
def test_a_sender_report_survives_the_wire(ssrc: int, ntp_s: float, ts: int, packets: int, octets: int) -> None:
    report = rtcp.SenderReport(ssrc, ntp_s, ts, packets, octets)
    data = rtcp.serialize_sender_report(report, "camera@10.0.0.1")
    assert len(data) % 4 == 0
    (parsed,) = rtcp.parse(data)
    assert isinstance(parsed, rtcp.SenderReport)
    assert parsed.ntp_s == pytest.approx(ntp_s, abs=1e-6)
    assert (parsed.ssrc, parsed.rtp_timestamp, parsed.packets, parsed.octets) == (ssrc, ts, packets, octets)


def test_a_receiver_report_survives_the_wire() -> None:
    report = rtcp.ReceiverReport(1, 2, 25, 300, 70_000, 45)
    assert rtcp.parse(rtcp.serialize_receiver_report(report, "x")) == [report]


def test_a_report_tells_of_what_came_since_the_last_one_and_of_one_source_only() -> None:
    """RFC 3550 appendix A.3: 10 of which 2 are lost, then 20 of which 5 are: fractions 51 and 64 of 256, lost 2 and 7."""
    meter = StreamMeter(Media("video", payload_type=96, codec="H264"), 0.0)

    def send(numbers: range, *lost: int, ssrc: int = 7) -> None:
        for number in numbers:
            if number not in lost:
                meter.add_rtp(RtpPacket(96, number, 0, ssrc, b"\x41x", marker=False).serialize(), 0.0)

    assert meter.receiver_report(1) is None, "nothing came yet"
    send(range(10), 3, 4)
    first = meter.receiver_report(1)
    send(range(10, 12), ssrc=8)  # numbers that would fit
    send(range(10, 30), 11, 12, 13, 20, 21)
    second = meter.receiver_report(1)
    assert first is not None and second is not None
    assert [(r.fraction_lost, r.lost, r.extended_highest, r.source_ssrc) for r in (first, second)] == [
        (256 * 2 // 10, 2, 9, 7), (256 * 5 // 20, 7, 29, 7),
    ]  # fmt: skip
    assert meter.result("udp").packets_received == 8 + 15
