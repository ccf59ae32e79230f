"""Which found device is which planned one, by what can be trusted most: MAC address of any interface, its last digits, serial
number, binding by hand, what it was registered as, endpoint, planned address, switch port, the name that it tells itself. Never
by guess.

A device keeps its place in the plan by its own identity: wherever its address moves, and whatever its row is called.

How it works. `left` are the devices without a row, `by_name` the rows that have a device. Rules are tried in the order of
how much they prove, each over all that is left: a pair that a rule finds is taken away from what comes after, so that a
weak rule never overrules a strong one. The order:

1. `by_mac`: the MAC address of any interface stands in the row. The only rule that may give a second device to a row
   (`doubles`): two answers with one MAC address are told, not chosen between.
2. `by_label_on_the_box`: the last digits, or the serial number, of the label; only where one device alone has them.
3. `by_binding`: a person said so; by MAC address where the device tells one, else by address.
4. `by_registration`: the identity under which the row was registered, wherever the device is now.
5. `by_address`: it answers where the row says, and nothing that it tells contradicts that.
6. `by_port`: its MAC address is the only one that the row's switch heard at the row's port.
7. `by_place`: a row that was renamed: recorder and channel say which it was.
8. `by_own_name`: it calls itself so, and is the only one to do so.

What always holds. A device has at most one row and a row at most one device, but for `doubles`. A row that names a MAC
address never gets a device that tells another one, by no rule after the first: `not (row.mac and device.identity.macs)`.
What several devices fit equally well is given to none of them by rules 2 and 8; by the others whoever was found first has
it, and where a MAC address is the reason that is told.

Why in rules and not by points: a wrong match sets a password on the wrong camera. A sum of hints would now and then be
larger for the wrong one; a rule either proves something or leaves the device open, and a person binds it with `zentrale
assign`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Generic, Protocol, TypeVar

from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.planned import Planned, place_of, planned_devices, reachable, whole_devices
from zentrale.jobs.recorders.recorder_registry import driver_of
from zentrale.jobs.switches.kept import alone_at_their_ports
from zentrale.logbook.store import KnownDevice, Logbook
from zentrale.site.identity import Identity
from zentrale.site.model import Plan, Recorder


class Device(Protocol):
    """What matching needs of a found device."""

    @property
    def address(self) -> str: ...
    @property
    def addresses(self) -> tuple[str, ...]: ...
    @property
    def port(self) -> int | None: ...
    @property
    def maker(self) -> str: ...
    @property
    def model(self) -> str: ...
    @property
    def identity(self) -> Identity: ...
    @property
    def state(self) -> str: ...
    @property
    def serial(self) -> str: ...
    @property
    def label(self) -> str: ...
    @property
    def note(self) -> str: ...
    @property
    def credentials_label(self) -> str: ...
    @property
    def clock_offset_s(self) -> float | None: ...
    @property
    def named_hosts(self) -> tuple[str, ...]: ...
    @property
    def report(self) -> str: ...
    @property
    def other(self) -> str: ...
    @property
    def announced_serial(self) -> str: ...


D = TypeVar("D", bound=Device)
_NOWHERE: Mapping[str, str] = {}


@dataclass(frozen=True)
class Known:
    """A binding made by hand."""

    name: str
    mac: str
    address: str


@dataclass(frozen=True)
class Matching(Generic[D]):
    """`by_name` holds planned devices that were found, `missing` those that were not, `extra` what nobody planned.

    renamed: former and present name of devices whose row in the plan got another name
    """

    devices: tuple[D, ...]
    by_name: dict[str, D] = field(default_factory=dict)
    missing: tuple[str, ...] = ()
    extra: tuple[D, ...] = ()
    doubles: tuple[tuple[str, D], ...] = ()
    renamed: tuple[tuple[str, str], ...] = ()

    def name_of(self, device: D) -> str:
        """Its name in the plan; empty where it has none."""
        return next((name for name, found in self.by_name.items() if found is device), "")

    def as_planned(self, plan: Plan) -> dict[str, D]:
        """Those found that speak what they are planned to speak: an ONVIF camera that shows only RTSP is not found."""
        planned = planned_devices(plan)
        return {n: d for n, d in self.by_name.items() if not lacks_onvif(plan, planned[n], d)}


def matched(plan: Plan | None, logbook: Logbook, devices: Sequence[D]) -> Matching[D]:
    """As `match_devices`, with the bindings and the registered devices of the logbook."""
    bindings = [Known(b.name, b.mac, b.address) for b in logbook.bindings()]
    ports = alone_at_their_ports(plan, logbook) if plan is not None else {}
    return match_devices(plan, bindings, devices, logbook.known(), ports)


def match_devices(
    plan: Plan | None,
    bindings: Sequence[Known],
    devices: Sequence[D],
    registered: Sequence[KnownDevice] = (),
    ports: Mapping[str, str] = _NOWHERE,
) -> Matching[D]:
    """A device that tells its MAC address is never matched to a row that names another one. `ports`: the MAC address that was
    heard alone at the port of each row, by its name.
    """
    if plan is None:
        return Matching(tuple(devices), extra=tuple(devices))
    match = _Match(reachable(whole_devices(plan)), devices)
    match.by_mac()
    match.by_label_on_the_box()
    match.by_binding(bindings)
    match.by_registration(registered)
    match.by_address()
    match.by_port(ports)
    match.by_place(registered)
    match.by_own_name()
    names = match.by_name
    renamed = [
        (k.name, name)
        for k in registered
        if k.name not in match.planned
        for name, device in names.items()
        if k.identity.same_device(device.identity)
    ]
    for camera in plan.networked:  # a further lens is where its device is
        if plan.device_of(camera).name in names:
            names.setdefault(camera.name, names[plan.device_of(camera).name])
    missing = tuple(n for n in reachable(planned_devices(plan)) if n not in names)
    return Matching(tuple(devices), names, missing, tuple(match.left), tuple(match.doubles), tuple(renamed))


class _Match(Generic[D]):
    """Rows and devices, as far as they have found each other."""

    def __init__(self, planned: dict[str, Planned], devices: Sequence[D]) -> None:
        self.planned = planned
        self.left = list(devices)
        self.by_name: dict[str, D] = {}
        self.doubles: list[tuple[str, D]] = []

    def take(self, name: str, device: D) -> None:
        self.left = [d for d in self.left if d is not device]
        if name in self.by_name:
            self.doubles.append((name, device))
        else:
            self.by_name[name] = device

    def by_binding(self, bindings: Sequence[Known]) -> None:
        for binding in bindings:
            if binding.name not in self.planned:
                continue
            for device in list(self.left):
                macs = device.identity.macs
                same = binding.mac in macs if binding.mac and macs else binding.address in device.addresses
                if same and binding.name not in self.by_name:
                    self.take(binding.name, device)

    def by_mac(self) -> None:
        by_mac = {p.mac: name for name, p in self.planned.items() if p.mac}
        for device in list(self.left):
            name = next((by_mac[m] for m in sorted(device.identity.macs) if m in by_mac), None)
            if name is not None:
                self.take(name, device)

    def by_label_on_the_box(self) -> None:
        """The last digits of its MAC address, and its serial number: each where one device alone has it."""
        for name, row in self.planned.items():
            if isinstance(row, Recorder) or row.mac or name in self.by_name:
                continue
            serial = row.serial.strip().lower()
            by_end = [d for d in self.left if row.mac_end and _ends(d.identity.macs, row.mac_end)]
            labelled = [(d, {d.serial.strip().lower(), d.announced_serial.strip().lower()}) for d in self.left]
            by_serial = [d for d, serials in labelled if serial and serial in serials]
            for fits in (by_end, by_serial):
                if len(fits) == 1:
                    self.take(name, fits[0])
                    break

    def by_own_name(self) -> None:
        """A device that calls itself by the name of a row, and is the only one to do so."""
        for name, row in self.planned.items():
            fits = [d for d in self.left if d.label and d.label == name]
            if name not in self.by_name and len(fits) == 1 and not (row.mac and fits[0].identity.macs):
                self.take(name, fits[0])

    def by_registration(self, registered: Sequence[KnownDevice]) -> None:
        """A registered device is known again wherever it is; where its row names another MAC address, that counts more."""
        for known in registered:
            row = self.planned.get(known.name)
            if row is None or known.name in self.by_name:
                continue
            for device in list(self.left):
                if known.identity.same_device(device.identity) and not (row.mac and device.identity.macs):
                    self.take(known.name, device)
                    break

    def by_address(self) -> None:
        for device in list(self.left):
            for name, row in self.planned.items():
                here = any(row.reached_at(host, device.port) for host in device.addresses)
                if here and name not in self.by_name and not (device.identity.macs and row.mac):
                    self.take(name, device)
                    break

    def by_port(self, ports: Mapping[str, str]) -> None:
        """Only where the row itself says nothing of its device: neither MAC address nor digits of its label."""
        for name, mac in ports.items():
            row = self.planned.get(name)
            if row is None or isinstance(row, Recorder) or name in self.by_name or row.mac or row.mac_end or row.serial:
                continue
            fits = [d for d in self.left if mac in d.identity.macs]
            if len(fits) == 1:
                self.take(name, fits[0])

    def by_place(self, registered: Sequence[KnownDevice]) -> None:
        """A row with neither address nor MAC address, whose name was changed: recorder and channel say which it was."""
        names = {k.name for k in registered}
        for known in registered:
            if known.name in self.planned:
                continue
            for device in list(self.left):
                row = next(
                    (n for n, p in self.planned.items()
                     if n not in self.by_name and n not in names and place_of(p) == known.place
                     and not (p.mac and device.identity.macs)), None,
                )  # fmt: skip
                if row is not None and known.identity.same_device(device.identity):
                    self.take(row, device)


def _ends(macs: Iterable[str], digits: str) -> bool:
    return any(mac.replace(":", "").endswith(digits) for mac in macs)


def candidates(plan: Plan, matching: Matching[D]) -> dict[str, list[D]]:
    """For each planned device that was not found: those nobody planned that may be it. They are of its make, as far as they
    tell one, and do not contradict what the plan says of it.
    """
    planned = whole_devices(plan)
    found = {name: may_be(plan, planned[name], matching.extra) for name in matching.missing if name in planned}
    return {name: devices for name, devices in found.items() if devices}


def may_be(plan: Plan, row: Planned, extra: Iterable[D]) -> list[D]:
    """Those of the devices that nobody planned that may be this planned one."""
    kind = plan.kind(row)
    return [
        d
        for d in extra
        if not (row.mac and d.identity.macs)
        and d.maker in ("", kind.maker)
        and d.model in ("", kind.model)
        and d.state not in (State.NO_ANSWER.value, State.WEB_ONLY.value)
    ]


def wants_onvif(plan: Plan, planned: Planned) -> bool:
    """Whether its type says that it speaks ONVIF."""
    if isinstance(planned, Recorder):
        return driver_of(plan, planned).speaks_onvif
    return plan.camera_type(planned).onvif


def lacks_onvif(plan: Plan, planned: Planned, device: Device) -> bool:
    return wants_onvif(plan, planned) and device.state == State.RTSP_ONLY.value
