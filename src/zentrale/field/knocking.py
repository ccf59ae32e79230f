"""Knocking at single TCP ports: open, refused or silent, how soon, and whether anybody on the link is there at all."""

from __future__ import annotations

import asyncio
import errno
import os
import time
from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum

from zentrale.field.adapters import Choice

PATIENCE_S = 3.3  # the system repeats a lost SYN after 1 s and 3 s (RFC 6298 clause 2)
AT_ONCE = 256


class Knocked(Enum):
    """What came of it. Silent: no answer in time; nobody: the link says that no such host is there."""

    OPEN = "open"
    REFUSED = "refused"
    SILENT = "silent"
    NOBODY = "nobody"
    NO_WAY = "no way there"
    NOT_TRIED = "not tried"  # this machine could not


@dataclass(frozen=True)
class Knock:
    host: str
    port: int
    outcome: Knocked
    after_s: float = 0.0
    why: str = ""  # where it was not tried

    def __str__(self) -> str:
        return f"{self.port} {self.outcome.value}"


_BY_ERRNO = {
    errno.ECONNREFUSED: Knocked.REFUSED, errno.ETIMEDOUT: Knocked.SILENT, errno.EHOSTUNREACH: Knocked.NOBODY,
    errno.EHOSTDOWN: Knocked.NOBODY, errno.ENETUNREACH: Knocked.NO_WAY,
}  # fmt: skip


async def knock(host: str, port: int, source: str | None) -> Knock:
    began = time.monotonic()

    def came(outcome: Knocked, why: str = "") -> Knock:
        return Knock(host, port, outcome, time.monotonic() - began, why)

    try:
        async with asyncio.timeout(PATIENCE_S):
            local = (source, 0) if source else None
            _, writer = await asyncio.open_connection(host, port, local_addr=local)
    except TimeoutError:
        return came(Knocked.SILENT)
    except OSError as error:
        told = error.errno
        return came(_BY_ERRNO.get(told or 0, Knocked.NOT_TRIED), os.strerror(told) if told else str(error))
    writer.close()
    return came(Knocked.OPEN)


async def knock_all(pairs: Iterable[tuple[str, int]], choice: Choice) -> dict[tuple[str, int], Knock]:
    gate = asyncio.Semaphore(AT_ONCE)

    async def one(host: str, port: int) -> Knock:
        async with gate:
            return await knock(host, port, choice.source(host))

    some = list(dict.fromkeys(pairs))
    found = await asyncio.gather(*(one(host, port) for host, port in some))
    return dict(zip(some, found, strict=True))
