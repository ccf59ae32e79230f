"""The port table of a switch for a spreadsheet, its work sheet, and labels for ports and cables."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from zentrale import quantities
from zentrale.output.csv_tables import safe_cell
from zentrale.output.page import environment
from zentrale.output.work_sheets import Line, Sheet
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch

PORT_COLUMNS = (
    "port", "label", "mode", "untagged_vlan", "tagged_vlans", "in_private_vlan", "speed_mbps", "poe", "poe_priority", "edge",
    "energy_saving_ethernet", "fast_leave", "lets_in_by",
)  # fmt: skip


def _csv(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """UTF-8 with a mark, as spreadsheets want it."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(columns)
    writer.writerows([safe_cell(str(cell)) for cell in row] for row in rows)
    return text.getvalue().encode("utf-8-sig")


def port_table(net: NetworkPlan, switch: Switch) -> bytes:
    return _csv(PORT_COLUMNS, (_port_cells(net, row) for row in net.ports.of(switch.name)))


def _port_cells(net: NetworkPlan, row: PortRow) -> list[object]:
    return [
        row.port, row.label, row.mode, net.vlan(row.access) if row.access else "",
        " ".join(str(net.vlan(z)) for z in row.tagged), row.role, row.rate_mbps, "off" if row.poe_w is None else "on",
        row.priority, _yes(row.mode != "off" and row.kind != "link"), "on" if row.energy_saving else "off",
        _yes(f"{row.switch}:{row.port}" in net.multicast.fast_leave),
        "" if row.authentication == "none" else row.authentication,
    ]  # fmt: skip


def _yes(is_so: bool) -> str:
    return "yes" if is_so else "no"


def work_sheet(net: NetworkPlan, switch: Switch) -> Sheet:
    """All that a person enters in the switch's own page."""
    kind = net.plan.switch_type(switch)
    about = f"{kind.maker} {kind.model}, {switch.cabinet}"
    rows = net.ports.of(switch.name)
    lines = [*_switch_lines(net, switch), *(_port_line(net, row) for row in rows if row.mode != "off")]
    off = ", ".join(str(row.port) for row in rows if row.mode == "off")
    if off:
        lines.append(Line("other ports", f"ports: {off}", "off", "nothing is planned here"))
    return Sheet(switch.name, about, tuple(lines))


_WHY = "as planned"


def _switch_lines(net: NetworkPlan, switch: Switch) -> Iterator[Line]:
    used = {z for row in net.ports.of(switch.name) for z in row.zones}
    for zone in net.plan.zones:
        if zone.name in used:
            private = f", {zone.private} secondary of VLAN {net.vlan(zone.primary)}" if zone.primary else ""
            yield Line(f"VLAN {zone.vlan}", "VLANs", f"VLAN {zone.vlan}, name {zone.name}{private}", _WHY)
    protection = {"rstp": "rapid", "mstp": "multiple", "none": "off"}.get(switch.loop_protection or "", "")
    if protection:
        yield Line("spanning tree", "spanning tree", f"{protection}; ports of devices are edge ports", _WHY)
    if net.multicast.zones:
        yield Line("snooping", "multicast: IGMP snooping", "on" if switch.snooping else "off", "RFC 4541")
    for asked in net.multicast.zones:
        if asked.querier == switch.name:
            yield Line("querier", "multicast: querier", f"on in VLAN {net.vlan(asked.zone)}", "RFC 4541")
    for copy in net.copies():
        if copy.switch == switch.name:
            to = net.vlan(copy.to_zone)
            yield Line(
                f"group {copy.group}",
                "multicast VLAN registration",
                f"{copy.group}, VLAN {copy.from_vlan} to VLAN {to}",
                _WHY,
            )


def _port_line(net: NetworkPlan, row: PortRow) -> Line:
    vlans = f"untagged VLAN {net.vlan(row.access)}" if row.mode == "access" else ""
    vlans = vlans or "tagged VLAN " + ", ".join(str(net.vlan(z)) for z in row.tagged)
    words = [
        vlans, row.role, f"PoE {'off' if row.poe_w is None else 'on'}", row.priority and f"priority {row.priority}",
        "energy-saving Ethernet " + ("on" if row.energy_saving else "off"),
        row.authentication if row.authentication != "none" else "",
    ]  # fmt: skip
    enter = "; ".join(w for w in words if w)
    return Line(f"port {row.port}", f"ports: {row.port}", enter, row.label or "nothing is planned here")


@dataclass(frozen=True)
class Label:
    """One cable, with the same words on both of its ends."""

    port: str
    device: str
    note: str


def labels(net: NetworkPlan) -> list[Label]:
    """Of every port in use; a cable between two switches once."""
    made, done = [], set[frozenset[str]]()
    for row in net.ports.rows:
        place = f"{row.switch}:{row.port}"
        if row.kind == "free" or frozenset((place, row.device)) in done:
            continue
        done.add(frozenset((place, row.device)))
        vlan = "VLAN " + "+".join(str(net.vlan(z)) for z in row.zones) if row.zones else "off"
        made.append(Label(place, row.device or row.label, ", ".join(w for w in (vlan, _run(net, row)) if w)))
    return made


def _run(net: NetworkPlan, row: PortRow) -> str:
    if row.run_length_m is not None:
        return f"{row.run_length_m:g} m"
    lengths = [k.length_m for k in net.plan.links if (row.switch, row.port) in k.ends()]
    return f"{lengths[0]:g} m" if lengths and lengths[0] else ""


def labels_csv(net: NetworkPlan) -> bytes:
    return _csv(("port", "device", "note"), ((x.port, x.device, x.note) for x in labels(net)))


def labels_page(net: NetworkPlan) -> bytes:
    when = quantities.now().astimezone()
    template = environment().get_template("labels.html.j2")
    return template.render(site=net.plan.site.name, labels=labels(net), when=f"{when:%Y-%m-%d}").encode()
