"""RTP and RTCP against RFC 3550."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.rtp import Reception, RtpPacket

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
