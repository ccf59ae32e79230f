"""Where the packets of a stream were lost: in front of the network or in it.

A source numbers its packets (RFC 3550 clause 5.1) and counts those that it has sent (sender's packet count, clause 6.4.1).
Between two of its reports the numbers tell how many there should be, the count how many left it, and we how many came: what was
numbered and not counted never left, what was counted and did not come was lost on the way.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zentrale.protocols.rtcp import SenderReport
from zentrale.protocols.streams.packet_log import RAW
from zentrale.protocols.streams.packet_runs import steps

_MOST_REPORTS = 64
_MOST_PACKETS = 400_000
_A_BURST = 3  # packets one after the other, on average


@dataclass(frozen=True)
class LossPlaces:
    """Between its first and its last report, packets `numbered` by the source, `sent` by its own count, `received` here;
    `unsure` by so many, since a report does not say after which packet it was sent. None where there were not two reports.

    gaps: how often numbers are missing in all that came; longest: so many in a row at most; apart: packets from one gap to the
    next, at least and at most
    """

    gaps: int
    longest: int
    missing: int
    apart: tuple[int, int] = (0, 0)
    numbered: int | None = None
    sent: int | None = None
    received: int | None = None
    unsure: int = 0

    @property
    def before_network(self) -> int | None:
        """Lost before they left the source; None where that cannot be told."""
        if self.numbered is None or self.sent is None:
            return None
        lost = self.numbered - self.sent
        return max(0, lost) if abs(lost) > self.unsure else 0

    @property
    def in_network(self) -> int | None:
        if self.sent is None or self.received is None:
            return None
        lost = self.sent - self.received
        return max(0, lost) if abs(lost) > self.unsure else 0

    @property
    def in_bursts(self) -> bool:
        return self.gaps > 0 and self.missing >= _A_BURST * self.gaps

    def in_words(self) -> str:
        """How they are missing; empty where none is."""
        if not self.gaps:
            return ""
        if self.in_bursts:
            return f"in {self.gaps} burst{'s' if self.gaps > 1 else ''} of up to {self.longest} packets"
        if self.gaps > 1 and self.apart[1] <= 2 * self.apart[0] + 1:
            return f"evenly, one in {round(sum(self.apart) / 2)}"
        return "singly" if self.longest == 1 else f"up to {self.longest} in a row"


class LossWatch:
    """Feed it raw records as they come, and each sender report with how many packets came before it.

    in_order: reports and packets come in the order in which they were sent (over TCP); else a report is put behind the packets
    that are no newer by its time stamp
    """

    def __init__(self, *, in_order: bool) -> None:
        self._in_order = in_order
        self._numbers: list[npt.NDArray[np.int64]] = []
        self._stamps: list[npt.NDArray[np.int64]] = []
        self._own: list[npt.NDArray[np.int64]] = []
        self._count = 0
        self._reports: list[tuple[int, SenderReport]] = []

    def take(self, raw: bytes | bytearray) -> None:
        rows = np.frombuffer(raw, RAW)
        if self._count >= _MOST_PACKETS:
            return
        self._count += len(rows)
        self._numbers.append(rows["sequence"].astype(np.int64))
        self._stamps.append(rows["timestamp"].astype(np.int64))
        self._own.append(rows["ssrc"].astype(np.int64))

    def report(self, report: SenderReport, after: int) -> None:
        if len(self._reports) < _MOST_REPORTS:
            self._reports.append((after, report))

    def result(self, ssrc: int | None) -> LossPlaces | None:
        """Of this source; None where nothing came of it."""
        if not self._numbers or ssrc is None:
            return None
        own = np.concatenate(self._own) == ssrc
        place = np.flatnonzero(own)
        if not len(place):
            return None
        number = np.cumsum(steps(np.concatenate([[0], np.concatenate(self._numbers)[own]]), 1 << 16))
        stamp = np.concatenate(self._stamps)[own]
        there = np.unique(number)
        holes = np.diff(there) - 1
        at = np.flatnonzero(holes)
        apart = np.diff(there[at])
        found = LossPlaces(
            len(at), int(holes.max(initial=0)), int(holes.sum()),
            (int(apart.min()), int(apart.max())) if len(apart) else (0, 0),
        )  # fmt: skip
        marks = [
            m for m in (self._mark(r, after, place, number, stamp) for after, r in self._reports if r.ssrc == ssrc) if m
        ]
        if len(marks) < 2:
            return found
        (first, sent_first, unsure_first), (last, sent_last, unsure_last) = marks[0], marks[-1]
        if last <= first:
            return found
        received = int(np.searchsorted(there, last, "right") - np.searchsorted(there, first, "right"))
        sent = (sent_last - sent_first) % (1 << 32)
        return LossPlaces(
            found.gaps, found.longest, found.missing, found.apart, last - first, sent, received, unsure_first + unsure_last
        )  # fmt: skip

    def _mark(
        self,
        report: SenderReport,
        after: int,
        place: npt.NDArray[np.int64],
        number: npt.NDArray[np.int64],
        stamp: npt.NDArray[np.int64],
    ) -> tuple[int, int, int] | None:
        """The highest number before a report, what it counts, and by how many packets that is unsure."""
        if self._in_order:
            before = int(np.searchsorted(place, after))
            # One that comes first of all counts none of them.
            return int(number[:before].max()) if before else int(number[0]) - 1, report.packets, 1
        older = steps_from(stamp, report.rtp_timestamp) <= 0
        if not older.any():
            return int(number.min()) - 1, report.packets, int((stamp == stamp[0]).sum())
        if older.all():
            return None  # what it counts may still be on its way
        highest = int(number[older].max())
        near = np.concatenate([stamp[older][-1:], stamp[~older][:1]])
        return highest, report.packets, int(np.isin(stamp, near).sum())


def steps_from(stamps: npt.NDArray[np.int64], start: int) -> npt.NDArray[np.int64]:
    """How much later than `start` each time stamp is; the numbers wrap at 32 bits."""
    later: npt.NDArray[np.int64] = (stamps - start + (1 << 31)) % (1 << 32) - (1 << 31)
    return later
