"""Captures: a file of 500 MB with 64 streams read by `zentrale wire read`, beside `tshark -q -z rtp,streams`, in turns; what
both take to start (the same on a file of a few packets) is left out. The ratio is the median of the rounds.

    python benchmarks/capture.py [MB]

Prints what each took, the ratio, and the memory. Where there is no tshark, its line is left out.
"""

from __future__ import annotations

import json
import shutil
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

STREAMS, ROUNDS, WANTED, WANTED_MB = 64, 7, 4.0, 300
PACKETS_A_PICTURE, PICTURES_A_GROUP, PAYLOAD_BYTES, TICKS = 12, 50, 1250, 3600
BEGUN_S = 1_790_000_000  # autumn of 2026
PROGRAM = str(Path(sys.executable).with_name("zentrale"))
RUN = "import resource, subprocess, sys; subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL); print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"  # fmt: skip  # noqa: E501


def packet(stream: int, number: int) -> bytes:
    """Ethernet, IPv4, UDP, RTP (RFC 3550) and a fragment of H.264 (RFC 6184 clause 5.8), 25 pictures a second."""
    picture, part = divmod(number, PACKETS_A_PICTURE)
    kind = 5 if picture % PICTURES_A_GROUP == 0 else 1
    last = part == PACKETS_A_PICTURE - 1
    fragment = bytes([0x60 | 28, (0x80 if part == 0 else 0x40 if last else 0) | kind, 0x88])
    if part == 0 and kind == 5:  # the parameter sets go before it, in a packet of their own, as cameras do
        fragment = bytes([0x67, 0x42, 0xC0, 0x1E])
    head = struct.pack(
        "!BBHII", 0x80, (0x80 if last else 0) | 96, number & 0xFFFF, picture * TICKS & 0xFFFFFFFF, 7000 + stream
    )
    size = (
        PAYLOAD_BYTES - (stream * 37 + picture * 101) % 900 if last else PAYLOAD_BYTES
    )  # a picture fills its last packet in part
    rtp = head + fragment.ljust(size, b"\x5a")
    udp = struct.pack("!HHHH", 20_000 + 2 * stream, 30_000 + 2 * stream, 8 + len(rtp), 0) + rtp
    ip = struct.pack(
        "!BBHHHBBHII", 0x45, 0, 20 + len(udp), number & 0xFFFF, 0, 64, 17, 0, 0x0A280001 + stream, 0x0A2801FE
    )
    return b"\x02\0\0\0\0\1\x02\0\0\0\0\2\x08\0" + ip + udp


def write(path: Path, size_bytes: int) -> int:
    """Returns how many packets."""
    written = number = 0
    with path.open("wb", buffering=1 << 22) as file:
        file.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, 1))
        while written < size_bytes:
            for stream in range(STREAMS):
                data = packet(stream, number)
                second, at_us = divmod(number * 3333 + stream * 40, 1_000_000)
                file.write(struct.pack("<IIII", BEGUN_S + second, at_us, len(data), len(data)) + data)
                written += 16 + len(data)
            number += 1
    return number * STREAMS


def seconds(command: list[str]) -> tuple[float, float]:
    """Wall time [s], and the most memory [MB]."""
    started = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", RUN, *command], check=True, capture_output=True, text=True)
    return time.perf_counter() - started, int(done.stdout) / 1024


def main() -> None:
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    with tempfile.TemporaryDirectory() as folder:
        large, small = Path(folder) / "large.pcap", Path(folder) / "small.pcap"
        packets = write(large, megabytes * 1_000_000)
        write(small, 100_000)
        told = json.loads(
            subprocess.run([PROGRAM, "wire", "read", str(large), "--json"], capture_output=True, text=True).stdout
        )
        received = sum(stream["received"] for stream in told["streams"])
        assert (len(told["streams"]), received) == (STREAMS, packets), "each packet is of a stream"
        commands = {"zentrale": [PROGRAM, "wire", "read", "{}"]}
        if shutil.which("tshark"):
            commands["tshark"] = [
                "tshark",
                "--enable-heuristic",
                "rtp_udp",
                "-n",
                "-q",
                "-z",
                "rtp,streams",
                "-r",
                "{}",
            ]
        took: dict[str, list[float]] = {name: [] for name in commands}
        starts: dict[str, list[float]] = {name: [] for name in commands}
        memory = 0.0
        for _ in range(ROUNDS):
            for name, command in commands.items():
                for path, into in ((large, took), (small, starts)):
                    wall_s, most = seconds([word.format(path) for word in command])
                    into[name].append(wall_s)
                    memory = max(memory, most if name == "zentrale" else 0)
        # A start is half of what is measured here: of all rounds the middle one, so that one slow start is no slow reading.
        net = {name: [whole - statistics.median(starts[name]) for whole in took[name]] for name in commands}
        for name, walls in net.items():
            start_s = statistics.median(starts[name])
            print(f"{name:10} {statistics.median(walls):6.2f} s for {packets} packets, and {start_s:.2f} s to start")
        if "tshark" in net:
            # Of each round by itself: what else the machine does is about the same for both.
            ratios = sorted(other / own for other, own in zip(net["tshark"], net["zentrale"], strict=True))
            middle = statistics.median(ratios)
            print(f"ratio {middle:.1f} ({ratios[0]:.1f} to {ratios[-1]:.1f}), wanted at least {WANTED:g}")
        print(f"memory {memory:.0f} MB, wanted at most {WANTED_MB}")


if __name__ == "__main__":
    main()
