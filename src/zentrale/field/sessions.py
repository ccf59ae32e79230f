"""How many streams a device serves at once: some refuse the second or third session. What it refused is kept to."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager


class Sessions:
    """The sessions that are open to each host, and the limit of those that told one."""

    def __init__(self) -> None:
        self._hosts: dict[str, _Host] = {}

    def of(self, host: str) -> _Host:
        return self._hosts.setdefault(host, _Host())


class _Host:
    def __init__(self) -> None:
        self.open = 0
        self.limit: int | None = None
        self._changed = asyncio.Event()

    @asynccontextmanager
    async def one(self) -> AsyncIterator[None]:
        """Hold a session, as soon as the device has room for one."""
        while self.limit is not None and self.open >= self.limit:
            self._changed.clear()
            await self._changed.wait()
        self.open += 1
        try:
            yield
        finally:
            self.open -= 1
            self._changed.set()

    def refused_one_more(self) -> bool:
        """The device refused a session that is held: true where it serves others of ours, so that waiting helps."""
        others = self.open - 1
        if others < 1:
            return False
        self.limit = others if self.limit is None else min(self.limit, others)
        return True
