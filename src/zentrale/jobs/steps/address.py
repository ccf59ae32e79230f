"""The device's address, set last of all: from then on it is somewhere else. Then its way out, and its name servers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.errors import DeviceError, NotOfferedError, UnreachableError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.whereabouts import Whereabouts, seen_from_here, taken_by
from zentrale.protocols.onvif import network
from zentrale.protocols.onvif.network import NetworkInterface
from zentrale.site.identity import Identity
from zentrale.site.model import Camera

DHCP, FIXED, LEAVE = "dhcp", "fixed", "leave"


def steps(bench: Bench) -> list[Step[Any]]:
    planned, way = bench.planned, ""
    if isinstance(planned, Camera):
        way = planned.addressing
        if planned.translated or way == LEAVE or not (planned.host or way == DHCP):
            return []
    made: list[Step[Any]] = [Address(bench, way)]
    gateway = bench.plan.zone(planned.zone).gateway
    if way != DHCP:
        made += [Gateway(bench, str(gateway))] if gateway else []
        servers = tuple(str(s) for s in bench.plan.site.name_servers)
        made += [NameServers(bench, servers)] if servers else []
    return made


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Step[Any] | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    if name == Address.name:
        return Address(bench, "")
    if name == Gateway.name:
        return Gateway(bench, "")
    return NameServers(bench, ()) if name == NameServers.name else None


@dataclass(frozen=True)
class AddressState:
    """IPv4, with the length of its prefix [bits]; `interface` is the device's own token of it."""

    address: str
    prefix: int = 0
    from_dhcp: bool = False
    interface: str = ""


class Address(Step[AddressState]):
    """SetNetworkInterfaces. The answer may never come, since the address is gone; so it is looked for, not listened to."""

    last = True
    name = "address"
    place = "network: IPv4 address"
    settles_changed = ("DIS-3",)
    settle_s = 45.0  # some answer at the old address for a while; some restart

    def __init__(self, bench: Bench, way: str) -> None:
        super().__init__(bench.client)
        self._planned = bench.planned
        self._network = bench.plan.zone(bench.planned.zone).subnet
        self._way = way
        self._old = bench.client.host
        self._seen = bench.seen
        self._whereabouts: Whereabouts | None = None

    def aim(self) -> str:
        return "from DHCP" if self._way == DHCP else f"{self._planned.host}/{self._network.prefixlen}"

    async def look(self) -> AddressState:
        held = await self.client.interfaces()
        macs = Identity.of([i.mac for i in held]).macs | self._seen.identity.macs
        self._whereabouts = Whereabouts(self.client, Identity(macs, endpoint=self._seen.own_endpoint))
        at = self._interface(held)
        if at is None:
            return AddressState(self.client.host)
        return AddressState(self.client.host, at.prefix, at.from_dhcp, at.token)

    def _interface(self, held: list[NetworkInterface]) -> NetworkInterface | None:
        """The one that it is reached at: by its address, else by the planned MAC address, else the only one."""
        own = [i for i in held if i.address == self.client.host]
        planned = [i for i in held if self._planned.mac and i.mac == self._planned.mac]
        return next(iter((*own, *planned, *(held if len(held) == 1 else []))), None)

    def wanted(self, now: AddressState) -> AddressState:
        host = self._planned.host
        if self._way == DHCP:
            return AddressState(host or now.address, now.prefix, from_dhcp=True, interface=now.interface)
        if now.address == host and self._way != FIXED:
            return now  # it is where it belongs, by whatever means
        wanted = AddressState(host, self._network.prefixlen, from_dhcp=False, interface=now.interface)
        if not self.holds(now, wanted) and not now.interface:
            raise NotOfferedError("it does not tell which of its interfaces it is reached at")
        return wanted

    def holds(self, now: AddressState, wanted: AddressState) -> bool:
        """What is not told is not held against it; nor the address that DHCP gives, where none is planned."""
        same = now.address == wanted.address or (wanted.from_dhcp and not self._planned.host)
        prefix = wanted.from_dhcp or not now.prefix or not wanted.prefix or now.prefix == wanted.prefix
        return same and prefix and now.from_dhcp == wanted.from_dhcp

    async def apply(self, now: AddressState, wanted: AddressState) -> None:
        moves = now.address != wanted.address
        if moves and not seen_from_here(now.address, wanted.address):
            raise DeviceError(
                f"this machine is on its network now, and has no address in {self._network}: it would not see the device "
                f"again at {wanted.address}; give its adapter an address there too, then register again"
            )
        own = self._whereabouts.identity.macs if self._whereabouts else frozenset[str]()
        if moves and (who := await taken_by(self.client.url, wanted.address, own)):
            raise DeviceError(f"{wanted.address} is taken: {who} is there; nothing was changed")
        request = network.set_interface(
            wanted.interface, from_dhcp=wanted.from_dhcp, address=wanted.address, prefix=wanted.prefix or 24
        )
        self._old = now.address
        answer = await self.client.call("tds", request)
        if network.parse_reboot_needed(answer):
            await self.client.call("tds", network.reboot())

    async def read_back(self, wanted: AddressState) -> AddressState:
        """At the new address and at the old one, by who it is, before anything else is done to it."""
        assert self._whereabouts is not None
        hosts = list(dict.fromkeys(h for h in (wanted.address, self._old) if h))
        try:
            host = await self._whereabouts.find(hosts)
        except UnreachableError:
            host = await self._whereabouts.by_probe() if wanted.from_dhcp else ""
            if not host:
                raise
        await self.client.move(host)
        return await self.look()

    def shown(self, state: AddressState) -> str:
        prefix = f"/{state.prefix}" if state.prefix else ""
        return f"{state.address}{prefix}" + (" from DHCP" if state.from_dhcp else "")


@dataclass(frozen=True)
class GatewayState:
    addresses: tuple[str, ...]


class Gateway(Step[GatewayState]):
    """Its way to other networks, as the zone has it."""

    last = True
    name = "gateway"
    needs = ("address",)
    place = "network: default gateway"

    def __init__(self, bench: Bench, gateway: str) -> None:
        super().__init__(bench.client)
        self._gateway = gateway

    def aim(self) -> str:
        return self._gateway

    async def look(self) -> GatewayState:
        return GatewayState(network.parse_gateway(await self.client.call("tds", network.get_gateway())))

    def wanted(self, now: GatewayState) -> GatewayState:
        return GatewayState((self._gateway,))

    async def apply(self, now: GatewayState, wanted: GatewayState) -> None:
        await self.client.call("tds", network.set_gateway(wanted.addresses))

    def shown(self, state: GatewayState) -> str:
        return ", ".join(state.addresses) or "none"


@dataclass(frozen=True)
class NameServersState:
    from_dhcp: bool
    servers: tuple[str, ...] = ()


class NameServers(Step[NameServersState]):
    """Whom it asks for names (DNS)."""

    last = True
    name = "name servers"
    needs = ("address",)
    place = "network: DNS"

    def __init__(self, bench: Bench, servers: tuple[str, ...]) -> None:
        super().__init__(bench.client)
        self._servers = servers

    def aim(self) -> str:
        return ", ".join(self._servers)

    async def look(self) -> NameServersState:
        told = network.parse_dns(await self.client.call("tds", network.get_dns()))
        return NameServersState(told.from_dhcp, told.servers)

    def wanted(self, now: NameServersState) -> NameServersState:
        return NameServersState(from_dhcp=False, servers=self._servers)

    async def apply(self, now: NameServersState, wanted: NameServersState) -> None:
        await self.client.call("tds", network.set_dns(network.NameServers(wanted.from_dhcp, wanted.servers)))

    def shown(self, state: NameServersState) -> str:
        return "from DHCP" if state.from_dhcp else ", ".join(state.servers) or "none"
