"""The plan as typed objects: what *should* be there.

Field names carry their units. Every object is frozen: a job never edits the plan by accident. Cross-references
(a camera's switch, a link's ends) are names here; `reading.py` checks that they exist.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from enum import Enum
from typing import Annotated, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from zentrale.site.values import (
    Address,
    AddressRange,
    Mac,
    PlaceName,
    Resolution,
    Subnet,
    Text,
    empty_is_none,
    known_awg,
    timetable_entry,
)


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


class RecordingPlan(Part):
    """What is recorded, and for how long it is kept.

    motion_share:    share of the time in which something moves (mode motion)
    events_per_hour: how often it begins; each adds the seconds before and after
    timetable:       when it records (mode timetable), as "Mon-Fri 07:00-19:00"
    keep_days:       wanted; max_days the longest that law allows
    """

    mode: Literal["continuous", "motion", "timetable"] = "continuous"
    motion_share: Annotated[float, Field(ge=0, le=1)] = 0.3
    events_per_hour: Annotated[float, Field(ge=0)] = 0
    before_s: Annotated[float, Field(ge=0, le=600)] = 0
    after_s: Annotated[float, Field(ge=0, le=600)] = 0
    timetable: tuple[Annotated[str, AfterValidator(timetable_entry)], ...] = ()
    sub: bool = False
    keep_days: Annotated[float, Field(gt=0, le=3650)] = 14
    max_days: Annotated[float, Field(gt=0, le=3650)] | None = None


class Group(Part):
    """Cameras set up alike."""

    name: PlaceName
    main: StreamPlan
    sub: StreamPlan | None = None
    recording: RecordingPlan = RecordingPlan()


class Zone(Part):
    """A VLAN with its subnet.

    `fixed` is the block for cameras and recorders, `pool` the one a DHCP server gives away; what is not said follows
    from the subnet (planning/addresses.py). A zone without a way out has no `gateway`.
    """

    name: PlaceName
    vlan: Annotated[int, Field(ge=1, le=4094)]
    subnet: Subnet
    gateway: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
    fixed: AddressRange | None = None
    pool: AddressRange | None = None

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


class Storage(Part):
    """A recorder's drives. `drive_tb` is decimal, as drives are sold; `redundancy` a RAID level, or none."""

    drives: Annotated[int, Field(ge=1, le=256)]
    drive_tb: Annotated[float, Field(gt=0, le=100)]
    redundancy: Literal["none", "0", "1", "5", "6", "10"] = "none"
    hot_spares: Annotated[int, Field(ge=0, le=16)] = 0
    overhead_percent: Annotated[float, Field(ge=0, le=50)] = 7


class Recorder(Part):
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
    vlan_in_address: bool = False
    resilient_groups: tuple[PlaceName, ...] = ()
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
    default_address: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
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


class ChannelLimit(Part):
    """At most `channels` cameras of `resolution` or more pixels."""

    resolution: Resolution
    channels: Annotated[int, Field(ge=0)]


class RecorderType(Part):
    """`licences_included` None means that every channel is licensed; `bays` 0 that the data sheet does not say."""

    name: Text
    maker: Text
    model: Text
    channels: Annotated[int, Field(ge=1, le=1024)]
    ingest_mbps: Annotated[float, Field(gt=0)]
    port_rate_mbps: Annotated[int, Field(gt=0)] = 1000
    power_w: Annotated[float, Field(ge=0)] = 0
    bays: Annotated[int, Field(ge=0, le=256)] = 0
    licences_included: Annotated[int, Field(ge=0)] | None = None
    channel_limits: tuple[ChannelLimit, ...] = ()


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
    address: Annotated[Address | None, BeforeValidator(empty_is_none)] = None
    mac: Annotated[Mac | None, BeforeValidator(empty_is_none)] = None
    recorder: PlaceName
    channel: Annotated[int, Field(ge=1, le=1024)]
    supply: Literal["poe", "injector", "mains", ""] = ""
    priority: Priority = Priority.LOW
    conductor_awg: Annotated[int | None, BeforeValidator(empty_is_none), AfterValidator(known_awg)] = None
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
