"""Addresses: the blocks of each zone, a fixed address for every device by a scheme people can read, and what clashes.

The scheme: a camera's place in its zone's fixed block follows its recorder and channel. So adding or removing a
camera never renumbers another. An address that the plan gives is always kept, and so is that of a registered device, until
the plan says otherwise: another recorder, or another type of one, moves only what nobody has entered yet.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network
from itertools import combinations

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.contradictions import of_addresses
from zentrale.planning.once import once
from zentrale.site.model import Camera, Plan, Recorder, Zone
from zentrale.site.values import Block

_INFRASTRUCTURE = 9  # first hosts after the gateway: switches, controllers, a laptop
_FOR_A_PAGE = (
    "give its management another address of the zone's subnet; only a switch that routes has that of the gateway"
)
_POOL_SHARE = 5  # a fifth of the subnet, at its end, where the plan names no pool

Device = Camera | Recorder


@dataclass(frozen=True)
class ZoneAddresses:
    """How a zone's subnet is divided, and how many devices it holds. `infrastructure` is what lies below the fixed
    block: gateway, switches, a laptop.
    """

    zone: str
    vlan: int
    network: IPv4Network
    gateway: IPv4Address | None
    infrastructure: Block | None
    fixed: Block
    pool: Block | None
    devices: int


@dataclass(frozen=True)
class DeviceAddress:
    """One device's address; `given` says that it stands in the plan, otherwise it is proposed, where `held` as the one that
    the device was registered at; `translated`: it is that of a translation before it, not its own.
    """

    name: str
    kind: str
    zone: str
    address: IPv4Address
    mac: str
    given: bool
    held: bool = False
    translated: bool = False


@dataclass(frozen=True)
class AddressPlan:
    zones: tuple[ZoneAddresses, ...]
    devices: tuple[DeviceAddress, ...]
    findings: tuple[Finding, ...]

    def proposals(self) -> dict[str, str]:
        """Addresses for cameras that have none in the plan, by name."""
        return {d.name: str(d.address) for d in self.devices if not d.given and d.kind == "camera"}

    def reservations(self) -> str:
        """DHCP reservations as dnsmasq reads them: MAC address, name and address, a line for each device that has one."""
        lines = [f"dhcp-host={d.mac},{d.name},{d.address}" for d in self.devices if d.mac and not d.translated]
        return "\n".join(["# DHCP reservations, for dnsmasq", *lines, ""])


def plan_addresses(plan: Plan, held: Mapping[str, str] | None = None) -> AddressPlan:
    """Divide the zones, keep given addresses, propose the missing ones, and tell what clashes.

    held: addresses of registered devices, by name
    """
    return _plan_addresses(plan, held) if held else _without_devices(plan)


@once
def _without_devices(plan: Plan) -> AddressPlan:
    return _plan_addresses(plan, {})


def _plan_addresses(plan: Plan, held: Mapping[str, str]) -> AddressPlan:
    zones = {zone.name: _divide(plan, zone) for zone in plan.zones}
    everything: list[Device] = [*plan.recorders, *plan.networked_devices]
    taken = {d.address for d in everything if d.address}
    taken |= {r.viewing.address for r in plan.recorders if r.viewing is not None}
    taken |= {z.gateway for z in zones.values() if z.gateway is not None}
    taken |= {s.management.address for s in plan.switches if s.management is not None}
    known = _still_held(plan, zones, held, taken)
    taken |= set(known.values())
    devices: list[DeviceAddress] = []
    homeless: dict[str, list[str]] = {}
    offsets = channel_offsets(plan)
    for device in everything:
        kind = "camera" if isinstance(device, Camera) else "recorder"
        address = device.address
        if address is None and device.name in known:
            address = known[device.name]
        elif address is None and isinstance(device, Camera):
            block = zones[device.zone].fixed
            address = _choose(block, offsets[device.recorder] + device.channel - 1, taken)
            if address is None:
                homeless.setdefault(device.zone, []).append(device.name)
                continue
            taken.add(address)
        assert address is not None
        devices.append(
            DeviceAddress(device.name, kind, device.zone, address, device.mac or "", bool(device.address), device.name in known,
                          isinstance(device, Camera) and device.translated)
        )  # fmt: skip
    devices += [
        DeviceAddress(f"{r.name}-viewing", "recorder", r.viewing.zone, r.viewing.address, r.viewing.mac or "", True)
        for r in plan.recorders
        if r.viewing is not None
    ]
    devices += [
        DeviceAddress(s.name, "switch", s.management.zone, s.management.address, "", True)
        for s in plan.switches
        if s.management is not None
    ]
    findings = [*_zone_findings(plan, zones, homeless), *_device_findings(plan, zones, devices)]
    findings += _default_findings(plan, devices)
    findings += [*_management_findings(plan), *of_addresses(plan)]
    return AddressPlan(tuple(zones.values()), tuple(devices), tuple(findings))


def _still_held(
    plan: Plan, zones: Mapping[str, ZoneAddresses], held: Mapping[str, str], taken: set[IPv4Address]
) -> dict[str, IPv4Address]:
    """Of cameras whose row names no address: a host of their zone that nobody else is planned on."""
    found: dict[str, IPv4Address] = {}
    for camera in plan.networked_devices:
        try:
            address = IPv4Address(held.get(camera.name, ""))
        except ValueError:
            continue  # not registered, or at an IPv6 address
        zone = zones[camera.zone]
        hosts = address in zone.network and address not in (
            zone.network.network_address,
            zone.network.broadcast_address,
        )
        pool = zone.pool if plan.zone(camera.zone).pool else None
        if pool is not None and address in pool:
            continue  # it was given away, not planned
        if not camera.address and hosts and address not in taken and address not in found.values():
            found[camera.name] = address
    return found


def _divide(plan: Plan, zone: Zone) -> ZoneAddresses:
    """Gateway, infrastructure, fixed block, DHCP pool: as the plan says, the rest from the subnet's size."""
    network = zone.network
    first, last = int(network.network_address) + 1, int(network.broadcast_address) - 1
    if network.prefixlen >= 31:
        first, last = int(network.network_address), int(network.broadcast_address)
    size = last - first + 1
    pool, fixed = zone.pool, zone.fixed
    if fixed is None:
        start = first + min(1 + _INFRASTRUCTURE, size // 8)
        end = int(pool.first) - 1 if pool and int(pool.first) > start else last - (0 if pool else size // _POOL_SHARE)
        fixed = Block(IPv4Address(start), IPv4Address(max(start, end)))
    if pool is None and zone.pool is None and int(fixed.last) < last and zone.fixed is None:
        pool = Block(IPv4Address(int(fixed.last) + 1), IPv4Address(last))
    count = sum(c.zone == zone.name for c in plan.networked_devices) + sum(
        leg.zone == zone.name for r in plan.recorders for leg in r.legs()
    )
    below = int(fixed.first) - 1
    infrastructure = Block(IPv4Address(first), IPv4Address(below)) if below >= first else None
    return ZoneAddresses(zone.name, zone.vlan, network, zone.gateway, infrastructure, fixed, pool, count)


def channel_offsets(plan: Plan) -> dict[str, int]:
    """Where each recorder's channels begin in a fixed block: recorders follow one another by their channels."""
    offsets, at = {}, 0
    for recorder in plan.recorders:
        offsets[recorder.name] = at
        at += plan.recorder_type(recorder).channels
    return offsets


def _choose(block: Block, offset: int, taken: set[IPv4Address]) -> IPv4Address | None:
    """The address of the scheme; where it is taken or past the end, the last free one of the block, so that the
    places of other channels stay free.
    """
    if offset < len(block) and block.first + offset not in taken:
        return block.first + offset
    for number in range(int(block.last), int(block.first) - 1, -1):
        if IPv4Address(number) not in taken:
            return IPv4Address(number)
    return None


def _zone_findings(
    plan: Plan, zones: Mapping[str, ZoneAddresses], homeless: Mapping[str, list[str]]
) -> Iterable[Finding]:
    for a, b in combinations(zones.values(), 2):
        together = plan.zone(a.zone).family == plan.zone(b.zone).family
        if a.network.overlaps(b.network) and not together:  # zones of one private VLAN share a subnet (RFC 5517)
            subject, measured = f"zones {a.zone} and {b.zone}", f"{a.network} and {b.network}"
            yield finding("ADR-2", subject, measured, "subnets apart", "site.toml [[zones]]")
    for zone in zones.values():
        source = f"site.toml zone {zone.zone}"
        missing = homeless.get(zone.zone, [])
        if missing:
            measured = f"{zone.devices} devices; without an address: {', '.join(missing[:8])}"
            yield finding("ADR-3", f"zone {zone.zone}", measured, f"{len(zone.fixed)} places in {zone.fixed}", source)
        if plan.policy.vlan_in_address and zone.network.network_address.packed[2] != zone.vlan % 256:
            wanted = f"{zone.vlan % 256} in the third part"
            yield finding("ADR-6", f"zone {zone.zone}", f"VLAN {zone.vlan}, {zone.network}", wanted, source)
        outside = [b for b in (zone.fixed, zone.pool) if b and not (b.first in zone.network and b.last in zone.network)]
        for block in outside:
            yield finding("ADR-1", f"zone {zone.zone}", f"block {block}", f"within {zone.network}", source)


def _device_findings(
    plan: Plan, zones: Mapping[str, ZoneAddresses], devices: Iterable[DeviceAddress]
) -> Iterable[Finding]:
    sources = {c.name: c.where for c in plan.cameras}
    pools = {z.name: zones[z.name].pool for z in plan.zones if z.pool}  # one that is only proposed binds nobody
    for device in devices:
        if device.translated:
            continue
        zone = zones[device.zone]
        subject = f"{device.kind} {device.name}"
        source = sources.get(device.name, f"site.toml {device.kind} {device.name}")
        if device.kind == "switch" and device.address == zone.gateway and plan.switch(device.name).routes:
            continue  # its leg in the zone is its page's address, too
        edge = zone.network.prefixlen < 31 and device.address in (
            zone.network.network_address, zone.network.broadcast_address,
        )  # fmt: skip
        if device.address not in zone.network or edge or device.address == zone.gateway:
            what = "the gateway" if device.address == zone.gateway else "no host address" if edge else "outside"
            measured = f"{device.address}, {what}"
            advice = _FOR_A_PAGE if device.kind == "switch" else ""
            yield finding("ADR-1", subject, measured, f"a host of {zone.network}, zone {zone.zone}", source, advice)
        elif (pool := pools.get(device.zone)) is not None and device.address in pool:
            yield finding("ADR-4", subject, str(device.address), f"outside the pool {pool}", source)


def _management_findings(plan: Plan) -> Iterator[Finding]:
    names = [switch.name for switch in plan.switches if switch.management is None]
    if names:
        some = f"{quantities.listed(names, 8)}"
        measured = f"{some}: no management address; once every port is in its VLAN or off, its page is on none"
        subject = f"switch {names[0]}" if len(names) == 1 else f"{len(names)} switches"
        yield finding("ADR-7", subject, measured, "management = { zone, address }", "site.toml [[switches]]")


def _default_findings(plan: Plan, devices: Iterable[DeviceAddress]) -> Iterable[Finding]:
    by_default: dict[IPv4Address, list[str]] = {}
    for camera in plan.networked_devices:
        default = plan.camera_type(camera).default_address
        if default:
            by_default.setdefault(default, []).append(camera.name)
    planned = {d.address: d.name for d in devices}
    for default, names in by_default.items():
        clash = planned.get(default)
        if len(names) > 1 or (clash and clash not in names):
            text = f"{quantities.listed(names, 6)}: all {default}"
            text += f", which is planned for {clash}" if clash else ""
            yield finding("ADR-5", f"{len(names)} cameras", text, "one at a time", "types.toml default_address")
