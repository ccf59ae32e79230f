"""Several devices on one address, as they come from the box: each in its turn, the others kept out meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import replace

from zentrale.errors import CannotPinError, DeviceError
from zentrale.field.pinning import pinned
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.site.model import Camera, Plan


class Sharing:
    """Which cameras share an address, by the MAC addresses that answered ARP for it when it was discovered.

    `found` is by planned name, `devices` all that were found.
    """

    def __init__(self, plan: Plan, found: Mapping[str, FoundDevice], devices: Sequence[FoundDevice]) -> None:
        self._cameras: dict[str, list[tuple[Camera, str]]] = {}
        self._locks: dict[str, asyncio.Lock] = {}
        self.found: dict[str, FoundDevice] = {}
        shared = {d.address: d for d in devices if len(d.link_macs) > 1 and d.url}
        for camera in plan.cameras:
            for address, device in shared.items():
                mac = next((m for m in device.link_macs if _is(camera, m)), "")
                here = camera.name not in found or found[camera.name].address == address
                if mac and here:
                    self._cameras.setdefault(address, []).append((camera, mac))
                    known = found.get(camera.name)
                    if known is None:  # ARP alone has seen it: who it is otherwise, it tells when it is spoken with
                        known = replace(device, mac=mac, macs=(mac,), endpoint="", serial="", firmware="", label="")
                    self.found[camera.name] = replace(known, link_macs=(mac,))

    @asynccontextmanager
    async def alone(self, camera: Camera) -> AsyncIterator[None]:
        """While this camera is spoken with; at once where it shares nothing. Raises DeviceError where it cannot be told apart."""
        address, mac = next(
            ((a, m) for a, sharers in self._cameras.items() for c, m in sharers if c.name == camera.name), ("", "")
        )
        if not address:
            yield
            return
        async with self._locks.setdefault(address, asyncio.Lock()):
            try:
                async with pinned(address, mac):
                    yield
            except CannotPinError as error:
                others = [c for c, _ in self._cameras[address] if c.name != camera.name]
                named = " and ".join(f"{c.name} ({c.place})" for c in others)
                raise DeviceError(
                    f"others answer at {address} too, and {error}; unplug {named or 'the other device there'}, then "
                    f"`zentrale discover` and `zentrale register --only {camera.name}`"
                ) from None


def _is(camera: Camera, mac: str) -> bool:
    return camera.mac == mac or bool(camera.mac_end and mac.replace(":", "").endswith(camera.mac_end))
