"""RTP intake: what one core measures of an H.264 stream per second, beside merely cutting the same bytes apart.

Both run over the same bytes in memory, in turns. Prints packets per second, the rate they stand for, and the ratio.
"""

from __future__ import annotations

import time

from zentrale.protocols.h264 import packetize
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.rtsp import Interleaved, Reader
from zentrale.protocols.sdp import Media
from zentrale.protocols.stream_meter import StreamMeter

FRAMES, FRAME_BYTES, PAYLOAD_BYTES, ROUNDS = 1500, 25_000, 1400, 5


def stream() -> bytes:
    out, sequence = bytearray(), 0
    for frame in range(FRAMES):
        unit = bytes([0x65 if frame % 50 == 0 else 0x41]) + bytes(FRAME_BYTES)
        for payload, marker in packetize([unit], PAYLOAD_BYTES):
            packet = RtpPacket(96, sequence & 0xFFFF, frame * 3600, 1, payload, marker).serialize()
            out += Interleaved(0, packet).serialize()
            sequence += 1
    return bytes(out)


def run(data: bytes, *, measure: bool) -> tuple[float, int]:
    reader, meter, packets = Reader(), StreamMeter(Media("video", payload_type=96, codec="H264"), 0.0), 0
    started = time.perf_counter()
    for at in range(0, len(data), 65_536):
        for event in reader.receive(data[at : at + 65_536]):
            packets += 1
            if measure and isinstance(event, Interleaved):
                meter.add_rtp(event.data, at / 1e6)
    return time.perf_counter() - started, packets


def main() -> None:
    data = stream()
    plain = measured = float("inf")
    packets = 0
    for _ in range(ROUNDS):
        plain = min(plain, run(data, measure=False)[0])
        elapsed, packets = run(data, measure=True)
        measured = min(measured, elapsed)
    for name, elapsed in (("cutting apart", plain), ("and measuring", measured)):
        rate = 8 * len(data) / elapsed / 1e6
        print(f"{name}: {packets / elapsed / 1e3:7.0f} thousand packets/s, {rate:6.0f} Mbit/s on one core")
    print(f"ratio {measured / plain:.2f}")


if __name__ == "__main__":
    main()
