"""PoE power of every switch, and every recorder with ports of its own, in every mode; batteries."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.power import FeederPower, PowerPlan, plan_power
from zentrale.site.model import Mode, Plan

_LIGHTS = ("day", "night")


def calculate(plan: Plan, made: Made, request: Request) -> PowerPlan:
    return replace(plan_power(plan), seen_w=request.watts)


def document(power: PowerPlan) -> dict[str, object]:
    document: dict[str, object] = {}
    for what, key in (("switch", "switches"), ("recorder", "recorders_feeding")):
        document[key] = [_document(f, power.seen_w.get(f.name, {})) for f in power.feeders if f.feeder.what == what]
    document["fed_apart"] = [{"camera": name, "supply": supply} for name, supply in power.apart]
    document["batteries"] = [
        {
            "battery": b.battery,
            "feeds": list(b.feeds),
            "worst_mode": b.mode.value,
            "load_w": round(b.load_w, 2),
            "capacity_wh": b.capacity_wh,
            "run_time_min": round(b.run_time_min, 1) if b.load_w else None,
            "wanted_min": b.wanted_min,
            "needed_wh": None if b.needed_wh is None else round(b.needed_wh),
        }
        for b in power.batteries
    ]
    return document


def _document(s: FeederPower, seen: Mapping[str, float]) -> dict[str, object]:
    return {
        s.feeder.what: s.name,
        "cabinet": s.feeder.cabinet,
        "poe_supply_w": s.budget_w,
        "draw_w": {mode.value: round(draw, 2) for mode, draw in s.draw_w.items()},
        "reserved_w": round(s.reserved_w, 2),
        "left_w": round(s.left_w, 2),
        "seen_w": {light: seen.get(light) for light in _LIGHTS} if seen else None,
        "worst_mode": s.worst_mode.value,
        "dark": {mode.value: list(names) for mode, names in s.dark.items() if names},
        "dark_one_supply": {m.value: list(names) for m, names in s.dark_one_supply.items() if names},
        "ports": [
            {
                "port": None if p.assumed else p.port,
                "camera": p.device,
                "kind": p.kind,
                "known": p.known,
                "by_limit": p.by_limit,
                "run_length_m": p.run_length_m,
                "poe_class": p.poe_class,
                "priority": p.priority.value,
                "goes_dark": s.going_dark.index(p.device) + 1,
                "reserved_w": p.reserved_w,
                "draw_w": {mode.value: round(draw, 2) for mode, draw in p.draw_w.items()},
                "granted_w": {mode.value: round(granted, 2) for mode, granted in p.granted_w.items()},
            }
            for p in s.ports
        ],
    }


def show(page: Page, plan: Plan, result: PowerPlan, asked: Asked) -> None:
    show_power(page, plan, result, full=asked.full)


def show_power(page: Page, plan: Plan, power: PowerPlan, *, full: bool) -> None:

    page.heading("PoE power at the port, cable loss included [W]")
    rows = []
    for switch in power.feeders:
        draws = [f"{switch.draw_w[mode]:.1f}" for mode in Mode]
        fits = "ok|fits" if all(p.known for p in switch.ports) else "warning|not all is known"
        fits = "fault|too little" if any(switch.dark.values()) else fits
        rows.append(
            [
                switch.name,
                str(len(switch.ports)),
                _classes(switch),
                *draws,
                *_seen(power, switch),
                f"{switch.budget_w:.0f}",
                f"{switch.left_w:.1f}",
                f"{switch.reserved_w:.1f}",
                fits,
            ]
        )
    columns = [
        ">devices",
        "PoE classes",
        *(f">{mode.value}" for mode in Mode),
        *(f">seen by {light}" for light in _LIGHTS if power.seen_w),
        ">supply",
        ">left",
        ">by class",
        "",
    ]
    first = "switch" if len(power.switches) == len(power.feeders) else "switch or recorder"
    page.table([first, *columns], rows)
    if full:
        _show_fed_ports(page, plan, power)
    _show_apart(page, power)


def _seen(power: PowerPlan, switch: FeederPower) -> list[str]:
    """What `network check` saw beside what is planned; nothing where no switch was ever read."""
    seen = power.seen_w.get(switch.name, {})
    return [f"{seen[light]:.0f}" if light in seen else "-" for light in _LIGHTS] if power.seen_w else []


def _show_fed_ports(page: Page, plan: Plan, power: PowerPlan) -> None:
    """Each port, and in which order they would lose power."""

    page.heading("Each port [W], and who would go dark first")
    rows = []
    for switch in power.feeders:
        order = switch.going_dark
        for port in switch.ports:
            off = [mode.value for mode in Mode if port.device in switch.dark[mode]]
            alone = [mode.value for mode in Mode if port.device in switch.dark_one_supply[mode]]
            state = f"fault|dark: {', '.join(off)}" if off else f"on one supply: {', '.join(alone)}" if alone else ""
            measured = port.kind == "camera" and plan.camera(port.device).run_length_m is not None
            run = f"{port.run_length_m:g} m" if measured else f"up to {port.run_length_m:g} m"
            watts = (*(port.draw_w[mode] for mode in Mode), port.reserved_w, max(port.granted_w.values()))
            place = f"{switch.name}, open" if port.assumed else f"{switch.name}:{port.port}"
            goes = "?" if port.assumed else f"{order.index(port.device) + 1} of {len(order)}"
            rows.append([
                place, port.device, run, str(port.poe_class) if port.known else "?",
                *(f"{w:.1f}" if port.known else "?" for w in watts), port.priority.value, goes,
                state or ("" if port.known else "warning|not known"),
            ])  # fmt: skip
    modes = [f">{mode.value}" for mode in Mode]
    columns = ["port", "device", ">run", ">class", *modes, ">by class", ">granted", "priority", ">goes dark as", ""]
    page.table(columns, rows)


def _show_apart(page: Page, power: PowerPlan) -> None:
    """What PoE does not feed, and what the batteries carry."""

    if power.apart:
        page.line(f"not fed by PoE: {quantities.listed([f'{name} ({supply})' for name, supply in power.apart], 14)}")
    if power.batteries:
        page.heading("Batteries, at the end of their life")
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
        page.table(columns, rows)


def _classes(switch: FeederPower) -> str:
    """How many devices of which class: 2 x 3, 1 x 6."""
    classes = [str(port.poe_class) if port.known else "?" for port in switch.ports]
    return ", ".join(f"{classes.count(c)} x {c}" for c in sorted(set(classes))) or "-"


def figures_of(plan: Plan, result: PowerPlan) -> dict[str, bytes]:
    from zentrale.output import figures  # drawing takes a second to load

    return {"power.png": figures.power_figure(plan, result)}


def facts(plan: Plan, result: PowerPlan) -> list[Fact]:
    """Of each switch and each port, at worst."""
    found = []
    for switch in result.feeders:
        drawn, subject = switch.draw_w[Mode.WORST], switch.feeder.subject
        text = (
            f"{quantities.power(drawn)} of {quantities.power(switch.budget_w)}, {quantities.power(switch.left_w)} left"
        )
        found.append(Fact("PoE power", subject, text, drawn if switch.budget_w else None))
        found += [
            Fact(
                "PoE power at the port",
                f"{p.kind} {p.device}",
                quantities.power(p.draw_w[Mode.WORST]),
                p.draw_w[Mode.WORST],
            )
            for p in switch.ports
            if p.known
        ]
    for b in result.batteries:
        text = (
            f"{quantities.seconds(60 * b.run_time_min)} at {quantities.power(b.load_w)}"
            if b.load_w
            else "nothing to carry"
        )
        found.append(Fact("battery lasts", f"battery {b.battery}", text))
    return found


def summary(plan: Plan, result: PowerPlan) -> str:
    fed = [s for s in result.feeders if s.ports]
    if not fed:
        return "nothing is fed by PoE"
    fullest = max(fed, key=lambda s: s.draw_w[Mode.WORST] / s.budget_w if s.budget_w else 0.0)
    text = f"{quantities.power(fullest.draw_w[Mode.WORST])} of {quantities.power(fullest.budget_w)}"
    devices = quantities.count(sum(len(s.ports) for s in fed), "device")
    return f"{devices} on {quantities.count(len(fed), 'switch', 'switches')}; fullest {fullest.name}, {text}"


PART = Part("power", calculate, document, show, figures_of, facts=facts, summary=summary)
