"""The plan as typed objects: what *should* be there.

Field names carry their units. Every object is frozen: a job never edits the plan by accident. Cross-references
(a camera's switch, a link's ends) are names here; `reading.py` checks that they exist.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field

from zentrale.site.cameras import Camera, Wanted
from zentrale.site.device_types import CameraType, ChannelLimit, RecorderType, SwitchType
from zentrale.site.lenses import device_rows
from zentrale.site.network import (
    EVERYWHERE,
    INTERNET,
    AccessPoint,
    Leg,
    Link,
    PortPlan,
    Reach,
    Rule,
    Switch,
    Viewer,
    Zone,
)
from zentrale.site.part import Mode, Part, Priority
from zentrale.site.policy import SWEEP_PORTS, Policy
from zentrale.site.recorders import Recorder, Storage
from zentrale.site.settings import AccountPlan, InputPlan, MaskPlan, MotionArea
from zentrale.site.streams import ESTIMATE_SOURCE, STREAMS, Group, NamedRecording, RecordingPlan, StreamPlan
from zentrale.site.values import (
    Address,
    PlaceName,
    Text,
    host_or_dhcp,
)
from zentrale.site.walls.parts import ViewerType, Wall, WallPanel

__all__ = [
    "ESTIMATE_SOURCE",
    "EVERYWHERE",
    "INTERNET",
    "SWEEP_PORTS",
    "AccessPoint",
    "AccountPlan",
    "Battery",
    "Cabinet",
    "Camera",
    "CameraType",
    "ChannelLimit",
    "Group",
    "InputPlan",
    "Leg",
    "Link",
    "MaskPlan",
    "Mode",
    "MotionArea",
    "NamedRecording",
    "Part",
    "Placement",
    "Plan",
    "Policy",
    "PortPlan",
    "Priority",
    "Reach",
    "Recorder",
    "RecorderType",
    "RecordingPlan",
    "Rule",
    "Run",
    "Site",
    "Storage",
    "StreamPlan",
    "Switch",
    "SwitchType",
    "Viewer",
    "ViewerType",
    "Wall",
    "WallPanel",
    "Wanted",
    "Zone",
]  # fmt: skip


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


class Site(Part):
    """`time_server` is what devices are to take their time from: an address, a name, or "dhcp"; empty: it is left as it is.

    `origin` is longitude and latitude [degrees, WGS 84] of the point from which x_m (east) and y_m (north) count; `mains_hz` the
    frequency that lamps flicker with, `name_servers` whom devices ask for names.
    """

    name: Text
    timezone: Text
    customer: str = ""
    time_server: Annotated[str, AfterValidator(host_or_dhcp)] = ""
    origin: tuple[float, float] | None = None
    mains_hz: Literal[50, 60] | None = None
    name_servers: tuple[Address, ...] = ()
    currency: str = "EUR"


class Cabinet(Part):
    """A place where switches may stand; `fibre_m` is the way of its fibre to the core, `max_switches` what fits in.

    It has a position, or runs of cameras to it in runs.csv, or both.
    """

    name: Text
    x_m: float | None = None
    y_m: float | None = None
    fibre_m: Annotated[float, Field(ge=0, le=100_000)] = 0
    price: Annotated[float, Field(ge=0)] = 0
    max_switches: Annotated[int, Field(ge=1, le=64)] = 4


class Run(Part):
    """Fixed cable from a camera to a possible cabinet, as measured. `row` is its line in runs.csv, for messages."""

    camera: PlaceName
    cabinet: Text
    run_length_m: Annotated[float, Field(ge=0, le=2000)]
    row: int = 0


class Placement(Part):
    """Prices and limits for choosing cabinets and switches. `route_factor` is how much longer a cable's way is than
    the straight line; it is not used where the schedule gives the run.
    """

    cable_price_per_m: Annotated[float, Field(ge=0)] = 1.0
    fibre_price_per_m: Annotated[float, Field(ge=0)] = 3.0
    route_factor: Annotated[float, Field(ge=1, le=5)] = 1.3
    spare_percent: Annotated[float, Field(ge=0, lt=100)] = 0
    switch_types: tuple[Text, ...] = ()


class Plan(Part):
    """The whole plan of one site, cross-checked. `next_channels`: cameras whose row has `next` in place of a channel's number."""

    site: Site
    policy: Policy = Policy()
    zones: tuple[Zone, ...] = ()
    groups: tuple[Group, ...] = ()
    recordings: tuple[NamedRecording, ...] = ()
    switches: tuple[Switch, ...] = ()
    links: tuple[Link, ...] = ()
    recorders: tuple[Recorder, ...] = ()
    batteries: tuple[Battery, ...] = ()
    access_points: tuple[AccessPoint, ...] = ()
    viewers: tuple[Viewer, ...] = ()
    walls: tuple[Wall, ...] = ()
    ports: tuple[PortPlan, ...] = ()
    rules: tuple[Rule, ...] = ()
    reach: tuple[Reach, ...] = ()
    cabinets: tuple[Cabinet, ...] = ()
    runs: tuple[Run, ...] = ()
    placement: Placement = Placement()
    accounts: tuple[AccountPlan, ...] = ()
    masks: tuple[MaskPlan, ...] = ()
    motion_areas: tuple[MotionArea, ...] = ()
    inputs: tuple[InputPlan, ...] = ()
    camera_types: tuple[CameraType, ...] = ()
    switch_types: tuple[SwitchType, ...] = ()
    recorder_types: tuple[RecorderType, ...] = ()
    viewer_types: tuple[ViewerType, ...] = ()
    cameras: tuple[Camera, ...] = ()
    next_channels: tuple[str, ...] = ()

    @cached_property
    def kept(self) -> dict[object, Any]:
        """What was worked out of this plan, by what worked it out (planning/once.py)."""
        return {}

    def group(self, camera: Camera) -> Group:
        return self._groups[camera.group]

    def recording(self, camera: Camera) -> RecordingPlan:
        """What is recorded of it: by the rules that its row names, else by those of its group."""
        return self._recordings[camera.recording] if camera.recording else self.group(camera).recording

    def camera_type(self, camera: Camera) -> CameraType:
        return self._camera_types[camera.type]

    def supply(self, camera: Camera) -> str:
        """How the camera is fed: its row decides, else its type. No PoE comes through the air."""
        if camera.wireless and camera.supply != "injector":
            return "mains"
        return camera.supply or self.camera_type(camera).supply

    def category(self, camera: Camera) -> str:
        """Of its cable: its row says it, else the policy; empty where neither does."""
        return camera.cable_category or self.policy.cable_category

    def switch_type(self, switch: Switch) -> SwitchType:
        return self._switch_types[switch.type]

    def recorder_type(self, recorder: Recorder) -> RecorderType:
        return self._recorder_types[recorder.type]

    def maker(self, planned: Camera | Recorder) -> str:
        """Who made it, by its data sheet."""
        return self.kind(planned).maker

    def password_length(self, planned: Camera | Recorder) -> int:
        """Of a password that is made for it [characters]."""
        return self.kind(planned).password_length or self.policy.password_length

    def recorder_role(self, camera: Camera) -> str:
        """What the account may do that recorders watch it with."""
        return self.camera_type(camera).recorder_role or self.policy.recorder_role

    def kind(self, planned: Camera | Recorder) -> CameraType | RecorderType:
        return self.camera_type(planned) if isinstance(planned, Camera) else self.recorder_type(planned)

    def walls_of(self, viewer: Viewer) -> list[Wall]:
        """The walls that its machine feeds."""
        return [wall for wall in self.walls if wall.viewer == viewer.name]

    def viewer_type(self, viewer: str) -> ViewerType | None:
        """What a viewer's machine bears; None where nobody said what it is."""
        kind = next((v.type for v in self.viewers if v.name == viewer), "")
        return next((t for t in self.viewer_types if t.name == kind), None) if kind else None

    def recorder(self, name: str) -> Recorder:
        return self._recorders[name]

    def camera(self, name: str) -> Camera:
        return self._cameras[name]

    def device_of(self, camera: Camera) -> Camera:
        """The row that stands for the camera's device: its own, but for the further lenses of a device."""
        return self._cameras[self._device_rows[camera.name]]

    def lenses(self, camera: Camera) -> list[Camera]:
        """All rows of the camera's device, the one that stands for it first."""
        first = self._device_rows[camera.name]
        some = [c for c in self.cameras if self._device_rows[c.name] == first]
        return sorted(some, key=lambda c: c.name != first)

    @cached_property
    def camera_devices(self) -> tuple[Camera, ...]:
        """The cameras as devices: what is counted once for all lenses of one."""
        return tuple(c for c in self.cameras if self._device_rows[c.name] == c.name)

    @cached_property
    def networked(self) -> tuple[Camera, ...]:
        """The cameras in networks of the plan: all but those at a recorder's own ports, which that alone reaches."""
        return tuple(c for c in self.cameras if not c.behind)

    @cached_property
    def networked_devices(self) -> tuple[Camera, ...]:
        """As `networked`, once for all lenses of a device."""
        return tuple(c for c in self.camera_devices if not c.behind)

    @cached_property
    def _device_rows(self) -> dict[str, str]:
        return device_rows(self.cameras)

    def called(self, name: str) -> str:
        """A device's name for people: the title that the customer gave it, where there is one."""
        camera = self._cameras.get(name)
        return name if camera is None else camera.called

    def zone(self, name: str) -> Zone:
        return self._zones[name]

    def switch(self, name: str) -> Switch:
        return self._switches[name]

    def run_m(self, camera: Camera, cabinet: Cabinet) -> float | None:
        """Fixed cable between them as measured [m]: in runs.csv, or in the schedule where its switch stands there."""
        measured = self._runs.get((camera.name, cabinet.name))
        here = camera.switch and self.switch(camera.switch).cabinet == cabinet.name and not camera.wireless
        return camera.run_length_m or None if measured is None and here else measured

    def length_m(self, camera: Camera) -> float:
        """Its run [m]; where nobody knows it, the longest that the site allows is counted."""
        return self.policy.max_run_m if camera.run_length_m is None else camera.run_length_m

    @cached_property
    def at_ports(self) -> Plan:
        """The plan as power and traffic count it: every camera at a port. One whose port is open stands at a free port of its
        switch, one with PoE where there is one; one whose switch is open is left out.
        """
        if all(c.port and (c.switch or c.behind) for c in self.cameras):
            return self
        taken = {(c.switch, c.port) for c in self.networked} | {end for link in self.links for end in link.ends()}
        taken |= {(leg.switch, leg.port) for r in self.recorders for leg in r.legs()}
        taken |= {(v.switch, v.port) for v in self.viewers} | {(a.switch, a.port) for a in self.access_points}
        taken |= {p.place() for p in self.ports}
        stands: dict[str, int] = {}
        for camera in self.camera_devices:
            if camera.switch and not camera.port:
                # Where all are taken, beyond the last: that the switch has too few is a finding of its own.
                port = next(n for n in range(1, 10_000) if (camera.switch, n) not in taken)
                taken.add((camera.switch, port))
                stands[camera.name] = port
        rows = device_rows(self.cameras)
        cameras = tuple(
            c if c.port else c.model_copy(update={"port": stands[rows[c.name]]})
            for c in self.cameras
            if c.switch or c.behind
        )
        own = {name: getattr(self, name) for name in type(self).model_fields}
        return Plan.model_construct(**{**own, "cameras": cameras})

    def streams(self, camera: Camera) -> Mapping[str, StreamPlan]:
        """The camera's planned streams by name: `main`, and `sub` and `third` where its group has them."""
        return self._streams[camera.group]

    @cached_property
    def _runs(self) -> dict[tuple[str, str], float]:
        return {(r.camera, r.cabinet): r.run_length_m for r in self.runs}

    @cached_property
    def _groups(self) -> dict[str, Group]:
        return {g.name: g for g in self.groups}

    @cached_property
    def _recordings(self) -> dict[str, NamedRecording]:
        return {r.name: r for r in self.recordings}

    @cached_property
    def _streams(self) -> dict[str, Mapping[str, StreamPlan]]:
        return {
            g.name: {name: s for name, s in zip(STREAMS, (g.main, g.sub, g.third), strict=True) if s is not None}
            for g in self.groups
        }

    @cached_property
    def _camera_types(self) -> dict[str, CameraType]:
        return {t.name: t for t in self.camera_types}

    @cached_property
    def _switch_types(self) -> dict[str, SwitchType]:
        return {t.name: t for t in self.switch_types}

    @cached_property
    def _recorder_types(self) -> dict[str, RecorderType]:
        return {t.name: t for t in self.recorder_types}

    @cached_property
    def _cameras(self) -> dict[str, Camera]:
        return {c.name: c for c in self.cameras}

    @cached_property
    def _recorders(self) -> dict[str, Recorder]:
        return {r.name: r for r in self.recorders}

    @cached_property
    def _zones(self) -> dict[str, Zone]:
        return {z.name: z for z in self.zones}

    @cached_property
    def _switches(self) -> dict[str, Switch]:
        return {s.name: s for s in self.switches}
