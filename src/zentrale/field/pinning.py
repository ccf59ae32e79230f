"""Speaking with one of two devices that have one address: this machine's neighbour entry is pinned to its MAC address."""

from __future__ import annotations

import asyncio
import subprocess
import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from zentrale.errors import CannotPinError
from zentrale.field.adapters import Adapter, list_adapters

_TIMEOUT_S = 5.0
_GUARD = 'cat > /dev/null; exec ip neigh del "$1" dev "$2"'


@asynccontextmanager
async def pinned(address: str, mac: str) -> AsyncIterator[None]:
    """What goes to `address` goes to `mac` alone, until the end. Raises CannotPinError before anything is sent."""
    adapter = next((a for a in list_adapters() if a.holds(address) and not a.loopback), None)
    if adapter is None:
        raise CannotPinError(f"{address} is not on a link of this machine")
    guard = await asyncio.to_thread(_pin, adapter, address, mac)
    try:
        yield
    finally:
        await asyncio.to_thread(_let_go, guard)


def _pin(adapter: Adapter, address: str, mac: str) -> subprocess.Popen[bytes]:
    """A permanent neighbour entry (ip-neighbour of iproute2), and a process that takes it away when this one ends, however it
    ends: it waits for its input to be closed. Raises CannotPinError.
    """
    if sys.platform != "linux":
        raise CannotPinError("only Linux pins a neighbour for a program")
    words = ["ip", "neigh", "replace", address, "lladdr", mac, "nud", "permanent", "dev", adapter.name]
    try:
        guard = subprocess.Popen(
            ["sh", "-c", _GUARD, "sh", address, adapter.name], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        done = subprocess.run(words, capture_output=True, timeout=_TIMEOUT_S, stdin=subprocess.DEVNULL)
    except (OSError, subprocess.SubprocessError) as error:
        raise CannotPinError(f"the program ip (iproute2) cannot be run: {error}") from None
    if done.returncode != 0:
        _let_go(guard)
        raise CannotPinError("this user may not pin a neighbour (it takes the right CAP_NET_ADMIN)")
    return guard


def _let_go(guard: subprocess.Popen[bytes]) -> None:
    assert guard.stdin is not None
    guard.stdin.close()
    try:
        guard.wait(_TIMEOUT_S)
    except subprocess.TimeoutExpired:
        guard.kill()
        guard.wait()
