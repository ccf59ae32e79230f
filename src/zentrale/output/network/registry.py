"""All files that the plan's network is written as: the one list of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.output.network import access, dhcp, linux, nftables, openvswitch, querier, tables, yang
from zentrale.output.work_sheets import sheets_page
from zentrale.planning.network import NetworkPlan

_SHEETS = "What is entered at each switch that takes none of the other files, switch by switch."


@dataclass(frozen=True)
class NetworkFile:
    """`path` below output/network/; `what` it is and for whom."""

    path: str
    what: str
    content: bytes


def network_files(net: NetworkPlan) -> Iterator[NetworkFile]:
    plan = net.plan
    for switch in plan.switches:
        name = switch.name
        yield NetworkFile(f"{name}/ports.csv", "port table", tables.port_table(net, switch))
        yield _text(f"{name}/openvswitch.sh", "commands for Open vSwitch", openvswitch.commands(net, switch))
        if querier.asked_zones(net, switch):
            yield _text(
                f"{name}/{querier.FILE}",
                "asks for multicast groups, beside Open vSwitch",
                querier.commands(net, switch),
            )
        if not linux.lacks(net, switch):
            yield _text(f"{name}/linux.sh", "commands for Linux' own bridge (ip, bridge)", linux.commands(net, switch))
        yield _text(f"{name}/instance-data.json", "YANG instance data", yang.instance_data(net, switch))
    sheets = [tables.work_sheet(net, switch) for switch in plan.switches]
    yield NetworkFile(
        "work-sheets.html",
        "work sheets of the switches",
        sheets_page(plan.site.name, sheets, _SHEETS, many=len(sheets) + 1),
    )
    yield NetworkFile("labels.html", "labels for ports and cables, to print", tables.labels_page(net))
    yield NetworkFile("labels.csv", "the same as a table", tables.labels_csv(net))
    if net.routed_zones():
        yield _text("router.nft", "what may pass between zones, for nftables", nftables.router(net))
    for recorder in plan.recorders:
        if recorder.viewing is not None:
            what = f"what keeps the legs of {recorder.name} apart, for nftables"
            yield _text(f"{recorder.name}.nft", what, nftables.recorder(net, recorder))
    for zone in net.gives_addresses():
        yield _text(f"dhcp/{zone.name}.conf", f"DHCP in zone {zone.name}, for dnsmasq", dhcp.dnsmasq(net, zone))
    if net.gives_addresses():
        yield _text("dhcp/kea-dhcp4.json", "DHCP in all zones, for Kea", dhcp.kea(net))
    if access.asked_for(net):
        yield _text("radius-users.txt", "who is let in at a port, for a RADIUS server", access.users(net))


def _text(path: str, what: str, text: str) -> NetworkFile:
    return NetworkFile(path, what, text.encode())
