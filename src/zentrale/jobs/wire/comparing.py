"""Two captures of the same streams at two places: what was lost in front of the first, between the two, and behind the second."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zentrale.errors import InputError
from zentrale.findings import Finding, finding
from zentrale.jobs.wire.reading import batches_of
from zentrale.protocols.capture.alike import decode
from zentrale.protocols.capture.container import CaptureReader
from zentrale.protocols.capture.conversations import Conversations
from zentrale.protocols.capture.layers import Addresses
from zentrale.protocols.capture.packets import Floats
from zentrale.protocols.capture.rtp_streams import RtpStreams, Way
from zentrale.protocols.capture.sequences import Log, Sequences
from zentrale.protocols.streams.packet_runs import steps

_LEAST = 8  # packets in common
_MOST_SECONDS = 86_400  # of which each is told
_SWAPPED = 3  # times as many lost the other way: the files were given in the wrong order


@dataclass(frozen=True)
class Compared:
    """One stream at both places, over the time in which both caught it.

    lost_before:  numbers that are at neither place; lost_between: at the first and not at the second
    lost_after:   by the receiver's own reports at the second place, None where there were none
    only_second:  at the second place alone: the first one did not catch them
    delay_ms:     of each packet that is at both, the quickest of all streams being 0 or what both directions tell
    at_s, by_second: when the common time began [s since 1970], and for each second of it how many were lost between
    """

    ssrc: int
    source: str
    destination: str
    packets: int
    lost_before: int
    lost_between: int
    lost_after: int | None
    only_second: int
    delay_ms: Floats
    at_s: float
    by_second: tuple[int, ...]

    def document(self) -> dict[str, object]:
        middle, high, most = (float(np.percentile(self.delay_ms, p)) for p in (50, 95, 100))
        return {
            "ssrc": f"0x{self.ssrc:08x}", "source": self.source, "destination": self.destination, "packets": self.packets,
            "lost_before": self.lost_before, "lost_between": self.lost_between, "lost_after": self.lost_after,
            "only_second": self.only_second, "delay_ms": round(middle, 3), "delay_p95_ms": round(high, 3),
            "delay_most_ms": round(most, 3), "lost_between_by_second": list(self.by_second),
        }  # fmt: skip


@dataclass(frozen=True)
class Comparison:
    """`aligned` says how the two clocks were laid upon one another; `swapped`: the second file seems nearer to the sources;
    `remarks`: what was not read.
    """

    files: tuple[str, str]
    streams: tuple[Compared, ...]
    segments: int
    segments_lost: int
    aligned: str
    offset_s: float
    swapped: bool
    remarks: tuple[str, ...] = ()

    @property
    def findings(self) -> list[Finding]:
        found = []
        for s in self.streams:
            if s.lost_between:
                said = f"{s.lost_between} of {s.packets + s.lost_between} packets between {self.files[0]} and {self.files[1]}"
                subject = f"stream of {s.source} to {s.destination}"
                found.append(finding("WIR-14", subject, said, "all that were caught at the first place", "RFC 3550"))
        return found

    def document(self) -> dict[str, object]:
        return {
            "files": list(self.files), "aligned": self.aligned, "clock_offset_ms": round(1000 * self.offset_s, 3),
            "swapped": self.swapped, "remarks": list(self.remarks), "streams": [s.document() for s in self.streams],
            "tcp": {"segments": self.segments, "lost_between": self.segments_lost},
        }  # fmt: skip


def sequences_of(path: Path) -> tuple[Sequences, Addresses, list[str]]:
    """And what was not read of it. Raises InputError where it cannot be read."""
    reader, addresses, found = CaptureReader(), Addresses(), Sequences()
    conversations = Conversations(RtpStreams())
    conversations.interleaved = found.take_interleaved
    for batch in batches_of(path, reader):
        layers = decode(batch, addresses)
        found.take(batch, layers)
        conversations.take(batch, layers)
    if not reader.packets:
        raise InputError(f"{path}: {reader.ended or 'no packet is in it'}", "expected pcap or pcapng")
    remarks = [f"{path}: {reader.ended}"] if reader.ended else []
    if found.left_out:
        remarks.append(f"{path}: {found.left_out:,} packets or segments more than are laid beside one another")
    return found, addresses, remarks


def compare(first: Path, second: Path) -> Comparison:
    """Raises InputError where a file cannot be read, or they have no stream in common."""
    (a, names, of_a), (b, _, of_b) = sequences_of(first), sequences_of(second)
    matched = dict(_all_matched(a, b))
    segments = [key for key in a.segments if key in b.segments]
    if not matched and not segments:
        raise InputError(
            f"{first} and {second} have no stream in common", "expected two captures of the same time, at two places"
        )
    offset_s, aligned = _offset(a, b, matched, segments)
    streams = tuple(
        _stream(key[0], a.logs[key], b.logs[other], pair, offset_s, names) for (key, other), pair in matched.items()
    )
    between = sum(s.lost_between for s in streams)
    swapped = sum(s.only_second for s in streams) > _SWAPPED * max(1, between)
    return Comparison(
        (str(first), str(second)),
        streams,
        len(segments),
        _segments_lost(a, b, segments),
        aligned,
        offset_s,
        swapped,
        (*of_a, *of_b),
    )


Pair = tuple[Floats, Floats]
Key = tuple[int, Way]


def _all_matched(a: Sequences, b: Sequences) -> Iterator[tuple[tuple[Key, Key], Pair]]:
    """Each stream of the first place with that of the second that has most packets in common: addresses may be translated
    between the two.
    """
    left = set(b.logs)
    for key, log in a.logs.items():
        same = [key] if key in left else [other for other in left if other[0] == key[0]]
        pairs = {other: _matched(log, b.logs[other]) for other in same}
        best = max(pairs, key=lambda other: len(pairs[other][0]), default=None)
        if best is not None and len(pairs[best][0]) >= _LEAST:
            left.discard(best)
            yield (key, best), pairs[best]


def _matched(one: Log, other: Log) -> Pair:
    """The times of those packets that are at both places."""
    keys, times = one.joined()
    other_keys, other_times = other.joined()
    _, here, there = np.intersect1d(keys, other_keys, assume_unique=True, return_indices=True)
    return times[here], other_times[there]


def _offset(
    a: Sequences, b: Sequences, matched: dict[tuple[Key, Key], Pair], segments: list[tuple[int, int, int, int]]
) -> tuple[float, str]:
    """How far the second clock is ahead of the first. Where packets went both ways, the middle of what the quickest of each way
    say; else the quickest packet is taken to need no time.
    """
    forward = [float((there - here).min()) for here, there in matched.values()]
    sources = {key[1].source for key, _ in matched}
    back: list[float] = []
    for key in segments:
        here, way = a.segments[key]
        step = b.segments[key][0] - here
        (forward if not sources or way.source in sources else back).append(step)
    if forward and back:
        return (min(forward) + max(back)) / 2, "by packets of both directions"
    return min(forward or back), "the quickest packet is taken to need no time"


def _stream(ssrc: int, one: Log, other: Log, pair: Pair, offset_s: float, names: Addresses) -> Compared:
    keys, times = one.joined()
    other_keys, other_times = other.joined()
    here, there = pair
    begin, end = here.min(), here.max()
    begin_there, end_there = there.min(), there.max()
    mine = keys[(times >= begin) & (times <= end)]
    theirs = other_keys[(other_times >= begin_there) & (other_times <= end_there)]
    gone = np.setdiff1d(mine, theirs, assume_unique=True)
    only_second = len(np.setdiff1d(theirs, mine, assume_unique=True))
    numbers = np.cumsum(steps(np.concatenate([mine[:1], mine]) >> 32, 1 << 16))
    missing = int(numbers.max() - numbers.min()) + 1 - len(np.unique(numbers))
    before = max(0, missing - only_second)  # what the second place has was not lost in front of the first
    lost_at = (times[np.isin(keys, gone)] - begin).astype(np.int64)
    lost_at = lost_at[lost_at < _MOST_SECONDS]
    seconds = np.bincount(lost_at, minlength=int(min(end - begin, _MOST_SECONDS)) + 1)
    after = None if other.reported_lost is None else max(0, other.reported_lost - before - len(gone))
    delay = 1000 * (there - here - offset_s)
    return Compared(
        ssrc, f"{names.text(one.way.source)}:{one.way.source_port}", f"{names.text(one.way.target)}:{one.way.target_port}",
        len(here), before, len(gone), after, only_second, delay, float(begin),
        tuple(int(n) for n in seconds),
    )  # fmt: skip


def _segments_lost(a: Sequences, b: Sequences, segments: list[tuple[int, int, int, int]]) -> int:
    """Of connections that are at both places, within the time that both caught."""
    if not segments:
        return 0
    ports = {key[:2] for key in segments}
    times = [a.segments[key][0] for key in segments]
    begin, end = min(times), max(times)
    return sum(key[:2] in ports and key not in b.segments and begin <= at <= end for key, (at, _) in a.segments.items())
