"""The plan as typed objects: what *should* be there.

Field names carry their units. Every object is frozen: a job never edits the plan by accident. Cross-references
(a camera's switch, a link's ends) are names here; `reading.py` checks that they exist.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from enum import Enum
from typing import Annotated, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

_PLACE_NAME = re.compile(r"[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?")
_MAC = re.compile(r"([0-9a-f]{2}:){5}[0-9a-f]{2}")
_RESOLUTION = re.compile(r"(\d{2,5})\s*[x×]\s*(\d{2,5})")


def _place_name(value: str) -> str:
    if not _PLACE_NAME.fullmatch(value):
        raise ValueError("expected a name of small letters, digits and hyphens, at most 63, such as upper-gate-north")
    return value


def normal_mac(value: str) -> str:
    """A MAC address in the form aa:bb:cc:dd:ee:ff, from any of the usual spellings. Raises ValueError."""
    digits = re.sub(r"[^0-9a-f]", "", value.lower())
    mac = ":".join(digits[i : i + 2] for i in range(0, len(digits), 2))
    if not _MAC.fullmatch(mac) or len(re.sub(r"[0-9a-f:.\-\s]", "", value.lower())):
        raise ValueError("expected a MAC address such as 02:5a:10:00:00:11")
    return mac


def _optional(value: object) -> object:
    return None if value == "" else value


def _resolution(value: object) -> object:
    if isinstance(value, str):
        match = _RESOLUTION.fullmatch(value.strip())
        if not match:
            raise ValueError("expected width x height in pixels, such as 1920x1080")
        return (int(match[1]), int(match[2]))
    return value


def _address(value: str) -> str:
    try:
        return str(ipaddress.IPv4Address(value))
    except ValueError:
        raise ValueError("expected an IPv4 address such as 10.20.0.11") from None


def _subnet(value: str) -> str:
    try:
        return str(ipaddress.IPv4Network(value))
    except ValueError as error:
        raise ValueError(f"expected an IPv4 subnet such as 10.20.0.0/24 ({error})") from None


def _known_awg(value: int | None) -> int | None:
    if value not in (None, 22, 23, 24, 26):
        raise ValueError("expected 22, 23, 24 or 26 (American wire gauge), or nothing for the standard's worst case")
    return value


PlaceName = Annotated[str, AfterValidator(_place_name)]
Mac = Annotated[str, AfterValidator(normal_mac)]
Address = Annotated[str, AfterValidator(_address)]
Subnet = Annotated[str, AfterValidator(_subnet)]
Resolution = Annotated[tuple[int, int], BeforeValidator(_resolution)]
Text = Annotated[str, Field(min_length=1)]


class Part(BaseModel):
    """Base of all plan objects: frozen, and a field nobody knows is an error, not a silence."""

    model_config = ConfigDict(frozen=True, extra="forbid", str_strip_whitespace=True)


class Priority(Enum):
    """How long a port keeps its power when the supply runs short (RFC 3621, pethPsePortPowerPriority)."""

    CRITICAL = "critical"
    HIGH = "high"
    LOW = "low"

    @property
    def rank(self) -> int:
        return list(Priority).index(self)


class Mode(Enum):
    """What a device may be doing when its power is asked for."""

    DAY = "day"
    NIGHT = "night"
    COLD = "cold"
    MOVING = "moving"


class StreamPlan(Part):
    """One stream as it is to be delivered."""

    codec: Literal["H264", "H265", "JPEG"] = "H264"
    resolution: Resolution
    fps: Annotated[float, Field(gt=0, le=240)]
    bitrate_kbps: Annotated[int, Field(gt=0, le=400_000)]
    keyframe_interval_s: Annotated[float, Field(gt=0, le=60)] = 2.0

    @property
    def bitrate_bps(self) -> int:
        return self.bitrate_kbps * 1000


class Group(Part):
    """Cameras set up alike."""

    name: PlaceName
    main: StreamPlan
    sub: StreamPlan | None = None


class Zone(Part):
    """A VLAN with its subnet."""

    name: PlaceName
    vlan: Annotated[int, Field(ge=1, le=4094)]
    subnet: Subnet

    @property
    def network(self) -> ipaddress.IPv4Network:
        return ipaddress.IPv4Network(self.subnet)


class Switch(Part):
    name: PlaceName
    cabinet: Text
    type: Text


class Link(Part):
    """A cable or fibre between two switches. `lit` is false for a path that is laid but not in use."""

    a: Text
    b: Text
    rate_mbps: Annotated[int, Field(gt=0, le=400_000)]
    lit: bool = True

    def ends(self) -> tuple[tuple[str, int], tuple[str, int]]:
        return _port(self.a), _port(self.b)


def _port(text: str) -> tuple[str, int]:
    switch, _, port = text.rpartition(":")
    return switch, int(port)


class Recorder(Part):
    name: PlaceName
    type: Text
    zone: PlaceName
    switch: PlaceName
    port: Annotated[int, Field(ge=1, le=512)]
    address: Address
    mac: Annotated[Mac | None, BeforeValidator(_optional)] = None
    http_port: Annotated[int, Field(ge=1, le=65535)] = 80


class Battery(Part):
    """Back-up power. `capacity_wh` is the name-plate value; `feeds` names switches and recorders.

    `aged_share` is what is left of it at the end of its life, `usable_share` how far it may be emptied.
    """

    name: PlaceName
    capacity_wh: Annotated[float, Field(gt=0)]
    inverter_efficiency: Annotated[float, Field(gt=0, le=1)] = 0.9
    aged_share: Annotated[float, Field(gt=0, le=1)] = 0.8
    usable_share: Annotated[float, Field(gt=0, le=1)] = 0.8
    wanted_min: Annotated[float, Field(gt=0)] | None = None
    feeds: tuple[PlaceName, ...]


class Policy(Part):
    """Limits that are the customer's or the installer's choice."""

    link_load_percent: Annotated[float, Field(gt=0, le=100)] = 70
    poe_reserve_percent: Annotated[float, Field(ge=0, le=90)] = 10
    max_run_m: Annotated[float, Field(gt=0)] = 90
    clock_tolerance_s: Annotated[float, Field(gt=0)] = 5
    fps_tolerance_percent: Annotated[float, Field(gt=0)] = 10
    bitrate_over_percent: Annotated[float, Field(gt=0)] = 25
    bitrate_under_percent: Annotated[float, Field(gt=0, lt=100)] = 75
    jitter_ms: Annotated[float, Field(gt=0)] = 50
    loss_percent: Annotated[float, Field(ge=0, lt=100)] = 0
    sweep_ports: tuple[Annotated[int, Field(ge=1, le=65535)], ...] = (80, 554, 8080, 8554)


class Site(Part):
    name: Text
    timezone: Text
    customer: str = ""


class CameraType(Part):
    """A data sheet's values. Power is what the device draws at its own end of the cable."""

    name: Text
    maker: Text
    model: Text
    supply: Literal["poe", "mains"] = "poe"
    poe_class: Annotated[int, Field(ge=0, le=8)] = 0
    day_w: Annotated[float, Field(ge=0, le=100)]
    night_w: Annotated[float, Field(ge=0, le=100)] | None = None
    cold_w: Annotated[float, Field(ge=0, le=100)] | None = None
    moving_w: Annotated[float, Field(ge=0, le=100)] | None = None
    max_resolution: Resolution
    codecs: tuple[Literal["H264", "H265", "JPEG"], ...] = ("H264",)
    port_rate_mbps: Annotated[int, Field(gt=0)] = 100

    def power_w(self, mode: Mode) -> float:
        """Draw in `mode`; a mode the data sheet does not name is the day's draw."""
        named = {Mode.NIGHT: self.night_w, Mode.COLD: self.cold_w, Mode.MOVING: self.moving_w}.get(mode)
        return self.day_w if named is None else named


class SwitchType(Part):
    """`poe_type` is the IEEE 802.3 type (1 to 4) of its PoE ports, which are ports 1 to `poe_ports`.

    `poe_budget_one_supply_w` is what is left of the budget when one of two supplies fails; `self_w` what the switch
    itself draws.
    """

    name: Text
    maker: Text
    model: Text
    ports: Annotated[int, Field(ge=1, le=512)]
    poe_ports: Annotated[int, Field(ge=0, le=512)] = 0
    poe_type: Annotated[int, Field(ge=1, le=4)] = 2
    poe_budget_w: Annotated[float, Field(ge=0)] = 0
    poe_budget_one_supply_w: Annotated[float, Field(ge=0)] | None = None
    poe_budgeting: Literal["draw", "class"] = "draw"
    self_w: Annotated[float, Field(ge=0)] = 0
    port_rate_mbps: Annotated[int, Field(gt=0)] = 1000


class RecorderType(Part):
    name: Text
    maker: Text
    model: Text
    channels: Annotated[int, Field(ge=1, le=1024)]
    ingest_mbps: Annotated[float, Field(gt=0)]
    port_rate_mbps: Annotated[int, Field(gt=0)] = 1000
    power_w: Annotated[float, Field(ge=0)] = 0


class Camera(Part):
    """One row of the camera schedule. `row` is its line in cameras.csv, for messages."""

    name: PlaceName
    shows: str = ""
    mount: str = ""
    type: Text
    group: PlaceName
    zone: PlaceName
    switch: PlaceName
    port: Annotated[int, Field(ge=1, le=512)]
    run_length_m: Annotated[float, Field(ge=0, le=2000)]
    address: Annotated[Address | None, BeforeValidator(_optional)] = None
    mac: Annotated[Mac | None, BeforeValidator(_optional)] = None
    recorder: PlaceName
    channel: Annotated[int, Field(ge=1, le=1024)]
    supply: Literal["poe", "injector", "mains", ""] = ""
    priority: Priority = Priority.LOW
    conductor_awg: Annotated[int | None, BeforeValidator(_optional), AfterValidator(_known_awg)] = None
    row: int = 0

    @property
    def source(self) -> str:
        return f"cameras.csv line {self.row}"


_Named = TypeVar("_Named", Group, CameraType, SwitchType, RecorderType, Recorder, Camera)


class Plan(Part):
    """The whole plan of one site, cross-checked."""

    site: Site
    policy: Policy = Policy()
    zones: tuple[Zone, ...] = ()
    groups: tuple[Group, ...] = ()
    switches: tuple[Switch, ...] = ()
    links: tuple[Link, ...] = ()
    recorders: tuple[Recorder, ...] = ()
    batteries: tuple[Battery, ...] = ()
    camera_types: tuple[CameraType, ...] = ()
    switch_types: tuple[SwitchType, ...] = ()
    recorder_types: tuple[RecorderType, ...] = ()
    cameras: tuple[Camera, ...] = ()

    def group(self, camera: Camera) -> Group:
        return _named(self.groups, camera.group)

    def camera_type(self, camera: Camera) -> CameraType:
        return _named(self.camera_types, camera.type)

    def supply(self, camera: Camera) -> str:
        """How the camera is fed: its row decides, else its type."""
        return camera.supply or self.camera_type(camera).supply

    def switch_type(self, switch: Switch) -> SwitchType:
        return _named(self.switch_types, switch.type)

    def recorder_type(self, recorder: Recorder) -> RecorderType:
        return _named(self.recorder_types, recorder.type)

    def recorder(self, name: str) -> Recorder:
        return _named(self.recorders, name)

    def camera(self, name: str) -> Camera:
        return _named(self.cameras, name)

    def cameras_on(self, switch: Switch) -> list[Camera]:
        return [c for c in self.cameras if c.switch == switch.name]

    def streams(self, camera: Camera) -> Mapping[str, StreamPlan]:
        """The camera's planned streams by name: `main`, and `sub` where its group has one."""
        group = self.group(camera)
        return {"main": group.main} if group.sub is None else {"main": group.main, "sub": group.sub}


def _named(parts: tuple[_Named, ...], name: str) -> _Named:
    for part in parts:
        if part.name == name:
            return part
    raise KeyError(name)
