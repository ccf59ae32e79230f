"""Payload formats and parameter sets, against streams that real encoders made."""

from __future__ import annotations

import io
import struct
from fractions import Fraction

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from zentrale.errors import RemoteProtocolError
from zentrale.field import pictures
from zentrale.protocols import h264, h265, jpeg
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.key_pictures import KeyPicture
from zentrale.protocols.streams.meter import StreamMeasurement, StreamMeter
from zentrale.protocols.video import AccessUnit, Depacketizer, split_annex_b


def encode(codec_name: str, width: int, height: int, frames: int = 1, gop: int = 10) -> list[bytes]:
    """Byte streams of `frames` pictures, one string each."""
    codec = av.CodecContext.create(codec_name, "w")
    assert isinstance(codec, av.VideoCodecContext)
    codec.width, codec.height, codec.pix_fmt = width, height, "yuv420p"
    codec.time_base, codec.framerate = Fraction(1, 25), Fraction(25)
    key = "x265-params" if codec_name == "libx265" else "x264-params"
    codec.options = {"preset": "ultrafast", "tune": "zerolatency", key: f"keyint={gop}:log-level=none:repeat-headers=1"}
    out = []
    for index in range(frames):
        planes = np.full((height * 3 // 2, width), 40 + index, np.uint8)
        frame = av.VideoFrame.from_ndarray(planes, format="yuv420p")
        frame.pts = index
        out += [bytes(p) for p in codec.encode(frame)]
    return [*out, *(bytes(p) for p in codec.encode(None))]


@pytest.mark.parametrize("size", [(1920, 1080), (2560, 1440), (3840, 2160), (704, 576), (322, 182)])
def test_resolution_comes_from_the_parameter_sets(size: tuple[int, int]) -> None:
    for name, module, kind in (("libx264", h264, h264.NAL_SPS), ("libx265", h265, h265.NAL_SPS)):
        units = split_annex_b(encode(name, *size)[0])
        of_type = (lambda u: u[0] & 0x1F) if module is h264 else h265.nal_type
        sps = next(u for u in units if of_type(u) == kind)
        found = module.parse_sps(sps)
        assert (found.width_px, found.height_px) == size


def test_cropping_counts_field_and_chroma_units() -> None:
    """1920x1088 coded, cropped to 1080 in an interlaced stream: units of 4 lines (H.264 equation 7-22)."""

    def ue(value: int) -> str:
        code = bin(value + 1)[2:]
        return "0" * (len(code) - 1) + code

    bits = f"{77:08b}{0:016b}" + ue(0) + ue(0) + ue(0) + ue(0) + ue(1) + "0" + ue(119) + ue(33) + "0" + "0" + "1"
    bits += "1" + ue(0) + ue(0) + ue(0) + ue(2) + "0" + "1"
    body = int(bits.ljust(-(-len(bits) // 8) * 8, "0"), 2).to_bytes(-(-len(bits) // 8), "big")
    found = h264.parse_sps(b"\x67" + body)
    assert (found.width_px, found.height_px, found.profile) == (1920, 1080, "Main")


nal_units = st.lists(st.binary(min_size=2, max_size=900).map(lambda b: bytes([0x65]) + b), min_size=1, max_size=6)


def feed(depacketizer: Depacketizer, payloads: list[tuple[bytes, bool]], drop: set[int]) -> list[AccessUnit]:
    out = []
    for number, (payload, marker) in enumerate(payloads):
        if number not in drop:
            out += depacketizer.push(payload, 1000, marker, (65_530 + number) & 0xFFFF)
    return out


@given(nal_units, st.integers(10, 300))
def test_what_is_packetized_comes_back_whole(units: list[bytes], room: int) -> None:
    payloads = list(h264.packetize(units, room))
    assert all(len(p) <= room for p, _ in payloads)
    assert [m for _, m in payloads] == [False] * (len(payloads) - 1) + [True]
    (unit,) = feed(h264.H264Depacketizer(), payloads, set())
    assert (unit.units, unit.key, unit.complete) == (units, True, True)


@given(nal_units, st.integers(10, 100), st.data())
def test_a_lost_packet_never_passes_for_a_whole_picture(units: list[bytes], room: int, data: st.DataObject) -> None:
    payloads = list(h264.packetize(units, room))
    drop = data.draw(st.integers(0, len(payloads) - 2)) if len(payloads) > 1 else 0
    depacketizer = h264.H264Depacketizer()
    depacketizer.push(b"\x41x", 500, True, 65_529)
    finished = feed(depacketizer, payloads, {drop} if len(payloads) > 1 else set())
    if len(payloads) > 1:
        assert [u.complete for u in finished] == [False]


def test_aggregation_packets_are_taken_apart() -> None:
    pieces = [b"\x67abc", b"\x68de", b"\x65fgh"]
    body = b"\x18" + b"".join(struct.pack("!H", len(p)) + p for p in pieces)
    (unit,) = h264.H264Depacketizer().push(body, 0, True, 1)
    assert unit.units == pieces and unit.key
    h265_pieces = [b"\x42\x01ab", b"\x26\x01cde"]
    body = b"\x60\x01" + b"".join(struct.pack("!H", len(p)) + p for p in h265_pieces)
    (unit,) = h265.H265Depacketizer().push(body, 0, True, 1)
    assert unit.units == h265_pieces and unit.key


def test_h265_fragments_are_joined() -> None:
    nal = b"\x26\x01" + bytes(range(200))
    depacketizer, out = h265.H265Depacketizer(), []
    for number, start in enumerate(range(2, len(nal), 60)):
        piece = nal[start : start + 60]
        last = start + 60 >= len(nal)
        header = (0x80 if start == 2 else 0) | (0x40 if last else 0) | 19
        payload = bytes([nal[0] & 0x81 | 49 << 1, nal[1], header]) + piece
        out += depacketizer.push(payload, 0, last, number)
    assert out[0].units == [nal] and out[0].key and out[0].complete


def test_a_jpeg_stream_becomes_a_picture_again() -> None:
    """A picture with the standard tables, cut into fragments as RFC 2435 says, decodes to what it was."""
    picture = Image.fromarray(np.tile(np.arange(0, 256, 2, dtype=np.uint8)[:, None, None], (1, 160, 3)))
    buffer = io.BytesIO()
    picture.save(buffer, "JPEG", quality=50, subsampling="4:2:0")
    data = buffer.getvalue()
    at = data.index(b"\xff\xda")
    scan = data[at + 2 + int.from_bytes(data[at + 2 : at + 4], "big") : -2]
    depacketizer, out = jpeg.JpegDepacketizer(), []
    pieces = [scan[i : i + 500] for i in range(0, len(scan), 500)]
    for number, piece in enumerate(pieces):
        header = struct.pack("!B3sBBBB", 0, (500 * number).to_bytes(3, "big"), 1, 50, 160 // 8, 128 // 8)
        out += depacketizer.push(header + piece, 0, number == len(pieces) - 1, number)
    assert out[0].complete and out[0].key
    assert depacketizer.picture_format(out[0]) is not None
    decoded = pictures.decode(KeyPicture("JPEG", b"".join(out[0].units)))
    assert decoded is not None
    again = pictures.from_jpeg(pictures.to_jpeg(decoded))
    assert again is not None
    for points in (pictures.luma(decoded), np.asarray(again.convert("L"))):
        difference = np.abs(points.astype(int) - np.asarray(picture.convert("L"), int))
        assert points.shape == (128, 160) and difference.mean() < 6


def meter_of(
    frames: int, *, fps: int = 25, gop: int = 10, drop: tuple[int, ...] = (), clock_error: float = 1.0, start: int = 0
) -> StreamMeasurement:
    """A measurement of a real encoder's stream, packetized; `drop` are packet numbers that never arrive."""
    meter = StreamMeter(Media("video", payload_type=96, codec="H264"), started_s=100.0)
    number = 0
    for index, picture in enumerate(encode("libx264", 320, 192, frames, gop)):
        for payload, marker in h264.packetize(split_annex_b(picture), 100):
            timestamp = int(start + 90_000 * index / fps * clock_error) & 0xFFFFFFFF
            packet = RtpPacket(96, number & 0xFFFF, timestamp, 7, payload, marker)
            if number not in drop:
                meter.add_rtp(packet.serialize(), 100.5 + index / fps)
            number += 1
    meter.add_rtp(RtpPacket(96, 0, 0, 99, b"another source").serialize(), 130.0)
    return meter.result("tcp")


@pytest.mark.parametrize("start", [0, 0xFFFF0000])
def test_the_meter_measures_a_stream(start: int) -> None:
    found = meter_of(51, start=start)
    assert (found.codec, found.width_px, found.height_px) == ("H264", 320, 192)
    assert found.fps == pytest.approx(25, rel=0.001)
    assert found.keyframe_interval_s == pytest.approx(0.4, rel=0.001)
    assert found.first_picture_s == pytest.approx(0.5)
    assert (found.frames, found.frames_damaged, found.packets_lost) == (51, 0, 0)
    assert found.key_picture is not None
    image = pictures.decode(found.key_picture)
    assert image is not None and (image.width, image.height) == (320, 192)
    assert sum(found.bitrate_by_second) == pytest.approx(found.bitrate_bps * 51 / 25, rel=0.3)  # type: ignore[operator]


def test_the_meter_counts_what_is_lost_and_what_it_damaged() -> None:
    found = meter_of(40, drop=(30, 31))
    assert found.packets_lost == 2 and found.frames_damaged >= 1


def test_a_source_with_a_wrong_clock_is_measured_by_arrival() -> None:
    assert meter_of(60, clock_error=3.0).fps == pytest.approx(25, rel=0.05)


def test_a_damaged_key_frame_is_not_a_picture() -> None:
    assert pictures.decode(KeyPicture("H264", b"\0\0\0\1\x65" + bytes(500))) is None
    assert pictures.decode(KeyPicture("SOMETHING", b"")) is None


def test_a_picture_of_impossible_size_is_refused() -> None:
    with pytest.raises(RemoteProtocolError):
        h264.parse_sps(b"\x67\x42\x00\x1e" + b"\x00" * 12)
