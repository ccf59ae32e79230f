"""Reading one capture file: bounded in memory whatever it holds; what can be read counts, and where it ends is told."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from zentrale.errors import InputError
from zentrale.protocols.capture.alike import decode
from zentrale.protocols.capture.container import NOT_A_CAPTURE, CaptureReader
from zentrale.protocols.capture.conversations import Connection, Conversations, Weak
from zentrale.protocols.capture.fragments import Fragments
from zentrale.protocols.capture.layers import LINKS, Addresses
from zentrale.protocols.capture.packets import ROOM_BYTES, Batch
from zentrale.protocols.capture.rtp_streams import RtpStream, RtpStreams
from zentrale.protocols.capture.talk import Talk
from zentrale.protocols.streams.meter import StreamMeasurement

Progress = Callable[[int, str], None]
_LEAST_ROOM_BYTES = 65_536


@dataclass(frozen=True)
class WireRead:
    """Everything of one file. `ended`: why it was not read to its end, empty where it was; `snapped`: packets that were not
    caught whole; `links`: link types that are not known here, each with how many packets; `left_out`: what
    there was no room for, by what it was
    """

    file: str
    packets: int
    first_s: float
    last_s: float
    ended: str
    addresses: Addresses
    streams: tuple[tuple[RtpStream, StreamMeasurement], ...]
    connections: tuple[Connection, ...]
    weak: tuple[Weak, ...]
    talk: Talk
    snapped: int
    fragments_lost: int
    links: dict[int, int]
    left_out: dict[str, int]

    @property
    def seconds(self) -> float:
        return max(0.0, self.last_s - self.first_s)


def batches_of(path: Path, reader: CaptureReader) -> Iterator[Batch]:
    """A file on a disk is read ahead, while what was read is looked at. Raises InputError where it cannot be read."""
    try:
        with path.open("rb", buffering=0) as file, ThreadPoolExecutor(1) as ahead:
            status = os.fstat(file.fileno())
            if stat.S_ISREG(status.st_mode):
                room_bytes = min(ROOM_BYTES, max(_LEAST_ROOM_BYTES, status.st_size))
                yield from reader.batches(lambda room: ahead.submit(file.readinto, room).result, room_bytes)
            else:
                yield from reader.batches(lambda room: partial(file.readinto, room))
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror or error}", "expected a capture file") from None


def read_file(path: Path, progress: Progress = lambda done, text: None) -> WireRead:
    """Raises InputError where it cannot be opened, or is no capture at all."""
    reader, addresses = CaptureReader(), Addresses()
    rtp, talk, fragments = RtpStreams(), Talk(), Fragments()
    conversations = Conversations(rtp)
    first_s, last_s, snapped = 0.0, 0.0, 0
    links: dict[int, int] = {}

    def one(batch: Batch) -> None:
        layers = decode(batch, addresses)
        whole = fragments.take(batch, layers)
        talk.take(batch, layers)
        conversations.take(batch, layers)
        rtp.take(batch, layers)
        if whole is not None:
            one(whole)

    for batch in batches_of(path, reader):
        times = batch.time_s
        if len(times):
            first_s = float(times.min()) if not last_s else min(first_s, float(times.min()))
            last_s = max(last_s, float(times.max()))
        snapped += int((batch.caught < batch.length).sum())
        for link in set(batch.links) - set(LINKS):
            links[link] = links.get(link, 0) + int((batch.link == link).sum())
        one(batch)
        progress(reader.packets, "")
    if reader.ended == NOT_A_CAPTURE or (reader.ended and not reader.packets):
        raise InputError(f"{path}: {reader.ended}", "expected pcap or pcapng, as capture tools write them")
    conversations.finish()
    fragments.finish()
    left_out = {
        "packets of further streams": rtp.left_out,
        "connections or addresses": conversations.left_out,
        **talk.not_read,
        "fragments": fragments.lost,
    }
    said = tuple(sorted(conversations.connections.values(), key=lambda c: c.number))
    return WireRead(
        str(path), reader.packets, first_s, last_s, reader.ended, addresses, tuple(rtp.finish()), said,
        tuple(conversations.weak.values()), talk, snapped, fragments.lost, links,
        {what: number for what, number in left_out.items() if number},
    )  # fmt: skip
