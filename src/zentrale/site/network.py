"""The network of the plan: zones, switches, links, ports, viewers, and who may reach whom (site.toml)."""

from __future__ import annotations

import ipaddress
from functools import cached_property
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from zentrale.site.part import Part
from zentrale.site.values import Address, AddressRange, Mac, PlaceName, Subnet, Text, empty_is_none


class Zone(Part):
    """A VLAN with its subnet.

    `fixed` is the block for cameras and recorders, `pool` the one a DHCP server gives away; what is not said follows
    from the subnet (planning/addresses.py). A zone without a way out has no `gateway`.

    A zone with a `primary` is a secondary VLAN of that zone's private VLAN (RFC 5517) and shares its subnet: devices in
    it reach those of the primary; one another only where `private` is community. `querier` is the switch that asks
    for multicast groups.
    """

    name: PlaceName
    vlan: Annotated[int, Field(ge=1, le=4094)]
    subnet: Subnet
    gateway: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
    fixed: AddressRange | None = None
    pool: AddressRange | None = None
    primary: PlaceName | None = None
    private: Literal["isolated", "community"] = "isolated"
    querier: PlaceName | None = None

    @property
    def family(self) -> str:
        """The layer-2 network it is part of: itself, or the primary of its private VLAN (RFC 5517)."""
        return self.primary or self.name

    def holds(self, address: str) -> bool:
        """Whether this IPv4 address, as text, lies in its subnet."""
        return ":" not in address and ipaddress.IPv4Address(address) in self.subnet

    @property
    def network(self) -> ipaddress.IPv4Network:
        return self.subnet


class Management(Part):
    """Where a switch's own page answers: the zone whose VLAN it is in, and its address there. `snmp` and `snmp_port`: how the
    switch is asked for its tables (RFC 3411; port by IANA).
    """

    zone: PlaceName
    address: Address
    snmp: Literal["v2c", "v3"] | None = None
    snmp_port: Annotated[int, Field(ge=1, le=65535)] = 161


class Switch(Part):
    """`routes`: it passes traffic between zones that have a gateway. `copies_multicast`: it copies groups from the
    cameras' zone into the viewers' (multicast VLAN registration). `ports` listed: its [[ports]] are its whole table.
    `loop_protection`: what keeps a ring from going round in circles: rapid or multiple spanning tree (IEEE 802.1Q clause
    13), a ring protocol such as ITU-T G.8032, or nothing.
    """

    name: PlaceName
    cabinet: Text
    type: Text
    routes: bool = False
    copies_multicast: bool = False
    snooping: bool = True
    loop_protection: Literal["rstp", "mstp", "ring", "none"] | None = None
    ports: Literal["generated", "listed"] = "generated"
    management: Management | None = None


class Link(Part):
    """A cable or fibre between two switches. `lit` is false for a path that is laid but not in use. Links of one `bundle`
    between two switches carry together, as one (IEEE 802.1AX). `length_m` is that of the cable, `medium` what it is made of:
    balanced copper, multimode (OM3, OM4) or single-mode fibre (OS2; ISO/IEC 11801-1).
    """

    a: Text
    b: Text
    rate_mbps: Annotated[int, Field(gt=0, le=400_000)]
    lit: bool = True
    bundle: str = ""
    medium: Literal["copper", "om3", "om4", "os2"] | None = None
    length_m: Annotated[float, Field(ge=0, le=200_000)] = 0

    def ends(self) -> tuple[tuple[str, int], tuple[str, int]]:
        return self._ends

    def switches(self) -> tuple[str, str]:
        (a, _), (b, _) = self._ends
        return a, b

    @cached_property
    def _ends(self) -> tuple[tuple[str, int], tuple[str, int]]:
        return _port(self.a), _port(self.b)


def _port(text: str) -> tuple[str, int]:
    switch, _, port = text.rpartition(":")
    return switch, int(port)


INTERNET = "internet"
EVERYWHERE = "*"

DeviceKind = Literal["camera", "recorder", "viewer", "switch", "device"]


class Need(Part):
    """What a thing on a port takes that has no data sheet in the plan; what is not said is not known.

    poe_class:    its PoE class (IEEE 802.3 clauses 33 and 145)
    draw_w:       what it draws at most, at its own end of the cable; 0 for a thing that is fed otherwise
    traffic_mbps: what it sends or receives at most, as it is on the wire
    """

    poe_class: Annotated[int, Field(ge=0, le=8)] | None = None
    draw_w: Annotated[float, Field(ge=0, le=100)] | None = None
    traffic_mbps: Annotated[float, Field(ge=0, le=400_000)] | None = None


class PortPlan(Need):
    """What the plan says of one switch port (`at`, as SWITCH:PORT); what it does not say is generated.

    access: the zone of an untagged port; tagged: the zones of a trunk; native: that of what has no tag on a trunk
    """

    at: Text
    device: PlaceName | None = None
    label: str = ""
    access: PlaceName | None = None
    tagged: tuple[PlaceName, ...] = ()
    native: PlaceName | None = None
    rate_mbps: Annotated[int, Field(gt=0)] | None = None
    poe: bool | None = None
    energy_saving: bool = False
    authentication: Literal["none", "802.1X", "mac-bypass"] | None = None

    def place(self) -> tuple[str, int]:
        return _port(self.at)


class WirelessNetwork(Part):
    """The name that devices look for, and the zone it is tied to."""

    name: Text
    zone: PlaceName


class AccessPoint(Need):
    """A wireless access point on a switch port."""

    name: PlaceName
    switch: PlaceName
    port: Annotated[int, Field(ge=1, le=512)]
    networks: tuple[WirelessNetwork, ...]


class Viewer(Part):
    """A screen or workstation that watches: at most `panels` pictures at once of the cameras of `groups` (all where
    empty), from the recorder or from the cameras themselves, by unicast or multicast. Where it feeds [[walls]], these say what it
    shows. `type` names its machine's [[viewer_types]].
    """

    name: PlaceName
    zone: PlaceName
    switch: PlaceName
    port: Annotated[int, Field(ge=1, le=512)]
    stream: Literal["main", "sub"] = "sub"
    source: Literal["recorder", "camera"] = "recorder"
    multicast: bool = False
    panels: Annotated[int, Field(ge=1, le=4096)] | None = None
    groups: tuple[PlaceName, ...] = ()
    type: str = ""


class Leg(Part):
    """A second network connection of a recorder."""

    zone: PlaceName
    switch: PlaceName
    port: Annotated[int, Field(ge=1, le=512)]
    address: Address
    mac: Annotated[Mac | None, BeforeValidator(empty_is_none)] = None


def _port_range(value: object) -> object:
    """One port, as a number or text, or FIRST-LAST."""
    first, dash, last = str(value).replace(" ", "").partition("-")
    if value == "":
        return value
    numbers = [
        int(n) if n.isascii() and n.isdigit() and len(n) < 6 else 0 for n in ((first, last) if dash else (first,))
    ]
    if isinstance(value, bool) or not all(1 <= n <= 65535 for n in numbers) or numbers != sorted(numbers):
        raise ValueError("expected a port such as 554, or first and last such as 6000-6100")
    return "-".join(map(str, numbers))


class Rule(Part):
    """What the router does with traffic that begins in `origin` and goes to `to` (zones, internet or *).

    The first rule that fits decides; where none does, it is dropped. `protocol` and `port` (80, or 6000-6100) make it one
    for these packets only.
    """

    origin: Annotated[Text, Field(alias="from")]
    to: Text
    from_kind: DeviceKind | None = None
    to_kind: DeviceKind | None = None
    protocol: Literal["any", "tcp", "udp", "icmp"] = "any"
    port: Annotated[str, BeforeValidator(_port_range)] = ""
    allow: bool = True

    @model_validator(mode="after")
    def _whole(self) -> Rule:
        if self.port and self.protocol not in ("tcp", "udp"):
            raise ValueError('port needs protocol = "tcp" or "udp"')
        return self

    def takes(self, protocol: str, port: int) -> bool:
        """Whether it decides of such packets."""
        first, _, last = self.port.partition("-")
        ports = not self.port or int(first) <= port <= int(last or first)
        return self.protocol == "any" or (self.protocol == protocol and ports)


class Reach(Part):
    """What the customer wants: may devices in `origin` begin to talk to those in `to`? The first that fits decides."""

    origin: Annotated[Text, Field(alias="from")]
    to: Text
    from_kind: DeviceKind | None = None
    to_kind: DeviceKind | None = None
    wanted: bool
