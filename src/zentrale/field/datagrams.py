"""The two sockets of a stream over UDP. As the intake, it imports nothing of this product but that."""

from __future__ import annotations

import contextlib
import socket
import struct
import sys
import time
from collections import Counter
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

from zentrale.field.intake import BUFFER, MARK, PATIENCE_S, Stream

if TYPE_CHECKING:
    from zentrale.field.datagram_batch import Batch

MAX_DATAGRAMS = 4096  # of one socket at one visit: then the others have their turn
MAX_STRANGERS = 64
CONTROL_S = 0.2  # how often RTCP is looked at
_SKB_BYTES = 2304  # what the kernel counts for one full packet (its page share and its header)
_FAST_ETHERNET_BYTES_PER_S = 12_500_000
_TIMESTAMPNS = 35  # SO_TIMESTAMPNS, and SCM_TIMESTAMPNS: struct timespec (Linux, asm-generic/socket.h)
_MEMINFO, _MEMINFO_DROPS = 55, 8  # SO_MEMINFO, whose first number is what waits, SK_MEMINFO_DROPS (Linux, sock_diag.h)
_HEAD = struct.Struct("!BBH")
_TIMESPEC = struct.Struct("qq")
_OLDEST_S = 5.0  # no datagram waits for longer


class Datagrams(Stream):
    """The two sockets of a stream over UDP: RTP, and RTCP. Only what comes from `source` is its own.

    source:    address of the sender of RTP, and its port, where it is known
    batch:     what takes many with one call, where the system has it
    all_of_it: packets that have to be looked at whole are long: room is made for that
    strangers: from which other address and port how many datagrams came (of the first 64 of them)
    """

    def __init__(self, rtp: socket.socket, rtcp: socket.socket, batch: Batch | None = None) -> None:
        super().__init__()
        self.batch = batch
        self.all_of_it = False
        self.rtp, self.rtcp = rtp, rtcp
        self.channel = 0
        self.source: tuple[str, int | None] | None = None
        self.strangers: Counter[tuple[str, int]] = Counter()
        self._control_due_s = 0.0
        self._granted = rtp.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF)
        self._names: tuple[tuple[str, int | None] | None, bytes] = (None, b"")
        self.stamped = False
        if sys.platform == "linux":
            with contextlib.suppress(OSError):
                rtp.setsockopt(socket.SOL_SOCKET, _TIMESTAMPNS, 1)
                self.stamped = True

    def pace_s(self) -> float:
        """How long the socket may be left alone: until a fast-Ethernet port has filled half of its buffer."""
        self._granted = self.rtp.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF)
        return self._granted / _SKB_BYTES * 1400 / _FAST_ETHERNET_BYTES_PER_S / 2

    def dropped(self) -> int:
        """Datagrams that this machine had no room for, so far; 0 where it does not tell."""
        if sys.platform != "linux":
            return 0
        try:
            told = self.rtp.getsockopt(socket.SOL_SOCKET, _MEMINFO, 4 * (_MEMINFO_DROPS + 1))
        except OSError:
            return 0
        return int(struct.unpack_from("I", told, 4 * _MEMINFO_DROPS)[0]) if len(told) > 4 * _MEMINFO_DROPS else 0

    def is_ripe(self, now_s: float) -> bool:
        """A quarter of the buffer at most waits: then half of it can come before the next visit."""
        if not self.patient or now_s >= self.due_s or sys.platform != "linux":
            return True
        try:
            return self.rtp.getsockopt(socket.SOL_SOCKET, _MEMINFO) >= self._granted // 4
        except OSError:
            return True

    def read(self, now_s: float) -> bool:
        self.due_s = now_s + PATIENCE_S
        before = self.packets
        # The kernel stamps by the clock of the day; `now_s` is on the monotonic clock.
        ahead_s = time.time() - now_s
        if self.batch is None:
            self._read_each(now_s, ahead_s)
        else:
            self._read_batches(self.batch, now_s, ahead_s)
        some = self.packets != before
        if now_s < self._control_due_s:
            return some
        self._control_due_s = now_s + CONTROL_S
        with contextlib.suppress(BlockingIOError, InterruptedError, ConnectionRefusedError):
            for _ in range(64):
                data, source = self.rtcp.recvfrom(65535)
                if self.source is None or source[0] == self.source[0]:
                    self.control.append((data, self.packets))
                    some = True
                else:
                    self._strange(source[:2])
        return some

    def _read_each(self, now_s: float, ahead_s: float) -> None:
        """One datagram a call, each whole."""
        receive, into = getattr(self.rtp, "recvmsg_into", self._receive_from), [BUFFER[4:65540]]
        for _ in range(MAX_DATAGRAMS):
            try:
                size, ancillary, _, source = receive(into, 64)
            except (BlockingIOError, InterruptedError):
                return
            except ConnectionRefusedError:  # an answer to what was sent to open the way
                continue
            if not self._is_own(source[:2]):
                self._strange(source[:2])
                continue
            stamp = ancillary[0][2] if ancillary and len(ancillary[0][2]) == _TIMESPEC.size else None
            self._take(bytes(BUFFER[4 : 4 + size]), size, _arrival(stamp, now_s, ahead_s))

    def _take(self, packet: bytes, size: int, arrival_s: float) -> None:
        head = bytearray(_HEAD.pack(MARK, 0, size) + packet[:16].ljust(16, b"\0"))
        if not self._add(head, lambda _: packet) and len(packet) == size:
            self.whole.append((packet, arrival_s))
        self.taken.arrivals.append(arrival_s)
        self.bytes += size
        self.packets += 1

    def _read_batches(self, batch: Batch, now_s: float, ahead_s: float) -> None:
        """Many datagrams a call, and what is plain about them at a stroke: packet by packet it costs three times as much."""
        own = self._own_names(batch)
        for _ in range(MAX_DATAGRAMS // batch.SIZE):
            sizes = batch.receive(self.rtp, all_of_it=self.all_of_it or self.keep or self.begins is not None)
            if not sizes:
                return
            arrivals = [seconds + nanoseconds * 1e-9 - ahead_s for seconds, nanoseconds in batch.stamped(len(sizes))]
            if min(arrivals) < now_s - _OLDEST_S or max(arrivals) > now_s + 0.001:
                arrivals = [now_s] * len(sizes)  # the clock of the day was set meanwhile
            if own.startswith(batch.names[: len(sizes) * batch.NAME]):
                packet = partial(self._packet, batch, sizes)
                first = self._add(batch.records(sizes), packet)
                kept = ((packet(row), arrivals[row], sizes[row]) for row in range(first, len(sizes)))
                self.whole += [(data, arrival_s) for data, arrival_s, size in kept if len(data) == size]
                self.taken.arrivals.extend(arrivals)
                self.bytes += sum(sizes)
                self.packets += len(sizes)
            else:
                self._take_each(batch, sizes, arrivals)
            if len(sizes) < batch.SIZE:
                return

    def _take_each(self, batch: Batch, sizes: Sequence[int], arrivals: Sequence[float]) -> None:
        for row, size in enumerate(sizes):
            source = batch.source(row)
            if self._is_own(source):
                self._take(self._packet(batch, sizes, row), size, arrivals[row])
            else:
                self._strange(source)

    def _packet(self, batch: Batch, sizes: Sequence[int], row: int) -> bytes:
        """One of a batch, as much as that has room for; from now on there is more room where it was too little."""
        packet = batch.packet(row, sizes[row])
        if len(packet) < sizes[row]:
            if self.all_of_it:
                self.batch = None  # one by one, each whole
            self.all_of_it = True
        return packet

    def _own_names(self, batch: Batch) -> bytes:
        """The sender's socket address as often as a batch has room for, where it is known in full: IPv4, with its port."""
        if self._names[0] != self.source:
            names = b""
            if self.source is not None and self.source[1] is not None and ":" not in self.source[0]:
                port = struct.pack("!H", self.source[1])
                name = struct.pack("=H", socket.AF_INET) + port + socket.inet_aton(self.source[0])
                names = name.ljust(batch.NAME, b"\0") * batch.SIZE
            self._names = (self.source, names)
        return self._names[1]

    def _is_own(self, source: tuple[str, int]) -> bool:
        own = self.source
        return own is None or (source[0] == own[0] and own[1] in (None, source[1]))

    def _receive_from(self, into: list[memoryview], _: int) -> tuple[int, list[tuple[int, int, bytes]], int, Any]:
        """As socket.recvmsg_into, where the system has none."""
        size, source = self.rtp.recvfrom_into(into[0])
        return size, [], 0, source

    def _strange(self, source: tuple[str, int]) -> None:
        if source in self.strangers or len(self.strangers) < MAX_STRANGERS:
            self.strangers[source] += 1


def _arrival(stamp: bytes | None, now_s: float, ahead_s: float) -> float:
    """By the kernel's stamp, where it is one that can be: else the clock of the day was set meanwhile."""
    if stamp is None:
        return now_s
    seconds, nanoseconds = _TIMESPEC.unpack(stamp)
    arrival_s = float(seconds + nanoseconds * 1e-9 - ahead_s)
    return arrival_s if now_s - _OLDEST_S < arrival_s <= now_s + 0.001 else now_s
