"""Taking in many streams at once: CPU time, memory and whether every packet was counted, beside one ffmpeg process a stream.

A source in a process of its own sends H.264 of 1920x1080 at 4 Mbit/s over loopback, TCP or UDP, as RTSP servers do: one packet
after the other, at the pace of a camera's 100 Mbit/s port. Ours takes in, makes figures, and decodes and judges a key picture
of each, as `zentrale verify ADDRESS` does; ffmpeg copies to nowhere. Prints what each side took, from start to end, and the
ratios; over TCP also what it takes here to read the same bytes and do nothing with them. Where there is no ffmpeg, its lines
are left out.

    python benchmarks/intake.py                 64 streams beside ffmpeg, for 10 s, then 250 alone, for 30 s, TCP and UDP
    python benchmarks/intake.py 100 udp 30      so many streams beside ffmpeg, that way, for so many seconds
    python benchmarks/intake.py 64 tcp 30 --at-once
                                                a picture at once
    python benchmarks/intake.py --price         what it costs to look for changes along the way (parameter sets, first bytes of
                                                key pictures, rhythm, stillness, jumps): with and without, in turn, three
                                                times each
"""

from __future__ import annotations

import asyncio
import json
import os
import resource
import selectors
import shutil
import socket
import subprocess
import sys
import time
from base64 import b64encode
from fractions import Fraction

RATE_BPS, FPS, PAYLOAD, PORT_BPS = 4_000_000, 25, 1400, 100_000_000
UDP_SEGMENT = 103  # one call of the kernel sends as many datagrams of this size as there are (Linux, udp.h)


def pictures() -> list[list[tuple[bytes, bool]]]:
    """The RTP payloads of four seconds of 1920x1080, filled up to the rate."""
    import av
    import numpy as np

    from zentrale.protocols.h264 import packetize
    from zentrale.protocols.video import split_annex_b

    encoder = av.CodecContext.create("libx264", "w")
    encoder.width, encoder.height, encoder.pix_fmt, encoder.time_base = 1920, 1080, "yuv420p", Fraction(1, FPS)
    encoder.bit_rate = RATE_BPS // 3
    options = {"preset": "ultrafast", "tune": "zerolatency", "g": "50"}
    encoder.options, encoder.thread_count = options, 1
    chance, out, size = np.random.default_rng(1), [], RATE_BPS // 8 // FPS
    for index in range(100):
        shade = chance.integers(0, 255, (135, 240, 3), dtype=np.uint8).repeat(8, axis=0).repeat(8, axis=1)
        packets = encoder.encode(av.VideoFrame.from_ndarray(shade, format="rgb24"))
        units = split_annex_b(b"".join(bytes(p) for p in packets))
        filler = size - sum(map(len, units))  # a filler unit, ITU-T H.264 clause 7.3.2.7
        units += [b"\x0c" + b"\xff" * (filler - 2) + b"\x80"] if filler > 100 else []
        assert index or any(u[0] & 31 == 7 for u in units)
        out.append(list(packetize(units, PAYLOAD)))
    return out


class Source:
    """An RTSP server for any number of players, all of whom get the same packets."""

    def __init__(self) -> None:
        from zentrale.protocols.rtp import RtpPacket

        self.packet = RtpPacket
        self.payloads = pictures()
        sets = [p for p, _ in self.payloads[0] if p[0] & 31 in (7, 8)]
        sprop = ",".join(b64encode(s).decode() for s in sets)
        self.sdp = (
            "v=0\r\no=- 1 1 IN IP4 127.0.0.1\r\ns=load\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n"
            f"a=fmtp:96 packetization-mode=1;sprop-parameter-sets={sprop}\r\na=control:v\r\n"
        )
        self.listener = socket.create_server(("127.0.0.1", 0), backlog=512)
        self.rtp = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2)]
        self.rtp[0].bind(("127.0.0.1", 0))
        self.rtp[1].bind(("127.0.0.1", 0))
        self.selector = selectors.DefaultSelector()
        self.selector.register(self.listener, selectors.EVENT_READ)
        self.udp_of: dict[socket.socket, int] = {}
        self.playing: dict[socket.socket, bytearray] = {}  # what did not fit yet
        self.sent: dict[str, int] = {}
        self.number = self.index = 0
        self.spread = "--at-once" not in sys.argv

    def run(self) -> None:
        print(self.listener.getsockname()[1], flush=True)
        due = time.monotonic()
        parent = os.getppid()
        while os.getppid() == parent:
            for key, _ in self.selector.select(max(0.0, due - time.monotonic())):
                if key.fileobj is self.listener:
                    player, _ = self.listener.accept()
                    player.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 20)
                    self.selector.register(player, selectors.EVENT_READ)
                else:
                    try:
                        self.answer(key.fileobj)  # type: ignore[arg-type]
                    except OSError:
                        self.leave(key.fileobj)  # type: ignore[arg-type]
            if time.monotonic() >= due:
                self.picture()
                due += 1 / FPS

    def answer(self, player: socket.socket) -> None:
        try:
            text = player.recv(65536).decode("latin-1")
        except OSError:
            text = ""
        if not text:
            raise ConnectionResetError
        for request in text.split("\r\n\r\n"):
            lines = request.split("\r\n")
            if " RTSP/1.0" not in lines[0]:
                continue
            fields = {k.lower(): v.strip() for k, _, v in (line.partition(":") for line in lines[1:])}
            head = f"RTSP/1.0 200 OK\r\nCSeq: {fields.get('cseq', '0')}\r\n"
            method = lines[0].split(" ")[0]
            if method == "DESCRIBE":
                head += f"Content-Type: application/sdp\r\nContent-Length: {len(self.sdp)}\r\n\r\n{self.sdp}"
            elif method == "SETUP":
                wanted = fields["transport"]
                if "client_port=" in wanted:
                    port = int(wanted.split("client_port=")[1].split("-")[0])
                    self.udp_of[player] = port
                    own = self.rtp[0].getsockname()[1]
                    wanted = f"RTP/AVP;unicast;client_port={port}-{port + 1};server_port={own}-{self.rtp[1].getsockname()[1]}"
                head += f"Session: 1;timeout=60\r\nTransport: {wanted}\r\n\r\n"
            else:
                head += "Session: 1\r\n\r\n"
            player.sendall(head.encode())
            if method == "PLAY":
                player.setblocking(False)
                self.playing[player] = bytearray()
            if method == "TEARDOWN":
                self.playing.pop(player, None)

    def one_by_one(self, packets: list[bytes]) -> None:
        """Each packet to all players before the next, no sooner than a 100 Mbit/s port lets it go: as cameras send them."""
        began = time.monotonic()
        for index, packet in enumerate(packets):
            while time.monotonic() < began + index * len(packet) * 8 / PORT_BPS:
                pass
            framed = b"$\0" + len(packet).to_bytes(2, "big") + packet
            for player, waiting in list(self.playing.items()):
                try:
                    if player in self.udp_of:
                        self.rtp[0].sendto(packet, ("127.0.0.1", self.udp_of[player]))
                        continue
                    data = bytes(waiting) + framed if waiting else framed
                    waiting[:] = data[player.send(data) :]
                except BlockingIOError:
                    waiting += framed
                except OSError:
                    self.leave(player)

    def leave(self, player: socket.socket) -> None:
        if player.fileno() < 0:
            return
        self.selector.unregister(player)
        self.playing.pop(player, None)
        self.udp_of.pop(player, None)
        player.close()

    def picture(self) -> None:
        packets = []
        for payload, marker in self.payloads[self.index % len(self.payloads)]:
            packets.append(
                self.packet(96, self.number & 0xFFFF, self.index * 3600 & 0xFFFFFFFF, 7, payload, marker).serialize()
            )
            self.number += 1
        self.index += 1
        framed = b"".join(b"$\0" + len(p).to_bytes(2, "big") + p for p in packets)
        runs: list[tuple[int, bytes]] = []  # datagrams of one size in a row go in one call
        begin = 0
        for at in range(1, len(packets) + 1):
            if at == len(packets) or len(packets[at]) != len(packets[begin]) or at - begin == 40:
                runs.append((len(packets[begin]), b"".join(packets[begin:at])))
                begin = at
        if self.spread:
            self.one_by_one(packets)
            return
        for player, waiting in list(self.playing.items()):
            if player in self.udp_of:
                for size, data in runs:
                    self.rtp[0].setsockopt(socket.IPPROTO_UDP, UDP_SEGMENT, size)
                    self.rtp[0].sendto(data, ("127.0.0.1", self.udp_of[player]))
                continue
            data = bytes(waiting) + framed if waiting else framed
            try:
                sent = player.send(data)
            except BlockingIOError:
                sent = 0
            except OSError:
                self.leave(player)
                continue
            waiting[:] = data[sent:]


def receive(port: int, streams: int, way: str, seconds: float) -> None:
    """Our side, in a process of its own: prints what it took and what it found."""
    from zentrale.field.visit import Visit
    from zentrale.jobs.streams.measuring import Measured, measure
    from zentrale.protocols.rtsp_client import Transport
    from zentrale.protocols.stream_address import StreamAddress

    base = resource.getrusage(resource.RUSAGE_SELF)
    begun = base.ru_utime + base.ru_stime

    async def play() -> list[Measured]:
        visit, address = Visit(transport=Transport(way)), StreamAddress.parse(f"rtsp://127.0.0.1:{port}/v")
        return await asyncio.gather(
            *(measure("", "", address, visit, seconds, wants_picture=False) for _ in range(streams))
        )

    started = time.monotonic()
    found = asyncio.run(play())
    lasted, used = time.monotonic() - started, resource.getrusage(resource.RUSAGE_SELF)
    told = [m.measured for m in found if m.measured is not None]
    print(json.dumps({
        "cpu_s": used.ru_utime + used.ru_stime - begun, "lasted_s": lasted, "memory_mb": used.ru_maxrss / 1024,
        "before_mb": base.ru_maxrss / 1024, "played": len(told), "packets": sum(t.packets_received for t in told),
        "lost": sum(t.packets_lost for t in told), "dropped_here": sum(t.packets_dropped_here for t in told),
        "fps": [min(t.fps or 0 for t in told), max(t.fps or 0 for t in told)] if told else [],
        "late_s": max((t.own_lateness_s for t in told), default=0),
        "findings": sorted({f.code for m in found for f in m.findings}),
    }))  # fmt: skip


def look_away() -> None:
    """Leave out all that looks for changes while a stream plays; what is counted stays."""
    from zentrale.protocols.streams import formats, quiet, rhythm, sums

    def nothing(*_: object, **__: object) -> None:
        return None

    for kind, names in (
        (formats.FormatWatch, ("take", "header")), (quiet.QuietWatch, ("take",)), (rhythm.Rhythm, ("add", "cut")),
    ):  # fmt: skip
        for name in names:
            setattr(kind, name, nothing)
    sums._jumps = lambda *_: []


def price(port: int) -> None:
    spent = {"--receive": 0.0, "--receive-only": 0.0}
    for _ in range(3):
        for how in spent:
            begin = [sys.executable, __file__, how, str(port), "64", "tcp", "15"]
            told = json.loads(subprocess.run(begin, check=True, capture_output=True, text=True).stdout)
            spent[how] += told["cpu_s"]
    looking, counting = spent.values()
    print(
        f"64 streams over tcp, 15 s, three times: {looking:.1f} s of CPU time, {counting:.1f} s without looking for changes"
    )
    print(f"ratio: {looking / counting:.3f}")


def read_alone(port: int, streams: int, seconds: float) -> None:
    """The least that any program has to do: plays by TCP and reads into one room, four times a second."""
    room, playing = bytearray(1 << 20), []
    for _ in range(streams):
        sock = socket.create_connection(("127.0.0.1", port))
        for method in ("SETUP", "PLAY"):
            head = f"{method} rtsp://127.0.0.1:{port}/v RTSP/1.0\r\nCSeq: 1\r\n"
            sock.sendall(f"{head}Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n".encode())
            sock.recv(4096)
        sock.setblocking(False)
        playing.append(sock)
    end, count = time.monotonic() + seconds, 0
    begun = time.process_time()
    while time.monotonic() < end:
        time.sleep(0.25)
        for sock in playing:
            count += sock.recv_into(room)
    used = (time.process_time() - begun) / seconds
    print(
        f"{streams} streams read over tcp, nothing else: {used:.3f} core, {count * 8 / seconds / streams / 1e6:.1f} Mbit/s each"
    )


def ours(port: int, streams: int, way: str, seconds: float) -> tuple[float, float]:
    """CPU time for each second, and memory [MB]."""
    begin = [sys.executable, __file__, "--receive", str(port), str(streams), way, str(seconds)]
    told = json.loads(subprocess.run(begin, check=True, capture_output=True, text=True).stdout)
    print(
        f"{streams} streams over {way}: {told['cpu_s'] / told['lasted_s']:.2f} core, {told['memory_mb']:.0f} MB "
        f"({told['before_mb']:.0f} before), {told['packets'] / seconds / 1000:.0f} thousand packets/s, {told['played']} played, "
        f"{told['lost']} lost, {told['dropped_here']} dropped here, "
        f"{told['fps'][0]:.2f} to {told['fps'][1]:.2f} frames/s, up to {told['late_s'] * 1000:.0f} ms late, "
        f"findings: {', '.join(told['findings']) or 'none'}"
    )
    return told["cpu_s"] / told["lasted_s"], told["memory_mb"]


def theirs(port: int, streams: int, way: str, seconds: float) -> tuple[float, float]:
    command = ["ffmpeg", "-loglevel", "quiet", "-rtsp_transport", way, "-i", f"rtsp://127.0.0.1:{port}/v"]
    command += ["-t", str(seconds), "-c", "copy", "-f", "null", "-"]
    started = time.monotonic()
    running = [subprocess.Popen(command, stdin=subprocess.DEVNULL) for _ in range(streams)]
    cpu = memory = 0.0
    for process in running:
        _, _, used = os.wait4(process.pid, 0)
        cpu, memory = cpu + used.ru_utime + used.ru_stime, memory + used.ru_maxrss / 1024
    lasted = time.monotonic() - started
    print(f"{streams} ffmpeg over {way}: {cpu / lasted:.2f} core, {memory:.0f} MB together")
    return cpu / lasted, memory


def beside(port: int, streams: int, way: str, seconds: float) -> None:
    cpu, memory = ours(port, streams, way, seconds)
    if way == "tcp":
        begin = [sys.executable, __file__, "--alone", str(port), str(streams), str(seconds)]
        print(subprocess.run(begin, check=True, capture_output=True, text=True).stdout.strip())
    if shutil.which("ffmpeg"):
        other_cpu, other_memory = theirs(port, streams, way, seconds)
        print(f"ratio over {way}: {cpu / other_cpu:.3f} of the CPU time, {memory / other_memory:.4f} of the memory")


def main() -> None:
    if sys.argv[1:2] == ["--source"]:
        Source().run()
        return
    if sys.argv[1:2] == ["--receive-only"]:
        look_away()
    if sys.argv[1:2] in (["--receive"], ["--receive-only"]):
        receive(int(sys.argv[2]), int(sys.argv[3]), sys.argv[4], float(sys.argv[5]))
        return
    if sys.argv[1:2] == ["--alone"]:
        read_alone(int(sys.argv[2]), int(sys.argv[3]), float(sys.argv[4]))
        return
    source = subprocess.Popen([sys.executable, __file__, "--source", *sys.argv[4:]], stdout=subprocess.PIPE, text=True)
    assert source.stdout is not None
    port = int(source.stdout.readline())
    try:
        if sys.argv[1:2] == ["--price"]:
            price(port)
            return
        if len(sys.argv) >= 4:
            beside(port, int(sys.argv[1]), sys.argv[2], float(sys.argv[3]))
            return
        for way in ("tcp", "udp"):
            beside(port, 64, way, 10)
        for way in ("tcp", "udp"):
            ours(port, 250, way, 30)
    finally:
        source.terminate()
        source.wait()


if __name__ == "__main__":
    main()
