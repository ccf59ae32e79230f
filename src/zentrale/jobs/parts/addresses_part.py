"""Blocks of each zone, and a fixed address for every device."""

from __future__ import annotations

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.addresses import AddressPlan, plan_addresses
from zentrale.site.model import Plan


def calculate(plan: Plan, made: Made, request: Request) -> AddressPlan:
    return plan_addresses(plan, request.held)


def document(addresses: AddressPlan) -> dict[str, object]:
    return {
        "zones": [
            {
                "zone": z.zone,
                "vlan": z.vlan,
                "subnet": str(z.network),
                "gateway": str(z.gateway) if z.gateway else None,
                "infrastructure": str(z.infrastructure) if z.infrastructure else None,
                "fixed": str(z.fixed),
                "pool": str(z.pool) if z.pool else None,
                "devices": z.devices,
            }
            for z in addresses.zones
        ],
        "addresses": [
            {
                "name": d.name,
                "kind": d.kind,
                "zone": d.zone,
                "address": str(d.address),
                "mac": d.mac or None,
                "given": d.given,
                "held": d.held,
            }
            for d in addresses.devices
        ],
    }


def show(page: Page, plan: Plan, result: AddressPlan, asked: Asked) -> None:
    show_addresses(page, result)


def show_addresses(page: Page, addresses: AddressPlan) -> None:

    page.heading("Addresses")
    rows = []
    for z in addresses.zones:
        gateway = str(z.gateway or "none")
        blocks = [str(block or "none") for block in (z.infrastructure, z.fixed, z.pool)]
        used = quantities.share(z.devices, len(z.fixed))
        rows.append([z.zone, str(z.vlan), str(z.network), gateway, *blocks, str(z.devices), used])
    page.table(
        ["zone", ">VLAN", "subnet", "gateway", "infrastructure", "fixed block", "DHCP pool", ">devices", ">used"], rows
    )
    pages = [d for d in addresses.devices if d.kind == "switch"]
    if pages:
        page.heading("Where the switches' own pages answer")
        page.table(["switch", "zone", "address"], ([d.name, d.zone, str(d.address)] for d in pages))
    proposed = [d for d in addresses.devices if not d.given]
    if proposed:
        page.heading(f"Proposed for {quantities.count(len(proposed), 'camera')} without an address")
        page.table(
            ["camera", "zone", "address", "MAC address", ""],
            ([d.name, d.zone, str(d.address), d.mac or "-", "as registered" if d.held else ""] for d in proposed),
        )
        page.hint("`zentrale plan addresses --write` enters them into cameras.csv")


def proposes(addresses: AddressPlan) -> dict[tuple[str, str], str]:
    return {(name, "address"): address for name, address in addresses.proposals().items()}


def lists(addresses: AddressPlan) -> dict[str, bytes]:
    return {"dhcp-reservations.conf": addresses.reservations().encode("utf-8")}


def facts(plan: Plan, result: AddressPlan) -> list[Fact]:
    return [Fact("address", f"{d.kind} {d.name}", str(d.address)) for d in result.devices]


def summary(plan: Plan, result: AddressPlan) -> str:
    proposed = len(result.proposals())
    more = f", {proposed} proposed (--write enters them)" if proposed else ""
    zones = quantities.count(len(result.zones), "zone")
    return f"{quantities.count(len(result.devices), 'address', 'addresses')} in {zones}{more}"


PART = Part("addresses", calculate, document, show, proposes=proposes, lists=lists, facts=facts, summary=summary)
