"""Taking in media packets from many sockets at once, at a steady pace: each leaves a record of 20 bytes and the time of its
arrival; payload is copied only while somebody wants it.

Reading each socket when it becomes readable costs twice as much and more: packets trickle in one by one. Here all sockets
are read in turn into one large buffer, and packets are cut apart in one tight loop. Nothing of this product is imported:
the module runs wherever Python does.
"""

from __future__ import annotations

import contextlib
import socket
import struct
import sys
import time
from array import array
from collections import Counter
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from zentrale.field.datagram_batch import Batch

MARK = 0x24  # "$" before each interleaved packet (RFC 2326 clause 10.12)
RECORD_BYTES = 20  # "$", channel, length of the packet (2), its first 16 bytes: the RTP header and 4 bytes of payload
BUFFER_BYTES = 1 << 20
MAX_MESSAGE_BYTES = 512 * 1024  # an answer with its body; longer ones are handed on as they are
MAX_DATAGRAMS = 4096  # of one socket at one visit: then the others have their turn
MAX_STRANGERS = 64
CONTROL_S = 0.2  # how often RTCP is looked at
_SKB_BYTES = 2304  # what the kernel counts for one full packet (its page share and its header)
_FAST_ETHERNET_BYTES_PER_S = 12_500_000
_TIMESTAMPNS = 35  # SO_TIMESTAMPNS, and SCM_TIMESTAMPNS: struct timespec (Linux, asm-generic/socket.h)
_MEMINFO, _MEMINFO_DROPS = 55, 8  # SO_MEMINFO, SK_MEMINFO_DROPS (Linux, sock_diag.h)
_HEAD = struct.Struct("!BBH")
_PACKET = struct.Struct("!BBHB11xB")  # mark, channel, length, first byte of the header, first byte of the payload
_TIMESPEC = struct.Struct("qq")
_OLDEST_S = 5.0  # no datagram waits for longer
_NO_ODD = bytes(256)
_buffer = bytearray(BUFFER_BYTES)
_view = memoryview(_buffer)


class Taken:
    """What was taken in of one stream since it was last asked.

    records:  RECORD_BYTES for each RTP packet; arrivals: when it came, on the monotonic clock [s]
    odd:      row of a record whose packet has to be looked at whole, and that packet: a header that is longer or no RTP at all,
              padding, or a payload that begins with one of the bytes asked for
    """

    def __init__(self) -> None:
        self.records = bytearray()
        self.arrivals = array("d")
        self.odd: list[tuple[int, bytes]] = []

    def __len__(self) -> int:
        return len(self.arrivals)


class Stream:
    """The intake of one stream. Set `channel` once the interleaved channel is known, `odd_first` to a table of 256 flags for
    the first payload byte, `begins` to what tells by the first 4 bytes of a payload that packets are wanted whole from there
    on (`keep`). Beside its records it collects those (`whole`), `control` (RTCP packets) and `messages` (what is no packet).
    """

    def __init__(self) -> None:
        self.taken = Taken()
        self.whole: list[bytes] = []
        self.control: list[bytes] = []
        self.messages: list[bytes] = []
        self.first_news = True  # nothing came yet
        self.channel: int | None = None
        self.odd_first = _NO_ODD
        self.begins: Callable[[bytes | bytearray], bool] | None = None
        self.keep = False
        self.closed = False
        self.failed: OSError | None = None
        self.bytes = self.packets = 0  # all there were

    def take(self) -> Taken:
        taken, self.taken = self.taken, Taken()
        return taken

    def read(self, now_s: float) -> bool:
        """Take in what waits; true where something came."""
        raise NotImplementedError

    def _add(self, record: bytes, packet: bytes) -> None:
        taken, row = self.taken, len(self.taken.records) // RECORD_BYTES
        if len(packet) < RECORD_BYTES - 4 or packet[0] != 0x80 or self.odd_first[packet[12]]:
            taken.odd.append((row, packet))
        if self.begins is not None and not self.keep:
            # Behind a longer header the payload begins elsewhere: then all are wanted.
            self.keep = packet[:1] != b"\x80" or self.begins(packet[12:16])
        if self.keep:
            self.whole.append(packet)
        taken.records += record


class Connection(Stream):
    """Interleaved packets and messages of one connection. `decode`, where given, makes plain bytes of what comes (TLS)."""

    def __init__(self, sock: socket.socket, decode: Callable[[bytes], bytes] | None = None) -> None:
        super().__init__()
        self.sock = sock
        self.decode = decode
        self._rest = b""  # of a packet or message that is not all there yet
        self._out = bytearray()

    def send(self, data: bytes) -> None:
        self._out += data
        self.flush()

    def flush(self) -> None:
        """Send what waits, as far as the other side takes it."""
        while self._out and not self.closed:
            try:
                sent = self.sock.send(self._out)
            except (BlockingIOError, InterruptedError):
                return
            except OSError as error:
                self.failed, self.closed = error, True
                return
            del self._out[:sent]

    def read(self, now_s: float) -> bool:
        if self._out:
            self.flush()
        if self.closed:
            return False
        rest = self._rest
        begin = len(rest)
        try:
            if self.decode is None:
                _view[:begin] = rest
                count = self.sock.recv_into(_view[begin:])
            else:
                coded = self.sock.recv(BUFFER_BYTES // 4)
                plain = self.decode(coded)
                count = len(plain)
                _view[:begin], _view[begin : begin + count] = rest, plain
                if coded and not plain:  # a part of a TLS record
                    return False
        except (BlockingIOError, InterruptedError):
            return False
        except OSError as error:
            self.failed, self.closed = error, True
            return True
        if not count:
            self.closed = True
            return True
        self.bytes += count
        end = begin + count
        done = self._cut(end)
        self._rest = bytes(_view[done:end])
        arrivals = self.taken.arrivals
        new = len(self.taken.records) // RECORD_BYTES - len(arrivals)
        self.packets += new
        arrivals.extend([now_s] * new)
        return True

    def _cut(self, end: int) -> int:
        """Cut what lies in the buffer apart. Returns where the part begins that is not whole."""
        buffer, channel, odd_first, keep, unpack = _buffer, self.channel, self.odd_first, self.keep, _PACKET.unpack_from
        records = self.taken.records
        at, last_full, before, begins = 0, end - RECORD_BYTES, 0, self.begins
        while True:
            while at <= last_full and not keep:  # nearly all packets go this way: each step here costs
                mark, where, size, version, first = unpack(buffer, at)
                after = at + 4 + size
                if mark != MARK or where != channel or version != 0x80 or size < 16 or odd_first[first] or after > end:
                    break
                if begins is not None:
                    if begins(buffer[at + 16 : at + RECORD_BYTES]):
                        break
                elif size == before and end - at > 5 * size:
                    after = at + self._alike(at, end, size + 4) * (size + 4)
                    records += b"".join([buffer[i : i + RECORD_BYTES] for i in range(at, after, size + 4)])
                    at, before = after, 0
                    continue
                records += buffer[at : at + RECORD_BYTES]
                at, before = after, size
            after = self._other(at, end)
            if after == at:
                return at
            at, keep = after, self.keep

    def _alike(self, at: int, end: int, stride: int) -> int:
        """How many plain packets in a row, from the one at `at` on, are as long as it is: the fragments of a picture are."""
        assert self.channel is not None
        count = (end - at) // stride
        wanted = bytes((MARK, self.channel)) + _buffer[at + 2 : at + 4] + b"\x80"
        for offset in range(5):
            column = _buffer[at + offset : at + count * stride : stride]
            count -= len(column.lstrip(wanted[offset : offset + 1]))
        return count - len(_buffer[at + 16 : at + count * stride : stride].translate(self.odd_first).lstrip(b"\0"))

    def _other(self, at: int, end: int) -> int:
        """What is not a plain packet of the stream. Returns where it ends; `at` where it is not whole."""
        if end - at < 4:
            return at
        if _buffer[at] != MARK:
            return self._message(at, end)
        after = at + 4 + (_buffer[at + 2] << 8 | _buffer[at + 3])
        if after > end:
            return at
        if self.channel is None:
            return after
        if _buffer[at + 1] == self.channel:
            self._slow(at, after)
        elif _buffer[at + 1] == self.channel + 1:
            self.control.append(bytes(_view[at + 4 : after]))
        return after

    def _slow(self, at: int, after: int) -> None:
        packet = bytes(_view[at + 4 : after])
        self._add(bytes(_view[at : at + 4]) + packet[: RECORD_BYTES - 4].ljust(RECORD_BYTES - 4, b"\0"), packet)

    def _message(self, at: int, end: int) -> int:
        """One message, or the empty lines before it, from `at` on. Returns where it ends; `at` where it is not whole."""
        if _buffer[at] in b"\r\n":
            return at + 1
        head = _buffer.find(b"\r\n\r\n", at, end)
        after = end
        if head >= 0:
            after = head + 4
            for line in bytes(_view[at:head]).lower().split(b"\r\n")[1:]:
                name, _, value = line.partition(b":")
                size = value.strip()
                if name.strip() == b"content-length" and size.isdigit() and len(size) < 7:
                    after += int(size)
            if after - at > MAX_MESSAGE_BYTES:
                after = head + 4  # whoever reads it will say so
        elif chr(_buffer[at]).isalpha() and end - at < MAX_MESSAGE_BYTES:
            return at
        if after > end:
            return at
        self.messages.append(bytes(_view[at:after]))
        return after


class Datagrams(Stream):
    """The two sockets of a stream over UDP: RTP, and RTCP. Only what comes from `source` is its own.

    source:    address of the sender of RTP, and its port, where it is known
    batch:     what takes many with one call, where the system has it
    strangers: from which other address and port how many datagrams came (of the first 64 of them)
    """

    def __init__(self, rtp: socket.socket, rtcp: socket.socket, batch: Batch | None = None) -> None:
        super().__init__()
        self.batch = batch
        self.rtp, self.rtcp = rtp, rtcp
        self.channel = 0
        self.source: tuple[str, int | None] | None = None
        self.strangers: Counter[tuple[str, int]] = Counter()
        self._control_due_s = 0.0
        self._names: tuple[tuple[str, int | None] | None, bytes] = (None, b"")
        self.stamped = False
        if sys.platform == "linux":
            with contextlib.suppress(OSError):
                rtp.setsockopt(socket.SOL_SOCKET, _TIMESTAMPNS, 1)
                self.stamped = True

    def pace_s(self) -> float:
        """How long the socket may be left alone: until a fast-Ethernet port has filled its buffer."""
        granted = self.rtp.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF)
        return granted / _SKB_BYTES * 1400 / _FAST_ETHERNET_BYTES_PER_S

    def dropped(self) -> int:
        """Datagrams that this machine had no room for, so far; 0 where it does not tell."""
        if sys.platform != "linux":
            return 0
        try:
            told = self.rtp.getsockopt(socket.SOL_SOCKET, _MEMINFO, 4 * (_MEMINFO_DROPS + 1))
        except OSError:
            return 0
        return int(struct.unpack_from("I", told, 4 * _MEMINFO_DROPS)[0]) if len(told) > 4 * _MEMINFO_DROPS else 0

    def read(self, now_s: float) -> bool:
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
                    self.control.append(data)
                    some = True
                else:
                    self._strange(source[:2])
        return some

    def _read_each(self, now_s: float, ahead_s: float) -> None:
        """One datagram a call, each whole."""
        receive, into = getattr(self.rtp, "recvmsg_into", self._receive_from), [_view[4:65540]]
        for _ in range(MAX_DATAGRAMS):
            try:
                size, told, _, source = receive(into, 64)
            except (BlockingIOError, InterruptedError):
                return
            except ConnectionRefusedError:  # an answer to what was sent to open the way
                continue
            if not self._is_own(source[:2]):
                self._strange(source[:2])
                continue
            stamp = told[0][2] if told and len(told[0][2]) == _TIMESPEC.size else None
            self.taken.arrivals.append(_arrival(stamp, now_s, ahead_s))
            packet = bytes(_view[4 : 4 + size])
            self._add(_HEAD.pack(MARK, 0, size) + packet[:16].ljust(16, b"\0"), packet)
            self.bytes += size
            self.packets += 1

    def _read_batches(self, batch: Batch, now_s: float, ahead_s: float) -> None:
        """Many datagrams a call, and what is plain about them at a stroke: packet by packet it costs three times as much."""
        own = self._own_names(batch)
        for _ in range(MAX_DATAGRAMS // batch.SIZE):
            sizes = batch.receive(self.rtp)
            if not sizes:
                return
            arrivals = [seconds + nanoseconds * 1e-9 - ahead_s for seconds, nanoseconds in batch.stamped(len(sizes))]
            if min(arrivals) < now_s - _OLDEST_S or max(arrivals) > now_s + 0.001:
                arrivals = [now_s] * len(sizes)  # the clock of the day was set meanwhile
            if (
                not self.keep
                and own.startswith(batch.names[: len(sizes) * batch.NAME])
                and min(sizes) >= 16
                and (self.begins is None or not any(map(self.begins, batch.payloads(len(sizes)))))
                and batch.plain(len(sizes), self.odd_first)
            ):
                self.taken.records += batch.records(sizes)
                self.taken.arrivals.extend(arrivals)
                self.bytes += sum(sizes)
                self.packets += len(sizes)
            else:
                self._take_each(batch, sizes, arrivals)
            if len(sizes) < batch.SIZE:
                return

    def _take_each(self, batch: Batch, sizes: Sequence[int], arrivals: Sequence[float]) -> None:
        for index, size in enumerate(sizes):
            source = batch.source(index)
            if not self._is_own(source):
                self._strange(source)
                continue
            packet = batch.packet(index, size)
            if len(packet) < size:
                self.batch = None  # longer than it has room for: from now on one by one, each whole
            self._add(_HEAD.pack(MARK, 0, size) + packet[:16].ljust(16, b"\0"), packet)
            self.taken.arrivals.append(arrivals[index])
            self.bytes += size
            self.packets += 1

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
