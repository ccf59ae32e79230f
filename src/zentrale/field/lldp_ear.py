"""Hearing LLDP on the laptop's own adapters: the switch at the other end of the cable says which port it is. Needs the right
to hear raw frames (Linux, CAP_NET_RAW); without it nothing is heard, and that is said.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import struct
import sys
from collections.abc import Collection

from zentrale.errors import RemoteProtocolError
from zentrale.field.adapters import Adapter
from zentrale.protocols import frames, lldp
from zentrale.protocols.lldp import Heard

log = logging.getLogger(__name__)
INTERVAL_S = 30.0  # each neighbour speaks so often (IEEE 802.1AB-2016 clause 9.2.5.7, msgTxInterval)
_ADD_MEMBERSHIP, _MULTICAST, _SOL_PACKET = 1, 0, 263  # PACKET_ADD_MEMBERSHIP, PACKET_MR_MULTICAST: packet(7)
_OUTGOING = 4  # PACKET_OUTGOING: what this machine sent itself


async def hear(adapters: Collection[Adapter], wait_s: float) -> tuple[list[tuple[str, Heard]], str]:
    """What came on each adapter until `wait_s`, or until one spoke on all; and why nothing could be heard, empty where it
    could.
    """
    names = list(dict.fromkeys(a.name for a in adapters if not a.loopback))
    if sys.platform != "linux":
        return [], "this system lets no program hear LLDP without a driver"
    if not names:
        return [], "on loopback there is no neighbour"
    socks: dict[str, socket.socket] = {}
    try:
        for name in names:
            socks[name] = _open(name)
        heard = await asyncio.gather(*(_first(name, sock, wait_s) for name, sock in socks.items()))
    except PermissionError:
        return [], "the right to hear raw frames is missing: run it once with sudo"
    except OSError as error:
        return [], f"LLDP cannot be heard: {error.strerror}"
    finally:
        for sock in socks.values():
            sock.close()
    found = [(name, one) for name, one in zip(names, heard, strict=True) if one is not None]
    return found, "" if found else f"no neighbour spoke LLDP within {wait_s:g} s"


def _open(name: str) -> socket.socket:
    sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(lldp.ETHERTYPE))
    try:
        sock.bind((name, lldp.ETHERTYPE))
        for group in lldp.GROUPS:
            request = struct.pack(
                "iHH8s", socket.if_nametoindex(name), _MULTICAST, 6, bytes.fromhex(group.replace(":", ""))
            )
            sock.setsockopt(_SOL_PACKET, _ADD_MEMBERSHIP, request)
        sock.setblocking(False)
    except OSError:
        sock.close()
        raise
    return sock


async def _first(name: str, sock: socket.socket, wait_s: float) -> Heard | None:
    """The first that another says there; what is no LLDP is passed over."""
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(wait_s):
            while True:
                data, where = await loop.sock_recvfrom(sock, 2048)
                frame = frames.parse(data)
                if where[2] == _OUTGOING or frame is None or frame.ethertype != lldp.ETHERTYPE:
                    continue
                try:
                    if not lldp.leaves(frame.content):
                        return lldp.parse(frame.content)
                except RemoteProtocolError as error:
                    log.info("%s: %s", name, error)
    except TimeoutError:
        return None
