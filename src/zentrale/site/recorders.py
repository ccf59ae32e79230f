"""Recorders of the plan and their drives (site.toml)."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from zentrale.site.network import Leg
from zentrale.site.part import Part
from zentrale.site.values import Address, Mac, PlaceName, Text, empty_is_none


class Storage(Part):
    """A recorder's drives. `drive_tb` is decimal, as they are sold; `redundancy` a RAID level, or none; `drive_price` of one."""

    drives: Annotated[int, Field(ge=1, le=256)]
    drive_tb: Annotated[float, Field(gt=0, le=100)]
    redundancy: Literal["none", "0", "1", "5", "6", "10"] = "none"
    hot_spares: Annotated[int, Field(ge=0, le=16)] = 0
    overhead_percent: Annotated[float, Field(ge=0, le=50)] = 7
    drive_price: Annotated[float, Field(ge=0)] | None = None


class Recorder(Part):
    """`zone` to `address` are its camera side; `viewing` is its second leg, and `forwards` says that it passes packets on
    between the two. `own_panels` is how many pictures its own screen shows at once, of the `own_stream` of its cameras. Where
    `channels` go "by-port", a camera at one of its own ports has the channel with that port's number.
    """

    name: PlaceName
    type: Text
    zone: PlaceName
    switch: PlaceName
    port: Annotated[int, Field(ge=1, le=512)]
    address: Address
    mac: Annotated[Mac | None, BeforeValidator(empty_is_none)] = None
    http_port: Annotated[int, Field(ge=1, le=65535)] = 80
    storage: Storage | None = None
    licences_held: Annotated[int, Field(ge=0)] = 0
    viewing: Leg | None = None
    forwards: bool = False
    own_panels: Annotated[int, Field(ge=0, le=256)] = 0
    own_stream: Literal["main", "sub"] = "sub"
    channels: Literal["by-row", "by-port"] = "by-row"

    @property
    def host(self) -> str:
        """Its planned address as text, as devices and sockets have it."""
        return str(self.address)

    def reached_at(self, host: str, port: int | None) -> bool:
        """Whether a device found there may be this one, by the plan's address."""
        return self.host == host

    def legs(self) -> list[Leg]:
        """Its network connections, the camera side first."""
        first = Leg(zone=self.zone, switch=self.switch, port=self.port, address=self.address, mac=self.mac)
        return [first] if self.viewing is None else [first, self.viewing]
