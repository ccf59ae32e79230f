"""Playing a stream address for some seconds and measuring what arrives: again, or otherwise, where the server wants it so."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from enum import Enum

from zentrale.errors import (
    Cause,
    DeviceError,
    GoneError,
    LockedError,
    MulticastOfferedError,
    NotAskedError,
    PlayError,
    RedirectedError,
    RefusedError,
    SilentError,
)
from zentrale.field.causes import cause_of
from zentrale.field.playing import Playing
from zentrale.field.visit import Visit
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.meter import StreamMeasurement

MAX_REDIRECTS = 3
REPEATS = 3  # where the server fails by its own account (5xx)
PAUSE_S = 1.0

Progress = Callable[[StreamMeasurement], None]


class Access(Enum):
    """What a stranger gets."""

    REFUSED = "refused"
    PLAYS = "plays"
    UNCLEAR = "unclear"
    NOT_ASKED = "not asked"


@dataclass(frozen=True)
class AccessResult:
    """`again` is when a door that was not asked can be; `error` why it is not clear."""

    access: Access
    detail: str
    again: datetime | None = None
    error: DeviceError | None = None


async def measure(
    address: StreamAddress,
    visit: Visit,
    duration_s: float,
    progress: Progress | None = None,
    *,
    until_picture: bool = False,
) -> StreamMeasurement:
    """Play `address` and measure it for `duration_s` from its first packet on; `progress` is told the figures now and then.
    `until_picture`: no longer than until a key picture is there.

    Raises UnreachableError, RefusedError, PlayError or another DeviceError where it does not play at all; one that stops
    early is measured as far as it went.
    """
    ways = _Ways(visit)
    end = time.monotonic() + visit.patience_s
    sessions = visit.rules.sessions.of(address.host)
    redirects = failures = 0
    closed = False
    sent_on = ""  # to another host: its path is asked for at this one, where some devices mean themselves
    while True:
        try:
            async with sessions.one():
                try:
                    playing = Playing(
                        address, visit, ways.now,
                        may_join=ways.may_join, progress=progress, until_picture=until_picture,
                    )  # fmt: skip
                    result = await playing.run(duration_s)
                    return replace(result, sessions_at_most=sessions.limit, multicast_failed=ways.multicast_failed)
                except PlayError as error:
                    if error.cause is Cause.BUSY and sessions.refused_one_more():
                        continue
                    raise
        except RedirectedError as error:
            redirects += 1
            if redirects > MAX_REDIRECTS:
                raise PlayError(f"{address.host}: it sends us round and round", Cause.ELSEWHERE) from None
            address = StreamAddress.told(error.location, address.host)
            sent_on = error.what if address.named else ""
        except (PlayError, SilentError) as error:
            if sent_on and cause_of(error) is Cause.PATH:
                raise PlayError(sent_on, Cause.ELSEWHERE) from None
            if ways.another(error):
                continue
            if isinstance(error, PlayError) and error.cause is Cause.CLOSED and not closed and time.monotonic() < end:
                closed = True  # once, where somebody expects that it restarts: it may have gone just now
                await asyncio.sleep(PAUSE_S)
                continue
            failures += 1
            if not isinstance(error, PlayError) or error.status not in (500, 503) or failures >= REPEATS:
                raise
            await asyncio.sleep(PAUSE_S)
        except GoneError:
            if sent_on:
                raise PlayError(sent_on, Cause.ELSEWHERE) from None
            if time.monotonic() + PAUSE_S > end:
                raise
            await asyncio.sleep(PAUSE_S)


class _Ways:
    """The transports to try one after the other, where nobody asked for a certain one."""

    def __init__(self, visit: Visit) -> None:
        self._free = visit.transport is None
        self.now = visit.transport or (Transport.MULTICAST if visit.multicast else Transport.TCP)
        self.may_join = self._free and not visit.multicast
        self.multicast_failed = ""

    def another(self, error: DeviceError) -> bool:
        """Whether there is another way after this error; it is the one to take `now`."""
        cause = cause_of(error)
        if not self._free:
            return False
        if isinstance(error, MulticastOfferedError):
            self.now, self.may_join = Transport.MULTICAST, False
        elif self.now is Transport.MULTICAST and cause in (
            Cause.TRANSPORT,
            Cause.SILENT,
            Cause.DESCRIPTION,
            Cause.OTHER,
        ):
            self.now, self.multicast_failed = Transport.TCP, str(error)
        elif self.now is Transport.TCP and cause is Cause.TRANSPORT:
            self.now = Transport.UDP
        else:
            return False
        return True


async def try_access(address: StreamAddress, visit: Visit) -> AccessResult:
    """Whether `address` plays for such a visit."""
    try:
        result = await measure(address, visit, 0.0)
    except NotAskedError as error:
        return AccessResult(Access.NOT_ASKED, str(error), error.until)
    except LockedError as error:
        return AccessResult(Access.NOT_ASKED, str(error), error.until)
    except RefusedError as error:
        return AccessResult(Access.REFUSED, str(error), error=error)
    except DeviceError as error:
        return AccessResult(Access.UNCLEAR, str(error), error=error)
    return AccessResult(Access.PLAYS, f"{result.codec or 'media'} packets arrived")
