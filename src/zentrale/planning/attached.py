"""Things on switch ports that have no data sheet: access points, bridges, whatever a port of the plan names; what they take."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.findings import Finding, finding
from zentrale.planning import poe
from zentrale.planning.once import once
from zentrale.site.device_types import counted_class
from zentrale.site.model import AccessPoint, Plan, PortPlan


@dataclass(frozen=True)
class Attached:
    """One of them; None is what nobody knows.

    fed:          whether its port gives it PoE, wherever it may need that; None for a thing that is fed otherwise
    draw_w:       at most, at its own end of the cable
    traffic_mbps: at most, in either direction; beside that of cameras and viewers, which is counted by itself
    """

    name: str
    kind: str
    switch: str
    port: int
    zones: tuple[str, ...]
    fed: bool | None
    poe_class: int | None
    draw_w: float | None
    traffic_mbps: float | None
    source: str

    @property
    def place(self) -> tuple[str, int]:
        return self.switch, self.port

    @property
    def takes_w(self) -> float | None:
        """What it draws at most; where only its class is known, what that may draw."""
        if self.draw_w is None and self.poe_class is not None:
            return poe.device_limit_w(self.poe_class)
        return self.draw_w

    @property
    def counted_class(self) -> int:
        """Its PoE class; where nobody said it, that of a device without one, or the lowest that may draw what it draws."""
        return counted_class(self.poe_class, self.draw_w or 0)


@once
def attached(plan: Plan) -> tuple[Attached, ...]:
    """All of them, access points first. A port that only labels a planned device is none."""
    said_of = {port.place(): port for port in plan.ports}
    known = _planned(plan)
    found = []
    for point in plan.access_points:
        zones = tuple(dict.fromkeys(network.zone for network in point.networks))
        said = said_of.get((point.switch, point.port))
        found.append(_thing(plan, point.name, "access point", (point.switch, point.port), zones, point, said))
    points = {thing.place for thing in found}
    for port in plan.ports:
        place = port.place()
        if place in points:
            continue
        name, fed = known.get(place, ("", False))
        takes_power = port.poe is True or port.poe_class is not None or port.draw_w is not None
        if place not in known and (takes_power or port.label or port.access or port.tagged or port.traffic_mbps):
            zones = port.tagged or ((port.access,) if port.access else ())
            found.append(_thing(plan, port.label or f"port {port.at}", "device", place, zones, None, port))
        elif place in known and takes_power and not fed:
            found.append(_thing(plan, name, "device", place, (), None, port, counted=True))
    return tuple(found)


def _planned(plan: Plan) -> dict[tuple[str, int], tuple[str, bool]]:
    """Ports whose device the plan has elsewhere: its name, and whether its PoE is counted by its data sheet."""
    found = {
        (c.switch, c.port): (c.name, plan.supply(c) == "poe")
        for c in plan.networked_devices
        if c.port and not c.wireless
    }
    for recorder in plan.recorders:
        found |= {(leg.switch, leg.port): (recorder.name, False) for leg in recorder.legs()}
    found |= {(v.switch, v.port): (v.name, False) for v in plan.viewers}
    for link in plan.links:
        (a, b) = link.ends()
        found |= {a: (f"{b[0]}:{b[1]}", False), b: (f"{a[0]}:{a[1]}", False)}
    return found


def _thing(
    plan: Plan,
    name: str,
    kind: str,
    place: tuple[str, int],
    zones: tuple[str, ...],
    point: AccessPoint | None,
    said: PortPlan | None,
    *,
    counted: bool = False,
) -> Attached:
    """`counted`: its traffic is, by itself. What the port says goes before what the access point does."""
    needs = [need for need in (said, point) if need is not None]
    poe_class, draw_w, traffic = (
        next((value for need in needs if (value := getattr(need, key)) is not None), None)
        for key in ("poe_class", "draw_w", "traffic_mbps")
    )
    has_poe = place[1] <= plan.switch_type(plan.switch(place[0])).poe_ports
    otherwise = draw_w == 0 or (said is not None and said.poe is False)
    fed = None if otherwise else has_poe
    source = f"site.toml access point {name}" if point is not None else f"site.toml port {place[0]}:{place[1]}"
    return Attached(name, kind, *place, zones, fed, poe_class, draw_w, 0.0 if counted else traffic, source)


def power_findings(plan: Plan, thing: Attached) -> Iterator[Finding]:
    """Where its need is not known, or its port cannot give it."""
    if thing.fed is None:
        return
    subject, place = f"{thing.kind} {thing.name}", f"{thing.switch}:{thing.port}"
    kind = plan.switch_type(plan.switch(thing.switch))
    if thing.takes_w is None:
        text = f"{place} keeps its PoE on" if thing.fed else f"{place} has no PoE"
        yield finding("PWR-14", subject, f"neither draw_w nor poe_class is said; {text}", "what it takes", thing.source)
    elif not thing.fed:
        limit = f"PoE on ports 1 to {kind.poe_ports}" if kind.poe_ports else "no PoE ports"
        yield finding("PWR-4", subject, place, limit, f"types.toml {kind.name}")
    elif kind.poe_type < (needed := poe.needed_type(thing.counted_class)):
        measured = f"class {thing.counted_class} on {place}, type {kind.poe_type}"
        yield finding("PWR-2", subject, measured, f"a port of type {needed}", f"types.toml {kind.name}")
    most = None if thing.poe_class is None else poe.device_limit_w(thing.poe_class)
    if most is not None and thing.draw_w is not None and thing.draw_w > most:
        yield finding("PWR-8", subject, f"{thing.draw_w:g} W", f"{most:g} W of class {thing.poe_class}", thing.source)
