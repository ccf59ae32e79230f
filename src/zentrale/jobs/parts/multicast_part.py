"""Groups, querier, snooping; the load with and without."""

from __future__ import annotations

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request, plain
from zentrale.planning.multicast import MulticastPlan, plan_multicast
from zentrale.site.model import Plan


def calculate(plan: Plan, made: Made, request: Request) -> MulticastPlan:
    return plan_multicast(plan)


def document(multicast: MulticastPlan) -> dict[str, object]:
    return {
        "multicast_groups": plain(multicast.groups),
        "multicast_zones": plain(multicast.zones),
        "multicast_links": plain(multicast.links),
        "fast_leave_ports": list(multicast.fast_leave),
    }


def show(page: Page, plan: Plan, result: MulticastPlan, asked: Asked) -> None:
    show_multicast(page, result, full=asked.full)


def show_multicast(page: Page, multicast: MulticastPlan, *, full: bool) -> None:

    page.heading("Multicast")
    if not multicast.groups:
        page.line("no viewer is planned to watch by multicast")
        return
    if full:
        rows = [
            [g.camera, g.stream, g.zone, g.group, str(g.port), str(g.time_to_live), g.ethernet,
             quantities.bitrate(g.bitrate_bps), ", ".join(g.listeners)]
            for g in multicast.groups
        ]  # fmt: skip
        columns = ["camera", "stream", "zone", "group", ">UDP port", ">TTL", "Ethernet address", ">load", "listeners"]
        page.table(columns, rows)
        page.line()
    rows = [
        [z.zone, z.querier + (" (proposed)" if z.proposed else ""), ", ".join(z.snooping_on),
         f"fault|off on {', '.join(z.snooping_missing)}" if z.snooping_missing else "ok|on everywhere",
         quantities.bitrate(z.flooded_port_bps)]
        for z in multicast.zones
    ]  # fmt: skip
    page.table(["zone", "querier", "groups pass", "snooping", ">on every port without snooping"], rows)
    rows = [[link.name, quantities.bitrate(link.snooped_bps), quantities.bitrate(link.flooded_bps),
             quantities.share(link.flooded_bps, link.rate_bps)] for link in multicast.links]  # fmt: skip
    page.line()
    page.table(["link", ">multicast with snooping", ">without", ">of line rate"], rows)
    ports = ", ".join(multicast.fast_leave)
    if multicast.proposals():
        page.hint("`zentrale plan multicast --write` enters the chosen groups into cameras.csv")
    page.line(f"{quantities.count(len(multicast.groups), 'group')}; fast leave only where one listener sits: {ports}")


def proposes(multicast: MulticastPlan) -> dict[tuple[str, str], str]:
    return {(camera, f"multicast_{stream}"): group for (camera, stream), group in multicast.proposals().items()}


def facts(plan: Plan, result: MulticastPlan) -> list[Fact]:
    return [
        Fact("multicast group", f"camera {g.camera}, {g.stream} stream", f"{g.group}:{g.port}") for g in result.groups
    ]


def summary(plan: Plan, result: MulticastPlan) -> str:
    return quantities.count(len(result.groups), "group") if result.groups else "no viewer watches by multicast"


PART = Part("multicast", calculate, document, show, proposes=proposes, facts=facts, summary=summary)
