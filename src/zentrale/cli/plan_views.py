"""How `zentrale plan` shows power, traffic, storage, addresses and resilience."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.planning.addresses import AddressPlan
    from zentrale.planning.failures import Failure
    from zentrale.planning.power import PowerPlan, SwitchPower
    from zentrale.planning.resilience import ResiliencePlan
    from zentrale.planning.storage import StoragePlan
    from zentrale.planning.traffic import LinkLoad, TrafficPlan
    from zentrale.site.model import Plan


def show_power(output: Output, power: PowerPlan, *, full: bool) -> None:
    from zentrale.site.model import Mode

    output.heading("PoE power at the switch, cable loss included [W]")
    rows = []
    for switch in power.switches:
        draws = [f"{switch.draw_w[mode]:.1f}" for mode in Mode]
        fits = "fault|too little" if any(switch.dark.values()) else "ok|fits"
        rows.append(
            [
                switch.switch,
                str(len(switch.ports)),
                _classes(switch),
                *draws,
                f"{switch.budget_w:.0f}",
                f"{switch.left_w:.1f}",
                switch.worst_mode.value,
                f"{switch.reserved_w:.1f}",
                fits,
            ]
        )
    columns = [
        ">devices",
        "PoE classes",
        *(f">{mode.value}" for mode in Mode),
        ">supply",
        ">left",
        "worst mode",
        ">by class",
        "",
    ]
    output.table(["switch", *columns], rows)
    if full:
        _show_fed_ports(output, power)
    _show_apart(output, power)


def _show_fed_ports(output: Output, power: PowerPlan) -> None:
    """Each port, and in which order they would lose power."""
    from zentrale.site.model import Mode

    output.heading("Each port [W], and who would go dark first")
    rows = []
    for switch in power.switches:
        order = switch.going_dark
        for port in switch.ports:
            off = [mode.value for mode in Mode if port.camera in switch.dark[mode]]
            alone = [mode.value for mode in Mode if port.camera in switch.dark_one_supply[mode]]
            state = f"fault|dark: {', '.join(off)}" if off else f"on one supply: {', '.join(alone)}" if alone else ""
            rows.append([
                f"{switch.switch}:{port.port}", port.camera, f"{port.run_length_m:g} m", str(port.poe_class),
                *(f"{port.draw_w[mode]:.1f}" for mode in Mode), f"{port.reserved_w:.1f}",
                f"{max(port.granted_w.values()):.1f}", port.priority.value,
                f"{order.index(port.camera) + 1} of {len(order)}", state,
            ])  # fmt: skip
    modes = [f">{mode.value}" for mode in Mode]
    columns = ["port", "camera", ">run", ">class", *modes, ">by class", ">granted", "priority", ">goes dark as", ""]
    output.table(columns, rows)


def _show_apart(output: Output, power: PowerPlan) -> None:
    """What PoE does not feed, and what the batteries carry."""
    from zentrale import quantities

    if power.apart:
        output.line(f"not fed by PoE: {', '.join(f'{name} ({supply})' for name, supply in power.apart)}")
    if power.batteries:
        output.heading("Batteries, at the end of their life")
        rows = []
        for b in power.batteries:
            enough = b.wanted_min is None or b.run_time_min >= b.wanted_min
            rows.append([
                b.battery, ", ".join(b.feeds), quantities.power(b.load_w), b.mode.value, f"{b.capacity_wh:g} Wh",
                quantities.seconds(60 * b.run_time_min) if b.load_w else "-",
                "-" if b.wanted_min is None else quantities.seconds(60 * b.wanted_min),
                "-" if b.needed_wh is None else f"{b.needed_wh:.0f} Wh",
                "ok|lasts" if enough else "warning|too short",
            ])  # fmt: skip
        columns = ["battery", "feeds", ">load", "worst mode", ">capacity", ">lasts", ">wanted", ">needed", ""]
        output.table(columns, rows)


def _classes(switch: SwitchPower) -> str:
    """How many devices of which class: 2 x 3, 1 x 6."""
    classes = [port.poe_class for port in switch.ports]
    return ", ".join(f"{classes.count(c)} x {c}" for c in sorted(set(classes))) or "-"


def show_traffic(output: Output, traffic: TrafficPlan, *, full: bool) -> None:
    from zentrale import quantities

    output.heading("Traffic when all cameras stream, with Ethernet to RTP overhead")
    rows = [_load(load, load.name) for load in traffic.links if load.kind != "port"]
    ports = [load for load in traffic.links if load.kind == "port"]
    if full:
        rows += [_load(load, f"{load.name} {', '.join(load.cameras)}") for load in sorted(ports, key=_switch_and_port)]
    elif ports:
        busiest = max(ports, key=lambda load: load.share)
        rows.append(_load(busiest, f"busiest of {len(ports)}: {busiest.name}"))
    columns = ["kind", "where", ">cameras", ">load", ">line rate", ">share", ">other way", ">burst", ">buffer for it"]
    output.table(columns, rows)
    output.line("burst: 99.9 % of all 100 ms stay below it when all cameras start together, as after a power cut")
    rows = [
        [
            r.recorder,
            f"{r.channels_used} of {r.channels}",
            quantities.bitrate(r.ingest_bps),
            quantities.bitrate(r.ingest_limit_bps),
            quantities.share(r.ingest_bps, r.ingest_limit_bps),
        ]
        for r in traffic.recorders
    ]
    output.line()
    output.table(["recorder", ">channels", ">takes in", ">limit", ">share"], rows)


def _switch_and_port(load: LinkLoad) -> tuple[str, int]:
    switch, _, port = load.name.rpartition(":")
    return switch, int(port)


def _load(load: LinkLoad, where: str) -> list[str]:
    from zentrale import quantities

    over = "fault|" if load.share > 1 else ""
    return [
        load.kind, where, str(len(load.cameras)), quantities.bitrate(load.load_bps), quantities.bitrate(load.rate_bps),
        over + quantities.share(load.load_bps, load.rate_bps), quantities.bitrate(load.back_bps), *_burst(load),
    ]  # fmt: skip


def _burst(load: LinkLoad) -> list[str]:
    from zentrale import quantities

    if load.burst is None:
        return ["", ""]
    needed = load.burst.buffer_bytes
    return [
        quantities.bitrate(load.burst.together_bps),
        "none is enough" if needed is None else quantities.size(needed),
    ]


def show_storage(output: Output, storage: StoragePlan, *, full: bool) -> None:
    from zentrale import quantities

    output.heading("Storage")
    rows = []
    for r in storage.recorders:
        wanted = max((c.keep_days for c in r.cameras), default=0)
        verdict = "-" if r.reach is None else "ok|enough" if r.reach >= 1 else "fault|too few"
        rows.append([
            r.recorder, str(len(r.cameras)), quantities.bitrate(r.write_bps), quantities.size(r.needed_bytes),
            "no drives" if r.usable_bytes is None else quantities.size(r.usable_bytes),
            "-" if r.usable_bytes is None else f"{r.usable_bytes / 2**40:.1f} TiB",
            "-" if r.days is None else f"{r.days:.1f}", f"{wanted:g}", verdict, r.smallest_fit or "none on file",
        ])  # fmt: skip
    columns = [
        ">cameras",
        ">writes",
        ">needed",
        ">usable",
        ">binary",
        ">days",
        ">wanted",
        "",
        "smallest type that fits",
    ]
    output.table(["recorder", *columns], rows)
    for r in storage.recorders:
        if r.usable_bytes is not None:
            output.line(f"{r.recorder}: a failed drive costs {r.drive_failure}")
    if full:
        _show_recorded(output, storage)


def _show_recorded(output: Output, storage: StoragePlan) -> None:
    """What fits a recorder's cameras, and how long each of them is kept."""
    from zentrale import quantities

    rows = []
    for recorder in storage.recorders:
        fits = [f"{fit.type} {'fits' if fit.fits else 'does not, ' + ', '.join(fit.reasons)}" for fit in recorder.fits]
        output.line(f"{recorder.recorder}: {'; '.join(fits) or 'no recorder type is on file'}")
        for c in recorder.cameras:
            kept = recorder.kept_days(c)
            short = kept is not None and kept < c.keep_days
            rows.append([
                recorder.recorder, c.camera, c.mode, f"{100 * c.share:.0f} %", quantities.bitrate(c.bitrate_bps),
                quantities.size(c.day_bytes), quantities.size(c.needed_bytes),
                "-" if kept is None else f"{'fault|' if short else ''}{kept:.1f}", f"{c.keep_days:g}",
                "-" if c.max_days is None else f"{c.max_days:g}",
            ])  # fmt: skip
    output.heading("Each camera, the drives shared out as the days are wanted")
    columns = [">of the time", ">writes then", ">a day", ">needed", ">days", ">wanted", ">longest allowed"]
    output.table(["recorder", "camera", "when", *columns], rows)


_LONGEST_LIST = 12


def show_addresses(output: Output, addresses: AddressPlan) -> None:
    from zentrale import quantities

    output.heading("Addresses")
    rows = []
    for z in addresses.zones:
        gateway = str(z.gateway or "none")
        blocks = [str(block or "none") for block in (z.infrastructure, z.fixed, z.pool)]
        used = quantities.share(z.devices, len(z.fixed))
        rows.append([z.zone, str(z.vlan), str(z.network), gateway, *blocks, str(z.devices), used])
    output.table(
        ["zone", ">VLAN", "subnet", "gateway", "infrastructure", "fixed block", "DHCP pool", ">devices", ">used"], rows
    )
    proposed = [d for d in addresses.devices if not d.given]
    if proposed:
        output.heading(f"Proposed for {quantities.count(len(proposed), 'camera')} without an address")
        output.table(
            ["camera", "zone", "address", "MAC address"],
            ([d.name, d.zone, str(d.address), d.mac or "-"] for d in proposed),
        )
        output.hint("`zentrale plan addresses --write` enters them into cameras.csv")


def show_resilience(output: Output, plan: Plan, resilience: ResiliencePlan, *, pairs: bool) -> None:
    from zentrale import quantities

    def rows(failures: Sequence[Failure]) -> list[list[str]]:
        return [
            [
                f.name,
                str(len(f.lost)),
                quantities.share(len(f.lost), len(plan.cameras)),
                ", ".join(f.lost[:4]) + (f" and {len(f.lost) - 4} more" if len(f.lost) > 4 else ""),
                ", ".join(f.parted_zones) or "-",
                f"{100 * f.worst_share:.0f} % on {f.worst_link}" if f.worst_link else "-",
            ]
            for f in failures[:_LONGEST_LIST]
        ]

    for title, failures in (("One part fails", resilience.singles), ("Two parts fail at once", resilience.pairs)):
        if failures:
            output.heading(f"{title}: what it costs, dearest first")
            columns = [
                "what fails",
                ">cameras lost",
                ">share",
                "which",
                "zones parted",
                "fullest link then, recording only",
            ]
            output.table(columns, rows(failures))
            if len(failures) > _LONGEST_LIST:
                output.line(f"and {len(failures) - _LONGEST_LIST} more (--json has all)")
    if pairs and not resilience.pairs:
        output.line("no two parts that fail at once cost more than the two one by one")
    if resilience.harmless:
        output.line(f"{quantities.count(resilience.harmless, 'part')} may fail without any loss")
