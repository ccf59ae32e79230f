"""One search of a recorder from its beginning to its end, in whatever pages it tells the results (ONVIF Recording Search)."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.protocols.onvif import history, search
from zentrale.protocols.onvif.history import SearchState
from zentrale.protocols.onvif.recording import Recording
from zentrale.protocols.xml import Element

AT_ONCE = 500  # results in one answer
WAIT_S, KEPT_S = 5.0, 60.0
_MOST_RECORDINGS = 4096
_ENOUGH_S = 60.0
_NOTHING_NEW = 3  # answers in a row without a result

T = TypeVar("T")


async def search_all(
    client: Device, begin: Element, ask: Callable[[str], Element], read: Callable[[Element], tuple[SearchState, list[T]]],
    *, most: int, deadline: float,
) -> tuple[list[T], bool]:  # fmt: skip
    """What one search brings, and whether it came to its end. begin: starts it; ask: for more of it, by its token.

    Raises NotOfferedError where there is no such search, or another DeviceError.
    """
    token = history.parse_search_token(await client.call("tse", begin))
    found: list[T] = []
    empty = 0
    try:
        while time.monotonic() < deadline and len(found) < most:
            state, some = read(await client.call("tse", ask(token)))
            found += some
            empty = 0 if some else empty + 1
            if state in (SearchState.COMPLETED, SearchState.UNKNOWN) or empty >= _NOTHING_NEW:
                return found, state is SearchState.COMPLETED
    except (RefusedError, UnreachableError):
        raise
    except DeviceError:
        return found, False  # it knows its own search no more
    await _end(client, token)
    return found, False


async def _end(client: Device, token: str) -> None:
    try:
        await client.call("tse", history.end_search(token))
    except DeviceError:
        return  # it ends by itself


async def recordings_found(client: Device) -> list[Recording]:
    """All recordings of a recorder that lets nobody set them. Raises DeviceError."""
    found, whole = await search_all(
        client, search.find_recordings(KEPT_S), lambda token: search.get_recording_results(token, AT_ONCE, WAIT_S),
        search.parse_recording_results, most=_MOST_RECORDINGS, deadline=time.monotonic() + _ENOUGH_S,
    )  # fmt: skip
    if not whole:
        raise DeviceError(f"its search for recordings ended by itself after {len(found)}")
    return list({item.token: item for item in found}.values())
