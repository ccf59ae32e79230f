"""The port table of each switch."""

from __future__ import annotations

from zentrale import quantities
from zentrale.jobs.parts import power_part
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request, plain
from zentrale.planning.ports import PortRow, PortTables, plan_ports
from zentrale.site.model import Plan


def calculate(plan: Plan, made: Made, request: Request) -> PortTables:
    return plan_ports(plan, made.of(power_part.PART))


def document(result: PortTables) -> dict[str, object]:
    return {"ports": plain(result.rows)}


def show(page: Page, plan: Plan, result: PortTables, asked: Asked) -> None:
    show_ports(page, plan, result, full=asked.full)


def show_ports(page: Page, plan: Plan, ports: PortTables, *, full: bool) -> None:

    if not full:
        page.heading("Ports")
        rows = []
        for switch in plan.switches:
            table = ports.of(switch.name)
            kinds = [row.kind for row in table]
            counts = [
                str(kinds.count(kind)) for kind in ("camera", "recorder", "viewer", "access point", "link", "free")
            ]
            rows.append([switch.name, str(len(table)), *counts])
        columns = [">ports", ">cameras", ">recorder legs", ">viewers", ">access points", ">links", ">free"]
        page.table(["switch", *columns], rows)
        page.hint("`zentrale plan ports` shows every port")
        return
    for switch in plan.switches:
        table = ports.of(switch.name)
        page.heading(f"Ports of {switch.name} ({switch.type}, {switch.cabinet})")
        rows = [_port_row(plan, row) for row in table if row.kind != "free"]
        columns = [
            ">port",
            "label",
            "mode",
            ">VLAN",
            ">speed",
            ">PoE",
            "?zones",
            "?>run",
            "?in private VLAN",
            "?priority",
            "?energy saving",
            "?lets in by",
        ]
        page.table(columns, rows)
        free = [row.port for row in table if row.kind == "free"]
        if free:
            page.line(f"{quantities.count(len(free), 'port')} free, switched off: {quantities.ranges(free)}")


def _port_row(plan: Plan, row: PortRow) -> list[str]:

    vlans = ", ".join(str(plan.zone(name).vlan) for name in row.zones) or "-"
    mode = {"trunk": "tagged", "access": "access", "off": "off"}[row.mode]
    return [
        str(row.port), row.label, mode, vlans, quantities.bitrate(row.rate_mbps * 1e6), _poe(row), ", ".join(row.zones) or "-",
        "-" if row.run_length_m is None else f"{row.run_length_m:g} m", row.role or "-", row.priority or "-",
        "on" if row.energy_saving else "off", row.authentication if row.authentication != "none" else "-",
    ]  # fmt: skip


def _poe(row: PortRow) -> str:
    if not row.poe:
        return "off"
    return "on, not known" if row.poe_w is None else quantities.power(row.poe_w)


def facts(plan: Plan, result: PortTables) -> list[Fact]:
    """What each used port is set to."""
    return [
        Fact("port", f"{row.switch}:{row.port}", f"{row.label}, {row.mode} {', '.join(row.zones)}".rstrip())
        for row in result.rows
        if row.kind != "free" or row.given
    ]


def summary(plan: Plan, result: PortTables) -> str:
    used = sum(row.kind != "free" for row in result.rows)
    return f"{used} of {quantities.count(len(result.rows), 'port')} used"


PART = Part("ports", calculate, document, show, facts=facts, summary=summary)
