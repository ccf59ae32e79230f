"""Taking in media packets from many sockets at once, at a steady pace: each leaves a record of 20 bytes and the time of its
arrival; payload is copied only while somebody wants it.

Reading each socket when it becomes readable costs many times as much: packets trickle in one by one. Here all sockets are
asked in turn how much waits, which costs little and gives the times, and one is read only when it is worth it: into one large
buffer, where packets are cut apart in one tight loop. Nothing of this product is imported: the module runs wherever Python does.
"""

from __future__ import annotations

import contextlib
import socket
import struct
from array import array
from bisect import bisect_right
from collections.abc import Callable, Sequence
from itertools import repeat

try:
    import fcntl
    import termios

    _WAITING = termios.FIONREAD  # what asks how many bytes wait
except ImportError:  # another system: then each socket is read at each visit
    _WAITING = 0

MARK = 0x24  # "$" before each interleaved packet (RFC 2326 clause 10.12)
RECORD_BYTES = 20  # "$", channel, length of the packet (2), its first 16 bytes: the RTP header and 4 bytes of payload
BUFFER_BYTES = 1 << 20
MAX_MESSAGE_BYTES = 512 * 1024  # an answer with its body; longer ones are handed on as they are
PATIENCE_S, ENOUGH_BYTES = 0.25, 128 * 1024  # what waits is read after so long, or where there is so much of it
WINDOW_BYTES = 1 << 20  # a key frame of the largest cameras, which comes at the rate of their port
_MAX_WALK = 256  # packets found by their lengths before they are looked at
_MAX_BLANK = 4096  # looked at together
_LENGTH, _INT, _UINT = struct.Struct("!xxH"), struct.Struct("i"), struct.Struct("I")
_RCV_OOOPACK, _RCV_WND = 224, 232  # in struct tcp_info (linux/tcp.h); older kernels tell less
_NO_ODD = bytes(256)
_buffer = bytearray(BUFFER_BYTES + RECORD_BYTES)  # a record may be longer than its packet
BUFFER = memoryview(_buffer)[:BUFFER_BYTES]


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
    the first payload byte, `odd_rows` to what tells of records those to look at whole where that byte does not, `begins` to what
    tells of records the row from which on packets are wanted whole (`keep`), or -1. Beside its records it collects those
    (`whole`, each with its arrival), `control` (RTCP packets, each with how many
    packets of the stream came before it) and `messages` (what is no packet).
    """

    def __init__(self) -> None:
        self.taken = Taken()
        self.whole: list[tuple[bytes, float]] = []
        self.control: list[tuple[bytes, int]] = []
        self.messages: list[bytes] = []
        self.first_news = True  # nothing came yet
        self.channel: int | None = None
        self.odd_first = _NO_ODD
        self.odd_rows: Callable[[bytes | bytearray], list[int]] | None = None
        self.begins: Callable[[bytes | bytearray], int] | None = None
        self.keep = False
        self.closed = False
        self.failed: OSError | None = None
        self.bytes = self.packets = 0  # all there were
        self.patient = False  # nobody waits for an answer
        self.hurried = True  # packets that are wanted whole are wanted at once
        self.due_s = 0.0  # when it is read at the latest

    def take(self) -> Taken:
        taken, self.taken = self.taken, Taken()
        return taken

    def is_ripe(self, now_s: float) -> bool:
        """Whether it is worth reading now. Asked at each visit: over TCP that is where the times of arrival are from."""
        raise NotImplementedError

    def read(self, now_s: float) -> bool:
        """Take in what waits; true where something came."""
        raise NotImplementedError

    def _add(self, records: bytearray, packet: Callable[[int], bytes]) -> int:
        """Take the records of some packets, each of which is `packet(row)`. Returns the row from which on they are wanted
        whole; behind the last where they are not.
        """
        size = RECORD_BYTES
        count = len(records) // size
        odd = self._odd(records, count)
        for row in odd:
            if not records[row * size + 2] and records[row * size + 3] < size - 4:
                short = size - 4 - records[row * size + 3]  # of what follows it, nothing is its own
                records[(row + 1) * size - short : (row + 1) * size] = bytes(short)
        begin = len(self.taken.records) // size
        self.taken.odd += [(begin + row, packet(row)) for row in odd]
        self.taken.records += records
        if self.keep or self.begins is None:
            return 0 if self.keep else count
        # Behind a longer header the payload begins elsewhere: then all are wanted.
        longer = (row for row in odd if records[row * size + 4] != 0x80)
        wanted = [row for row in (self.begins(records), next(longer, -1)) if row >= 0]
        self.keep = bool(wanted)
        return min(wanted, default=count)

    def _odd(self, records: bytearray, count: int) -> list[int]:
        """The rows of those that must be looked at whole."""
        size, rows = RECORD_BYTES, set[int]()
        versions, firsts = records[4::size], records[16::size].translate(self.odd_first)
        if versions.count(0x80) != count:
            rows.update(row for row, version in enumerate(versions) if version != 0x80)
        if firsts.count(0) != count:
            rows.update(row for row, odd in enumerate(firsts) if odd)
        if self.odd_rows is not None:
            rows.update(self.odd_rows(records))
        high, low = records[2::size], records[3::size]
        row = high.find(0)
        while row >= 0:  # shorter than 256 bytes: perhaps too short for a record
            if low[row] < size - 4:
                rows.add(row)
            row = high.find(0, row + 1)
        return sorted(rows)


class Connection(Stream):
    """Interleaved packets and messages of one connection. `decode`, where given, makes plain bytes of what comes (TLS)."""

    def __init__(self, sock: socket.socket, decode: Callable[[bytes], bytes] | None = None) -> None:
        super().__init__()
        self.sock = sock
        self.decode = decode
        self._rest = b""  # of a packet or message that is not all there yet
        self._out = bytearray()
        self._waiting: list[tuple[int, float]] = []  # so many bytes waited when they were last asked for
        self._ends: list[int] = []  # where each new packet ends in the buffer
        self._kept: list[tuple[int, bytes]] = []
        self._walk = 1
        # Nobody reads in a hurry, and what does not fit the window is lost in the camera: Linux makes room for twice this.
        with contextlib.suppress(OSError):
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVLOWAT, WINDOW_BYTES)

    def path_told(self) -> tuple[int | None, int | None]:
        """What the system knows of the way here (TCP_INFO of Linux): our receive window [bytes], and how many segments came out
        of order, since some before them were lost or overtaken. A receiver does not see what the sender sent again.
        """
        try:
            told = self.sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 256)
        except (AttributeError, OSError):  # another system
            return None, None
        window, disordered = (
            int(_UINT.unpack_from(told, at)[0]) if len(told) >= at + 4 else None for at in (_RCV_WND, _RCV_OOOPACK)
        )
        return window, disordered

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

    def is_ripe(self, now_s: float) -> bool:
        if not self.patient or self._out or self.decode is not None or not _WAITING:
            return True
        try:
            (size,) = _INT.unpack(fcntl.ioctl(self.sock, _WAITING, b"\0\0\0\0"))
        except OSError:
            return True  # reading will tell
        if size > (self._waiting[-1][0] if self._waiting else 0):
            self._waiting.append((size, now_s))
        # The system lets the window grow with what comes: before, less fits in.
        enough = ENOUGH_BYTES if self.bytes > WINDOW_BYTES else ENOUGH_BYTES // 4
        return size >= enough or now_s >= self.due_s

    def read(self, now_s: float) -> bool:
        self.due_s = now_s + PATIENCE_S
        if self._out:
            self.flush()
        if self.closed:
            return False
        begin = len(self._rest)
        count = self._receive(begin)
        if count is None:
            return self.closed
        self.bytes += count
        done = self._cut(begin + count)
        self._rest = bytes(BUFFER[done : begin + count])
        self._date(begin, now_s)
        return True

    def _receive(self, begin: int) -> int | None:
        """Behind what is left from before, into the buffer: so many bytes; None where there are none."""
        try:
            if self.decode is None:
                BUFFER[:begin] = self._rest
                count = self.sock.recv_into(BUFFER[begin:])
                self.closed = not count
            else:
                coded = self.sock.recv(BUFFER_BYTES // 4)
                plain = self.decode(coded)
                count = len(plain)
                BUFFER[:begin], BUFFER[begin : begin + count] = self._rest, plain
                self.closed = not coded  # no plain bytes may be a part of a TLS record
        except (BlockingIOError, InterruptedError):
            return None
        except OSError as error:
            self.failed, self.closed = error, True
            return None
        return count or None

    def _date(self, begin: int, now_s: float) -> None:
        """The arrival of each new packet: when its last byte was first known to wait."""
        arrivals, ends, row = self.taken.arrivals, self._ends, 0
        new = len(arrivals)
        for size, seen_s in self._waiting:
            until = bisect_right(ends, begin + size, row)
            arrivals.extend([seen_s] * (until - row))
            row = until
        arrivals.extend([now_s] * (len(ends) - row))
        self.whole += [(packet, arrivals[new + index]) for index, packet in self._kept]
        self.packets += len(ends)
        self._waiting, self._ends, self._kept = [], [], []

    def _cut(self, end: int) -> int:
        """Cut what lies in the buffer apart. Returns where the part begins that is not whole."""
        at, length = 0, _LENGTH.unpack_from
        own = None if self.channel is None else bytes((MARK, self.channel))
        while True:
            if own is not None and _buffer.startswith(own, at):
                starts, after = [], at
                for _ in repeat(None, self._walk):  # nearly all packets go this way: each step here costs
                    if after > end - 4:
                        break
                    starts.append(after)
                    after += 4 + length(_buffer, after)[0]
                if after > end:
                    after = starts.pop()
                if starts:
                    count = self._take_walked(starts, after)
                    if count == len(starts):
                        at, self._walk = after, min(_MAX_WALK, 2 * self._walk)
                        continue
                    at, self._walk = starts[count], 1
            after = self._other(at, end)
            if after == at:
                return at
            at = after

    def _take_walked(self, starts: Sequence[int], after: int) -> int:
        """Take the packets of the stream that the walk begins with: so many. The rest may be anything."""
        assert self.channel is not None
        size, count, ends = RECORD_BYTES, len(starts), [*starts[1:], after]
        records = bytearray(b"".join([_buffer[at : at + size] for at in starts]))
        for offset, wanted in ((0, MARK), (1, self.channel)):
            count -= len(records[offset : count * size : size].lstrip(bytes((wanted,))))
        if not count:
            return 0
        del records[count * size :]
        first = self._add(records, lambda row: bytes(BUFFER[starts[row] + 4 : ends[row]]))
        new = len(self._ends)
        self._kept += [(new + row, bytes(BUFFER[starts[row] + 4 : ends[row]])) for row in range(first, count)]
        self._ends += ends[:count]
        return count

    def _other(self, at: int, end: int) -> int:
        """What is no packet of the stream. Returns where it ends; `at` where it is not whole."""
        if end - at < 4:
            return at
        if _buffer[at] != MARK:
            return self._message(at, end)
        after = at + 4 + (_buffer[at + 2] << 8 | _buffer[at + 3])
        if after > end:
            return at
        if self.channel is not None and _buffer[at + 1] == self.channel + 1:
            self.control.append((bytes(BUFFER[at + 4 : after]), self.packets + len(self._ends)))
        return after

    def _message(self, at: int, end: int) -> int:
        """One message, or the empty lines before it, from `at` on. Returns where it ends; `at` where it is not whole."""
        if _buffer[at] in b"\r\n":
            blank = _buffer[at : min(end, at + _MAX_BLANK)]
            return at + len(blank) - len(blank.lstrip(b"\r\n"))
        head = _buffer.find(b"\r\n\r\n", at, end)
        after = end
        if head >= 0:
            after = head + 4
            for line in bytes(BUFFER[at:head]).lower().split(b"\r\n")[1:]:
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
        self.messages.append(bytes(BUFFER[at:after]))
        return after
