"""Which found device is which planned one: by binding, by MAC address, by planned address, in that order."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Generic, Protocol, TypeVar

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.access import State
from zentrale.site.model import Camera, Plan, Recorder


class Device(Protocol):
    """What matching needs of a found device."""

    @property
    def address(self) -> str: ...
    @property
    def maker(self) -> str: ...
    @property
    def model(self) -> str: ...
    @property
    def mac(self) -> str: ...
    @property
    def state(self) -> str: ...
    @property
    def note(self) -> str: ...
    @property
    def credentials_label(self) -> str: ...
    @property
    def clock_offset_s(self) -> float | None: ...


D = TypeVar("D", bound=Device)


@dataclass(frozen=True)
class Known:
    """A binding made by hand."""

    name: str
    mac: str
    address: str


@dataclass(frozen=True)
class Matching(Generic[D]):
    """`by_name` holds planned devices that were found, `missing` those that were not, `extra` what nobody planned."""

    devices: tuple[D, ...]
    by_name: dict[str, D] = field(default_factory=dict)
    missing: tuple[str, ...] = ()
    extra: tuple[D, ...] = ()
    doubles: tuple[tuple[str, D], ...] = ()

    @property
    def name_of(self) -> dict[str, str]:
        """Planned name by address."""
        return {device.address: name for name, device in self.by_name.items()}

    def findings(self, plan: Plan, swept: Sequence[str]) -> Iterable[Finding]:
        planned = planned_devices(plan)
        for name in self.missing:
            address = planned[name].address or "no planned address"
            where = f"probe, and sweep of {', '.join(swept)}" if swept else "probe"
            limit = f"an answer, planned at {address}"
            yield finding("DIS-1", _subject(planned[name]), f"no answer ({where})", limit, _source(planned[name]))
        for name, device in self.by_name.items():
            yield from _device_findings(plan, planned[name], device)
        for name, device in self.doubles:
            measured = f"{device.address} claims it too ({device.mac or 'no MAC address told'})"
            yield finding("DIS-5", _subject(planned[name]), measured, "one device", _source(planned[name]))
        for device in self.extra:
            who = " ".join(p for p in (device.maker, device.model, device.mac) if p) or device.state
            yield finding("DIS-2", f"device at {device.address}", who, "a row in the plan", "cameras.csv")


Planned = Camera | Recorder


def planned_devices(plan: Plan) -> dict[str, Planned]:
    devices: tuple[Planned, ...] = (*plan.cameras, *plan.recorders)
    return {device.name: device for device in devices}


def _subject(planned: Planned) -> str:
    return f"{'camera' if isinstance(planned, Camera) else 'recorder'} {planned.name}"


def _source(planned: Planned) -> str:
    return planned.source if isinstance(planned, Camera) else f"site.toml recorder {planned.name}"


def match_devices(plan: Plan | None, known: Sequence[Known], devices: Sequence[D]) -> Matching[D]:
    """A device that tells its MAC address is never matched to a row that names another one."""
    if plan is None:
        return Matching(tuple(devices), extra=tuple(devices))
    planned = planned_devices(plan)
    by_name: dict[str, D] = {}
    doubles: list[tuple[str, D]] = []
    left = list(devices)

    def take(name: str, device: D) -> None:
        left.remove(device)
        if name in by_name:
            doubles.append((name, device))
        else:
            by_name[name] = device

    for binding in known:
        if binding.name not in planned:
            continue
        for device in list(left):
            same = device.mac == binding.mac if binding.mac and device.mac else device.address == binding.address
            if same and binding.name not in by_name:
                take(binding.name, device)
    by_mac = {p.mac: name for name, p in planned.items() if p.mac}
    for device in list(left):
        if device.mac and device.mac in by_mac:
            take(by_mac[device.mac], device)
    for device in list(left):
        for name, p in planned.items():
            if p.address == device.address and name not in by_name and not (device.mac and p.mac):
                take(name, device)
                break
    missing = tuple(name for name in planned if name not in by_name)
    return Matching(tuple(devices), by_name, missing, tuple(left), tuple(doubles))


def _device_findings(plan: Plan, planned: Planned, device: Device) -> Iterable[Finding]:
    subject, source = _subject(planned), _source(planned)
    if planned.address and device.address != planned.address:
        yield finding("DIS-3", subject, device.address, planned.address, source)
    kind = plan.camera_type(planned) if isinstance(planned, Camera) else plan.recorder_type(planned)
    told = f"{device.maker} {device.model}".strip()
    if device.maker and device.model and (device.maker, device.model) != (kind.maker, kind.model):
        yield finding("DIS-4", subject, told, f"{kind.maker} {kind.model}", f"types.toml {kind.name}")
    if device.state == State.DEFAULT_PASSWORD.value:
        yield finding(
            "SEC-1", subject, f"{device.credentials_label} opens it", "a password of its own", "good practice"
        )
    if device.state == State.UNKNOWN_PASSWORD.value:
        yield finding("SEC-3", subject, device.note or "refused", "a password in the vault opens it", "vault")
    if device.state == State.OPEN.value:
        yield finding("SEC-4", subject, "GetUsers answered without credentials", "refused", "ONVIF Core, access policy")
    if device.state == State.NO_ANSWER.value:
        yield finding("DIS-6", subject, device.note or "open ports, but no ONVIF", "ONVIF or RTSP answers", source)
    tolerance = plan.policy.clock_tolerance_s
    if (
        device.clock_offset_s is not None
        and abs(device.clock_offset_s) > tolerance
        and device.state != State.FRESH.value
    ):
        measured = (
            f"{quantities.seconds(abs(device.clock_offset_s))} {'ahead' if device.clock_offset_s > 0 else 'behind'}"
        )
        yield finding("CLK-1", subject, measured, f"within {tolerance:g} s", "site.toml [policy] clock_tolerance_s")
