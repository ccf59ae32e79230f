"""What is caught on this machine: packets that the test sends itself, over loopback in a network of its own."""

from __future__ import annotations

import shutil
import socket
import struct
import subprocess
import threading
import time
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from conftest import OWN_NETWORK, PROGRAM, environment, zentrale
from test_wire import h264, pcap, rtp
from zentrale.field import arp
from zentrale.field.packet_ring import address_filter
from zentrale.jobs.checks.seen import StreamResult
from zentrale.jobs.diagnosing.judging_pictures import judge_loss
from zentrale.jobs.diagnosing.judging_streams import StreamsSeen
from zentrale.jobs.wire.reading import read_file
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.meter import StreamMeter
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Policy
from zentrale.site.reading import read_plan

may_catch = pytest.mark.skipif(not OWN_NETWORK or not arp.allowed(), reason="this machine lets no test catch packets")
PACKETS = 100


def sending(gone: frozenset[int] = frozenset(), *, after_s: float = 1.5) -> threading.Thread:
    """A picture each 10 ms, as in `h264`, from 127.0.0.1:5000 to :5004."""

    def send() -> None:
        time.sleep(after_s)
        with (
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock,
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as ear,
        ):
            sock.bind(("127.0.0.1", 5000))
            ear.bind(("127.0.0.1", 5004))
            for n in range(PACKETS):
                if n not in gone:
                    payload = (b"\x65" if n % 10 == 0 else b"\x41") + bytes(40)
                    sock.sendto(rtp(65_530 + n, n * 3600, payload), ("127.0.0.1", 5004))
                time.sleep(0.01)

    thread = threading.Thread(target=send)
    thread.start()
    return thread


@may_catch
def test_what_is_caught_here_is_private_and_whole(tmp_path: Path) -> None:
    file = tmp_path / "here.pcapng"
    sender = sending()
    shown = zentrale("wire", "capture", "--adapter", "lo", "--for", "4s", "--to", str(file), cwd=tmp_path)
    sender.join()
    assert shown.code == 0 and "CAUGHT" in shown.out and file.stat().st_mode & 0o77 == 0, shown.all
    ((stream, m),) = read_file(file).streams
    assert (m.packets_received, m.packets_lost, m.frames, stream.way.target_port) == (PACKETS, 0, PACKETS, 5004)
    again = zentrale("wire", "capture", "--adapter", "lo", "--for", "1s", "--to", str(file), cwd=tmp_path)
    assert again.code == 2 and "is there already" in again.err


@may_catch
def test_what_was_lost_before_this_machine_is_told_against_a_file(tmp_path: Path) -> None:
    """The file has all; five of them are never sent here."""
    gone = frozenset({20, 21, 22, 60, 80})
    near, figure = tmp_path / "near.pcap", tmp_path / "compared.png"
    near.write_bytes(pcap(h264(PACKETS, at_s=time.time())))
    sender = sending(gone)
    shown = zentrale(
        "wire", "compare", str(near), "live", "--adapter", "lo", "--for", "4s", "--json", "--figure", str(figure), cwd=tmp_path
    )  # fmt: skip
    sender.join()
    (one,) = shown.json["streams"]
    assert shown.code == 1 and (one["ssrc"], one["lost_before"], one["lost_between"]) == ("0x00000007", 0, len(gone)), (
        shown.all
    )
    assert [f["code"] for f in shown.json["findings"]] == ["WIR-14"] and figure.read_bytes()[:4] == b"\x89PNG"
    assert not list(tmp_path.glob("*.pcapng")), "what was caught for that alone is gone"


def test_a_filter_of_addresses_may_be_long() -> None:
    """Classic BPF as its instructions are defined, walked through by hand for one address of three hundred and none of them."""
    wanted = [f"10.20.{n // 250}.{n % 250 + 1}" for n in range(300)]
    code = list(struct.iter_unpack("=HBBI", address_filter(wanted)))

    def takes(kind: int, source: str, target: str) -> bool:
        packet = (
            bytes(12) + struct.pack("!H", kind) + bytes(12) + IPv4Address(source).packed + IPv4Address(target).packed
        )
        at = value = 0
        while True:
            what, yes, no, k = code[at]
            at += 1
            if what == 0x06:
                return bool(k)
            if what == 0x15:
                at += yes if value == k else no
            else:
                value = int.from_bytes(packet[k : k + (2 if what == 0x28 else 4)], "big")

    assert (
        takes(0x0800, wanted[-1], "10.9.9.9") and takes(0x0800, "10.9.9.9", wanted[150]) and takes(0x0806, *wanted[:2])
    )
    assert not takes(0x0800, "10.9.9.9", "10.9.9.8") and not takes(0x86DD, *wanted[:2])


def test_without_the_right_to_catch_the_line_to_type_is_told(tmp_path: Path) -> None:
    """In a user namespace of its own a program has no right over the network that it was in."""
    tool = shutil.which("unshare")
    if tool is None or subprocess.run([tool, "--user", "true"], check=False, capture_output=True).returncode:
        pytest.skip("no user namespaces here")
    done = subprocess.run(
        [tool, "--user", PROGRAM, "wire", "capture", "--adapter", "lo", "--for", "1s", "--to", str(tmp_path / "a.pcapng")],
        cwd=tmp_path, env=environment(), capture_output=True, text=True, check=False, timeout=60,
    )  # fmt: skip
    assert done.returncode == 2 and "sudo tcpdump -i lo -w" in done.stderr and not list(tmp_path.iterdir()), done.stderr


def test_how_two_captures_are_named_is_checked_before_anybody_waits(tmp_path: Path) -> None:
    file = tmp_path / "a.pcap"
    file.write_bytes(pcap(h264(20)))
    for words, said in (
        (("compare", "live", str(file)), "live goes second"), (("compare", "none.pcap", "live"), "there is no such file"),
        (("compare", str(file), "live", "--for", "soon"), "--for soon: not understood"),
        (("capture", "--for", "2s", "--to", str(tmp_path / "no" / "a.pcapng")), "no such folder"),
        (("addresses", str(file), "--yes"), "--yes goes with --write"),
        (("addresses", str(file), "--write"), "no site is here"),
    ):  # fmt: skip
        shown = zentrale("wire", *words, cwd=tmp_path)
        assert shown.code == 2 and said in shown.err, shown.all


@pytest.mark.parametrize(("missing", "code"), [(0, "DGN-33"), (8, "DGN-34"), (None, "DGN-34")])
def test_a_capture_made_elsewhere_tells_whether_the_camera_sent_it(
    ready_site: Path, missing: int | None, code: str
) -> None:
    """Eight of a hundred are missing here over UDP, and the source sends no report. Where all are in the capture, the network
    lost them; else nobody knows.
    """
    plan = read_plan(SiteFolder(ready_site))
    meter = StreamMeter(Media("video", payload_type=96, codec="H264"), 0.0)
    for n in range(100):
        if not 40 <= n < 48:
            meter.add_rtp(rtp(n, n * 3600, b"\x41" + bytes(40)), n / 25)
    camera = plan.camera("north")
    main = StreamResult(camera.name, "main", "", meter.result("udp"), "", ())
    caught = None if missing is None else (missing, 100 - missing)
    seen, trouble = judge_loss(camera, StreamsSeen([main], caught=caught), Policy())
    assert trouble is not None and trouble.code == code and "8 of 100" in trouble.says
    assert ("where the capture was made" in seen.seen) == (missing is not None)
    assert "over TCP, which asks again" not in " ".join(cause.because for cause in trouble.causes)


def test_a_capture_that_cannot_be_read_is_told_before_anybody_is_asked(ready_site: Path) -> None:
    shown = zentrale("diagnose", "north", "--wire", "none.pcap", cwd=ready_site)
    assert shown.code == 2 and "none.pcap: cannot be read" in shown.err
