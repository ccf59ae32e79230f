"""What the stand-in says and hears, written as a capture (pcap with nanoseconds): frames as a switch beside it would have seen
them, so that nobody needs the right to catch any.
"""

from __future__ import annotations

import asyncio
import ipaddress
import logging
import os
import struct
import time
from collections.abc import Collection, Mapping
from pathlib import Path
from typing import Any, BinaryIO

from zentrale.errors import InputError
from zentrale.protocols import frames
from zentrale.simulation.scenario import Scenario
from zentrale.words import meant

log = logging.getLogger(__name__)
_HEAD = struct.pack("<IHHiIII", 0xA1B23C4D, 2, 4, 0, 0, 262_144, 1)
MOST_BYTES = 500_000_000
_LAPTOP = "02:5a:7e:00:00:01"
_SEGMENT = 1448
_SYN, _ACK, _PUSH = 0x02, 0x10, 0x18
Place = tuple[str, int]


class Tap:
    """`macs`: of each device, by its address; all others are this machine. `only`: the names of those that are written along,
    all of them where it is empty. Raises InputError where the file cannot be made.
    """

    def __init__(self, path: Path, macs: Mapping[str, str], only: Collection[str] = ()) -> None:
        self.path = path
        self.macs = dict(macs)
        self.only = frozenset(only)
        self.packets = 0
        self._size = len(_HEAD)
        self._next: dict[tuple[Place, Place], int] = {}
        try:
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except OSError as error:
            raise InputError(
                f"--capture {path}: cannot be made: {error.strerror or error}", "give another name"
            ) from None
        self._file: BinaryIO = os.fdopen(
            descriptor, "wb", buffering=0
        )  # whole at any time: it may be read while it grows
        self._file.write(_HEAD)

    def of(self, name: str) -> Tap | None:
        return self if not self.only or name in self.only else None

    def close(self) -> None:
        self._file.close()

    def _mac(self, host: str) -> str:
        return self.macs.get(host, _LAPTOP)

    def _frame(self, source: Place, target: Place, protocol: int, content: bytes) -> None:
        """`content`: of IPv4, from its UDP or TCP header on."""
        if self._size > MOST_BYTES or self._file.closed:
            return
        addresses = ipaddress.IPv4Address(source[0]).packed + ipaddress.IPv4Address(target[0]).packed
        head = (
            struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(content), self.packets & 0xFFFF, 0x4000, 64, protocol, 0)
            + addresses
        )
        head = head[:10] + struct.pack("!H", frames.checksum(head)) + head[12:]
        data = frames.ethernet(self._mac(target[0]), self._mac(source[0]), frames.IPV4, head + content)
        now = time.time_ns()
        try:
            self._file.write(struct.pack("<IIII", now // 10**9, now % 10**9, len(data), len(data)) + data)
        except OSError as error:  # the devices go on without it
            self._file.close()
            log.warning("%s: nothing more is written along: %s", self.path, error.strerror or error)
            return
        self._size += 16 + len(data)
        self.packets += 1

    def udp(self, source: Place, target: Place, content: bytes) -> None:
        self._frame(source, target, 17, struct.pack("!HHHH", source[1], target[1], 8 + len(content), 0) + content)

    def opened(self, client: Place, server: Place) -> None:
        for source, target, flags in ((client, server, _SYN), (server, client, _SYN | _ACK)):
            self._next[source, target] = 1
            self._segment(source, target, 0, flags, b"")

    def said(self, source: Place, target: Place, data: bytes) -> None:
        for begin in range(0, len(data), _SEGMENT):
            part = data[begin : begin + _SEGMENT]
            number = self._next.setdefault((source, target), 1)
            self._segment(source, target, number, _PUSH, part)
            self._next[source, target] = (number + len(part)) & 0xFFFFFFFF

    def _segment(self, source: Place, target: Place, number: int, flags: int, data: bytes) -> None:
        back = self._next.get((target, source), 0)
        head = struct.pack("!HHIIBBHHH", source[1], target[1], number, back, 0x50, flags, 0xFFFF, 0, 0)
        self._frame(source, target, 6, head + data)

    def beside(self, reader: Any, writer: asyncio.StreamWriter) -> tuple[Any, Any]:
        """A connection, of which both directions are written along."""
        client, server = writer.get_extra_info("peername")[:2], writer.get_extra_info("sockname")[:2]
        self.opened(client, server)
        return _Reader(reader, self, client, server), _Writer(writer, self, server, client)


def tap_of(scenario: Scenario, path: Path, only: list[str]) -> Tap:
    """Raises InputError where the scenario has no such device, or the file cannot be made."""
    names = [d.name for d in scenario.devices]
    for name in only:
        if name not in names:
            raise InputError(
                f"--capture-of {name}: no such device{meant(name, names)}", "see `zentrale simulate --list`"
            )
    return Tap(path, {d.address: d.mac for d in scenario.devices}, only)


class _Reader:
    def __init__(self, reader: asyncio.StreamReader, tap: Tap, source: Place, target: Place) -> None:
        self._reader, self._tap, self._way = reader, tap, (source, target)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._reader, name)

    async def read(self, count: int = -1) -> bytes:
        data = await self._reader.read(count)
        self._tap.said(*self._way, data)
        return data


class _Writer:
    def __init__(self, writer: asyncio.StreamWriter, tap: Tap, source: Place, target: Place) -> None:
        self._writer, self._tap, self._way = writer, tap, (source, target)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._writer, name)

    def write(self, data: bytes) -> None:
        self._tap.said(*self._way, data)
        self._writer.write(data)
