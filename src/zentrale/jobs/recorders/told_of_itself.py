"""What a recorder tells of its own parts: failures by events, and what it lists as storage. Never interpreted."""

from __future__ import annotations

import logging
from dataclasses import dataclass

from zentrale.errors import DeviceError
from zentrale.field.device import Device
from zentrale.field.pull_point import PullPoint
from zentrale.protocols.onvif import events, storage
from zentrale.protocols.onvif.events import Message

log = logging.getLogger(__name__)
_LASTS_S = 60.0
_MOST = 16  # parts that it may call failed


@dataclass(frozen=True)
class Told:
    """`hardware`: the parts that it calls failed now; None where it tells no events."""

    hardware: tuple[Message, ...] | None = None
    disks: tuple[str, ...] = ()


async def told_of_itself(device: Device) -> Told:
    """What it does not tell, or only at an address where it lets nobody in, is not known: its channels are asked all the same."""
    hardware: tuple[Message, ...] | None = None
    try:
        point = await PullPoint.opened(device, [events.HARDWARE], _LASTS_S)
        try:
            latest = {(m.topic, tuple(sorted(m.source.items()))): m for m in await point.fetched(device)}
        finally:
            await point.close(device)
        hardware = tuple(m for m in latest.values() if m.true and m.topic.startswith(events.HARDWARE))[:_MOST]
    except DeviceError as error:
        log.debug("%s tells no events: %s", device.host, error)
    try:
        answer = await device.call("tds", storage.get_configurations())
    except DeviceError as error:
        log.debug("%s lists no storage: %s", device.host, error)
        return Told(hardware)
    listed = (" ".join(filter(None, (s.token, s.kind, s.place))) for s in storage.parse_configurations(answer))
    return Told(hardware, tuple(text[:80] for text in listed)[:_MOST])
