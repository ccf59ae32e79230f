"""One request to a web server that may be busy, restarting or broken: sent again where that can do no harm."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime

from zentrale.errors import LateError, LostError, RemoteProtocolError, TroubleError, UnreachableError
from zentrale.field.http import Answer
from zentrale.protocols import soap

PAUSE_S = 1.0
REPEATS = 3  # of a request that may be repeated, where the server fails or the connection breaks


async def repeated(name: str, post: Callable[[], Awaitable[Answer]], patience_s: float) -> Answer:
    """The answer to the request `name`, asked by `post`. A request that creates something, or sets a password, is never sent
    twice: its answer may only be late. patience_s: how long a server may be gone. Raises UnreachableError, TroubleError.
    """
    may_repeat = not name.startswith(("Create", "Delete", "Add")) and name != "SetUser"
    loop = asyncio.get_running_loop()
    end, failures = loop.time() + patience_s, 0
    while True:
        try:
            answer = await post()
        except LateError:
            raise
        except LostError:
            failures += 1
            if failures >= REPEATS or not may_repeat:
                raise
        except UnreachableError:
            if loop.time() + PAUSE_S > end:  # nothing was sent: any request may be tried again
                raise
        else:
            if not _server_trouble(answer):
                return answer
            failures += 1
            if failures >= REPEATS or not may_repeat:
                raise TroubleError(f"{name}: its server fails (HTTP {answer.status}), asked {failures} times")
        await asyncio.sleep(PAUSE_S)


def _server_trouble(answer: Answer) -> bool:
    """HTTP 5xx without a SOAP fault that says more: the server itself is in trouble, perhaps only for this moment."""
    if answer.status < 500 or answer.status in (501, 505):  # it does not know what was asked: no trouble
        return False
    try:
        fault = soap.parse(answer.body).fault
    except RemoteProtocolError:
        return True
    return fault is not None and fault.code == "Receiver" and not fault.subcodes


def http_date(answer: Answer) -> datetime | None:
    """When the server sent it, by its own clock (RFC 9110 clause 6.6.1); None where it does not tell, or tells nonsense."""
    day = timedelta(days=1)
    try:
        told = parsedate_to_datetime(answer.get("date"))
        told = told if told.tzinfo is not None else told.replace(tzinfo=UTC)
        return told if told - day < told + day else None  # requests are signed a little before and after it
    except (ValueError, TypeError, OverflowError):
        return None
