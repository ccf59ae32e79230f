"""The one task of an event loop that visits the sockets of all streams, in turn and at a steady pace.

Each 50 ms, and each 10 ms until a stream's first picture is there: the cost is bounded however packets trickle in. At a
visit a socket is asked how much waits, and read where that is worth it (`intake`). By how much a visit came later than due
is kept for each stream: a gap that is no longer than that is this machine's own.

How it works with `intake`. A visit has two halves of different price. `Stream.read` moves bytes from the socket into
records: for each RTP packet RECORD_BYTES bytes ("$", channel, length, the packet's first 16 bytes) in `taken.records`, and
its arrival [s, monotonic] in `taken.arrivals` (array of double); row i of both is the i-th packet that came since `take`,
in the order of the socket, which need not be that of the sequence numbers. `taken.odd` are the few of them that cannot be
told from a record alone: row and whole packet. `Reading.digest` then makes figures of a thousand rows at once. The first
half is done at each visit for every stream that is due; the second for whoever waits longest, for DIGEST_S a round, so that
making figures never lets a socket overflow.

The time of an arrival is not the time of reading. Over TCP each visit asks how much waits (FIONREAD): bytes that were there
at 10.00 s and are read at 10.25 s arrived at 10.00 s (`Connection._date`). Over UDP the system stamps each datagram itself
(`datagrams`).

What always holds. `due_s` of a reading lies on the grid of its own pace, so that a late visit is not followed by a row of
hurried ones. `worst_late_s` only grows: it bounds by how much any gap of this stream may be this machine's own. A reading
that raises ends alone (`call`): its error waits for whoever awaits its event, the others are visited on. `intake` imports
nothing of the product and holds one buffer for all streams: it is used between two awaits only, never across one.

Why not one reader for each socket: the event loop wakes for each packet then, which costs about fifty times as much a
packet as reading some hundred of them together, and at two hundred streams this machine's own lateness would be taken for
the network's.
"""

from __future__ import annotations

import asyncio
import math
import time
from collections import deque
from collections.abc import Callable
from types import TracebackType
from weakref import WeakKeyDictionary

from zentrale.field.datagrams import Datagrams
from zentrale.field.intake import Stream

PACE_S, QUICK_S = 0.05, 0.01
SIDE_S = 0.2  # for the connection beside datagrams, once they flow
DIGEST_S = 0.015  # at a time: what is left waits, and the sockets do not
DIGEST_PACKETS = 1024  # so many at a time are made figures of: one by one they cost fifty times as much
_paces: WeakKeyDictionary[asyncio.AbstractEventLoop, _Pace] = WeakKeyDictionary()


class Reading:
    """One stream being read, as an async context manager. `event` is set when there is news.

    digest:       takes what came, a thousand packets at a time; look: those that are wanted whole, at each visit
    worst_late_s: by how much the latest visit came too late
    error:        what these raised
    """

    def __init__(
        self,
        stream: Stream,
        digest: Callable[[], None],
        look: Callable[[list[tuple[bytes, float]]], None],
        side: Stream | None = None,
    ) -> None:
        self.digest, self.look = digest, look
        self.event = asyncio.Event()
        self.worst_late_s = 0.0
        self.error: Exception | None = None
        self.due_s = self.side_due_s = 0.0
        self.slow_s = PACE_S
        self.watch(stream, side)

    def watch(self, stream: Stream, side: Stream | None) -> None:
        """Read `stream`, and the connection beside it where it is of datagrams."""
        self.stream, self.side = stream, side
        if isinstance(stream, Datagrams):
            self.slow_s = min(PACE_S, max(QUICK_S, math.floor(stream.pace_s() / QUICK_S) * QUICK_S))

    def visit(self, now_s: float) -> None:
        if self.due_s:
            self.worst_late_s = max(self.worst_late_s, now_s - self.due_s)
        came = self.stream.is_ripe(now_s) and self.stream.read(now_s)
        if self.side is not None and now_s >= self.side_due_s:
            came |= self.side.read(now_s)
            self.side_due_s = now_s + SIDE_S if self.stream.packets else 0.0
        if came:
            self._news()
        wanted = self.stream.begins is not None or self.stream.keep
        quick = (wanted and self.stream.hurried) or not self.stream.packets
        pace_s = QUICK_S if quick else self.slow_s
        self.due_s = (math.floor(now_s / pace_s + 1e-6) + 1) * pace_s

    def read_now(self) -> None:
        """What waits, though it is not due."""
        if self.stream.read(time.monotonic()):
            self._news()

    def _news(self) -> None:
        stream, side = self.stream, self.side or self.stream
        if stream.whole:
            whole, stream.whole = stream.whole, []
            self.call(self.look, whole)
        first = stream.first_news and stream.packets
        if first or side.messages or side.control or stream.control or side.closed or self.error:
            stream.first_news = stream.first_news and not first
            self.event.set()

    def call(self, work: Callable[..., None], *arguments: object) -> None:
        try:
            work(*arguments)
        except Exception as error:  # noqa: BLE001 - it ends this stream only; whoever waits raises it
            self.error = error
            self.event.set()

    async def __aenter__(self) -> Reading:
        _paces.setdefault(asyncio.get_running_loop(), _Pace()).add(self)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        _paces[asyncio.get_running_loop()].open.discard(self)


class _Pace:
    def __init__(self) -> None:
        self.open: set[Reading] = set()
        self.task: asyncio.Task[None] | None = None

    def add(self, reading: Reading) -> None:
        self.open.add(reading)
        if self.task is None or self.task.done():
            self.task = asyncio.create_task(self.run())

    async def run(self) -> None:
        waiting: deque[Reading] = deque()  # those of whose packets figures are to be made
        while self.open:
            now = time.monotonic()
            for reading in [r for r in self.open if r.due_s <= now + 0.0005]:
                reading.visit(time.monotonic())
                if len(reading.stream.taken) >= DIGEST_PACKETS and reading not in waiting:
                    waiting.append(reading)
            end = time.monotonic() + DIGEST_S
            while waiting and (time.monotonic() < end or len(waiting[0].stream.taken) > 8 * DIGEST_PACKETS):
                first = waiting.popleft()
                first.call(first.digest)
            due = min((r.due_s for r in self.open), default=now)
            await asyncio.sleep(max(0.0, due - time.monotonic()))
