"""Finding devices: probe, sweep, ask each who it is, and say which planned device it is."""

from __future__ import annotations

import asyncio
import ipaddress
import logging
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from urllib.parse import urlsplit, urlunsplit

from zentrale.errors import DeviceError, InputError
from zentrale.field.adapters import Adapter, Choice, choose, list_adapters
from zentrale.field.onvif_client import OnvifClient
from zentrale.field.probe import DEFAULT_WAIT_S, probe
from zentrale.field.sweep import hosts, sweep
from zentrale.findings import Finding
from zentrale.jobs.access import State, device_maker, find_entry
from zentrale.jobs.matching import Known, Matching, match_devices, planned_devices
from zentrale.jobs.rtsp_only import RTSP_PORTS
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Contents
from zentrale.protocols.onvif.device import SERVICE_PATH
from zentrale.protocols.ws_discovery import Match
from zentrale.site.model import Plan

log = logging.getLogger(__name__)
COMMAND = "discover"
SEEN_KIND = "device"
AT_ONCE = 16  # devices asked at the same time: a small switch and a laptop carry this easily

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class FoundDevice:
    """One device as it answered. `url` is its ONVIF address, empty where it has none."""

    address: str
    url: str
    method: str
    maker: str = ""
    model: str = ""
    firmware: str = ""
    serial: str = ""
    mac: str = ""
    endpoint: str = ""
    state: str = State.NO_ANSWER.value
    credentials_label: str = ""
    clock_offset_s: float | None = None
    open_ports: tuple[int, ...] = ()
    note: str = ""


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


async def discover(
    plan: Plan | None, vault: Contents, logbook: Logbook | None, request: Request, progress: Progress
) -> Discovery:
    """Find devices and compare them with the plan. Without a plan everything found is simply listed."""
    wanted = [(z.name, z.network) for z in plan.zones] if plan else []
    choice = choose(request.adapter, wanted, list_adapters())
    networks = ranges_to_sweep(plan, choice.adapter, request.ranges) if request.sweep else []
    ports = plan.policy.sweep_ports if plan else (80, 554, 8080, 8554)
    source = None if choice.adapter.loopback else choice.adapter.address
    progress(0, "probe and sweep")
    matches, swept = await asyncio.gather(
        probe(choice.adapter.address, request.wait_s),
        sweep(hosts(networks), ports, source, lambda done: None),
    )
    found = gather(matches, swept)
    if plan is not None:
        found = add_planned_addresses(found, plan)
    gate = asyncio.Semaphore(AT_ONCE)
    asked = 0

    async def ask(device: FoundDevice) -> FoundDevice:
        nonlocal asked
        async with gate:
            result = await identify(device, plan, vault)
        asked += 1
        progress(asked, f"asked {device.address}")
        return result

    progress(0, f"asking {len(found)} devices")
    devices = [d for d in await asyncio.gather(*(ask(d) for d in found)) if d.method != "planned" or d.maker or d.url]
    known = [Known(b.name, b.mac, b.address) for b in logbook.bindings()] if logbook else []
    matching = match_devices(plan, known, devices)
    findings = tuple(matching.findings(plan, [str(n) for n in networks])) if plan else ()
    discovery = Discovery(choice, tuple(str(n) for n in networks), matching, findings)
    if logbook is not None:
        keep(logbook, discovery)
    return discovery


def gather(matches: Sequence[tuple[Match, str]], swept: dict[str, list[int]]) -> list[FoundDevice]:
    """One entry for each address: probe answers first, then what only the sweep saw."""
    found: dict[str, FoundDevice] = {}
    for match, answered_from in matches:
        url = _service_address(match.addresses, answered_from)
        key = f"{answered_from}|{match.endpoint}"
        ports = tuple(swept.get(answered_from, ()))
        method = "probe + sweep" if ports else "probe"
        found[key] = FoundDevice(
            answered_from, url, method, model=match.scope("hardware"), endpoint=match.endpoint, open_ports=ports
        )
    answered = {device.address for device in found.values()}
    for address, open_ports in swept.items():
        if address not in answered:
            found[address] = FoundDevice(address, "", "sweep", open_ports=tuple(open_ports))
    return sorted(found.values(), key=lambda d: (ipaddress.ip_address(d.address), d.endpoint))


def _service_address(told: Sequence[str], answered_from: str) -> str:
    """The ONVIF address among those `told`, always at the host that answered: a device that tells another one has a
    stale setting, or sends us after somebody else.
    """
    for address in told:
        if urlsplit(address).hostname == answered_from:
            return address
    for address in told:
        parts = urlsplit(address)
        port = f":{parts.port}" if parts.port else ""
        return urlunsplit((parts.scheme, f"{answered_from}{port}", parts.path, parts.query, ""))
    return ""


def add_planned_addresses(found: list[FoundDevice], plan: Plan) -> list[FoundDevice]:
    """Planned recorders are also asked directly: their port is in the plan and may not be swept."""
    have = {d.address for d in found}
    extra = [
        FoundDevice(r.address, f"http://{r.address}:{r.http_port}{SERVICE_PATH}", "planned")
        for r in plan.recorders if r.address not in have
    ]  # fmt: skip
    return found + extra


async def identify(device: FoundDevice, plan: Plan | None, vault: Contents) -> FoundDevice:
    """Ask one device who it is. What goes wrong becomes its state and a note; nothing is raised."""
    urls = [device.url] if device.url else [
        f"http://{device.address}:{port}{SERVICE_PATH}" for port in device.open_ports if port not in RTSP_PORTS
    ]  # fmt: skip
    notes = []
    for url in urls:
        try:
            return await _ask_who(replace(device, url=url), plan, vault)
        except DeviceError as error:
            notes.append(str(error))
            log.info("%s: %s", url, error)
    rtsp = any(port in RTSP_PORTS for port in device.open_ports)
    state = State.RTSP_ONLY if rtsp else State.NO_ANSWER
    url = device.url if device.method.startswith("probe") else ""
    return replace(device, url=url, state=state.value, note="; ".join(notes)[:300])


async def _ask_who(device: FoundDevice, plan: Plan | None, vault: Contents) -> FoundDevice:
    async with OnvifClient(device.url) as client:
        await client.system_time()
        offset_s = client.clock_offset.total_seconds()
        maker = await device_maker(client) or _maker_of_model(plan, device.model)
        own = [vault.devices[name] for name in _planned_names(plan, device.address) if name in vault.devices]
        entry = await find_entry(client, own, vault.candidates, maker)
        device = replace(
            device,
            maker=maker,
            state=entry.state.value,
            credentials_label=entry.label,
            clock_offset_s=round(offset_s, 1),
        )
        if entry.state is State.UNKNOWN_PASSWORD:
            return replace(
                device, note=f"{entry.tried} passwords tried" if entry.tried else "no password in the vault to try"
            )
        information = await client.information()
        interfaces = await client.interfaces()
        mac = next((i.mac for i in interfaces if i.mac), "")
        return replace(
            device, maker=information.maker, model=information.model, firmware=information.firmware,
            serial=information.serial, mac=mac,
        )  # fmt: skip


def _maker_of_model(plan: Plan | None, model: str) -> str:
    if plan is None or not model:
        return ""
    makers = {t.model: t.maker for t in plan.recorder_types} | {t.model: t.maker for t in plan.camera_types}
    return makers.get(model, "")


def _planned_names(plan: Plan | None, address: str) -> list[str]:
    """Planned devices whose vault entry may open what answers at this address."""
    if plan is None:
        return []
    return [name for name, device in planned_devices(plan).items() if device.address == address]


def keep(logbook: Logbook, discovery: Discovery) -> None:
    run = logbook.begin_run(COMMAND, str(discovery.choice.adapter))
    names = discovery.matching.name_of
    for device in discovery.matching.devices:
        logbook.add_seen(run, SEEN_KIND, names.get(device.address, ""), device.method, device)
    logbook.finish_run(run, discovery.findings)


def last_devices(logbook: Logbook) -> dict[str, FoundDevice]:
    """The devices of the newest discovery that have a name in the plan, by that name."""
    run = logbook.last_run(COMMAND)
    if run is None:
        raise InputError("nothing was discovered yet", "run `zentrale discover` first")
    devices = {}
    for name, content in logbook.seen(run.id, SEEN_KIND):
        if name:
            content["open_ports"] = tuple(content["open_ports"])
            devices[name] = FoundDevice(**content)
    return devices
