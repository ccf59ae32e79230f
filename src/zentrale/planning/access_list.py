"""Access lists as neutral rows, from who reaches whom: what any firewall or switch is told later comes from here.

For a pair of parties the first row that fits a packet decides; a pair ends with a row for everything. Answers to what was
allowed come back (a stateful filter).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.planning.flows import same_network
from zentrale.planning.reach import Party, ReachPlan, fits
from zentrale.site.model import INTERNET, Plan

ANY = "any"


@dataclass(frozen=True)
class AccessRow:
    """One row. `origin_networks` and `to_networks` are IPv4 blocks (RFC 4632), empty for the internet: every other address.

    protocol, port: as the rule says it (a port, FIRST-LAST), or any
    verdict:        allow or deny
    kept_by:        who keeps it: router, switch (within one VLAN or private VLAN), recorder (from leg to leg)
    """

    origin: Party
    origin_networks: tuple[str, ...]
    to: Party
    to_networks: tuple[str, ...]
    protocol: str
    port: str
    verdict: str
    kept_by: str
    why: str


def access_rows(plan: Plan, reach: ReachPlan) -> tuple[AccessRow, ...]:
    """The rows of every pair of parties, in the order of the matrix."""
    rows: list[AccessRow] = []
    for cell in reach.cells:
        networks = (_networks(plan, cell.origin), _networks(plan, cell.to))
        for protocol, port, allowed, kept_by, why in _verdicts(plan, cell.origin, cell.to, cell.allowed, cell.why):
            verdict = "allow" if allowed else "deny"
            rows.append(
                AccessRow(cell.origin, networks[0], cell.to, networks[1], protocol, port, verdict, kept_by, why)
            )
    return tuple(rows)


def _verdicts(
    plan: Plan, origin: Party, to: Party, allowed: bool, why: str
) -> Iterator[tuple[str, str, bool, str, str]]:
    if INTERNET not in (origin.zone, to.zone) and same_network(plan, origin.zone, to.zone):
        yield ANY, ANY, allowed, "switch", why
        return
    if why.startswith("through "):
        yield ANY, ANY, allowed, "recorder", why
        return
    if "has no gateway" not in why:
        for number, rule in enumerate(plan.rules, start=1):
            if fits(rule, origin, to):
                yield rule.protocol, rule.port or ANY, rule.allow, "router", f"rule {number}"
                if rule.protocol == ANY:
                    return
        why = "no rule allows it"
    yield ANY, ANY, False, "router", why


def _networks(plan: Plan, party: Party) -> tuple[str, ...]:
    """Recorders by their own addresses, all else by the subnet of the zone."""
    if party.zone == INTERNET:
        return ()
    if party.kind == "recorder":
        legs = (leg for recorder in plan.recorders for leg in recorder.legs())
        return tuple(f"{leg.address}/32" for leg in legs if leg.zone == party.zone)
    return (str(plan.zone(party.zone).subnet),)
