"""Power over Ethernet per switch, in every mode: what is used, reserved and left, and who goes dark first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning import poe
from zentrale.site.model import Camera, Mode, Plan, Switch

_STANDARD = "IEEE 802.3-2022 clauses 33 and 145"


@dataclass(frozen=True)
class PortPower:
    """One fed port. `draw_w` is at the port, cable loss included, by mode; `reserved_w` is what its class reserves."""

    camera: str
    port: int
    run_length_m: float
    poe_class: int
    draw_w: Mapping[Mode, float]
    reserved_w: float


@dataclass(frozen=True)
class SwitchPower:
    """One switch. `dark` names, by mode, the cameras that lose power, first to go first."""

    switch: str
    cabinet: str
    budget_w: float
    ports: tuple[PortPower, ...]
    draw_w: Mapping[Mode, float]
    reserved_w: float
    dark: Mapping[Mode, tuple[str, ...]]

    @property
    def worst_mode(self) -> Mode:
        return max(self.draw_w, key=lambda mode: self.draw_w[mode])

    @property
    def left_w(self) -> float:
        return self.budget_w - self.draw_w[self.worst_mode]


@dataclass(frozen=True)
class PowerPlan:
    switches: tuple[SwitchPower, ...]
    findings: tuple[Finding, ...]


def plan_power(plan: Plan) -> PowerPlan:
    """Power of every switch that feeds a camera or could, with findings."""
    by_switch: dict[str, list[Camera]] = {}
    for camera in plan.cameras:
        if plan.camera_type(camera).supply == "poe":
            by_switch.setdefault(camera.switch, []).append(camera)
    switches, findings = [], []
    for switch in plan.switches:
        cameras = by_switch.get(switch.name, [])
        if not cameras and not plan.switch_type(switch).poe_ports:
            continue
        power = _switch_power(plan, switch, cameras)
        switches.append(power)
        findings += _switch_findings(plan, switch, power)
    for camera in plan.cameras:
        findings += _camera_findings(plan, camera)
    return PowerPlan(tuple(switches), tuple(findings))


def _switch_power(plan: Plan, switch: Switch, cameras: list[Camera]) -> SwitchPower:
    ports = []
    for camera in sorted(cameras, key=lambda c: c.port):
        kind = plan.camera_type(camera)
        draw = {m: poe.port_power_w(kind.power_w(m), camera.run_length_m, kind.poe_class) for m in Mode}
        reserved = poe.supply_power_w(kind.poe_class)
        ports.append(PortPower(camera.name, camera.port, camera.run_length_m, kind.poe_class, draw, reserved))
    draw_w = {mode: sum(p.draw_w[mode] for p in ports) for mode in Mode}
    budget = plan.switch_type(switch).poe_budget_w
    dark = {mode: _dark(ports, mode, budget) for mode in Mode}
    reserved_w = sum(p.reserved_w for p in ports)
    return SwitchPower(switch.name, switch.cabinet, budget, tuple(ports), draw_w, reserved_w, dark)


def _dark(ports: list[PortPower], mode: Mode, budget_w: float) -> tuple[str, ...]:
    """Ports of equal priority lose power from the highest number down (RFC 3621, pethPsePortPowerPriority)."""
    used = sum(p.draw_w[mode] for p in ports)
    dark = []
    for port in reversed(ports):
        if used <= budget_w:
            break
        used -= port.draw_w[mode]
        dark.append(port.camera)
    return tuple(dark)


def _switch_findings(plan: Plan, switch: Switch, power: SwitchPower) -> list[Finding]:
    if not power.ports or power.budget_w == 0:
        return []
    subject = f"switch {switch.name}"
    source = f"types.toml switch type {switch.type}"
    mode = power.worst_mode
    draw = power.draw_w[mode]
    measured = f"{quantities.power(draw)} drawn, mode {mode.value}"
    if power.dark[mode]:
        dark = f"{measured}; dark: {', '.join(power.dark[mode])}"
        return [finding("PWR-1", subject, dark, f"{quantities.power(power.budget_w)} PoE supply", source)]
    findings = []
    reserve = plan.policy.poe_reserve_percent / 100 * power.budget_w
    if power.left_w < reserve:
        limit = f"{quantities.power(power.budget_w - reserve)} with a reserve of {plan.policy.poe_reserve_percent:g} %"
        findings.append(finding("PWR-3", subject, measured, limit, "site.toml [policy] poe_reserve_percent"))
    if plan.switch_type(switch).poe_budgeting == "class" and power.reserved_w > power.budget_w:
        findings.append(
            finding("PWR-5", subject, f"{quantities.power(power.reserved_w)} reserved by class",
                    f"{quantities.power(power.budget_w)} PoE supply", source)
        )  # fmt: skip
    return findings


def _camera_findings(plan: Plan, camera: Camera) -> list[Finding]:
    findings = []
    subject = f"camera {camera.name}"
    if camera.run_length_m > plan.policy.max_run_m:
        findings.append(
            finding("RUN-1", subject, f"{camera.run_length_m:g} m of fixed cable ({camera.source})",
                    f"{plan.policy.max_run_m:g} m", "site.toml [policy] max_run_m; ISO/IEC 11801-1")
        )  # fmt: skip
    kind = plan.camera_type(camera)
    if kind.supply != "poe":
        return findings
    switch = next(s for s in plan.switches if s.name == camera.switch)
    ports = plan.switch_type(switch)
    place = f"{switch.name} port {camera.port}"
    needed = poe.needed_type(kind.poe_class)
    if camera.port > ports.poe_ports:
        limit = f"PoE on ports 1 to {ports.poe_ports}" if ports.poe_ports else "no PoE ports"
        findings.append(finding("PWR-4", subject, f"{place} ({camera.source})", limit, f"types.toml {ports.name}"))
    elif ports.poe_type < needed:
        measured = f"class {kind.poe_class} on {place}, type {ports.poe_type}"
        findings.append(finding("PWR-2", subject, measured, f"a port of type {needed}", _STANDARD))
    return findings
