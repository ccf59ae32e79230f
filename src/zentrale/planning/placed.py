"""A placement as a plan: the switches and cables it proposes in place of the present ones, and what the other parts of the
calculation say of them.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import pairwise

from zentrale.findings import Finding, finding
from zentrale.planning.attached import Attached, attached
from zentrale.planning.placing.problem import core, holding_switches, kept_switches, placed_things
from zentrale.planning.placing.search import Solution
from zentrale.planning.power import plan_power
from zentrale.planning.topology import lit_network, paths_from
from zentrale.planning.traffic import plan_traffic
from zentrale.site.model import AccessPoint, Camera, Link, Plan, PortPlan, Switch


def as_placed(plan: Plan, solution: Solution) -> tuple[Plan, dict[str, str]]:
    """The plan with the placed switches, each on its last port to the core, and what each of them is, by its name.

    Switches that hold only cameras, access points and the like go; those with recorders and viewers stay, and those on the ways
    between them. What needs PoE comes first on each switch, since its first ports have it.
    """
    kinds = {kind.name: kind for kind in plan.switch_types}
    middle, kept, things = core(plan), kept_switches(plan), placed_things(plan)
    ways = paths_from(lit_network(plan), middle.name)
    steps = {frozenset(step) for name in holding_switches(plan) for step in pairwise(ways.get(name, ()))}
    links = [link for link in plan.links if frozenset(link.switches()) in steps]
    switches = [s for s in plan.switches if s.name in kept]
    said: dict[str, str] = {}
    moved: dict[str, Camera] = {}
    anew: dict[tuple[str, int], tuple[str, int]] = {}  # ports of things
    trunk_rate = max(kind.rate_mbps(port) for kind in kinds.values() for port in range(1, kind.ports + 1))
    core_kind = plan.switch_type(middle)
    core_port = max(range(1, core_kind.ports + 1), key=core_kind.rate_mbps)
    for cabinet in solution.cabinets:
        for number, placed in enumerate(cabinet.switches, start=1):
            name = f"placed-{len(said) + 1}"
            said[name] = f"{placed.type} {number} in {cabinet.cabinet}"
            switches.append(Switch(name=name, cabinet=cabinet.cabinet, type=placed.type))
            kind = kinds[placed.type]
            links.append(Link(a=f"{name}:{kind.ports}", b=f"{middle.name}:{core_port}",
                              rate_mbps=min(trunk_rate, kind.rate_mbps(kind.ports), core_kind.rate_mbps(core_port))))  # fmt: skip
            items = sorted(placed.cameras, key=lambda item: not _fed(plan, things, item))
            for port, item in enumerate(items, start=1):
                if item in things:
                    anew[things[item].place] = (name, port)
                    continue
                run_m = cabinet.runs_m[item]
                for lens in plan.lenses(plan.camera(item)):
                    moved[lens.name] = lens.model_copy(update={"switch": name, "port": port, "run_length_m": run_m})
    # Built anew: a copy would keep what the plan has looked up before.
    parts = {field: getattr(plan, field) for field in Plan.model_fields}
    parts |= {
        "switches": tuple(switches), "links": tuple(links), "batteries": (), "runs": (),
        "access_points": tuple(_moved_point(point, anew) for point in plan.access_points),
        "ports": tuple(_moved_port(port, anew) for thing in attached(plan) for port in plan.ports
                       if port.place() == thing.place and (thing.switch in kept or thing.place in anew)),
        "cameras": tuple(moved.get(c.name, c) for c in plan.cameras if c.name in moved or c.wireless or c.behind),
    }  # fmt: skip
    return Plan(**parts), said


def _fed(plan: Plan, things: Mapping[str, Attached], item: str) -> bool:
    return things[item].fed is not None if item in things else plan.supply(plan.camera(item)) == "poe"


def _moved_point(point: AccessPoint, anew: Mapping[tuple[str, int], tuple[str, int]]) -> AccessPoint:
    switch, port = anew.get((point.switch, point.port), (point.switch, point.port))
    return point.model_copy(update={"switch": switch, "port": port})


def _moved_port(port: PortPlan, anew: Mapping[tuple[str, int], tuple[str, int]]) -> PortPlan:
    switch, number = anew.get(port.place(), port.place())
    return port.model_copy(update={"at": f"{switch}:{number}"})


# What placement answers for: supply, cable and load of what it places.
_CHOSEN_BY = ("PWR-1", "PWR-2", "PWR-3", "PWR-4", "PWR-5", "PWR-9", "RUN-1", "TRF-1", "TRF-2", "TRF-4")
_NOT_CHOSEN_BY = ("PWR-6", "TRF-5")


def placed_findings(plan: Plan, solution: Solution) -> Iterator[Finding]:
    """What `plan power` and `plan traffic` would say of the placed switches and cameras."""
    placed, said = as_placed(plan, solution)
    cameras = {c.name for c in placed.networked if not c.wireless}  # without those that no cabinet reaches
    for item in (*plan_power(placed).findings, *plan_traffic(placed).findings):
        subject = str(item.subject)
        name = next((n for n in said if f" {n}:" in f"{subject}:" or f"{n} " in f"{subject} "), None)
        camera = subject.partition("camera ")[2]
        if item.code in (*_CHOSEN_BY, *_NOT_CHOSEN_BY) and (name is not None or camera in cameras):
            what = subject if name is None else said[name]
            code = "PLC-5" if item.code in _NOT_CHOSEN_BY else "PLC-6"
            yield finding(code, f"placement: {what}", f"{item.code}: {item.measured}", item.limit, item.limit_source)
