"""Many datagrams with one call of the kernel (recvmmsg of Linux). As the intake, it imports nothing of this product."""

from __future__ import annotations

import ctypes
import socket
import struct
import sys
from collections.abc import Iterator, Sequence

MARK, RECORD_BYTES = 0x24, 20  # of the intake's records
HEAD = struct.Struct("!BBH")  # mark, channel, length: what stands before the first 16 bytes of a packet
_WITHOUT_WAITING = int(socket.MSG_DONTWAIT | socket.MSG_TRUNC) if sys.platform == "linux" else 0


class _Vector(ctypes.Structure):  # struct iovec
    _fields_ = (("base", ctypes.c_void_p), ("length", ctypes.c_size_t))


class _Header(ctypes.Structure):  # struct msghdr, as Linux has it
    _fields_ = (
        ("name", ctypes.c_void_p), ("name_length", ctypes.c_uint32), ("vectors", ctypes.POINTER(_Vector)),
        ("vector_count", ctypes.c_size_t), ("control", ctypes.c_void_p), ("control_length", ctypes.c_size_t),
        ("flags", ctypes.c_int),
    )  # fmt: skip


class _Message(ctypes.Structure):  # struct mmsghdr
    _fields_ = (("header", _Header), ("length", ctypes.c_uint))


class Batch:
    """recvmmsg of Linux: 64 datagrams a call, which is a quarter of the cost of one a call. The first 16 bytes of each go where
    its record is, so that nothing is copied; what follows goes to a room of its own, 2 kB of it, or where nobody wants it only
    the first 240 bytes: what the kernel need not copy costs nothing.
    """

    SIZE, SLOT, NAME, CONTROL = 64, 2048, 28, 64
    _LITTLE = 240

    def __init__(self) -> None:
        self._call = ctypes.CDLL(None, use_errno=True).recvmmsg
        self._call.argtypes = [ctypes.c_int, ctypes.c_void_p, ctypes.c_uint, ctypes.c_int, ctypes.c_void_p]
        self._records = bytearray(HEAD.pack(MARK, 0, 0).ljust(RECORD_BYTES, b"\0") * self.SIZE)
        self._rest, self.names = bytearray(self.SIZE * self.SLOT), bytearray(self.SIZE * self.NAME)
        self.stamps = bytearray(self.SIZE * self.CONTROL)
        self._vectors, self._messages = (_Vector * (2 * self.SIZE))(), (_Message * self.SIZE)()
        records, rest, names, stamps = (_address(b) for b in (self._records, self._rest, self.names, self.stamps))
        for index, message in enumerate(self._messages):
            first, second = self._vectors[2 * index], self._vectors[2 * index + 1]
            first.base, first.length = records + index * RECORD_BYTES + 4, RECORD_BYTES - 4
            second.base = rest + index * self.SLOT
            header = message.header
            header.name, header.name_length = names + index * self.NAME, self.NAME
            header.vectors, header.vector_count = ctypes.pointer(first), 2
            header.control, header.control_length = stamps + index * self.CONTROL, self.CONTROL
        self._rooms = memoryview(self._vectors).cast("B")
        self._room, self._rooms_of = 0, {room: self._with_room(room) for room in (self._LITTLE, self.SLOT)}
        self._bytes = memoryview(self._messages).cast("B")
        self._fresh = bytes(self._bytes)
        self._at = ctypes.addressof(self._messages)
        stride, offset = ctypes.sizeof(_Message), _Message.length.offset
        self._lengths = struct.Struct(f"{offset}xI{stride - offset - 4}x" * self.SIZE)
        # Behind struct cmsghdr.
        self._stamps = [struct.Struct(f"16xqq{self.CONTROL - 32}x" * n) for n in range(self.SIZE + 1)]
        self._zeros = bytes(len(self.stamps))

    def _with_room(self, room: int) -> bytes:
        for index in range(self.SIZE):
            self._vectors[2 * index + 1].length = room
        return bytes(self._rooms)

    def receive(self, sock: socket.socket, *, all_of_it: bool) -> tuple[int, ...]:
        """The lengths of the datagrams that came, as they were sent."""
        room = self.SLOT if all_of_it else self._LITTLE
        if room != self._room:
            self._room, self._rooms[:] = room, self._rooms_of[room]
        self._bytes[:] = self._fresh  # the kernel writes the lengths of names and stamps over the room for them
        self.stamps[:] = self._zeros
        count = self._call(sock.fileno(), self._at, self.SIZE, _WITHOUT_WAITING, None)
        return self._lengths.unpack(self._bytes)[: max(0, count)]

    def stamped(self, count: int) -> Iterator[tuple[int, int]]:
        """Seconds and nanoseconds of each, by the clock of the day; 0 where the kernel gave none."""
        stamps = iter(self._stamps[count].unpack_from(self.stamps))
        return zip(stamps, stamps, strict=True)

    def records(self, sizes: Sequence[int]) -> bytearray:
        end = len(sizes) * RECORD_BYTES
        lengths = struct.pack(f"!{len(sizes)}H", *sizes)
        self._records[2:end:RECORD_BYTES], self._records[3:end:RECORD_BYTES] = lengths[0::2], lengths[1::2]
        return self._records[:end]

    def packet(self, index: int, size: int) -> bytes:
        """One of them, as far as it was kept."""
        at, beyond = index * RECORD_BYTES + 4, index * self.SLOT
        head = self._records[at : at + min(size, RECORD_BYTES - 4)]
        return bytes(head + self._rest[beyond : beyond + min(max(0, size - RECORD_BYTES + 4), self._room)])

    def source(self, index: int) -> tuple[str, int]:
        """Address and port of the sender (struct sockaddr_in or sockaddr_in6)."""
        name = bytes(self.names[index * self.NAME : (index + 1) * self.NAME])
        if int.from_bytes(name[:2], sys.byteorder) == socket.AF_INET:
            return socket.inet_ntop(socket.AF_INET, name[4:8]), int.from_bytes(name[2:4], "big")
        return socket.inet_ntop(socket.AF_INET6, name[8:24]), int.from_bytes(name[2:4], "big")


def _address(buffer: bytearray) -> int:
    return ctypes.addressof((ctypes.c_char * len(buffer)).from_buffer(buffer))


try:
    BATCH: Batch | None = Batch() if sys.platform == "linux" else None
except (AttributeError, OSError):  # another C library
    BATCH = None
