"""A pair of UDP sockets for one stream: RTP, and RTCP on the next port."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import Callable

from zentrale.errors import UnreachableError

UDP_BUFFER_BYTES = 4 * 1024 * 1024  # a key frame of an 8 MP camera comes in one burst


class UdpPair:
    """An even port for RTP and the next for RTCP (RFC 3550 clause 11), on the address the connection uses."""

    def __init__(self, local_address: str, receive: Callable[[bytes, bool], None]) -> None:
        self._receive = receive
        self._sockets = _bind_pair(local_address)
        self.ports = (self._sockets[0].getsockname()[1], self._sockets[1].getsockname()[1])
        self._loop = asyncio.get_running_loop()
        for index, sock in enumerate(self._sockets):
            self._loop.add_reader(sock.fileno(), self._drain, sock, index == 1)

    def _drain(self, sock: socket.socket, is_rtcp: bool) -> None:
        for _ in range(256):  # then let the others have their turn
            try:
                data = sock.recv(65535)
            except (BlockingIOError, ConnectionRefusedError):
                return
            self._receive(data, is_rtcp)

    def open_towards(self, host: str, server_ports: tuple[int, int]) -> None:
        """Send a harmless datagram each way out, so that a firewall on the path lets the answers in."""
        for sock, port in zip(self._sockets, server_ports, strict=True):
            with contextlib.suppress(OSError):
                sock.sendto(b"\x80\xc9\x00\x01\x00\x00\x00\x00", (host, port))

    def send_rtcp(self, data: bytes, to: tuple[str, int]) -> None:
        with contextlib.suppress(OSError):
            self._sockets[1].sendto(data, to)

    def close(self) -> None:
        for sock in self._sockets:
            self._loop.remove_reader(sock.fileno())
            sock.close()


def _bind_pair(address: str) -> tuple[socket.socket, socket.socket]:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    for _ in range(50):
        first = socket.socket(family, socket.SOCK_DGRAM)
        second = socket.socket(family, socket.SOCK_DGRAM)
        try:
            first.bind((address, 0))
            port = first.getsockname()[1]
            if port % 2 == 0:
                second.bind((address, port + 1))
                for sock in (first, second):
                    sock.setblocking(False)
                first.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, UDP_BUFFER_BYTES)
                return first, second
        except OSError:
            pass
        first.close()
        second.close()
    raise UnreachableError(f"{address}: no pair of free UDP ports")
