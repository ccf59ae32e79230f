"""A pair of UDP sockets for one stream: RTP, and RTCP on the next port; its own, or those of a multicast group."""

from __future__ import annotations

import contextlib
import errno
import ipaddress
import socket
import struct

from zentrale.errors import MachineError
from zentrale.field.datagram_batch import BATCH
from zentrale.field.datagrams import Datagrams
from zentrale.field.limits import own_limit

UDP_BUFFER_BYTES = 4 * 1024 * 1024  # a key frame of an 8 MP camera comes in one burst
_RCVBUFFORCE = 33  # SO_RCVBUFFORCE (Linux): beyond the system's limit, where rights allow


class UdpPair:
    """`ports`: an even port for RTP and the next for RTCP (RFC 3550 clause 11)."""

    def __init__(self, rtp: socket.socket, rtcp: socket.socket) -> None:
        self._sockets = (rtp, rtcp)
        self.ports = (int(rtp.getsockname()[1]), int(rtcp.getsockname()[1]))
        for sock in self._sockets:
            sock.setblocking(False)
        rtp.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, UDP_BUFFER_BYTES)
        with contextlib.suppress(OSError):
            rtp.setsockopt(socket.SOL_SOCKET, _RCVBUFFORCE, UDP_BUFFER_BYTES)
        self.stream = Datagrams(rtp, rtcp, BATCH)

    @classmethod
    def bind(cls, address: str) -> UdpPair:
        """On the address that the connection uses. Raises MachineError."""
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        failed = OSError(errno.EADDRINUSE, "no pair is free")
        for _ in range(50):
            sockets: list[socket.socket] = []
            try:
                sockets.append(socket.socket(family, socket.SOCK_DGRAM))
                sockets.append(socket.socket(family, socket.SOCK_DGRAM))
                sockets[0].bind((address, 0))
                port = sockets[0].getsockname()[1]
                if port % 2 == 0:
                    sockets[1].bind((address, port + 1))
                    return cls(*sockets)
            except OSError as error:
                failed = error
            for sock in sockets:
                sock.close()
        raise _not_here(f"{address}, a pair of free UDP ports", failed)

    @classmethod
    def join(cls, group: str, ports: tuple[int, int], local_address: str) -> UdpPair:
        """As a listener of `group`, on the adapter that has `local_address`. Raises MachineError."""
        sockets = []
        try:
            for port in ports:
                sock = socket.socket(socket.AF_INET6 if ":" in group else socket.AF_INET, socket.SOCK_DGRAM)
                sockets.append(sock)
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                sock.bind((group, port))
                _join(sock, group, local_address)
        except OSError as error:
            for sock in sockets:
                sock.close()
            raise _not_here(f"multicast group {group} port {ports[0]}", error) from None
        return cls(*sockets)

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
            sock.close()


def _not_here(where: str, error: OSError) -> MachineError:
    advice = "give the adapter that reaches it an address; `zentrale doctor` lists the adapters"
    return own_limit(where, error) or MachineError(f"{where}: this machine: {error.strerror or error}", advice)


def _join(sock: socket.socket, group: str, local_address: str) -> None:
    if ":" in group:
        index = struct.pack("@I", 0)  # the adapter that the route to the group goes by
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_JOIN_GROUP, ipaddress.ip_address(group).packed + index)
    else:
        member = socket.inet_aton(group) + socket.inet_aton(local_address)
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
