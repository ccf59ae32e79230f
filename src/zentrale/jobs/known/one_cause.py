"""One cause for many: what cameras that break alike have in common, and no camera has that does not break."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise

import networkx as nx

from zentrale import quantities
from zentrale.findings import Finding, Severity
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.layer import Layer, layer_of
from zentrale.logbook.vault_contents import Contents
from zentrale.planning.topology import Graph, lit_network, trunk_name
from zentrale.site.model import Camera, Plan
from zentrale.site.part import Mode
from zentrale.subjects import Kind

LEAST = 3  # cameras: two may be chance
_NONE: Mapping[str, Mapping[str, str]] = {}

# What may be to blame, likeliest first, and what it then is.
_TRAITS: Mapping[Layer, tuple[str, ...]] = {
    Layer.LINK: ("switch", "power mode", "cabinet", "type", "firmware"),
    Layer.ADDRESS: ("switch", "link", "cabinet", "power mode", "zone", "type", "firmware"),
    Layer.PORT: ("zone", "type", "firmware", "switch", "link"),
    Layer.SERVICE: ("type", "firmware", "switch", "zone"),
    Layer.ACCESS: ("type", "firmware", "account"),
    Layer.STREAM: ("switch", "link", "type", "firmware", "zone"),
    Layer.LOSS: ("switch", "link", "cabinet", "type", "firmware"),
    Layer.RECORDING: ("recorder", "account", "switch", "link", "type", "firmware"),
}
_SAYS = {
    "switch": "on switch {}: its uplink, its supply, or the switch itself",
    "link": "beyond link {}: that link, at either end",
    "cabinet": "in cabinet {}: its power",
    "power mode": "that draw more in {}: the power that their switches have left then (`zentrale plan power`)",
    "zone": "in zone {}: its VLAN on the way here, or the rule that lets it through",
    "type": "of type {}: what they are set to, or their firmware",
    "firmware": "with firmware {}: that version of it",
    "account": "opened by account {}: that account, or its password",
    "recorder": "of {}: the recorder itself",
}


@dataclass(frozen=True)
class Common:
    """`what` they have in common, such as "switch pump-house"; `says`: in a sentence, with what that makes likely."""

    what: str
    cameras: tuple[str, ...]
    says: str

    def document(self) -> dict[str, object]:
        return {"what": self.what, "cameras": list(self.cameras), "says": self.says}


def broken_at(plan: Plan, findings: Iterable[Finding]) -> dict[str, Layer]:
    """The lowest layer at which each camera has a fault, by its name."""
    channels = {(c.recorder, f"channel {c.channel}"): c.name for c in plan.cameras}
    found: dict[str, Layer] = {}
    for item in findings:
        ref, layer = item.ref, layer_of(item.code)
        if item.severity is not Severity.FAULT or ref is None or layer is None:
            continue
        name = ref.name if ref.kind is Kind.CAMERA else channels.get((ref.name, ref.part), "")
        if name:
            found[name] = min(layer, found.get(name, layer))
    return found


def common(
    plan: Plan, looked_at: Collection[str], broken: Mapping[str, Layer], more: Mapping[str, Mapping[str, str]] = _NONE
) -> list[Common]:
    """The fewest things that explain the most cameras, largest first. A thing explains cameras only where all of its that were
    looked at break alike, and some others do not. `more`: what no file tells of each, as "firmware" or "account".
    """
    graph = lit_network(plan)
    traits = {name: dict(_traits(plan, plan.camera(name), graph)) for name in looked_at}
    for name, told in more.items():
        if name in traits:
            traits[name] |= {kind: (value,) for kind, value in told.items() if value}
    left = dict(broken)
    found: list[Common] = []
    while True:
        best: tuple[int, int, str, str, Layer, list[str]] | None = None
        for layer, kinds in _TRAITS.items():
            alike = {name for name, at in left.items() if at == layer and name in traits}
            if all(broken.get(name, Layer.RECORDING + 1) <= layer for name in looked_at):
                continue  # nobody is better off: there is nothing to compare with
            for order, kind in enumerate(kinds):
                for value in sorted({v for name in alike for v in traits[name].get(kind, ())}):
                    having = [name for name in looked_at if value in traits[name].get(kind, ())]
                    whole = all(broken.get(name) == layer for name in having)
                    if not whole or len(having) < LEAST or len(having) == len(looked_at):
                        continue
                    candidate = (len(alike & set(having)), -order, kind, value, layer, having)
                    if candidate[0] >= LEAST and (best is None or candidate[:2] > best[:2]):
                        best = candidate
        if best is None:
            return found
        _, _, kind, value, layer, having = best
        where, _, likely = _SAYS[kind].format(value).partition(": ")
        alone = " and nobody else" if set(having) == {name for name, at in broken.items() if at == layer} else ""
        text = f"{quantities.count(len(having), 'camera')}, all {where}{alone}: {likely}"
        found.append(Common(f"{kind} {value}", tuple(having), text))
        left = {name: at for name, at in left.items() if name not in having}


def _traits(plan: Plan, camera: Camera, graph: Graph) -> Iterator[tuple[str, tuple[str, ...]]]:
    """What it shares with others; several links lie on its way to its recorder."""
    yield "zone", (camera.zone,)
    yield "type", (camera.type,)
    yield "recorder", (camera.recorder,)
    powers = plan.camera_type(camera).powers_w
    yield "power mode", tuple(m.value for m in (Mode.NIGHT, Mode.COLD, Mode.MOVING) if powers[m] > powers[Mode.DAY])
    if not camera.switch:
        return
    yield "switch", (camera.switch,)
    yield "cabinet", (plan.switch(camera.switch).cabinet,)
    core = plan.recorder(camera.recorder).switch
    if nx.has_path(graph, camera.switch, core):
        way = nx.shortest_path(graph, camera.switch, core)
        steps = pairwise(way)
        yield "link", tuple(trunk_name(plan, graph.edges[near, far]["members"]) for near, far in steps)


def told_beside(plan: Plan, found: Mapping[str, FoundDevice], contents: Contents) -> dict[str, dict[str, str]]:
    """Firmware and account of each camera, as they were seen and as the vault has them."""
    told: dict[str, dict[str, str]] = {}
    for camera in plan.cameras:
        seen, entry = found.get(camera.name), contents.devices.get(plan.device_of(camera).name)
        firmware = f"{seen.firmware} of {camera.type}" if seen is not None and seen.firmware else ""
        told[camera.name] = {"firmware": firmware, "account": entry.credentials.user if entry else ""}
    return told
