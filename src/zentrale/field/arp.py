"""Asking by ARP who is there (RFC 826): on a network of its own link every host answers, whatever its ports do. Needs the
right to send raw packets (Linux, CAP_NET_RAW); nothing is seen without it.
"""

from __future__ import annotations

import ipaddress
import logging
import socket
import sys
import time
from collections.abc import Iterable, Sequence

from zentrale.field.adapters import Adapter
from zentrale.protocols import frames

log = logging.getLogger(__name__)
_ROUNDS, _WAIT_S = 2, 0.35  # a busy device answers within this; the second round is for those that lost the first
_PACE = 64  # frames at once: a small switch and a slow device carry that


def allowed() -> bool:
    """Whether this process may send raw packets."""
    if sys.platform != "linux":
        return False
    try:
        socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0).close()
    except OSError:
        return False
    return True


def who_is_there(adapter: Adapter, addresses: Iterable[str]) -> dict[str, tuple[str, ...]] | None:
    """The MAC addresses that answer for each address of this adapter's network: two for one are two devices on one address.

    None where it cannot be asked (no rights, loopback). Blocks for about a second: call it in a thread.
    """
    if sys.platform != "linux" or adapter.loopback:
        return None
    on_link = [a for a in addresses if a != adapter.address and ipaddress.IPv4Address(a) in adapter.network]
    try:
        with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(frames.ARP)) as sock:
            sock.bind((adapter.name, frames.ARP))
            sock.setblocking(False)
            return _ask(sock, adapter, on_link)
    except OSError as error:
        log.info("%s: no ARP: %s", adapter, error.strerror)
        return None


def _ask(sock: socket.socket, adapter: Adapter, addresses: Sequence[str]) -> dict[str, tuple[str, ...]]:
    own_mac = sock.getsockname()[4].hex(":")
    wanted, found = set(addresses), dict[str, tuple[str, ...]]()
    for _ in range(_ROUNDS):
        left = [a for a in addresses if a not in found]
        for begin in range(0, len(left), _PACE):
            for address in left[begin : begin + _PACE]:
                sock.send(frames.arp_request(own_mac, adapter.address, address))
            _listen(sock, wanted, found, 0.005)
        _listen(sock, wanted, found, _WAIT_S)
    return found


def _listen(sock: socket.socket, wanted: set[str], found: dict[str, tuple[str, ...]], seconds: float) -> None:
    end = time.monotonic() + seconds
    while True:
        try:
            frame = frames.parse(sock.recv(2048))
        except BlockingIOError:
            if time.monotonic() >= end:
                return
            time.sleep(0.002)
            continue
        reply = frames.arp_reply(frame) if frame is not None else None
        if reply is not None and reply[0] in wanted and reply[1] not in found.get(reply[0], ()):
            found[reply[0]] = (*found.get(reply[0], ()), reply[1])
