"""Where a device is after its address was changed: looked for at each address that it may have, and known by itself."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from zentrale.errors import AddressTakenError, DeviceError, RefusedError, UnreachableError
from zentrale.field import arp, neighbours, probe
from zentrale.field.adapters import Adapter, list_adapters
from zentrale.field.device import Device
from zentrale.field.rules import Rules
from zentrale.protocols.addresses import bracketed
from zentrale.site.identity import Identity

log = logging.getLogger(__name__)
_ANSWER_S = 4.0
_CONNECT_S = 1.5
_PROBE_S = 1.0


def at_host(url: str, host: str) -> str:
    """The same address at another host; its port and path stay."""
    parts = urlsplit(url)
    port = f":{parts.port}" if parts.port else ""
    return f"{parts.scheme}://{bracketed(host)}{port}{parts.path}"


@dataclass(frozen=True)
class Whereabouts:
    """How a device is known again: `client` is how it was spoken with before, `identity` what it told of itself then."""

    client: Device
    identity: Identity

    async def find(self, hosts: Sequence[str]) -> str:
        """The first of `hosts` at which it is. Raises UnreachableError where it is at none of them, AddressTakenError where
        another device sits at the first and it itself is nowhere.
        """
        parts: list[DeviceError] = []
        for host in hosts:
            try:
                await self._is_at(host)
            except DeviceError as error:
                log.debug("%s: %s", host, error)
                parts.append(error)
            else:
                return host
        other = next((e for e in parts if isinstance(e, AddressTakenError)), None)
        if other is not None:
            raise other
        raise UnreachableError(f"it answers at none of {', '.join(hosts)}")

    async def _is_at(self, host: str) -> None:
        """Raises DeviceError where it is not, or does not answer. Nobody is sent credentials who is seen to be another one."""
        known = self.client.credentials
        rules = self.client.rules
        url = at_host(self.client.url, host)
        async with Device(url, rules, endpoint=self.identity.endpoint, timeout_s=_ANSWER_S) as other:
            await other.read_clock()
            told = Identity.of([neighbours.macs_by_address().get(host, "")], endpoint=await _endpoint(host))
            if self.identity.macs and told.macs and not self.identity.macs & told.macs:
                raise AddressTakenError(
                    f"another device is at {host}: its MAC address is {', '.join(sorted(told.macs))}"
                )
            if self.identity.endpoint and told.endpoint and self.identity.endpoint != told.endpoint and not told.macs:
                raise AddressTakenError(f"another device is at {host}")
            other.use(known)
            try:
                macs = Identity.of([i.mac for i in await other.interfaces()]).macs
            except RefusedError as error:
                raise AddressTakenError(
                    f"another device is at {host}: it does not take its password ({error})"
                ) from None
            if self.identity.macs and macs and not self.identity.macs & macs:
                raise AddressTakenError(f"another device is at {host}: its MAC address is {', '.join(sorted(macs))}")

    async def by_probe(self) -> str:
        """Where it answers a multicast probe by its own endpoint; empty where it does not."""
        if not self.identity.endpoint:
            return ""
        with contextlib.suppress(UnreachableError):
            heard = await probe.probe(list_adapters(), _PROBE_S)
            for match, host in (*heard.answers, *heard.hellos):
                if match.endpoint == self.identity.endpoint and ":" not in host:
                    return host
        return ""


async def first_that_answers(urls: Sequence[str], rules: Rules) -> str:
    """The first at which an ONVIF device answers a stranger; the first of all where none does. Who it is, is asked later."""
    for url in urls:
        with contextlib.suppress(DeviceError):
            async with Device(url, rules, timeout_s=_ANSWER_S) as device:
                await device.read_clock()
                return url
    return urls[0]


async def _endpoint(host: str) -> str:
    """What calls itself there by WS-Discovery; empty where nothing does."""
    heard = await probe.probe_directly([host], _PROBE_S)
    return heard[0][0].endpoint if heard else ""


async def taken_by(url: str, host: str, own: Collection[str] = ()) -> str:
    """Who is at an address that is to be given away, in words; empty where nobody answers. Without credentials.

    Only what answers now counts: the system's table of neighbours remembers who was there. own: the device's own MAC addresses
    """
    port = urlsplit(url).port or 80
    there = False
    try:
        async with asyncio.timeout(_CONNECT_S):
            _, writer = await asyncio.open_connection(host, port)
    except ConnectionRefusedError:
        there = not host.startswith("127.")  # all of loopback refuses
    except (OSError, TimeoutError):
        pass
    else:
        there = True
        writer.close()
    adapter = next((a for a in list_adapters() if a.holds(host) and not a.loopback), None)
    told = None if adapter is None else await asyncio.to_thread(arp.who_is_there, adapter, [host])
    macs = [mac for mac in (told or {}).get(host, ()) if mac not in own]
    if macs:
        return f"the device with MAC address {' and '.join(macs)}"
    return "something that answers" if there and told is None else ""


def seen_from_here(old: str, new: str, adapters: Sequence[Adapter] | None = None) -> bool:
    """Whether a device that is on our own link now would still be on one, at its new address."""
    adapters = list_adapters() if adapters is None else adapters
    return not any(a.holds(old) for a in adapters) or any(a.holds(new) for a in adapters)
