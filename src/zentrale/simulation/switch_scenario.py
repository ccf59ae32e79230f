"""What a stand-in switch is and what is plugged into it, as a scenario says it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from zentrale.site.values import AddressText, Mac, PlaceName, Text


class Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class SnmpUser(Part):
    """SNMPv3 with SHA-256 and AES-128."""

    user: Text
    password: Text
    privacy: Text
    writes: bool = False


class Community(Part):
    name: Text
    writes: bool = False


class Plug(Part):
    """What hangs at one port. `device`: of the scenario, by name; `mac`: a thing that the scenario does not play; `to`: another
    switch, as SWITCH:PORT; `laptop`: this machine. `vlan`: of frames without a tag; `tagged`: those with one.
    """

    port: Annotated[int, Field(ge=1, le=512)]
    device: PlaceName = ""
    mac: Mac | None = None
    also: tuple[Mac, ...] = ()  # behind the same port
    to: str = ""
    laptop: bool = False
    vlan: Annotated[int, Field(ge=1, le=4094)] = 1
    tagged: tuple[int, ...] = ()
    day_w: Annotated[float, Field(ge=0)] = 0.0
    night_w: Annotated[float, Field(ge=0)] | None = None
    poe_class: Annotated[int, Field(ge=0, le=4)] = 0
    priority: Literal["critical", "high", "low"] = "low"
    rate_mbps: int = 100
    # Faults:
    duplex: Literal["full", "half"] = "full"
    errors_per_min: Annotated[float, Field(ge=0)] = 0.0  # spoilt frames that come in
    up: bool = True
    denied: int = 0  # how often power was refused; then it has none


class Switch(Part):
    """`manner`: how it numbers and what it tells.

    tern:    ENTITY-MIB with positions and aliases, sensors of watts, VLANs and addresses by VLAN; ifIndex from 10001
    bittern: an older one: names such as "Port 7", no ENTITY-MIB, no sensors, one table of addresses, VLANs as they are set;
             watts asked for and allotted by LLDP
    plover:  names such as ge-0/0/6 that count from 0, PoE rows that begin elsewhere, no LLDP, a spanning tree
    """

    name: PlaceName
    address: AddressText
    snmp_port: Annotated[int, Field(ge=1024, le=65535)] = 1161
    maker: Text
    model: Text
    firmware: Text
    mac: Mac
    manner: Literal["tern", "bittern", "plover"]
    ports: Annotated[int, Field(ge=1, le=512)]
    poe_ports: Annotated[int, Field(ge=0, le=512)] = 0
    budget_w: Annotated[float, Field(ge=0)] = 0.0
    plugs: tuple[Plug, ...] = ()
    users: tuple[SnmpUser, ...] = ()
    communities: tuple[Community, ...] = ()
    tree_priority: int = 0  # 0: it runs no spanning tree
    # Faults:
    not_told: tuple[Text, ...] = ()  # tables by their MIB names
    breaks_off: tuple[Text, ...] = ()  # tables of whose second column the second half is missing
    faults: tuple[Text, ...] = ()  # by name, as `simulate --fault` has them
    silent_after: int = 0  # requests; then it answers no more
    ignores_power: bool = False  # it says OK to who switches a port's power, and leaves it as it is

    def plug(self, port: int) -> Plug | None:
        return next((p for p in self.plugs if p.port == port), None)
