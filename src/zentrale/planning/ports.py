"""The port table of each switch: generated where the plan is silent, checked where it speaks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.attached import attached
from zentrale.planning.contradictions import of_ports
from zentrale.planning.power import PowerPlan
from zentrale.planning.zone_links import zone_links
from zentrale.site.model import Camera, Plan, PortPlan, Priority, Switch, SwitchType


@dataclass(frozen=True)
class PortRow:
    """One port as it is to be set.

    kind:           camera, recorder, viewer, access point, device, link, or free
    device:         what is plugged in; for a link the other end
    run_length_m:   fixed cable of a camera, else None
    mode:           access, trunk, or off
    access:         zone of an access port; tagged: zones of a trunk; native: that of what has no tag on it
    role:           of its VLAN within a private VLAN (RFC 5517): isolated, community or promiscuous
    rate_mbps:      what both ends can do; `fixed_rate`: the plan fixes it, and the port is to be set to that
    poe:            on wherever something may need it
    poe_w:          drawn in the worst mode, cable loss included; None where PoE is off, or nobody knows
    energy_saving:  Energy-Efficient Ethernet (IEEE 802.3az)
    authentication: none, 802.1X or mac-bypass
    """

    switch: str
    port: int
    kind: str
    device: str
    label: str
    run_length_m: float | None
    mode: str
    access: str
    tagged: tuple[str, ...]
    role: str
    rate_mbps: int
    poe: bool
    poe_w: float | None
    priority: str
    energy_saving: bool
    authentication: str
    given: bool
    fixed_rate: bool = False
    native: str = ""

    @property
    def zones(self) -> tuple[str, ...]:
        if self.mode == "trunk":
            return (*self.tagged, *([self.native] if self.native else []))
        return (self.access,) if self.access else ()


@dataclass(frozen=True)
class PortTables:
    rows: tuple[PortRow, ...]
    findings: tuple[Finding, ...]

    def of(self, switch: str) -> list[PortRow]:
        return self._by_switch.get(switch, [])

    def at(self, switch: str, port: int) -> PortRow:
        """Raises KeyError."""
        return self._by_place[switch, port]

    @cached_property
    def _by_switch(self) -> dict[str, list[PortRow]]:
        found: dict[str, list[PortRow]] = {}
        for row in self.rows:
            found.setdefault(row.switch, []).append(row)
        return found

    @cached_property
    def _by_place(self) -> dict[tuple[str, int], PortRow]:
        return {(row.switch, row.port): row for row in self.rows}


def plan_ports(plan: Plan, power: PowerPlan) -> PortTables:
    """The table of every switch, by port number. `power` is the PoE draw of each port."""
    needed = _needed(plan, power)
    said_of = {port.place(): port for port in plan.ports}
    rows: list[PortRow] = []
    findings: list[Finding] = []
    for switch in plan.switches:
        kind = plan.switch_type(switch)
        for port in range(1, kind.ports + 1):
            place = (switch.name, port)
            want = needed.get(place) or _free(switch.name, port, kind)
            said = said_of.get(place)
            if said is not None:
                findings += _judge(plan, want, said, kind)
                rows.append(_as_said(plan, want, said))
            elif switch.ports == "listed":
                if want.kind not in ("free", "link"):
                    findings.append(_left_out(switch, want))
                elif want.kind == "link":
                    findings.append(_missing_zones(plan, want, ()))
                rows.append(_free(switch.name, port, kind))
            else:
                rows.append(want)
    return PortTables(tuple(rows), (*findings, *of_ports(plan)))


def _needed(plan: Plan, power: PowerPlan) -> dict[tuple[str, int], PortRow]:
    """What each used port must be, from the devices and links of the plan."""
    rows: dict[tuple[str, int], PortRow] = {}
    types = {s.name: plan.switch_type(s) for s in plan.switches}
    drawn = {(s.name, p.port): max(p.draw_w.values()) if p.known else None for s in power.switches for p in s.ports
             if p.kind != "camera" or plan.camera(p.device).port}  # fmt: skip

    def put(switch: str, port: int, kind: str, device: str, zones: tuple[str, ...], **more: object) -> None:
        kind_of = types[switch]
        trunk = kind == "link" or len(zones) > 1
        settings: dict[str, object] = {
            "kind": kind, "device": device, "label": device, "mode": "trunk" if trunk else "access" if zones else "off",
            "access": "" if trunk or not zones else zones[0], "tagged": zones if trunk else (),
            "role": "" if trunk or not zones else _role(plan, zones),
        }  # fmt: skip
        if (switch, port) in drawn:
            more = more | {
                "poe": True,
                "poe_w": drawn[switch, port],
                "priority": more.get("priority") or Priority.LOW.value,
            }
        rows[switch, port] = _row(switch, port, kind_of, settings | more)

    for camera in plan.networked_devices:
        if camera.port and not camera.wireless:
            put(camera.switch, camera.port, "camera", camera.name, (camera.zone,),
                **_camera_settings(plan, camera, types[camera.switch]))  # fmt: skip
    for recorder in plan.recorders:
        rate = plan.recorder_type(recorder).port_rate_mbps
        for leg in recorder.legs():
            speed = min(rate, types[leg.switch].rate_mbps(leg.port))
            put(leg.switch, leg.port, "recorder", recorder.name, (leg.zone,), rate_mbps=speed)
    for viewer in plan.viewers:
        put(viewer.switch, viewer.port, "viewer", viewer.name, (viewer.zone,))
    for thing in attached(plan):
        if thing.place not in rows:
            put(thing.switch, thing.port, thing.kind, thing.name, thing.zones)
    carried = zone_links(plan)
    for index, link in enumerate(plan.links):
        zones = tuple(zone.name for zone in plan.zones if index in carried[zone.name]) if link.lit else ()
        ends = link.ends()
        for (switch, port), (other, other_port) in (ends, ends[::-1]):
            rate = min(link.rate_mbps, types[switch].rate_mbps(port), types[other].rate_mbps(other_port))
            label = f"to {other}:{other_port}"
            put(switch, port, "link", f"{other}:{other_port}", zones, label=label, rate_mbps=rate)
            if not link.lit:
                rows[switch, port] = replace(rows[switch, port], mode="off", label=f"{label}, dark")
    return rows


def _camera_settings(plan: Plan, camera: Camera, kind: SwitchType) -> dict[str, object]:
    fed = plan.supply(camera) == "poe"
    asked = plan.policy.authentication
    return {
        "run_length_m": camera.run_length_m,
        "rate_mbps": min(kind.rate_mbps(camera.port), plan.camera_type(camera).port_rate_mbps),
        "priority": camera.priority.value if fed else "",
        # Without a MAC address in the plan there is nothing to let in by.
        "authentication": asked if asked != "mac-bypass" or camera.mac else "none",
    }


def _free(switch: str, port: int, kind: SwitchType) -> PortRow:
    return _row(switch, port, kind, {})


def _row(switch: str, port: int, kind: SwitchType, settings: Mapping[str, object]) -> PortRow:
    """A free port, but for these settings."""
    free: dict[str, Any] = {
        "kind": "free", "device": "", "label": "", "run_length_m": None, "mode": "off", "access": "", "tagged": (), "role": "",
        "rate_mbps": kind.rate_mbps(port), "poe": False, "poe_w": None, "priority": "", "energy_saving": False,
        "authentication": "none", "given": False,
    }  # fmt: skip
    return PortRow(switch, port, **{**free, **settings})


def _role(plan: Plan, zones: tuple[str, ...]) -> str:
    """Of an access port in a private VLAN: the secondary's kind, or promiscuous in the primary."""
    zone = plan.zone(zones[0])
    if zone.primary is not None:
        return zone.private
    return "promiscuous" if any(z.primary == zone.name for z in plan.zones) else ""


def _as_said(plan: Plan, want: PortRow, said: PortPlan) -> PortRow:
    """The row with what the plan says in the place of what was generated."""
    row = replace(want, given=True, label=said.label or want.label, device=said.device or want.device)
    if said.tagged or (said.native and row.mode == "trunk"):
        tagged = tuple(zone for zone in said.tagged or row.tagged if zone != said.native)
        row = replace(row, mode="trunk", tagged=tagged, access="", role="", native=said.native or "")
    elif said.access is not None:
        row = replace(row, mode="access", access=said.access, tagged=(), role=_role(plan, (said.access,)))
    if said.poe is False:
        row = replace(row, poe=False, poe_w=None)
    return replace(
        row, rate_mbps=said.rate_mbps or row.rate_mbps, fixed_rate=said.rate_mbps is not None, energy_saving=said.energy_saving,
        authentication=said.authentication or row.authentication,
    )  # fmt: skip


def _subject(row: PortRow) -> str:
    return f"port {row.switch}:{row.port}" + (f" ({row.device})" if row.device else "")


def _vlans(plan: Plan, zones: tuple[str, ...]) -> str:
    return ", ".join(f"{name} (VLAN {plan.zone(name).vlan})" for name in zones) or "no zone"


def _left_out(switch: Switch, want: PortRow) -> Finding:
    source = f'site.toml switch {switch.name}, ports = "listed"'
    return finding(
        "ZON-2", _subject(want), "not in the switch's list of ports", f"access port in {want.access}", source
    )


def _missing_zones(plan: Plan, want: PortRow, has: tuple[str, ...]) -> Finding:
    missing = tuple(zone for zone in want.tagged if zone not in has)
    measured = f"carries {_vlans(plan, has)}; lacks {_vlans(plan, missing)}"
    return finding("ZON-3", _subject(want), measured, _vlans(plan, want.tagged), "site.toml [[ports]] tagged")


def _judge(plan: Plan, want: PortRow, said: PortPlan, kind: SwitchType) -> Iterator[Finding]:
    source = f"site.toml port {said.at}"
    if said.device is not None and want.device != said.device:
        planned = f"{'nothing' if want.kind in ('free', 'device') else want.device}, as the schedule and links say"
        yield finding("ZON-5", f"port {said.at}", f"{said.device} in the port list", planned, source)
    if want.kind == "free":
        return
    zones = said.tagged or ((said.access,) if said.access else ())
    zones = (*zones, said.native) if said.tagged and said.native else zones
    if zones and want.kind == "link" and set(want.tagged) - set(zones):
        yield _missing_zones(plan, want, zones)
    elif zones and want.kind != "link" and set(zones) != set(want.zones):
        yield finding("ZON-1", _subject(want), _vlans(plan, zones), _vlans(plan, want.zones), source)
    if said.poe is False and want.poe_w:
        yield finding("ZON-4", _subject(want), "PoE off", f"{quantities.power(want.poe_w)} of PoE", source)
    if said.energy_saving and want.kind in ("camera", "recorder"):
        yield finding("ZON-6", _subject(want), "energy-saving Ethernet on", "off", f"{source}; IEEE 802.3az")
    if said.rate_mbps is not None and said.rate_mbps > kind.rate_mbps(want.port):
        text, limit = quantities.bitrate(said.rate_mbps * 1e6), quantities.bitrate(kind.rate_mbps(want.port) * 1e6)
        yield finding("ZON-7", _subject(want), text, f"at most {limit}", f"types.toml {kind.name}")
