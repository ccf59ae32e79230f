"""All files that the plan's network is written as: the one list of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.output.network import access, dhcp, linux, nftables, openvswitch, querier, sheets, tables, yang
from zentrale.planning.by_hand.order import Place, orders
from zentrale.planning.by_hand.sheet import work_sheets
from zentrale.planning.network import NetworkPlan

SHEET, SHEETS = "work-sheet.html", "work-sheets.html"
TYPED_FROM = ", typed from "


@dataclass(frozen=True)
class NetworkFile:
    """`path` below output/network/; `what` it is and for whom."""

    path: str
    what: str
    content: bytes


def network_files(net: NetworkPlan, laptop: Place | None = None) -> Iterator[NetworkFile]:
    """`laptop`: where the one stands from which the work sheets are typed in, where somebody has said so."""
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
    typed = work_sheets(net, orders(net, laptop))
    for sheet in typed:
        yield NetworkFile(f"{sheet.switch}/{SHEET}", "work sheet, to print", sheets.page(plan.site.name, [sheet]))
    from_where = f"{TYPED_FROM}{laptop}" if laptop is not None else ""
    what = f"work sheets of the switches{from_where}"
    yield NetworkFile(SHEETS, what, sheets.page(plan.site.name, typed))
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
