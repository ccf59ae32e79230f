"""Catching packets off an adapter: the kernel's ring of Linux (AF_PACKET, TPACKET_V3), with a filter of addresses.

Needs the right to open such sockets (CAP_NET_RAW). What did not fit into the ring is counted by the kernel, and told.
"""

from __future__ import annotations

import ctypes
import ipaddress
import mmap
import select
import socket
import struct
import sys
import time
from collections.abc import Iterator, Sequence
from types import TracebackType
from typing import NamedTuple

_SOL_PACKET, _RX_RING, _STATISTICS, _VERSION = 263, 5, 6, 10  # linux/if_packet.h
_TPACKET_V3 = 2
_ATTACH_FILTER = 26
_BLOCK_BYTES, _BLOCKS, _FRAME_BYTES = 1 << 20, 32, 2048  # packets of any size lie behind one another in a block
_RETIRED_MS = 100  # a block that is not full is handed over after so long
_BLOCK = struct.Struct("=8xIII")  # status, packets, where the first begins
_HEAD = struct.Struct("=IIIIIIH")  # to the next, s, ns, caught, length, status, where its link header begins
_LINK, _LINK_AT = struct.Struct("=8xHB"), 48  # sockaddr_ll behind the header: kind of hardware, and of packet
_LOOPBACK, _OUTGOING = 772, 4  # linux/if_arp.h, linux/if_packet.h
_USER = 1
_ALL = 0x0003
SNAP_BYTES = 262_144
_LD_HALF, _LD_WORD, _JEQ, _RET = 0x28, 0x20, 0x15, 0x06  # classic BPF


class Caught(NamedTuple):
    """`outbound`: this machine sent it."""

    time_s: float
    length: int
    data: bytes
    outbound: bool


def address_filter(addresses: Sequence[str]) -> bytes:
    """Classic BPF for Ethernet without a tag: IPv4 packets from or to one of these (some thousand at most), and all ARP."""
    wanted = [int(ipaddress.IPv4Address(a)) for a in addresses]
    take, leave = (_RET, 0, 0, SNAP_BYTES), (_RET, 0, 0, 0)
    code = [(_LD_HALF, 0, 0, 12), (_JEQ, 0, 1, 0x0806), take, (_JEQ, 1, 0, 0x0800), leave]
    for place in (26, 30):  # source, target; jumps reach no further than 255, so that each has its own end
        code += [(_LD_WORD, 0, 0, place)]
        code += [line for value in wanted for line in ((_JEQ, 0, 1, value), take)]
    code += [leave]
    return b"".join(struct.pack("=HBBI", *line) for line in code)


class PacketRing:
    """Use as a context manager. Raises OSError where the system does not give it: no right, no such adapter, no Linux."""

    def __init__(self, adapter: str, addresses: Sequence[str] = ()) -> None:
        if sys.platform != "linux":
            raise OSError("packets are caught so on Linux only")
        self.adapter = adapter
        self.dropped = 0
        self._sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        try:
            if addresses:
                program = ctypes.create_string_buffer(address_filter(addresses))
                length = len(program.raw[:-1]) // 8
                what = struct.pack("HL", length, ctypes.addressof(program))
                self._sock.setsockopt(socket.SOL_SOCKET, _ATTACH_FILTER, what)
            self._sock.setsockopt(_SOL_PACKET, _VERSION, _TPACKET_V3)
            frames = _BLOCK_BYTES // _FRAME_BYTES * _BLOCKS
            request = struct.pack("=IIIIIII", _BLOCK_BYTES, _BLOCKS, _FRAME_BYTES, frames, _RETIRED_MS, 0, 0)
            self._sock.setsockopt(_SOL_PACKET, _RX_RING, request)
            self._ring = mmap.mmap(self._sock.fileno(), _BLOCK_BYTES * _BLOCKS)
            self._sock.bind((adapter, _ALL))
        except BaseException:
            self._sock.close()
            raise
        self._at = 0

    def __enter__(self) -> PacketRing:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._count()
        self._ring.close()
        self._sock.close()

    def packets(self, until_s: float) -> Iterator[Caught]:
        """As they come, until that time on the monotonic clock."""
        while (left := until_s - time.monotonic()) > 0:
            start = self._at * _BLOCK_BYTES
            status, count, offset = _BLOCK.unpack_from(self._ring, start)
            if not status & _USER:
                select.select([self._sock], [], [], min(left, 0.5))
                continue
            at = start + offset
            for _ in range(count):
                following, seconds, nanos, caught, length, _, mac = _HEAD.unpack_from(self._ring, at)
                hardware, kind = _LINK.unpack_from(self._ring, at + _LINK_AT)
                if hardware != _LOOPBACK or kind != _OUTGOING:  # over loopback each comes in as well
                    data = self._ring[at + mac : at + mac + caught]
                    yield Caught(seconds + nanos * 1e-9, length, data, kind == _OUTGOING)
                at += following
            self._ring[start + 8 : start + 12] = b"\0\0\0\0"  # the kernel's again
            self._at = (self._at + 1) % _BLOCKS

    def _count(self) -> None:
        """The kernel counts anew each time it is asked."""
        _, dropped, _ = struct.unpack("=III", self._sock.getsockopt(_SOL_PACKET, _STATISTICS, 12))
        self.dropped += dropped
