"""Why a planned device is not seen: the likeliest cause by what was seen instead, and what to do about it.

Causes are worded without the device's own name, so that those that share one are told together.
"""

from __future__ import annotations

import ipaddress
import sys
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from zentrale import quantities
from zentrale.field.adapters import Adapter
from zentrale.jobs.discovery.matching import may_be
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import Planned, planned_devices
from zentrale.site.model import Camera, Plan, Recorder


@dataclass(frozen=True)
class Why:
    """The cause as it was seen, and what to do."""

    seen: str
    do: str
    explains_distance: bool = False  # why it could not even be asked


@dataclass(frozen=True)
class Evidence:
    """What a search saw beside devices.

    adapters: from which it looked
    by_arp:   the addresses that were asked for by ARP; `macs` those that answered it, with who did
    refused:  addresses that refuse connections: a host is there
    behind:   for each recorder, the addresses of its own channel list
    switches: why each planned device is not seen, as its switch tells, by its name
    """

    adapters: tuple[Adapter, ...] = ()
    by_arp: frozenset[str] = frozenset()
    macs: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    refused: frozenset[str] = frozenset()
    behind: Mapping[str, Collection[str]] = field(default_factory=dict)
    switches: Mapping[str, Why] = field(default_factory=dict)


def why_missing(
    plan: Plan, row: Planned, evidence: Evidence, found: Mapping[str, FoundDevice], others: Sequence[FoundDevice]
) -> Why | None:
    """The likeliest cause; None where nothing was seen that tells one.

    found: the planned devices that were found, by name; others: those that nobody planned
    """
    for cause in _CAUSES:
        why = next(cause(plan, row, evidence, found, others), None)
        if why is not None:
            return why
    return None


_Found = Mapping[str, FoundDevice]
_Cause = Callable[[Plan, Planned, Evidence, _Found, Sequence[FoundDevice]], Iterator[Why]]


def _network(plan: Plan, row: Planned) -> ipaddress.IPv4Network:
    return next(z.network for z in plan.zones if z.name == row.zone)


def _as_its_switch_tells(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    if row.name in evidence.switches:
        yield evidence.switches[row.name]


def _behind_recorder(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    for recorder, addresses in evidence.behind.items():
        if row.host and row.host in addresses and not any(a.holds(row.host) for a in evidence.adapters):
            yield Why(
                f"only {recorder} sees it: it stands in the recorder's own list, behind its camera ports",
                f"look at it through {recorder}; if it belongs there, plan it so: behind = {recorder} in cameras.csv, switch and "
                "address empty",
                explains_distance=True,
            )


def _shares_an_address(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    """Two from the box with one address: the other one spoke, and this one was seen by ARP alone."""
    for device in (*found.values(), *others):
        if row.mac and len(device.link_macs) > 1 and row.mac in device.link_macs:
            yield Why(
                f"it is there: its MAC address answers ARP at {device.address}, where another device answers too",
                "`zentrale register` takes them one after the other where it may pin one; else it says which to unplug",
                explains_distance=True,
            )


def _other_at_address(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    named = {id(d): name for name, d in found.items()}
    for device in (*found.values(), *others):
        if row.host and row.host in device.addresses and not (isinstance(row, Camera) and row.translated):
            who = named.get(id(device), "") or " ".join(p for p in (device.maker, device.model) if p) or "a device"
            mac = f" ({', '.join(sorted(device.identity.macs))})" if device.identity.macs else ""
            yield Why(
                f"another device is on its address: {who}{mac}",
                "give that device another address; this one may be fresh, waiting on its maker's default address",
            )


def _no_address_there(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    """This laptop's subnets do not hold the zone, and nothing of the zone answers by way of a router either."""
    network = _network(plan, row)
    if not evidence.adapters or any(network.overlaps(a.network) for a in evidence.adapters):
        return
    if any(_inside(d, network) for d in (*found.values(), *others)):
        return
    free = _free_address(plan, network, evidence)
    adapter = next((a for a in evidence.adapters if not a.loopback), evidence.adapters[0])
    yield Why(
        f"this laptop has no address in zone {row.zone} ({network}), and no router led there",
        f"give the laptop {free}/{network.prefixlen} at a port of that zone: "
        f"`{add_address_command(adapter.name, free, network)}`",
        explains_distance=True,
    )


def _answers_arp_only(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    macs = evidence.macs.get(row.host, ())
    mine = row.mac in macs if row.mac else True
    if len(macs) > 1:
        yield Why(
            f"{len(macs)} devices answer ARP for its address ({', '.join(macs)}), and none has a port open",
            "unplug all but one of them: `zentrale help howto-two-fresh-cameras`",
        )
    elif macs and not mine:
        yield Why(
            f"another device answers ARP on its address ({', '.join(macs)}), with no port open",
            "find that device by its MAC address at the switch, and give it another address",
        )
    elif macs:
        yield Why(
            "it answers ARP, but has none of the ports open",
            "wait a minute if it is starting; else look for another port in its page, or a filter in it "
            "(policy sweep_ports names the ports that are tried)",
        )
    elif row.host in evidence.refused:
        yield Why("a host is there, but refuses all ports that were tried", "look for its port: policy sweep_ports")


def _at_default_address(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    kind = plan.kind(row)
    for device in others:
        default = default_address_of(plan, device)
        if default and (device.maker or kind.maker) == kind.maker and getattr(kind, "default_address", None) == default:
            yield Why(
                f"a device of its maker that nobody planned is at the default address {device.address}",
                f"it may be this one: look at its label, then `zentrale assign CAMERA {device.address}`",
            )


def _another_of_its_make(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    """Its row names another MAC address, so this is not it; but somebody may have put it in its place."""
    kind = plan.kind(row)
    alike = [d for d in others if (d.maker, d.model) == (kind.maker, kind.model) and d.identity.macs]
    if isinstance(row, Camera) and row.mac and len(alike) == 1:
        yield Why(
            f"it does not answer; another {kind.maker} {kind.model} that nobody planned is at {alike[0].address}",
            f"if that was put in its place: `zentrale replace {row.name} --with {alike[0].address}`; else look at its power",
        )


def _may_be_among_them(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    """Nobody is where it is planned, and devices of its kind are elsewhere that its row does not exclude."""
    fits = may_be(plan, row, others)
    if fits:
        there = quantities.listed([d.address for d in fits], 4)
        is_one = "may be it" if len(fits) == 1 else "may be it, one of them"
        yield Why(
            f"{'nobody answers at its address' if row.host else 'not found'}; {there}, not planned, {is_one}",
            "`zentrale assign --walk` shows a picture of each; then it is found under its name",
        )


def _silent(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    network = _network(plan, row)
    no_arp = "no ARP answer: it is off, unplugged, or elsewhere" if row.host in evidence.by_arp else "no answer"
    here = [n for n, d in found.items() if _inside(d, network)]
    if isinstance(row, Recorder):
        yield Why(no_arp, "look at its power and its link light, and at its address in its own menu")
        return
    same_switch = {c.name for c in plan.cameras if c.switch == row.switch and row.switch}
    if here and not row.switch:
        yield Why(
            f"{no_arp}; others of zone {row.zone} answer",
            "find the port it is plugged into: link light, PoE; then its cable",
        )
    elif same_switch & set(here):
        yield Why(
            f"{no_arp}; others at switch {row.switch} answer",
            f"look at its port there (`zentrale plan ports`): link light, PoE, zone {row.zone}; then its cable",
        )
    elif here:
        yield Why(
            f"{no_arp}, nor from any camera at switch {row.switch}; others of zone {row.zone} answer",
            f"look at switch {row.switch}: its power, its uplink, and whether that carries zone {row.zone}",
        )
    else:
        yield Why(
            f"{no_arp}, nor from anything else of zone {row.zone}",
            f"look at the port that the laptop is in: is it in zone {row.zone}? Then at the cabinet's switch",
        )


def _shut_in(
    plan: Plan, row: Planned, evidence: Evidence, found: _Found, others: Sequence[FoundDevice]
) -> Iterator[Why]:
    """Of a private VLAN only what stands at promiscuous ports answers (RFC 5517): so it is from one of its isolated ports."""
    zone = next(z for z in plan.zones if z.name == row.zone)
    if zone.primary is None or zone.private != "isolated":
        return
    zones = {**{c.name: c.zone for c in plan.cameras}, **{r.name: r.zone for r in plan.recorders}}
    answering = {zones[n] for n, device in found.items() if n in zones and _inside(device, zone.network)}
    several = sum(c.zone == zone.name for c in plan.camera_devices) > 1
    if several and zone.primary in answering and zone.name not in answering:
        yield Why(
            f"no answer, nor from any other of zone {zone.name}, while zone {zone.primary} answers: so it looks from an "
            "isolated port of the private VLAN",
            f"plug the laptop into a port of zone {zone.primary}; if it is in one, look at the uplinks that carry {zone.name}",
        )


_CAUSES: Sequence[_Cause] = (
    _as_its_switch_tells, _shares_an_address, _other_at_address, _behind_recorder,
    _no_address_there, _answers_arp_only, _at_default_address,
    _another_of_its_make, _may_be_among_them, _shut_in, _silent,
)  # fmt: skip


def default_address_of(plan: Plan, device: FoundDevice) -> str:
    """The default address of a maker of the plan on which this device is; empty where it is on none."""
    defaults = {t.default_address for t in plan.camera_types if t.default_address is not None}
    return next((str(a) for a in defaults if str(a) in device.addresses), "")


def in_default_range(plan: Plan, device: FoundDevice) -> bool:
    """Whether it is near a maker's default address (in its /24), and in no zone of the plan."""
    near = [
        ipaddress.IPv4Network(f"{t.default_address}/24", strict=False) for t in plan.camera_types if t.default_address
    ]
    return any(_inside(device, n) for n in near) and not any(_inside(device, z.network) for z in plan.zones)


def add_address_command(adapter: str, address: str, network: ipaddress.IPv4Network, platform: str = "") -> str:
    """What gives the laptop a second address on this system."""
    platform = platform or sys.platform
    if platform == "darwin":
        return f"sudo ifconfig {adapter} alias {address} {network.netmask}"
    if platform == "win32":
        return f'netsh interface ipv4 add address "{adapter}" {address} {network.netmask}'
    return f"sudo ip address add {address}/{network.prefixlen} dev {adapter}"


def _free_address(plan: Plan, network: ipaddress.IPv4Network, evidence: Evidence) -> str:
    """The highest that nobody of the plan has, no pool gives away, and nobody answered at."""
    taken = {row.host for row in planned_devices(plan).values() if row.host} | set(evidence.macs)
    pools = [z.pool for z in plan.zones if z.pool is not None]
    taken |= {str(z.gateway) for z in plan.zones if z.gateway is not None}
    taken |= {str(s.management.address) for s in plan.switches if s.management is not None}
    last = int(network.broadcast_address) - 1
    for number in range(last, max(int(network.network_address), last - 4096), -1):
        address = ipaddress.IPv4Address(number)
        if str(address) not in taken and not any(address in pool for pool in pools):
            return str(address)
    return str(ipaddress.IPv4Address(last))


def _inside(device: FoundDevice, network: ipaddress.IPv4Network) -> bool:
    return any(":" not in a and ipaddress.IPv4Address(a) in network for a in device.addresses)
