"""The port table of a switch for a spreadsheet, and a label for each end of every cable."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from zentrale import quantities
from zentrale.output.csv_tables import safe_cell
from zentrale.output.page import environment
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch

PORT_COLUMNS = (
    "port", "label", "mode", "untagged_vlan", "tagged_vlans", "in_private_vlan", "speed_mbps", "poe", "poe_priority", "edge",
    "energy_saving_ethernet", "fast_leave", "lets_in_by", "tagged_only", "bundle", "fixed_speed",
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
        row.port, row.label, row.mode, net.vlan(row.access or row.native) if row.access or row.native else "",
        " ".join(str(net.vlan(z)) for z in row.tagged), row.role, row.rate_mbps, "on" if row.poe else "off",
        row.priority, _yes(row.mode != "off" and row.kind != "link"), "on" if row.energy_saving else "off",
        _yes(f"{row.switch}:{row.port}" in net.multicast.fast_leave),
        "" if row.authentication == "none" else row.authentication, _yes(row.mode == "trunk" and not row.native),
        bundle_of(net, row), _yes(row.fixed_rate),
    ]  # fmt: skip


def _yes(is_so: bool) -> str:
    return "yes" if is_so else "no"


def bundle_of(net: NetworkPlan, row: PortRow) -> str:
    """The name of the bundle that a port of a link is in."""
    return next((k.bundle for k in net.plan.links if (row.switch, row.port) in k.ends()), "")


@dataclass(frozen=True)
class Label:
    """One end of a cable: what is there, and what at the other end."""

    here: str
    other: str
    note: str


def labels(net: NetworkPlan) -> list[Label]:
    """Of every port in use, and of what is plugged in there; a cable between two switches has its two ports."""
    made = []
    for row in net.ports.rows:
        if row.kind == "free":
            continue
        place, other = f"{row.switch}:{row.port}", net.plan.called(row.device or row.label)
        vlan = "VLAN " + "+".join(str(net.vlan(z)) for z in row.zones) if row.zones else "off"
        bundle = bundle_of(net, row)
        note = ", ".join(w for w in (vlan, bundle and f"bundle {bundle}", _run(net, row)) if w)
        made.append(Label(place, other, note))
        if row.kind != "link":
            made.append(Label(other, place, note))
    return made


def _run(net: NetworkPlan, row: PortRow) -> str:
    if row.run_length_m is not None:
        return f"{row.run_length_m:g} m"
    lengths = [k.length_m for k in net.plan.links if (row.switch, row.port) in k.ends()]
    return f"{lengths[0]:g} m" if lengths and lengths[0] else ""


def labels_csv(net: NetworkPlan) -> bytes:
    return _csv(("this_end", "other_end", "note"), ((x.here, x.other, x.note) for x in labels(net)))


def labels_page(net: NetworkPlan) -> bytes:
    when = quantities.at_site(quantities.now())
    template = environment().get_template("labels.html.j2")
    return template.render(site=net.plan.site.name, labels=labels(net), when=f"{when:%Y-%m-%d}").encode()
