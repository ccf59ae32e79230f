"""Power over Ethernet per switch, in every mode: what is used, reserved and left, and who goes dark first."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning import poe
from zentrale.planning.attached import Attached, attached, power_findings
from zentrale.planning.battery import BatteryPower, battery_finding, battery_power, blackout_findings
from zentrale.planning.contradictions import of_cables, of_supply
from zentrale.planning.feeders import Feeder, feeder_of, feeders
from zentrale.planning.open_columns import not_counted
from zentrale.site.model import Camera, Mode, Plan, Priority
from zentrale.site.part import MODES

_STANDARD = "IEEE 802.3-2022 clauses 33 and 145"


@dataclass(frozen=True)
class PortPower:
    """One fed port. `draw_w` is at the port, cable loss included, by mode; `reserved_w` is what its class reserves.

    `granted_w` is what the switch counts against its budget, by mode: the draw, or the class's power. `known` false: nobody
    said what the device takes, and none of these has it. `by_limit`: nobody knows the camera's draw, and the limit of its class
    counts in its place. `assumed`: its port is open, and `port` is a free one of the switch.
    """

    device: str
    port: int
    run_length_m: float
    poe_class: int
    priority: Priority
    draw_w: Mapping[Mode, float]
    reserved_w: float
    granted_w: Mapping[Mode, float]
    kind: str = "camera"
    known: bool = True
    by_limit: bool = False
    assumed: bool = False


@dataclass(frozen=True)
class FeederPower:
    """One switch, or recorder with ports of its own. `dark` names, by mode, the devices that lose power, first to go first;
    `dark_one_supply` those that go when one of two supplies fails (empty where there is one supply only).
    """

    feeder: Feeder
    budget_w: float
    ports: tuple[PortPower, ...]
    draw_w: Mapping[Mode, float]
    reserved_w: float
    dark: Mapping[Mode, tuple[str, ...]]
    dark_one_supply: Mapping[Mode, tuple[str, ...]]

    @property
    def name(self) -> str:
        return self.feeder.name

    @property
    def worst_mode(self) -> Mode:
        """The one mode that draws all that can be drawn; where only several together do, all at once."""
        return _alone(self.draw_w)

    @property
    def going_dark(self) -> tuple[str, ...]:
        """The devices in the order in which they would lose power."""
        return tuple(p.device for p in _first_to_go(self.ports))

    @property
    def left_w(self) -> float:
        """What is left in the worst mode, as its supply counts: by draw, or by class."""
        return self.budget_w - max(sum(p.granted_w[mode] for p in self.ports) for mode in MODES)


@dataclass(frozen=True)
class PowerPlan:
    """`feeders`: switches, then recorders; `apart` are cameras fed by an injector or the mains: name and supply. `seen_w`:
    the most that each switch was seen to give, by its name and by day or night [W].
    """

    feeders: tuple[FeederPower, ...]
    batteries: tuple[BatteryPower, ...]
    apart: tuple[tuple[str, str], ...]
    findings: tuple[Finding, ...]
    seen_w: Mapping[str, Mapping[str, float]] = field(default_factory=dict)

    @property
    def switches(self) -> tuple[FeederPower, ...]:
        return tuple(f for f in self.feeders if f.feeder.what == "switch")


def _alone(draw_w: Mapping[Mode, float]) -> Mode:
    most = draw_w[Mode.WORST]
    return next((mode for mode in MODES if draw_w[mode] >= most - 1e-9), Mode.WORST)


def port_draw_w(plan: Plan, camera: Camera, mode: Mode, run_length_m: float, port_type: int = 0) -> float | None:
    """Power at the port for what a camera draws over so much fixed cable, patch cords included; None where the cable cannot
    carry it. Where nobody knows what it draws it is what a port of its class gives at most.
    """
    kind = plan.camera_type(camera)
    if kind.day_w is None:
        return poe.supply_power_w(kind.counted_class)
    return poe.port_power_w(kind.power_w(mode), _channel(plan, camera, run_length_m), kind.counted_class, port_type)


def _channel(plan: Plan, camera: Camera, run_length_m: float) -> poe.Channel:
    return poe.Channel(run_length_m + plan.policy.cords_m, camera.conductor_awg, plan.category(camera))


def _draws_w(plan: Plan, camera: Camera, run_length_m: float, port_type: int) -> dict[Mode, float]:
    """At the port in each mode. In one that the cable cannot carry (PWR-9) the device goes off, and draws nothing."""
    kind = plan.camera_type(camera)
    if kind.day_w is None:
        return dict.fromkeys(MODES, poe.supply_power_w(kind.counted_class))
    channel, of = _channel(plan, camera, run_length_m), kind.powers_w
    at_port = {w: poe.port_power_w(w, channel, kind.counted_class, port_type) or 0.0 for w in set(of.values())}
    return {mode: at_port[of[mode]] for mode in MODES}


def plan_power(plan: Plan) -> PowerPlan:
    """Power of every switch, and every recorder with ports of its own, that feeds a camera or could, with findings."""
    given, plan = plan, plan.at_ports
    at: dict[tuple[str, str], list[Camera]] = {}
    for camera in plan.camera_devices:
        feeder = feeder_of(plan, camera)
        if plan.supply(camera) == "poe" and feeder is not None:
            at.setdefault((feeder.what, feeder.name), []).append(camera)
    powers, findings = [], []
    things = attached(plan)
    assumed = {c.name for c in given.cameras if not c.port}
    for feeder in feeders(plan):
        cameras, is_switch = at.get((feeder.what, feeder.name), []), feeder.what == "switch"
        fed = [thing for thing in things if is_switch and thing.switch == feeder.name and thing.fed]
        if not cameras and not fed and not feeder.ports.poe_ports:
            continue
        power = _feeder_power(plan, feeder, cameras, fed, assumed)
        powers.append(power)
        findings += _feeder_findings(plan, power)
    for camera in plan.camera_devices:
        findings += _camera_findings(plan, camera, at_a_port=bool(given.camera(camera.name).port))
    findings += _open_findings(given, at)
    findings += [f for thing in things for f in power_findings(plan, thing)]
    findings += [*of_cables(given), *of_supply(given)]
    apart = tuple((c.name, plan.supply(c)) for c in plan.camera_devices if plan.supply(c) != "poe")
    draws = {(p.feeder.what, p.name): {mode: p.draw_w[mode] for mode in MODES} for p in powers}
    batteries = tuple(battery_power(plan, battery, draws) for battery in plan.batteries)
    findings += [f for battery in batteries if (f := battery_finding(battery)) is not None]
    findings += blackout_findings(plan)
    return PowerPlan(tuple(powers), batteries, apart, tuple(findings))


def thing_power(plan: Plan, thing: Attached) -> PortPower:
    """The length of its cable stands in no schedule: the longest that the site allows is taken. A port drops it before others,
    as ports do that nobody set (RFC 3621, pethPsePortPowerPriority: low).
    """
    kind = plan.switch_type(plan.switch(thing.switch))
    run_m, takes = plan.policy.max_run_m, thing.takes_w or 0.0
    channel = poe.Channel(run_m + plan.policy.cords_m, category=plan.policy.cable_category)
    drawn = poe.port_power_w(takes, channel, thing.counted_class, kind.poe_type)
    draw = dict.fromkeys(MODES, takes if drawn is None else drawn)
    known = thing.takes_w is not None
    reserved = poe.supply_power_w(thing.counted_class) if known else 0.0
    granted = dict.fromkeys(MODES, reserved) if kind.poe_budgeting == "class" else draw
    return PortPower(
        thing.name, thing.port, run_m, thing.counted_class, Priority.LOW, draw, reserved, granted, thing.kind, known
    )


def _feeder_power(
    plan: Plan, feeder: Feeder, cameras: list[Camera], things: list[Attached], assumed: Collection[str]
) -> FeederPower:
    kind = feeder.ports
    ports = [thing_power(plan, thing) for thing in things]
    for camera in cameras:
        fed = plan.camera_type(camera)
        run_m = plan.length_m(camera)
        draw = _draws_w(plan, camera, run_m, kind.poe_type)
        reserved = poe.supply_power_w(fed.counted_class)
        granted = dict.fromkeys(MODES, reserved) if kind.poe_budgeting == "class" else draw
        ports.append(
            PortPower(
                camera.name, camera.port, run_m, fed.counted_class, camera.priority, draw, reserved, granted,
                by_limit=fed.day_w is None, assumed=camera.name in assumed,
            )
        )  # fmt: skip
    ports.sort(key=lambda p: p.port)
    one = kind.poe_budget_one_supply_w
    return FeederPower(
        feeder,
        kind.poe_budget_w,
        tuple(ports),
        {mode: sum(p.draw_w[mode] for p in ports) for mode in MODES},
        sum(p.reserved_w for p in ports),
        {mode: _dark(ports, mode, kind.poe_budget_w) for mode in MODES},
        {mode: () if one is None else _dark(ports, mode, one) for mode in MODES},
    )


def _first_to_go(ports: Sequence[PortPower]) -> list[PortPower]:
    """The lowest priority goes first, among equals the highest port number (RFC 3621, pethPsePortPowerPriority)."""
    return sorted(ports, key=lambda p: (p.priority.rank, p.port), reverse=True)


def _dark(ports: Sequence[PortPower], mode: Mode, budget_w: float) -> tuple[str, ...]:
    used = sum(p.granted_w[mode] for p in ports)
    dark = []
    for port in _first_to_go(ports):
        if used <= budget_w:
            break
        used -= port.granted_w[mode]
        dark.append(port.device)
    return tuple(dark)


def _feeder_findings(plan: Plan, power: FeederPower) -> list[Finding]:
    if not power.ports or power.budget_w == 0:
        return []
    feeder, subject = power.feeder, power.feeder.subject
    source = f"types.toml {feeder.what} type {feeder.type}"
    worst = power.worst_mode
    # The mode that draws most; of those that draw alike one alone rather than all together.
    mode = (
        max(MODES, key=lambda m: (len(power.dark[m]), power.draw_w[m], m is not Mode.WORST))
        if power.dark[worst]
        else worst
    )
    draw = power.draw_w[mode]
    limited = [p for p in power.ports if p.by_limit]
    measured = f"{quantities.power(draw)} {'counted' if limited else 'drawn'}, {mode.said}"
    supply = f"{quantities.power(power.budget_w)} PoE supply"
    if power.dark[mode]:
        dark = f"dark: {quantities.listed(power.dark[mode], 14)}"
        if draw <= power.budget_w:
            return [finding("PWR-5", subject, f"{quantities.power(power.reserved_w)} by class; {dark}", supply, source)]
        limits_w = sum(p.draw_w[mode] for p in limited)
        if limited:
            some = quantities.count(len(limited), "camera")
            measured += f", {quantities.power(limits_w)} of it the limit of the class of {some}"
        code = "PWR-19" if draw - limits_w <= power.budget_w and limited else "PWR-1"
        return [finding(code, subject, f"{measured}; {dark}", supply, source)]
    findings = []
    reserve = plan.policy.poe_reserve_percent / 100 * power.budget_w
    if power.left_w < reserve:
        limit = f"{quantities.power(power.budget_w - reserve)} with a reserve of {plan.policy.poe_reserve_percent:g} %"
        by_class = feeder.ports.poe_budgeting == "class"
        used = f"{quantities.power(power.reserved_w)} by class" if by_class else measured
        findings.append(finding("PWR-3", subject, used, limit, "site.toml [policy] poe_reserve_percent"))
    more = plan.policy.growth_percent.poe
    used_w = power.budget_w - power.left_w
    if more and used_w * (1 + more / 100) > power.budget_w:
        grown = f"{quantities.power(used_w * (1 + more / 100))} with {more:g} % more"
        findings.append(finding("PWR-17", subject, grown, supply, "site.toml [policy] growth_percent"))
    one = feeder.ports.poe_budget_one_supply_w
    mode = max(MODES, key=lambda m: (len(power.dark_one_supply[m]), m is not Mode.WORST))
    if one is not None and power.dark_one_supply[mode]:
        text = f"{mode.said}, one supply lost: dark: {quantities.listed(power.dark_one_supply[mode], 14)}"
        findings.append(finding("PWR-6", subject, text, f"{quantities.power(one)} from the other supply", source))
    return findings


def _open_findings(plan: Plan, at: Mapping[tuple[str, str], Sequence[Camera]]) -> Iterator[Finding]:
    """What is counted in place of what nobody knows yet, and what cannot be counted."""
    for kind in plan.camera_types:
        fed = [c for c in plan.camera_devices if c.type == kind.name and plan.supply(c) == "poe"]
        if kind.day_w is None and fed:
            limit = quantities.power(poe.supply_power_w(kind.counted_class))
            measured = (
                f"{limit} a port for {quantities.count(len(fed), 'camera')}, the limit of class {kind.counted_class}"
            )
            yield finding("PWR-18", f"camera type {kind.name}", measured, "day_w of its data sheet", _STANDARD)
    for switch in plan.switches:
        some, have = at.get(("switch", switch.name), ()), plan.switch_type(switch).poe_ports
        if len(some) > have and not all(plan.camera(c.name).port for c in some):
            measured = f"{quantities.count(len(some), 'camera')} by PoE, ports open"
            yield finding(
                "PWR-4", f"switch {switch.name}", measured, f"{have} ports with PoE", f"types.toml {switch.type}"
            )
    yield from not_counted(plan)


def _camera_findings(plan: Plan, camera: Camera, *, at_a_port: bool) -> list[Finding]:
    findings = []
    subject = f"camera {camera.name}"
    if camera.run_length_m is not None and camera.run_length_m > plan.policy.max_run_m:
        findings.append(
            finding("RUN-1", subject, f"{camera.run_length_m:g} m of fixed cable ({camera.where})",
                    f"{plan.policy.max_run_m:g} m", "site.toml [policy] max_run_m; ISO/IEC 11801-1")
        )  # fmt: skip
    need = {"outdoor": ("outdoor", "uv-proof"), "sunlit": ("uv-proof",)}.get(camera.route, ())
    if need and camera.cable_kind and camera.cable_kind not in need:
        measured, limit = (
            f"{camera.cable_kind} cable on a run that is {camera.route}",
            " or ".join(f"{n} cable" for n in need),
        )
        findings.append(finding("RUN-2", subject, measured, limit, camera.where))
    kind = plan.camera_type(camera)
    if plan.supply(camera) != "poe":
        return findings
    findings += _device_findings(plan, camera)
    feeder = feeder_of(plan, camera)
    if feeder is None:
        return findings
    ports = feeder.ports
    place = f"{feeder.name} port {camera.port}"
    needed = poe.needed_type(kind.counted_class)
    if camera.port > ports.poe_ports and at_a_port:
        limit = f"PoE on ports 1 to {ports.poe_ports}" if ports.poe_ports else "no PoE ports"
        findings.append(finding("PWR-4", subject, f"{place} ({camera.where})", limit, f"types.toml {feeder.type}"))
    elif ports.poe_type < needed:
        place = place if at_a_port else f"{feeder.name}, port open"
        measured = f"class {kind.counted_class} on {place}, type {ports.poe_type}"
        findings.append(finding("PWR-2", subject, measured, f"a port of type {needed}", _STANDARD))
    return findings


def _device_findings(plan: Plan, camera: Camera) -> list[Finding]:
    """Whether the device keeps to its class, and whether its cable carries what it draws."""
    kind, subject = plan.camera_type(camera), f"camera {camera.name}"
    feeder = feeder_of(plan, camera)
    port_type = feeder.ports.poe_type if feeder is not None else 0
    mode = _alone(kind.powers_w)
    draw, limit = kind.power_w(mode), poe.device_limit_w(kind.counted_class)
    drawn = f"{quantities.power(draw)}, {mode.said}"
    at_port = port_draw_w(plan, camera, mode, plan.length_m(camera), port_type)
    if at_port is None:
        measured = f"{drawn}, over {plan.length_m(camera):g} m and {plan.policy.cords_m:g} m of cords ({camera.where})"
        return [finding("PWR-9", subject, measured, "what the cable carries at the port's lowest voltage", _STANDARD)]
    if draw <= limit or kind.day_w is None:
        return []
    most, source = poe.supply_power_w(kind.counted_class), f"types.toml {kind.name}; {_STANDARD}"
    allowed = f"{quantities.power(limit)} of class {kind.counted_class}"
    if (
        mode is Mode.WORST
        and max(w for m, w in kind.powers_w.items() if m is not mode) <= limit
        and kind.most_w is None
    ):
        return [finding("PWR-11", subject, drawn, allowed, source)]
    if kind.counted_class not in poe.EXTENDED_CLASSES:
        return [finding("PWR-8", subject, drawn, allowed, source)]
    measured = f"{drawn}; {quantities.power(at_port)} at the port"
    if at_port > most:
        return [finding("PWR-8", subject, measured, f"{quantities.power(most)} at the port", source)]
    return [finding("PWR-10", subject, measured, allowed, source)]
