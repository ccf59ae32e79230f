"""Events of a device, fetched from a pull point of its own (ONVIF Core, Event Handling)."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass

from zentrale.errors import DeviceError, NotOfferedError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.field.http import Answer
from zentrale.protocols.onvif import events
from zentrale.protocols.onvif.events import Message, Subscription
from zentrale.protocols.xml import Element

_ANSWER_S = 5.0  # it is asked for what it holds already
_MOST_PULLS = 8  # a device that goes on telling is heard no longer
_MOST_MESSAGES = 64  # of one pull


class _At(Device):
    """The device at its pull point: the same host and credentials, and headers that go along (WS-Addressing)."""

    def __init__(self, opened: Device, url: str, headers: Iterable[Element]) -> None:
        super().__init__(url, opened.rules, endpoint=opened.target.endpoint, timeout_s=_ANSWER_S)
        self.use(opened.credentials, opened.scheme if opened.credentials is not None else "")
        self.clock_offset = opened.clock_offset
        # One that lets us in, but not there, has refused no password: what was proven stays so, and is tried no second time.
        self._schemes, self._offers = opened._schemes, opened._offers
        self._proven, self._attempt = opened._proven, opened._attempt
        self._headers = tuple(headers)

    async def _send(
        self, url: str, name: str, request: Element, headers: list[tuple[str, str]], *security: Element
    ) -> Answer:
        return await super()._send(url, name, request, headers, *security, *self._headers)


@dataclass(frozen=True)
class PullPoint:
    """A subscription at a device, which holds what happens until it is fetched or the time is over."""

    held: Subscription

    @classmethod
    async def opened(cls, device: Device, topics: Iterable[str], lasts_s: float) -> PullPoint:
        """Raises NotOfferedError where it has no such service, else DeviceError. One that does not know how to choose topics is
        asked for all.
        """
        try:
            answer = await device.call("tev", events.create(topics, lasts_s))
        except (NotOfferedError, RefusedError, UnreachableError):
            raise
        except DeviceError:
            answer = await device.call("tev", events.create((), lasts_s))
        return cls(events.parse_create(answer))

    async def fetched(self, device: Device) -> list[Message]:
        """What it holds now, oldest first. Raises DeviceError."""
        found: list[Message] = []
        async with self._at(device) as at:
            for _ in range(_MOST_PULLS):
                some = events.parse_pull(await at.call("tds", events.pull(0.0 if found else 1.0, _MOST_MESSAGES)))
                found += some
                if not some:
                    break
        return found

    async def close(self, device: Device) -> None:
        """It would end by itself; some devices have room for few."""
        with suppress(DeviceError):
            async with self._at(device) as at:
                await at.call("tds", events.unsubscribe())

    def _at(self, device: Device) -> _At:
        return _At(device, device.here(self.held.address, "address of a pull point"), self.held.headers)
