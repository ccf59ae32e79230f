"""RTP and RTCP against RFC 3550."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.rtp import Reception, RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.stream_meter import StreamMeter

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
    reception = Reception(90_000)
    for i in order:
        if i in gone:
            continue
        for _ in range(2 if i in doubled else 1):
            reception.add((start + i) & 0xFFFF, 3000 * i, i / 30)
    present = [i for i in range(total) if i not in gone]
    assert reception.received == len(present)
    assert reception.expected == present[-1] - present[0] + 1
    assert reception.lost == reception.expected - len(present)
    assert reception.duplicates == len(doubled & set(present))


def test_what_was_expected_adds_up_over_a_restart_of_the_sequence() -> None:
    """100 numbers of which 3 are lost, then 100 others of which the first is on probation and 2 are lost."""
    reception = Reception(90_000)
    for sequence in [*range(100), *range(40_000, 40_100)]:
        if sequence not in (10, 11, 50, 40_020, 40_030):
            reception.add(sequence, 0, 0.0)
    assert (reception.expected, reception.lost, reception.restarts) == (100 + 99, 5, 1)
    assert reception.extended_highest == 40_099


def test_packets_from_before_the_first_are_expected_too() -> None:
    """The first to arrive was the fourth sent: what comes late after it begins the count."""
    reception = Reception(90_000)
    for sequence in (4, 1, 2, 5):
        assert reception.add(sequence, 0, 0.0)
    assert (reception.expected, reception.lost, reception.reordered) == (5, 1, 2)
    assert not reception.add(2, 0, 0.0) and reception.duplicates == 1
    wrapped = Reception(90_000)
    for sequence in (0xFFFE, 0xFFFF, 0, 1):
        wrapped.add(sequence, 0, 0.0)
    assert (wrapped.expected, wrapped.lost, wrapped.extended_highest) == (4, 0, 0x10001), "one cycle (clause 6.4.1)"


def test_a_jump_is_a_loss_up_to_the_dropout_and_a_restart_beyond_it() -> None:
    for jump, expected in ((2999, 3000), (3000, 1)):
        reception = Reception(90_000)
        assert reception.add(0, 0, 0.0)
        assert reception.add(jump, 0, 0.0) == (jump == 2999) and reception.expected == expected
    late = Reception(90_000)
    late.add(500, 0, 0.0)
    assert late.add(401, 0, 0.0) and not late.add(399, 0, 0.0), "MAX_MISORDER of appendix A.1 is 100"


def test_a_restarted_source_is_not_a_loss() -> None:
    reception = Reception(90_000)
    for sequence in [*range(100), *range(40_000, 40_100)]:
        reception.add(sequence, 0, 0.0)
    assert (reception.restarts, reception.lost) == (1, 0)
    assert reception.received == 199  # the first after the jump is on probation (appendix A.1)


def test_jitter_is_that_of_appendix_a8() -> None:
    reception, by_hand, previous = Reception(90_000), 0.0, None
    arrivals = [0.0, 0.041, 0.079, 0.125, 0.158]
    for i, arrival in enumerate(arrivals):
        reception.add(i, 3600 * i, arrival)
        transit = arrival * 90_000 - 3600 * i
        if previous is not None:
            by_hand += (abs(transit - previous) - by_hand) / 16
        previous = transit
    assert reception.jitter_ms == pytest.approx(by_hand / 90)


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
