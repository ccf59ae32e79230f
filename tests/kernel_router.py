"""Run in a network namespace: a router whose legs are given, rules as they were written, and packets through it.

Reads a document {legs: {interface: address with bits}, rules: FILE, packets: [[in, source, target, protocol, port]]} from its
first argument; prints the numbers of the packets that came out, and of those to the router itself that it answered.
"""

from __future__ import annotations

import json
import select
import socket
import struct
import subprocess
import sys
from pathlib import Path

from zentrale.protocols import frames

PROTOCOLS = {"icmp": 1, "tcp": 6, "udp": 17}


def packet(number: int, source: str, target: str, protocol: str, port: int) -> bytes:
    """IPv4 (RFC 791) with `number` as its identification, and a beginning: SYN, a datagram, an echo request."""
    if protocol == "tcp":
        body = struct.pack("!HHIIBBHHH", 30_000 + number, port, 7, 0, 5 << 4, 2, 1024, 0, 0)
        pseudo = socket.inet_aton(source) + socket.inet_aton(target) + struct.pack("!HH", 6, len(body))
        body = body[:16] + struct.pack("!H", frames.checksum(pseudo + body)) + body[18:]
    elif protocol == "udp":
        body = struct.pack("!HHHH", 30_000 + number, port, 8, 0)
    else:
        body = struct.pack("!BBHHH", 8, 0, 0, number, 1)
        body = body[:2] + struct.pack("!H", frames.checksum(body)) + body[4:]
    head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(body), number, 0, 9, PROTOCOLS[protocol], 0)
    head += socket.inet_aton(source) + socket.inet_aton(target)
    return head[:10] + struct.pack("!H", frames.checksum(head)) + head[12:] + body


def run(asked: dict[str, object]) -> list[int]:
    legs: dict[str, str] = asked["legs"]  # type: ignore[assignment]
    packets: list[list[object]] = asked["packets"]  # type: ignore[assignment]
    Path("/proc/sys/net/ipv4/ip_forward").write_text("1")
    lines = []
    for i, (name, address) in enumerate(legs.items()):
        lines += [
            f"link add {name} address 02:00:00:00:01:{i:02x} type veth peer name far{i}",
            f"link set {name} up",
            f"link set far{i} up",
        ]
        lines += [f"address add {address} dev {name}"]
    last = list(legs)[-1]
    lines += [f"route replace default via {legs[last].rpartition('.')[0]}.99 dev {last}"]
    targets = {f"{p[2]}" for p in packets} | {f"{p[1]}" for p in packets} | {f"{legs[last].rpartition('.')[0]}.99"}
    own = {address.partition("/")[0] for address in legs.values()}
    for name in legs:
        lines += [f"neigh replace {t} lladdr 02:00:00:00:00:99 dev {name} nud permanent" for t in sorted(targets - own)]
    subprocess.run(["ip", "-batch", "-"], input="\n".join(lines), text=True, check=True)
    for name in ("all", *legs):
        Path(f"/proc/sys/net/ipv4/conf/{name}/rp_filter").write_text("0")
    subprocess.run(["nft", "-f", str(asked["rules"])], check=True)
    far = {}
    for i, name in enumerate(legs):
        sock = far[name] = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0800))
        sock.bind((f"far{i}", 0x0800))
    came: set[int] = set()
    for number, (enters, source, target, protocol, port) in enumerate(packets):
        frame = bytes.fromhex(f"02000000{1:02x}{list(legs).index(str(enters)):02x}0200000000980800")
        far[str(enters)].send(frame + packet(number, str(source), str(target), str(protocol), int(str(port))))
        while ready := select.select(list(far.values()), [], [], 0.3 if number == len(packets) - 1 else 0)[0]:
            for sock in ready:
                data, about = sock.recvfrom(2048)
                if about[2] != socket.PACKET_OUTGOING and data[:6].hex() == "020000000099":
                    answer = (
                        socket.inet_ntoa(data[26:30]) in own and data[23] == PROTOCOLS["tcp"]
                    )  # a reset: nobody listens
                    came.add(
                        struct.unpack_from("!H", data, 36)[0] - 30_000
                        if answer
                        else struct.unpack_from("!H", data, 18)[0]
                    )
    return sorted(came)


if __name__ == "__main__":
    print(json.dumps(run(json.loads(Path(sys.argv[1]).read_text()))))
