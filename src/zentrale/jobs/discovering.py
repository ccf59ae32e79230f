"""Finding devices: probe, sweep, ask each who it is, and say which planned device it is."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from zentrale.errors import InputError, Whose
from zentrale.field import scheduler
from zentrale.field.adapters import Adapter, Choice, choose, list_adapters
from zentrale.field.neighbours import macs_by_address
from zentrale.field.probe import DEFAULT_WAIT_S, probe
from zentrale.field.scheduler import Failure
from zentrale.field.sweep import hosts, sweep
from zentrale.findings import Finding
from zentrale.jobs.found import FoundDevice, one_row_each
from zentrale.jobs.identifying import Expected, identify
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.matching import Matching, matched
from zentrale.jobs.sightings import Heard, add_planned_addresses, ask_those_told_of, gather
from zentrale.jobs.states import State
from zentrale.logbook.store import Logbook
from zentrale.site.model import SWEEP_PORTS, Plan

COMMAND = "discover"
SEEN_KIND = "device"
AT_ONCE = 16  # devices asked at the same time: a small switch and a laptop carry this easily
BUDGET_S = 90.0  # for one device: six requests, each of which may take 12 s

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Discovery:
    choice: Choice
    swept: tuple[str, ...]
    matching: Matching[FoundDevice]
    findings: tuple[Finding, ...]


@dataclass(frozen=True)
class Request:
    """What is asked for: `ranges` empty sweeps the planned zones (or the adapter's network where it is small)."""

    adapter: str | None = None
    ranges: tuple[str, ...] = ()
    wait_s: float = DEFAULT_WAIT_S
    sweep: bool = True
    probe: bool = True


def ranges_to_sweep(plan: Plan | None, adapter: Adapter, given: Sequence[str]) -> list[ipaddress.IPv4Network]:
    """The networks to sweep. Raises InputError for a range that is none or is too large."""
    if given:
        try:
            networks = [ipaddress.IPv4Network(text, strict=False) for text in given]
            hosts(networks)
        except ValueError as error:
            raise InputError(
                f"--range: {error}", "expected networks such as 192.168.1.0/24, at most 4,096 addresses"
            ) from None
        return networks
    if plan is not None:
        used = {c.zone for c in plan.cameras} | {r.zone for r in plan.recorders}
        zones = list(dict.fromkeys(z.network for z in plan.zones if z.name in used))
        near = [n for n in zones if n.subnet_of(adapter.network)]
        if near:
            return near
    return [adapter.network] if adapter.network.prefixlen >= 20 else []


async def discover(plan: Plan | None, keyring: Keyring, request: Request, progress: Progress) -> Discovery:
    """Find devices and compare them with the plan. Without a plan everything found is simply listed."""
    wanted = [(z.name, z.network) for z in plan.zones] if plan else []
    choice = choose(request.adapter, wanted, list_adapters())
    networks = ranges_to_sweep(plan, choice.adapter, request.ranges) if request.sweep else []
    ports = plan.policy.sweep_ports if plan else SWEEP_PORTS
    source = None if choice.adapter.loopback else choice.adapter.address
    progress(0, "probe and sweep")
    heard, swept = await asyncio.gather(
        probe(choice.adapter.address, request.wait_s) if request.probe else _nobody(),
        sweep(hosts(networks), ports, source, lambda done: None),
    )
    sightings = gather(await ask_those_told_of(heard), swept)
    if plan is not None:
        sightings = add_planned_addresses(sightings, plan)
    devices = await _identify_all(sightings, plan, keyring, progress)
    matching = matched(plan, keyring.logbook, one_row_each(devices))
    probed, where = request.probe, [str(n) for n in networks]
    in_vault = keyring.contents.devices
    findings = tuple(matching.findings(plan, where, in_vault, probed=probed)) if plan else ()
    discovery = Discovery(choice, tuple(str(n) for n in networks), matching, findings)
    keep(keyring, discovery)
    return discovery


async def _nobody() -> list[Heard]:
    return []


async def _identify_all(
    sightings: Sequence[FoundDevice], plan: Plan | None, keyring: Keyring, progress: Progress
) -> list[FoundDevice]:
    """First those whose names are known; then the rest, which may be devices that moved and were not seen so far."""
    expected = Expected.of(plan, keyring.logbook, macs_by_address())
    asked = 0

    def done(device: FoundDevice) -> None:
        nonlocal asked
        asked += 1
        progress(asked, f"asked {device.address}")

    async def identified(batch: Sequence[FoundDevice], orphans: Sequence[str]) -> list[FoundDevice]:
        results = await scheduler.run(
            batch, lambda d: identify(d, expected, keyring, orphans),
            at_once=AT_ONCE, budget_s=keyring.budget(BUDGET_S), done=done,
        )  # fmt: skip
        return [_failed(r) if isinstance(r, Failure) else r for r in results]

    progress(0, f"asking {len(sightings)} devices")
    named = [d for d in sightings if expected.names(d)]
    first = await identified(named, ())
    seen = {name for device in first if device.speaks_onvif for name in expected.names(device)}
    orphans = [name for name in keyring.contents.devices if name not in seen]
    second = await identified([d for d in sightings if d not in named], orphans)
    return [d for d in (*first, *second) if d.method != "planned" or d.speaks_onvif]


def _failed(failure: Failure[FoundDevice]) -> FoundDevice:
    """A device on which the work ended: late, or our own defect."""
    state = State.NO_ANSWER if failure.whose is Whose.DEFECT else State.FAILING
    return replace(failure.item, state=state.value, note=failure.message[:300], report=failure.report)


def keep(keyring: Keyring, discovery: Discovery) -> None:
    """Into the logbook: what was seen, and which names changed. The vault follows the names."""
    logbook = keyring.logbook
    for old, new in discovery.matching.renamed:
        if keyring.vault is not None:
            keyring.vault.rename_device(old, new)
        logbook.rename(old, new)
    run = logbook.begin_run(COMMAND, str(discovery.choice.adapter))
    with logbook.transaction():
        for device in discovery.matching.devices:
            named = discovery.matching.name_of(device)
            logbook.add_seen(run, SEEN_KIND, named, device.method, replace(device, report=""))
    logbook.finish_run(run, discovery.findings)


def all_devices(logbook: Logbook) -> list[FoundDevice]:
    """What the newest discovery saw. Raises InputError where there was none."""
    run = logbook.last_run(COMMAND)
    if run is None:
        raise InputError("nothing was discovered yet", "run `zentrale discover` first")
    return [FoundDevice.from_document(content) for _, content in logbook.seen(run.id, SEEN_KIND)]


def last_devices(plan: Plan, logbook: Logbook) -> dict[str, FoundDevice]:
    """The devices of the newest discovery by their names in the plan, as plan and bindings are now."""
    return matched(plan, logbook, all_devices(logbook)).by_name
