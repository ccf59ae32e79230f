"""Hearing datagrams in a thread of its own, so that nothing else this program does makes the system drop any.

Answers to a multicast question come all at once: five hundred devices within half a second. They are only taken here, bounded
in number and size for each host and in all, and looked at afterwards.
"""

from __future__ import annotations

import contextlib
import selectors
import socket
import struct
import sys
import threading
from collections import Counter, deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from types import TracebackType

BUFFER_BYTES = 8 << 20
MAX_OF_ONE = 600  # datagrams of one host: sixteen endpoints, each question repeated
MAX_DATAGRAMS, MAX_BYTES = 30_000, 96 << 20
_POLL_S = 0.1
_MEMINFO, _MEMINFO_DROPS = 55, 8  # SO_MEMINFO, SK_MEMINFO_DROPS (Linux, sock_diag.h)


@dataclass(frozen=True)
class Heard:
    """A datagram: from which host (IPv6 link-local with its adapter, fe80::1%eth0), and on which socket it came."""

    data: bytes
    host: str
    sock: socket.socket


class Ear:
    """Use as a context manager; `take` gives what was heard since it was last asked.

    news:    called from the thread after each handful of datagrams
    left_out: how many of a host were too many to be taken
    """

    def __init__(self, socks: Sequence[socket.socket], news: Callable[[], None] = lambda: None) -> None:
        self.socks = list(socks)
        self.left_out: Counter[str] = Counter()
        self._news = news
        self._heard: deque[Heard] = deque()
        self._of_one: Counter[str] = Counter()
        self._bytes = self._number = 0
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="ear", daemon=True)
        for sock in self.socks:
            sock.setblocking(False)
            with contextlib.suppress(OSError):  # a system may grant less
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER_BYTES)

    def __enter__(self) -> Ear:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stop.set()
        self._thread.join()
        for sock in self.socks:
            sock.close()

    def take(self) -> list[Heard]:
        return [self._heard.popleft() for _ in range(len(self._heard))]

    def forget(self) -> None:
        """Count anew what hosts send: for ears that stay open for hours."""
        self._of_one.clear()
        self._number = self._bytes = 0

    def dropped(self) -> int:
        """How many datagrams this machine had no room for, where it tells; 0 where it does not."""
        return sum(map(_dropped, self.socks))

    def _run(self) -> None:
        with selectors.DefaultSelector() as selector:
            for sock in self.socks:
                selector.register(sock, selectors.EVENT_READ)
            while not self._stop.is_set():
                some = False
                for key, _ in selector.select(_POLL_S):
                    assert isinstance(key.fileobj, socket.socket)
                    some |= self._read(key.fileobj)
                if some:
                    self._news()

    def _read(self, sock: socket.socket) -> bool:
        """All that waits; false where there was nothing."""
        some = False
        while not self._stop.is_set():
            try:
                data, source = sock.recvfrom(65535)
            except (BlockingIOError, InterruptedError):
                return some
            except OSError:  # an answer by ICMP to a question of ours
                continue
            host = str(source[0])
            if host.startswith("fe80:") and "%" not in host and len(source) > 3:
                host = f"{host}%{socket.if_indextoname(source[3])}"
            if self._of_one[host] >= MAX_OF_ONE or self._number >= MAX_DATAGRAMS or self._bytes + len(data) > MAX_BYTES:
                self.left_out[host] += 1
                continue
            self._of_one[host] += 1
            self._number += 1
            self._bytes += len(data)
            self._heard.append(Heard(data, host, sock))
            some = True
        return some


def _dropped(sock: socket.socket) -> int:
    if sys.platform != "linux":
        return 0
    try:
        told = sock.getsockopt(socket.SOL_SOCKET, _MEMINFO, 4 * (_MEMINFO_DROPS + 1))
    except OSError:
        return 0
    return int(struct.unpack_from("I", told, 4 * _MEMINFO_DROPS)[0]) if len(told) > 4 * _MEMINFO_DROPS else 0


def multicast_sender(adapter_address: str) -> socket.socket:
    """A socket that asks a group on this adapter, and takes the answers. Raises OSError."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(adapter_address))
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 1)
        sock.bind((adapter_address, 0))
    except OSError:
        sock.close()
        raise
    return sock


def multicast_sender_v6(adapter: str) -> socket.socket:
    """The same over IPv6, from the link-local address of the adapter of this name. Raises OSError."""
    sock = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
    try:
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, socket.if_nametoindex(adapter))
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 1)
        sock.bind(("::", 0))
    except OSError:
        sock.close()
        raise
    return sock


def group_member(group: str, port: int, adapter_address: str) -> socket.socket:
    """A socket that hears what others send to the group on this adapter. Raises OSError."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        # Bound to the group, Linux and macOS give us nothing else that comes to the port; Windows cannot bind to a group.
        sock.bind(("" if sys.platform == "win32" else group, port))
        membership = socket.inet_aton(group) + socket.inet_aton(adapter_address)
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, membership)
    except OSError:
        sock.close()
        raise
    return sock
