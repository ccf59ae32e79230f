"""The camera schedule: what each row says of its camera."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field

from zentrale.site.part import Part, Priority
from zentrale.site.values import (
    Address,
    Category,
    GroupAddress,
    Mac,
    MacEnd,
    PlaceName,
    Text,
    empty_is_none,
    known_awg,
    quarter_turn,
)

# IEC 62676-4: how much of the scene a picture must resolve.
Wanted = Literal["monitor", "detect", "observe", "recognise", "identify", "inspect"]
_OptionalNumber = Annotated[float | None, BeforeValidator(empty_is_none)]


class Camera(Part):
    """One row of the camera schedule. `row` is its line in cameras.csv, for messages.

    `http_port` and `rtsp_port` are where it is reached, where a translation of addresses stands before it. `route` is what its
    run passes, `cable_kind` what the cable is made for. A camera with a `wireless` network has no run: `switch` and `port`
    are those of its access point. `heading_deg` counts clockwise from north, `tilt_deg` downwards from level; `target_m` is the
    distance over the ground at which the picture must be good enough for what it `wants`. `mac_end` are the last digits of its
    MAC address, where its label tells no more. `addressing`: the planned address is set on it, or it has it from DHCP; empty: it
    is set where one is planned. `rotate_deg` is how far its picture is turned clockwise, `mirror` how it is mirrored. `source`
    is which lens or video input of its device the row is, counted from 1, where a device has a row for each (`lenses.py`).
    `behind` names the recorder at one of whose own ports it stands, which `port` then counts: on a network inside the recorder,
    with an address that the recorder gives it, so that only the recorder reaches it.
    `title` is its name as the customer writes it, `recording` the rules of [[recordings]] by which it is recorded, empty where
    those of its group hold. What nobody knows yet is open: `switch` empty, `port` 0, no `run_length_m`.
    """

    name: PlaceName
    title: str = ""
    shows: str = ""
    mount: str = ""
    type: Text
    group: PlaceName
    zone: PlaceName
    switch: PlaceName = ""
    port: Annotated[int, Field(ge=1, le=512)] = 0
    run_length_m: Annotated[float, Field(ge=0, le=2000)] | None = None
    address: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
    mac: Annotated[Mac | None, BeforeValidator(empty_is_none)] = None
    mac_end: Annotated[MacEnd | None, BeforeValidator(empty_is_none)] = None
    serial: str = ""
    recorder: PlaceName
    channel: Annotated[int, Field(ge=1, le=1024)]
    supply: Literal["poe", "injector", "mains", ""] = ""
    priority: Priority = Priority.LOW
    conductor_awg: Annotated[int | None, BeforeValidator(empty_is_none), AfterValidator(known_awg)] = None
    cable_category: Category = ""
    route: Literal["", "indoor", "outdoor", "sunlit"] = ""
    cable_kind: Literal["", "indoor", "outdoor", "uv-proof"] = ""
    http_port: Annotated[int | None, BeforeValidator(empty_is_none), Field(ge=1, le=65535)] = None
    rtsp_port: Annotated[int | None, BeforeValidator(empty_is_none), Field(ge=1, le=65535)] = None
    wireless: str = ""
    multicast_main: Annotated[GroupAddress | None, BeforeValidator(empty_is_none)] = None
    multicast_sub: Annotated[GroupAddress | None, BeforeValidator(empty_is_none)] = None
    x_m: _OptionalNumber = None
    y_m: _OptionalNumber = None
    height_m: Annotated[_OptionalNumber, Field(ge=0, le=100)] = None
    heading_deg: Annotated[_OptionalNumber, Field(ge=-360, le=360)] = None
    tilt_deg: Annotated[_OptionalNumber, Field(ge=-90, le=90)] = None
    target_m: Annotated[_OptionalNumber, Field(gt=0, le=10_000)] = None
    wants: Annotated[Wanted | None, BeforeValidator(empty_is_none)] = None
    addressing: Literal["", "fixed", "dhcp", "leave"] = ""
    rotate_deg: Annotated[int | None, BeforeValidator(empty_is_none), AfterValidator(quarter_turn)] = None
    mirror: Literal["", "none", "horizontal", "vertical", "both"] = ""
    source: Annotated[int | None, BeforeValidator(empty_is_none), Field(ge=1, le=64)] = None
    recording: str = ""
    behind: PlaceName = ""
    row: int = 0

    @property
    def where(self) -> str:
        return f"cameras.csv line {self.row}"

    @property
    def place(self) -> str:
        """Its switch and port in words, as far as they are known."""
        if self.behind:
            return f"{self.behind} port {self.port}, its own"
        if not self.switch:
            return "a port nobody knows yet"
        return f"{self.switch} port {self.port}" if self.port else f"{self.switch}, port open"

    @property
    def called(self) -> str:
        """Its name for people: the title that the customer gave it, else the name."""
        return self.title or self.name

    @property
    def host(self) -> str:
        """Its planned address as text, as devices and sockets have it; empty where none is planned."""
        return "" if self.address is None else str(self.address)

    @property
    def translated(self) -> bool:
        """Whether its address is that of a translation before it, which others may share."""
        return self.http_port is not None or self.rtsp_port is not None

    def reached_at(self, host: str, port: int | None) -> bool:
        """Whether a device found there may be this one, by the plan's address and port."""
        return self.host == host and (self.http_port is None or port is None or port == self.http_port)
