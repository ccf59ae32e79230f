"""How a discovery is shown: the verdict and what is wrong, then devices and streams; and as a document."""

from __future__ import annotations

from zentrale.cli import network_here

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.jobs.discovery.discovering import Discovery
    from zentrale.jobs.discovery.stream_list import Listed
    from zentrale.jobs.known.found_devices import FoundDevice
    from zentrale.site.model import Plan

_MOST_OPEN = 8


class Found:
    """One site's discovery."""

    def __init__(
        self, plan: Plan, result: Discovery, listed: Sequence[Listed] | None, only: Sequence[str] = ()
    ) -> None:
        """`only`: the devices that were looked for; empty: all."""
        self.plan, self.result, self.listed, self.only = plan, result, listed, only
        self.planned = len(only) or len(plan.cameras) + len(plan.recorders)
        good = result.matching.as_planned(plan)
        self.good = {name: device for name, device in good.items() if not only or name in only}
        self.found = len(self.good) + sum(row.there is True for row in result.behind)


def show_sites(output: Output, sites: Sequence[Found]) -> None:
    """Several sites: what all of them come to, a line for each, then what is wrong at each."""
    from zentrale import quantities
    from zentrale.findings import Severity

    found, planned = sum(s.found for s in sites), sum(s.planned for s in sites)
    said = f"{found} of {quantities.count(planned, 'planned device')} found at {len(sites)} sites"
    output.verdict([f for s in sites for f in s.result.findings], "all planned devices found, and nothing else", said)
    output.line()
    rows = []
    for site in sites:
        faults, warnings = (
            sum(f.severity is severity for f in site.result.findings) for severity in (Severity.FAULT, Severity.WARNING)
        )
        style = "fault" if faults else "warning" if warnings else "ok"
        rows.append([
            site.plan.site.name, f"{style}|{site.found} of {site.planned}", str(len(site.result.matching.extra)),
            str(faults), str(warnings),
        ])  # fmt: skip
    output.table(["site", "found", ">not planned", ">faults", ">warnings"], rows)
    for site in sites:
        if site.result.findings:
            output.heading(site.plan.site.name)
            output.findings(site.result.findings)
        if output.details:
            _show_devices(output, site.plan, site.result)
    output.next("see to what is named, then `zentrale register --dry-run` at each site")


def show(output: Output, found: Found) -> None:
    from zentrale import quantities

    plan, result, listed, planned, good = found.plan, found.result, found.listed, found.planned, found.found
    said = (
        f"{good} of {quantities.count(planned, 'planned device')} found, {len(result.matching.extra)} not planned"
        if result.matching.devices
        else "nothing answered"
    )
    for here in result.here:
        output.line(network_here.in_words(plan, here))
    output.result(result.findings, "all planned devices found, and nothing else", said)
    output.line()
    swept = ", ".join(result.swept) or "nothing"
    output.line(f"asked from {result.choice} ({result.choice.reason}); swept {swept}")
    for remark in result.remarks:
        output.line(f"remark: {remark}", "yellow")
    if output.details:
        _show_devices(output, plan, result)
    elif result.matching.devices:
        output.line("every device: `zentrale discover --details`")
    if listed is not None:
        _show_streams(output, listed)
    if found.only:
        output.next("`zentrale discover` looks for all" if good == planned else "see to what is named, then this again")
        return
    open_rows = _open_rows(output, plan, result)
    if not good:
        output.next("look at the adapter, the VLAN and the plan's addresses, then `zentrale discover` again")
    elif open_rows:
        output.next("`zentrale assign --walk`: a picture of each that is open, and one key")
    elif result.matching.extra and good == planned:
        output.next(
            "`zentrale import --found --dry-run`: what nobody planned into the plan; or `zentrale register --dry-run`"
        )
    elif good < planned:
        output.next("find what is missing, then `zentrale discover` again; or go on: `zentrale register --dry-run`")
    else:
        output.next("`zentrale register --dry-run`, then `zentrale register`")


def _open_rows(output: Output, plan: Plan, result: Discovery) -> bool:
    """Planned devices that may be among those nobody planned: told, never guessed."""
    from zentrale.jobs.discovery.matching import candidates

    fits = candidates(plan, result.matching)
    if fits:
        output.heading("Open: which is which?")
    for name, devices in list(fits.items())[:_MOST_OPEN]:
        output.said(
            name, f"may be {', '.join(d.address for d in devices[:4])}{' or others' if len(devices) > 4 else ''}"
        )
    if len(fits) > _MOST_OPEN:
        output.line(f"and {len(fits) - _MOST_OPEN} more")
    return bool(fits)


def _remarks(plan: Plan, name: str, device: FoundDevice) -> str:
    """What else is to be said of where it is and what its clock shows."""
    from zentrale import quantities
    from zentrale.jobs.discovery.missing import default_address_of, in_default_range
    from zentrale.jobs.known.planned import planned_devices

    row, parts = planned_devices(plan).get(name), []
    zone = next((z for z in plan.zones if row is not None and z.name == row.zone), None)
    if zone is not None and not zone.holds(device.address):
        parts.append(f"outside zone {zone.name}")
    if default_address_of(plan, device):
        parts.append("on its maker's default address")
    elif in_default_range(plan, device):
        parts.append("in a maker's default range")
    if len(device.link_macs) > 1:
        parts.append("address shared")
    if device.clock_offset_s is not None and abs(device.clock_offset_s) > plan.policy.clock_tolerance_s:
        parts.append(f"clock {quantities.difference(device.clock_offset_s)}")
    return "".join(f", {t}" for t in parts)


def _show_devices(output: Output, plan: Plan, result: Discovery) -> None:
    from zentrale.jobs.known.device_states import State

    good = result.matching.as_planned(plan)
    name_of = result.matching.name_of
    bad = {
        s.value for s in (State.DEFAULT_PASSWORD, State.UNKNOWN_PASSWORD, State.OPEN, State.NO_ANSWER, State.LOCKED,
                          State.UNSAFE, State.FAILING, State.WEB_ONLY)
    }  # fmt: skip
    wary = {State.FRESH.value: "note", State.NOT_ASKED.value: "warning"}
    order = {name: i for i, name in enumerate([c.name for c in plan.cameras] + [r.name for r in plan.recorders])}
    rows = []
    for device in sorted(result.matching.devices, key=lambda d: order.get(name_of(d), len(order))):
        name = name_of(device)
        wrong = device.state in bad or bool(name and name not in good)
        style = "fault" if wrong else wary.get(device.state, "ok")
        state = f"{style}|{device.state}{_remarks(plan, name, device)}"
        rows.append([
            name or "note|not planned", device.maker or "?", device.model or "?", device.address,
            device.mac or next(iter(sorted(device.identity.macs)), "?"), device.firmware or "?", state, device.method,
        ])  # fmt: skip
    rows += [[name, "", "", "", "", "", "fault|not found", ""] for name in result.matching.missing]
    for row in result.behind:
        kind, style = plan.kind(plan.camera(row.name)), {True: "ok", False: "fault", None: "warning"}[row.there]
        at, by = row.address or "given by it", f"{row.recorder} port {row.port}, channel {row.channel}"
        rows.append([row.name, kind.maker, kind.model, at, "?", "?", f"{style}|{row.state}", by])
    output.line()
    output.table(["planned as", "maker", "model", "address", "MAC address", "firmware", "state", "found by"], rows)


def _show_streams(output: Output, listed: Sequence[Listed]) -> None:
    output.heading("Streams, as their devices describe them")
    for item in listed:
        output.line(item.name or item.device.address, "bold")
        for s in item.streams:
            parts = [f"{s.codec} {s.width_px}x{s.height_px}" if s.width_px else s.codec, f"{s.fps:g} fps" if s.fps else "",
                    f"{s.bitrate_kbps} kbit/s" if s.bitrate_kbps else ""]  # fmt: skip
            output.verbatim(f"  {s.name}  {s.url}")
            output.line(f"    {', '.join(t for t in parts if t) or 'not described'}")
        if not item.streams:
            output.line(f"  {item.note}", "yellow")


def document(found: Found) -> dict[str, object]:
    from dataclasses import asdict

    from zentrale.cli.output import finding_document
    from zentrale.jobs.discovery.matching import candidates

    result = found.result
    missing = list(result.matching.missing)
    fits = candidates(found.plan, result.matching)
    return {
        "site": found.plan.site.name,
        "adapters": [{"name": a.name, "address": a.address} for a in result.choice.adapters],
        "adapter_reason": result.choice.reason,
        "here": [asdict(h) for h in result.here],
        "remarks": list(result.remarks),
        "swept": list(result.swept),
        "devices": [
            {"planned_as": result.matching.name_of(d) or None, **device_document(asdict(d))}
            for d in result.matching.devices
        ],
        "behind": [row.document() for row in result.behind],
        "missing": missing,
        "may_be": {name: [d.address for d in devices] for name, devices in fits.items()},
        "renamed": [{"from": old, "to": new} for old, new in result.matching.renamed],
        "not_planned": [d.address for d in result.matching.extra],
        "findings": [finding_document(f) for f in result.findings],
        **({} if found.listed is None else {"streams": [listed_document(item) for item in found.listed]}),
    }


def listed_document(item: Listed) -> dict[str, object]:
    from dataclasses import asdict

    return {
        "planned_as": item.name or None, "address": item.device.address, "note": item.note,
        "streams": [asdict(stream) for stream in item.streams],
    }  # fmt: skip


def device_document(content: dict[str, object]) -> dict[str, object]:
    """Without what is for the file of the report only."""
    document = {k: v for k, v in content.items() if k != "report"}
    return {**document, "serial": content.get("serial") or content.get("announced_serial", "")}
