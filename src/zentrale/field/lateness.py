"""How late this machine comes to what is due: a gap in a stream that is no longer than that is its own.

One task for all streams of an event loop, however many are measured.
"""

from __future__ import annotations

import asyncio
from types import TracebackType
from weakref import WeakKeyDictionary

_PACE_S = 0.05
_watches: WeakKeyDictionary[asyncio.AbstractEventLoop, _Watch] = WeakKeyDictionary()


class _Watch:
    def __init__(self) -> None:
        self.open: set[Lateness] = set()
        self.task: asyncio.Task[None] | None = None

    async def run(self) -> None:
        loop = asyncio.get_running_loop()
        while self.open:
            due = loop.time() + _PACE_S
            await asyncio.sleep(_PACE_S)
            late = loop.time() - due
            for one in self.open:
                one.worst_s = max(one.worst_s, late)


class Lateness:
    """Use as an async context manager around what is measured. `worst_s`: by how much a reader came late, at worst."""

    def __init__(self) -> None:
        self.worst_s = 0.0

    async def __aenter__(self) -> Lateness:
        watch = _watches.setdefault(asyncio.get_running_loop(), _Watch())
        watch.open.add(self)
        if watch.task is None or watch.task.done():
            watch.task = asyncio.create_task(watch.run())
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        _watches[asyncio.get_running_loop()].open.discard(self)
