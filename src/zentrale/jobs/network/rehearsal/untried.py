"""What of the written files, and of the plan, no packet told of: a verdict of its own."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from zentrale.field.lab.servers import lacks_rules, radius_tool
from zentrale.jobs.network.rehearsal import addresses, letting_in
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.jobs.network.standing import NO_MORE, Standing
from zentrale.output.network import querier
from zentrale.output.network.registry import SHEET, SHEETS
from zentrale.planning.reach import fits
from zentrale.site.model import INTERNET

_FOR_PEOPLE = {SHEET, SHEETS, "labels.html", "labels.csv"}


@dataclass(frozen=True)
class Untried:
    """A file, or a part of one, and why."""

    file: str
    why: str


def untried(
    stage: Stage, standing: Standing, without: Mapping[str, str], *, storm: bool, rules: bool, dhcp: bool
) -> Iterator[Untried]:
    """`without` are files that were not tried, by those who did not; `storm`: frames went in circles, and nothing else was tried;
    `rules`, `dhcp`: whether this machine has what these take.
    """
    groups = [g for g in stage.net.multicast.groups if not stage.net.is_routed(g)]
    for file in standing.files.values():
        name = file.path.rpartition("/")[2]
        why = without.get(file.path, "")
        if why:
            pass
        elif file.state == NO_MORE:
            why = "the plan has it no more"
        elif storm and name != "openvswitch.sh":
            why = "frames went in circles"
        elif name in _FOR_PEOPLE:
            why = "for people to read"
        elif name in ("ports.csv", "instance-data.json"):
            why = "read back and compared only"
        elif name == "kea-dhcp4.json":
            why = "the files for dnsmasq were, which say the same when they are written"
        elif name.endswith(".nft") and not rules:
            why = "nftables is missing here" if lacks_rules() else "a file of rules was refused"
        elif name.endswith(".conf") and not dhcp:
            why = "dnsmasq is missing here"
        elif file.path == letting_in.FILE and not radius_tool():
            why = "no RADIUS server is installed here (Debian: apt-get install freeradius)"
        elif name == querier.FILE and not groups:
            why = "no group is here to be asked for"
        if why:
            yield Untried(file.path, why)
    for zone in stage.net.gives_addresses():
        if addresses.server_place(stage, zone) is None:
            yield Untried(addresses.file_of(zone), f"neither router nor recorder stands in {zone.name}")
    yield from _rules_of_nobody(stage)
    yield from (Untried("plan", text) for text in stage.added if "is not there" in text)


def _rules_of_nobody(stage: Stage) -> Iterator[Untried]:
    """Rules of the router whose parties do not stand here."""
    places = list(dict.fromkeys(p.party for p in stage.places.values()))
    named = set()
    for rule in stage.net.router_rules:
        plan = stage.net.plan.rules[rule.number - 1]
        here = any(
            fits(plan, a, b)
            for a in places
            for b in places
            if (a.zone, b.zone) == (rule.origin.zone, rule.to.zone) or INTERNET in (a.zone, b.zone)
        )
        if not here and rule.number not in named:
            named.add(rule.number)
            yield Untried("router.nft", f"rule {rule.number}, {rule.origin} to {rule.to}: nobody of them stands here")
