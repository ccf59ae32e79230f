"""Who reaches whom, against the policy."""

from __future__ import annotations

from zentrale.jobs.parts.part import Asked, Made, Page, Part, Request
from zentrale.planning.reach import Cell, Party, ReachPlan, plan_reach
from zentrale.site.model import INTERNET, Plan


def calculate(plan: Plan, made: Made, request: Request) -> ReachPlan:
    return plan_reach(plan)


def document(reach: ReachPlan) -> dict[str, object]:
    return {
        "who_reaches_whom": [
            {
                "from_kind": c.origin.kind, "from_zone": c.origin.zone, "to_kind": c.to.kind, "to_zone": c.to.zone,
                "allowed": c.allowed, "why": c.why, "wanted": c.wanted,
            }
            for c in reach.cells
        ]
    }  # fmt: skip


def show(page: Page, plan: Plan, result: ReachPlan, asked: Asked) -> None:
    show_reach(page, result, full=asked.full)


def show_reach(page: Page, reach: ReachPlan, *, full: bool) -> None:
    page.heading("Who reaches whom: may the row begin to talk to the column?")
    cells = {(c.origin, c.to): c for c in reach.cells}
    rows = [[str(origin), *(_reach_cell(cells.get((origin, to))) for to in reach.parties)] for origin in reach.parties]
    page.table(["from \\ to", *(_party(party) for party in reach.parties)], rows)
    if full:
        page.heading("What decides it")
        rows = [[str(c.origin), str(c.to), "yes" if c.allowed else "no", c.why, _wanted(c)] for c in reach.cells]
        page.table(["from", "to", "reaches", "because", "wanted"], rows)
    else:
        page.hint("`zentrale plan zones` says for each what decides it")


def _party(party: Party) -> str:

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


def figures_of(plan: Plan, result: ReachPlan) -> dict[str, bytes]:
    from zentrale.output import network_figures  # drawing takes a second to load

    return {"reach.png": network_figures.reach_figure(plan, result)}


PART = Part("zones", calculate, document, show, figures_of)
