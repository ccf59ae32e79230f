"""The bill of materials, the cable schedule, and what cabinets take."""

from __future__ import annotations

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.materials import MaterialsPlan, plan_materials
from zentrale.site.model import Plan


def calculate(plan: Plan, made: Made, request: Request) -> MaterialsPlan:
    from zentrale.jobs.parts import power_part, storage_part

    return plan_materials(plan, made.of(power_part.PART), made.of(storage_part.PART))


def document(result: MaterialsPlan) -> dict[str, object]:
    return {
        "materials": [
            {
                "item": m.item, "type": m.type, **({"count": m.count} if m.metres is None else {"metres": round(m.metres, 1)}),
                "price": m.price, "sum": None if m.sum is None else round(m.sum, 2),
            }
            for m in result.materials
        ],
        "total_price": round(result.total_price, 2),
        "cables": [
            {
                "number": c.number, "from": c.start, "to": c.end, "kind": c.kind, "category": c.category, "route": c.route,
                "metres": c.metres, "label_from": c.label_from, "label_to": c.label_to,
            }
            for c in result.cables
        ],
        "cabinets": [
            {
                "cabinet": k.cabinet, "mains_w": round(k.mains_w, 1), "heat_w": round(k.heat_w, 1), "rack_units": k.rack_units,
                "kwh_a_year": round(k.kwh_a_year),
            }
            for k in result.cabinets
        ],
        "drives": [{"recorder": d.recorder, "to_buy": d.to_buy, "write_bps": round(d.write_bps)} for d in result.drives],
    }  # fmt: skip


def show(page: Page, plan: Plan, result: MaterialsPlan, asked: Asked) -> None:
    page.heading("Bill of materials")
    rows = []
    for m in result.materials:
        amount = str(m.count) if m.metres is None else f"{m.metres:.0f} m"
        rows.append([m.item, m.type, amount, _money(m.price), _money(m.sum)])
    page.table(["item", "type", ">amount", f">price [{plan.site.currency}]", f">sum [{plan.site.currency}]"], rows)
    spare = plan.policy.cable_spare_percent
    page.line(
        f"{result.total_price:.0f} {plan.site.currency}, of what has a price; cables with {spare:g} % to spare", "bold"
    )
    page.heading("Cabinets")
    page.table(
        ["cabinet", ">mains [W]", ">heat [W]", ">rack units", ">kWh a year"],
        (
            [k.cabinet, f"{k.mains_w:.0f}", f"{k.heat_w:.0f}", f"{k.rack_units:g}", f"{k.kwh_a_year:.0f}"]
            for k in result.cabinets
        ),
    )
    page.line("mains in the worst mode; heat is what of it stays in the cabinet; the year is half day and half night")
    if result.drives:
        page.heading("Drives")
        drives = ([d.recorder, str(d.to_buy), quantities.bitrate(d.write_bps)] for d in result.drives)
        page.table(["recorder", ">to buy", ">written"], drives)
    if asked.full:
        page.heading("Cable schedule, without spare")
        cables = (
            [c.number, c.start, c.end, c.kind, c.category or "-", c.route or "-", _metres(c.metres)]
            for c in result.cables
        )
        page.table(["number", "from", "to", "kind", "category", "route", ">length"], cables)


def _money(price: float | None) -> str:
    return "-" if price is None else f"{price:.2f}"


def _metres(length: float | None) -> str:
    return "-" if length is None else f"{length:g} m"


def summary(plan: Plan, result: MaterialsPlan) -> str:
    counts = quantities.count(len(result.materials), "item"), quantities.count(len(result.cables), "cable")
    return f"{', '.join(counts)}, {result.total_price:.0f} {plan.site.currency} of what has a price"


def facts(plan: Plan, result: MaterialsPlan) -> list[Fact]:
    return [
        Fact(
            "material",
            f"{m.item} {m.type}",
            f"{m.count}" if m.metres is None else f"{m.metres:.0f} m",
            float(m.count or m.metres or 0),
        )
        for m in result.materials
    ]


def books(result: MaterialsPlan) -> dict[str, bytes]:
    from zentrale.output.workbook import workbook

    return {"materials.xlsx": workbook({k: v for k, v in document(result).items() if isinstance(v, list)})}


def applies(plan: Plan) -> bool:
    """Unasked, only where somebody works on a tender."""
    prices = [kind.price for kind in plan.camera_types] + [kind.price for kind in plan.recorder_types]
    return any(price is not None for price in prices)


PART = Part("materials", calculate, document, show, applies=applies, facts=facts, summary=summary, books=books)
