"""How `zentrale plan` shows zones, ports, multicast, level of detail and placement."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.planning.detail import DetailPlan
    from zentrale.planning.multicast import MulticastPlan
    from zentrale.planning.placement import PlacementPlan
    from zentrale.planning.ports import PortRow, PortTables
    from zentrale.planning.reach import Cell, Party, ReachPlan
    from zentrale.site.model import Plan


def show_reach(output: Output, reach: ReachPlan, *, full: bool) -> None:
    output.heading("Who reaches whom: may the row begin to talk to the column?")
    cells = {(c.origin, c.to): c for c in reach.cells}
    rows = [[str(origin), *(_reach_cell(cells.get((origin, to))) for to in reach.parties)] for origin in reach.parties]
    output.table(["from \\ to", *(_party(party) for party in reach.parties)], rows)
    if full:
        output.heading("What decides it")
        rows = [[str(c.origin), str(c.to), "yes" if c.allowed else "no", c.why, _wanted(c)] for c in reach.cells]
        output.table(["from", "to", "reaches", "because", "wanted"], rows)
    else:
        output.hint("`zentrale plan zones` says for each what decides it")


def _party(party: Party) -> str:
    from zentrale.site.model import INTERNET

    return INTERNET if party.zone == INTERNET else f"{party.kind}\n{party.zone}"


def _reach_cell(cell: Cell | None) -> str:
    if cell is None:
        return ""
    word = "yes" if cell.allowed else "no"
    if not cell.as_wanted:
        return f"fault|{word.upper()}, WRONG"
    return f"ok|{word}" if cell.wanted is not None else word


def _wanted(cell: Cell) -> str:
    if cell.wanted is None:
        return "-"
    return f"{'ok' if cell.as_wanted else 'fault'}|{'yes' if cell.wanted else 'no'}"


def show_ports(output: Output, plan: Plan, ports: PortTables, *, full: bool) -> None:
    from zentrale import quantities

    if not full:
        output.heading("Ports")
        rows = []
        for switch in plan.switches:
            table = ports.of(switch.name)
            kinds = [row.kind for row in table]
            counts = [
                str(kinds.count(kind)) for kind in ("camera", "recorder", "viewer", "access point", "link", "free")
            ]
            rows.append([switch.name, str(len(table)), *counts])
        columns = [">ports", ">cameras", ">recorder legs", ">viewers", ">access points", ">links", ">free"]
        output.table(["switch", *columns], rows)
        output.hint("`zentrale plan ports` shows every port")
        return
    for switch in plan.switches:
        table = ports.of(switch.name)
        output.heading(f"Ports of {switch.name} ({switch.type}, {switch.cabinet})")
        rows = [_port_row(plan, row) for row in table if row.kind != "free"]
        columns = [
            ">port",
            "label",
            "mode",
            "VLAN",
            "in private VLAN",
            ">speed",
            ">PoE",
            "priority",
            "energy saving",
            "lets in by",
        ]
        output.table(columns, rows)
        free = [str(row.port) for row in table if row.kind == "free"]
        if free:
            output.line(f"{quantities.count(len(free), 'port')} free, switched off: {', '.join(free)}")


def _port_row(plan: Plan, row: PortRow) -> list[str]:
    from zentrale import quantities

    vlans = ", ".join(f"{plan.zone(name).vlan} {name}" for name in row.zones) or "-"
    mode = {"trunk": "trunk, tagged", "access": "access", "off": "off"}[row.mode]
    run = f", {row.run_length_m:g} m" if row.run_length_m is not None else ""
    return [
        str(row.port), f"{row.label}{run}", mode, vlans, row.role or "-", quantities.bitrate(row.rate_mbps * 1e6),
        "off" if row.poe_w is None else quantities.power(row.poe_w), row.priority or "-",
        "on" if row.energy_saving else "off", row.authentication if row.authentication != "none" else "-",
    ]  # fmt: skip


def show_multicast(output: Output, multicast: MulticastPlan, *, full: bool) -> None:
    from zentrale import quantities

    output.heading("Multicast")
    if not multicast.groups:
        output.line("no viewer is planned to watch by multicast")
        return
    if full:
        rows = [
            [g.camera, g.stream, g.zone, g.group, str(g.port), str(g.time_to_live), g.ethernet,
             quantities.bitrate(g.bitrate_bps), ", ".join(g.listeners)]
            for g in multicast.groups
        ]  # fmt: skip
        columns = ["camera", "stream", "zone", "group", ">UDP port", ">TTL", "Ethernet address", ">load", "listeners"]
        output.table(columns, rows)
        output.line()
    rows = [
        [z.zone, z.querier + (" (proposed)" if z.proposed else ""), ", ".join(z.snooping_on),
         f"fault|off on {', '.join(z.snooping_missing)}" if z.snooping_missing else "ok|on everywhere",
         quantities.bitrate(z.flooded_port_bps)]
        for z in multicast.zones
    ]  # fmt: skip
    output.table(["zone", "querier", "groups pass", "snooping", ">on every port without snooping"], rows)
    rows = [[link.name, quantities.bitrate(link.snooped_bps), quantities.bitrate(link.flooded_bps),
             quantities.share(link.flooded_bps, link.rate_bps)] for link in multicast.links]  # fmt: skip
    output.line()
    output.table(["link", ">multicast with snooping", ">without", ">of line rate"], rows)
    ports = ", ".join(multicast.fast_leave)
    output.line(f"{quantities.count(len(multicast.groups), 'group')}; fast leave only where one listener sits: {ports}")


def show_detail(output: Output, detail: DetailPlan, *, full: bool) -> None:
    from zentrale import quantities
    from zentrale.planning.detail import LEVELS

    output.heading("Level of detail (IEC 62676-4)")
    if not detail.cameras:
        output.line("no camera has a position, direction and lens in the plan")
        return
    rows = []
    for d in detail.cameras:
        enough = not d.wants or d.pixels_per_m is None or d.pixels_per_m >= LEVELS[d.wants]
        if not full and enough:
            continue
        rows.append([
            d.camera, f"{d.view.horizontal_deg:.0f}°", "-" if d.target_m is None else f"{d.target_m:g} m",
            "-" if d.pixels_per_m is None else f"{d.pixels_per_m:.0f}", d.level or "-", d.wants or "-",
            "-" if not d.wants else f"{d.reach_m:.1f} m", "ok|enough" if enough else "fault|too little",
        ])  # fmt: skip
    if rows:
        columns = ["camera", ">view", ">target at", ">px/m there", "good enough to", "wanted", ">reaches that to", ""]
        output.table(columns, rows)
    output.line(f"{quantities.count(len(detail.cameras), 'camera')} calculated")
    if detail.without_lens:
        output.line(f"not calculated, without position, direction or lens: {', '.join(detail.without_lens)}")
    if detail.areas:
        output.line()
        rows = [[a.area, a.wants, f"{a.size_m2:.0f} m²", f"{a.seen_m2:.0f} m²", f"{a.unseen_m2:.0f} m²",
                 quantities.share(a.seen_m2, a.size_m2)] for a in detail.areas]  # fmt: skip
        output.table(["area", "wanted", ">size", ">seen so", ">not seen so", ">share"], rows)


def show_placement(output: Output, plan: Plan, placement: PlacementPlan, *, full: bool) -> None:
    from zentrale.planning.placing.search import Solution

    output.heading("Cheapest placement of switches")
    result = placement.result
    if result is None:
        output.line("the plan lacks for it: " + ("; ".join(placement.lacks) or "cameras with a cable"))
        return
    if not isinstance(result, Solution):
        output.line("there is none: see the findings")
        return
    price = plan.site.currency
    rows = []
    for cabinet in result.cabinets:
        for switch in cabinet.switches:
            longest = max((cabinet.runs_m[c] for c in switch.cameras), default=0.0)
            names = ", ".join(switch.cameras) if full else f"{len(switch.cameras)}"
            rows.append([cabinet.cabinet, switch.type, names, f"{longest:.0f} m"])
    output.table(["cabinet", "switch", "cameras" if full else ">cameras", ">longest run"], rows)
    cost = result.cost
    parts = f"switches {cost.switches:.0f}, cable {cost.cable:.0f}, cabinets and fibre {cost.cabinets:.0f}"
    output.line(f"{cost.total:.0f} {price}: {parts}", "bold")
    output.line(f"no placement costs less than {result.bound:.0f} {price}: proven gap {100 * result.gap:.2f} %")
    if result.by_hand is not None:
        saving = result.by_hand.total - cost.total
        output.line(
            f"every camera to its nearest cabinet would cost {result.by_hand.total:.0f} {price}, {saving:.0f} more"
        )
    else:
        output.line("every camera to its nearest cabinet does not fit")
