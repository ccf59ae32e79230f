"""Who reaches whom, against the policy."""

from __future__ import annotations

from dataclasses import dataclass

from zentrale.findings import Finding
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.access_list import ANY, AccessRow, access_rows
from zentrale.planning.reach import Cell, Party, ReachPlan, plan_reach
from zentrale.planning.time_source import time_findings
from zentrale.site.model import INTERNET, Plan


@dataclass(frozen=True)
class ZonesPlan:
    """The matrix, and the access lists that follow from it."""

    reach: ReachPlan
    rows: tuple[AccessRow, ...]
    time: tuple[Finding, ...] = ()

    @property
    def findings(self) -> tuple[Finding, ...]:
        return (*self.reach.findings, *self.time)


def calculate(plan: Plan, made: Made, request: Request) -> ZonesPlan:
    reach = plan_reach(plan)
    return ZonesPlan(reach, access_rows(plan, reach), tuple(time_findings(plan)))


def document(zones: ZonesPlan) -> dict[str, object]:
    return {
        "who_reaches_whom": [
            {
                "from_kind": c.origin.kind, "from_zone": c.origin.zone, "to_kind": c.to.kind, "to_zone": c.to.zone,
                "allowed": c.allowed, "why": c.why, "wanted": c.wanted,
            }
            for c in zones.reach.cells
        ],
        "access_list": [
            {
                "from_kind": r.origin.kind, "from_zone": r.origin.zone, "from_networks": list(r.origin_networks),
                "to_kind": r.to.kind, "to_zone": r.to.zone, "to_networks": list(r.to_networks), "protocol": r.protocol,
                "port": r.port, "verdict": r.verdict, "kept_by": r.kept_by, "why": r.why,
            }
            for r in zones.rows
        ],
    }  # fmt: skip


def show(page: Page, plan: Plan, result: ZonesPlan, asked: Asked) -> None:
    show_reach(page, result.reach, full=asked.full)
    if asked.full:
        page.heading("The router's access list, first row that fits a pair decides; all else is denied")
        rows = [
            [str(r.origin), str(r.to), r.protocol, r.port, r.verdict, r.why]
            for r in result.rows
            if r.kept_by == "router" and (r.verdict == "allow" or r.protocol != ANY)
        ]
        page.table(["from", "to", "protocol", "port", "verdict", "because"], rows)


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


def figures_of(plan: Plan, result: ZonesPlan) -> dict[str, bytes]:
    from zentrale.output import network_figures  # drawing takes a second to load

    return {"reach.png": network_figures.reach_figure(plan, result.reach)}


def facts(plan: Plan, result: ZonesPlan) -> list[Fact]:
    return [Fact("reaches", f"{c.origin} to {c.to}", "yes" if c.allowed else "no") for c in result.reach.cells]


def summary(plan: Plan, result: ZonesPlan) -> str:
    asked = [c for c in result.reach.cells if c.wanted is not None]
    return f"{len(asked)} wishes of who reaches whom, {sum(c.as_wanted for c in asked)} kept"


PART = Part("zones", calculate, document, show, figures_of, facts=facts, summary=summary)
